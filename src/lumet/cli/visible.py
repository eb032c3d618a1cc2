"""Escaping of names and comments, which may contain control sequences, for a
terminal."""

from rich.markup import escape as escape_markup


def visible(text: str) -> str:
    """Return a text whose control characters are written out, line ends apart."""
    return "".join(
        each
        if each.isprintable() or each == "\n"
        else each.encode("unicode_escape").decode()
        for each in text
    )


def escape(text: str) -> str:
    """Return a text as one that is printed without being read as markup."""
    return escape_markup(visible(text))
