"""Searching: words in any of several columns, upper and lower case alike."""

from collections.abc import Collection, Sequence
from typing import Any

from sqlalchemy import ColumnElement, String, and_, bindparam, cast, or_

from ..db.column_types import TextBytes
from ..db.dialects.base import Matcher, Server, escape_like, raw

MAX_WORDS = 4
MAX_SEARCH_LENGTH = 300  # characters; a title that is pasted whole fits in


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
    terms: Sequence[ColumnElement[Any]], server: Server, is_folded: bool = False
) -> list[Matcher]:
    """Return for each term the comparison that does not tell upper from lower case on
    this server, whatever the collation of the column; `is_folded`: for a text beyond
    ASCII."""
    return [server.matcher(_text(term, server), is_folded) for term in terms]


def _text(term: ColumnElement[Any], server: Server) -> ColumnElement[Any]:
    if isinstance(term.type, TextBytes):
        return server.decoded(term)
    if isinstance(term.type, String):
        return term
    return cast(raw(term), String)


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


def spellings(search: str) -> list[str]:
    """Return the input as typed, in capitals, in small letters and with one
    capital: an index tells them apart."""
    spelled = (search, search.upper(), search.lower(), search.capitalize())
    return list(dict.fromkeys(spelled))
