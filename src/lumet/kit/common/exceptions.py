"""What a person can put right before the application starts."""


class CannotStart(Exception):
    """Says what is wrong, where, and what to do next."""
