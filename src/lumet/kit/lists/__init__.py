"""Lists: the request, the statement, the rows as HTML, exports."""
