"""The command line: parse, call the project, print."""
