"""Lumet: from a relational database that already exists to a web application."""

__version__ = "0.1.0"
