"""Saving: forms of records, rows of details, many-to-many choices, transactions."""
