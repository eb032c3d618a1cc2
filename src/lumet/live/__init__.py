"""Serving the application while its developer changes it: files are watched, what
follows from them is generated and loaded again, and open pages reload."""
