"""Searching: words in any of several columns, upper and lower case alike."""

from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy import ColumnElement, String, and_, bindparam, cast, or_

MOST_WORDS = 4


def words_of(search: str) -> list[str]:
    """Return the words that are looked for."""
    return search.split()[:MOST_WORDS]


def matchers(
    terms: Sequence[ColumnElement[Any]], postgresql: bool
) -> list[Callable[..., ColumnElement[bool]]]:
    """Return for each term the comparison that does not tell upper from lower case; only
    PostgreSQL has an operator of its own for it."""
    texts = [
        term if isinstance(term.type, String) else cast(term, String) for term in terms
    ]
    return [text.ilike if postgresql else text.like for text in texts]


def has_words(
    likes: Sequence[Callable[..., ColumnElement[bool]]], count: int
) -> ColumnElement[bool]:
    """Return the condition that each of `count` words, bound as w0, w1…, is in a term."""
    return and_(
        *[
            or_(*[like(bindparam(f"w{word}"), escape="\\") for like in likes])
            for word in range(count)
        ]
    )


def word_values(words: Sequence[str]) -> dict[str, str]:
    """Return what `has_words` binds."""
    return {f"w{number}": f"%{escape_like(word)}%" for number, word in enumerate(words)}


def escape_like(text: str) -> str:
    """Return a text as LIKE … ESCAPE '\\' takes it literally."""
    for special in "\\%_":
        text = text.replace(special, "\\" + special)
    return text
