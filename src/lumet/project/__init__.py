"""The commands as functions: values in, report objects out."""
