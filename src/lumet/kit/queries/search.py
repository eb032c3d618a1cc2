"""Searching: words in any of several columns, upper and lower case alike."""

from collections.abc import Callable, Collection, Sequence
from typing import Any

from sqlalchemy import (
    ColumnElement,
    LargeBinary,
    String,
    and_,
    bindparam,
    cast,
    func,
    or_,
    type_coerce,
)
from sqlalchemy.types import NullType

from ..db.column_types import TextBytes

MAX_WORDS = 4
MAX_SEARCH_LENGTH = 300  # characters; a title that is pasted whole fits in
Matcher = Callable[..., ColumnElement[bool]]


def words_of(search: str, fixed: Collection[str] = ()) -> list[str]:
    """Return the words that are looked for: not the separators of a title, nor its
    `fixed` words, in lower case, which no record holds."""
    found = [
        word
        for word in search.split()
        if any(map(str.isalnum, word)) and word.lower() not in fixed
    ]
    return found[:MAX_WORDS]


def is_beyond_ascii(search: str) -> bool:
    """Tell whether SQLite's own LIKE would tell upper from lower case in it."""
    return not search.isascii()


def matchers(
    terms: Sequence[ColumnElement[Any]], kind: str, is_folded: bool = False
) -> list[Matcher]:
    """Return for each term the comparison that does not tell upper from lower case on a
    server of this kind, whatever the collation of the column; `is_folded`: for a text
    beyond ASCII."""
    return [_matcher(term, kind, is_folded) for term in terms]


def _matcher(term: ColumnElement[Any], kind: str, is_folded: bool) -> Matcher:
    text: ColumnElement[Any] = term
    if isinstance(term.type, TextBytes) and kind == "postgresql":
        text = func.convert_from(term, "UTF8", type_=String())
    elif not isinstance(term.type, String):
        text = cast(type_coerce(term, NullType()), String)
    if kind == "postgresql":
        return text.ilike
    if kind == "sqlite" and not is_folded:
        return text.like
    fold = func.casefold if kind == "sqlite" else func.lower
    folded = fold(cast(text, LargeBinary)) if kind == "sqlite" else fold(text)

    def like(word: Any, escape: str | None = None) -> ColumnElement[bool]:
        return folded.like(fold(word), escape=escape)

    return like


def has_words(likes: Sequence[Matcher], count: int) -> ColumnElement[bool]:
    """Return the condition that each of `count` words, bound as w0, w1…, is in a
    term."""
    return and_(
        *[
            or_(*[like(bindparam(f"w{word}"), escape="\\") for like in likes])
            for word in range(count)
        ]
    )


def word_values(words: Sequence[str]) -> dict[str, str]:
    """Return the bound values of `has_words`."""
    return {f"w{number}": f"%{escape_like(word)}%" for number, word in enumerate(words)}


SPELLINGS = 4  # of one word
LAST = "\U0010ffff"  # behind every text that begins alike


def spellings(search: str) -> list[str]:
    """Return the input as typed, in capitals, in small letters and with one
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


def prefix_values(spelled: Sequence[str], kind: str) -> dict[str, str]:
    """Return the bound values of `begins_with`."""
    if kind == "sqlite":
        bound = {f"b{n}": text for n, text in enumerate(spelled)}
        return bound | {f"e{n}": text + LAST for n, text in enumerate(spelled)}
    return {f"b{n}": escape_like(text) + "%" for n, text in enumerate(spelled)}


def escape_like(text: str) -> str:
    """Return a text as LIKE … ESCAPE '\\' takes it literally."""
    for special in "\\%_":
        text = text.replace(special, "\\" + special)
    return text
