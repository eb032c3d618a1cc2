"""Lists: what an address asks for, the statement, the rows as HTML, exports."""
