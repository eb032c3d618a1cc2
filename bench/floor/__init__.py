"""Hand-written programs that do the same work without any generality."""
