"""Searching: words in any of several columns, upper and lower case alike."""

from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy import (
    ColumnElement,
    String,
    and_,
    bindparam,
    cast,
    or_,
    type_coerce,
)
from sqlalchemy.types import NullType

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


SPELLINGS = 4  # of one word
LAST = "\U0010ffff"  # behind every text that begins alike


def spellings(search: str) -> list[str]:
    """Return what was typed, as it was, in capitals, in small letters and with one
    capital: an index tells them apart."""
    spelled = (search, search.upper(), search.lower(), search.capitalize())
    return list(dict.fromkeys(spelled))


def begins_with(
    column: ColumnElement[Any], kind: str, count: int = SPELLINGS
) -> ColumnElement[bool]:
    """Return the condition that a column begins with one of `count` spellings of what
    was typed, as an index can serve it."""
    raw = type_coerce(column, NullType())
    if kind == "sqlite":  # where LIKE and an index differ about capitals
        spans = [
            and_(raw >= bindparam(f"b{n}"), raw < bindparam(f"e{n}"))
            for n in range(count)
        ]
        return or_(*spans)
    likes = [column.like(bindparam(f"b{n}"), escape="\\") for n in range(count)]
    return or_(*likes)


def beginning_values(spelled: Sequence[str], kind: str) -> dict[str, str]:
    """Return what `begins_with` binds."""
    if kind == "sqlite":
        bound = {f"b{n}": text for n, text in enumerate(spelled)}
        return bound | {f"e{n}": text + LAST for n, text in enumerate(spelled)}
    return {f"b{n}": escape_like(text) + "%" for n, text in enumerate(spelled)}


def escape_like(text: str) -> str:
    """Return a text as LIKE … ESCAPE '\\' takes it literally."""
    for special in "\\%_":
        text = text.replace(special, "\\" + special)
    return text
