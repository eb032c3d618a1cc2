"""Words that are written as one: `servicestate` is "service state"."""

from collections.abc import Iterable
from functools import cache, lru_cache
from typing import Any

from lumet.facts.model import Database
from lumet.inference.labels_from_names import (
    ABBREVIATIONS,
    ACRONYMS,
    split_words,
    to_singular,
)

SHORTEST = 5  # letters of a word that may be two: `bugid`
COMMON = 40_000  # of the words by frequency, those that a part may be
FREQUENT = 15_000  # that a person would take for a word: `gus` is the 21,928th
MOST_PARTS = 4
ENGLISH = 0.6  # of the other words are in the dictionary, else it is another language
ENOUGH = 10  # other words that tell the language
_SHORT = frozenset({"id", "no", "nr", "by", "at", "on", "is", "to", "of", "ip", "up", "in"})  # fmt: skip
_ENDS = ("id", "code", "no", "nr", "number", "name", "date", "key", "by", "at", "type")


@cache
def _ranks() -> dict[str, int]:
    """Return the words of English by their place in the order of their frequency: those
    of wordninja, 126,000 of an encyclopaedia."""
    costs = _model()._wordcost
    return {word: rank for rank, word in enumerate(sorted(costs, key=costs.__getitem__))}  # fmt: skip


def _model() -> Any:
    import wordninja  # reads its words when it is imported

    return wordninja.DEFAULT_LANGUAGE_MODEL


def is_word(word: str) -> bool:
    """Whether a word is frequent in English, or stands for one: `cat`, not `gus`."""
    return word in ABBREVIATIONS or _ranks().get(word, COMMON) < FREQUENT


class WordSplitter:
    """Splits the words of one database. Its own names come before the dictionary."""

    def __init__(self, database: Database | None = None) -> None:
        tables = database.tables if database is not None else ()
        names = [split_words(table.own_name) for table in tables]
        columns = [split_words(c.name) for table in tables for c in table.columns]
        own = {word for words in names for word in words if len(word) > 3}
        own |= {to_singular(word) for word in own}
        self._own = dict.fromkeys(sorted(own, key=lambda word: (-len(word), word)))
        self._known = [w for words in (*names, *columns) if len(words) > 1 for w in words if len(w) > 3]  # fmt: skip
        self._is_english: bool | None = None
        self._split = lru_cache(maxsize=20_000)(self._find)

    def words(self, words: Iterable[str]) -> list[str]:
        """Split the words that are written as one; return all of them."""
        return [part for word in words for part in self._split(word)]

    def _find(self, word: str) -> tuple[str, ...]:
        if len(word) < SHORTEST or not word.isascii() or not word.isalpha():
            return (word,)
        if word in ABBREVIATIONS or word in ACRONYMS or self._is_common(word):
            return (word,)
        if not self.is_english:
            return (word,)
        if word in _ranks():  # a rare word, unless its parts are much more frequent
            return self._by_dictionary(word)
        for end in (*_ENDS, *self._own):
            rest = word.removesuffix(end)
            if rest == word or len(rest) < 3:
                continue
            if rest in self._own or self._is_common(rest):
                return (*self._split(rest), *self._split(end))
            if end in self._own and len(parts := self._by_dictionary(rest)) > 1:
                return (*parts, end)
        for start in self._own:
            rest = word.removeprefix(start)
            if rest != word and len(rest) > 2 and self._is_common(rest):
                return (start, *self._split(rest))
        return self._by_dictionary(word)

    def _by_dictionary(self, word: str) -> tuple[str, ...]:
        parts = tuple(_model().split(word))
        if 1 < len(parts) <= MOST_PARTS and all(self._is_part(part) for part in parts):
            return parts
        return (word,)

    def _is_part(self, part: str) -> bool:
        return part in _SHORT or (len(part) > 2 and self._is_common(part))

    def _is_common(self, word: str) -> bool:
        return _ranks().get(word, COMMON) < COMMON

    @property
    def is_english(self) -> bool:
        """Whether the names that are written apart are English, as far as they tell."""
        if self._is_english is None:
            known = [word in _ranks() or word in ABBREVIATIONS for word in self._known]
            self._is_english = len(known) < ENOUGH or sum(known) >= ENGLISH * len(known)
        return self._is_english
