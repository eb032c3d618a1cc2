"""Errors that a person can correct before the application starts."""


class CannotStart(Exception):
    """The problem, its place, and the next step."""
