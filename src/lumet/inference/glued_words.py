"""Words that are written as one: `servicestate` is "service state", and `VSLHOMEPORTKEY`
of `TVSL`, beside `TPRT`, is "vsl home port key"."""

import gzip
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from functools import cache, lru_cache
from importlib.util import find_spec
from math import log
from pathlib import Path
from typing import Any

from lumet.facts.model import Database, Table
from lumet.inference.labels_from_names import (
    ABBREVIATIONS,
    ACRONYMS,
    NO_GLOSSARY,
    Glossary,
    split_words,
    to_singular,
)
from lumet.inference.name_similarity import abbreviates
from lumet.inference.short_names import ShortNames, spelled

SHORTEST = 5  # letters of a word that may be two: `bugid`
COMMON = 40_000  # of the words by frequency, those that a part may be
FREQUENT = 15_000  # that a person would take for a word: `gus` is the 21,928th
VERY_FREQUENT = 7_000  # parts of a rare word, such as `lastname`
BRIEF = 4_000  # those of three letters that a part may be
MOST_PARTS = 4
ENGLISH = 0.6  # of the other words are in the dictionary, else it is another language
ENOUGH = 10  # other words that tell the language
SHARED = 0.9  # of the tables that begin with the same letters: `TVSL`, `TPRT`
ENOUGH_TABLES = 5  # that show so
FEW_WORDS = 0.4  # of the names of tables that begin so may be words: `task` and `team`
PREFIXED = 0.5  # of a table's columns have the beginning that it adds to them
PREFIX = (2, 6)  # letters of such a beginning
SPLIT = 0.7  # of what follows it are words
OWN_COST, END_COST, PART_COST = 2.0, 2.0, 3.0  # of a part, beside the log of its rank
_SHORT = frozenset({"id", "no", "nr", "by", "at", "on", "is", "to", "of", "ip", "up", "in"})  # fmt: skip
_ENDS = ("id", "code", "no", "nr", "number", "name", "date", "key", "by", "at", "type")
# of two letters, behind another word
_BRIEF_ENDS = frozenset({"id", "no", "nr", "by", "at", "on", "cd", "dt", "ts", "tm", "fk", "pk", "yn"})  # fmt: skip
# of three and more, in names more often than in texts
_TERMS = frozenset({"lat", "lon", "lng", "dep", "arr", "inst", "min", "max", "avg", "std", "cfg", "cur",
                    "prev", "init", "auth", "attr", "param", "temp", "alt", "sub", "pos", "ref", "dim",
                    "kg", "km", "mm", "cm", "nm", "pct", "eur", "usd", "gbp", "url", "uri", "uuid"})  # fmt: skip
_BRIEF_PARTS = frozenset({"is", "to", "of", "in", "up", "ip"})
# words of computing that no dictionary has
_COMPOUNDS = frozenset({"timeout", "uptime", "downtime", "hostname", "username", "filesize",
                        "webhook", "logout", "workflow", "dataset", "datetime", "signup", "timestamp",
                        "subnet", "mailbox", "callsign", "waypoint", "logbook",
                        "plugin", "checksum", "errstr", "metadata", "codename", "tooltip", "wildcard"})  # fmt: skip
_KEY_ENDS = (["key"], ["id"], ["no"], ["code"], ["cd"], ["nr"])
_LETTERS = re.compile(r"([a-z]+)(\d*)")


@cache
def _ranks() -> dict[str, int]:
    """Return the words of English by their place in the order of their frequency: those
    of wordninja, 126,000 of an encyclopaedia. Its file is read without its module, which
    works out a cost for each of them when it is imported."""
    found = find_spec("wordninja")
    assert found is not None
    assert found.origin is not None
    packed = Path(found.origin).parent / "wordninja" / "wordninja_words.txt.gz"
    words = gzip.decompress(packed.read_bytes()).decode().split()
    return {word: rank for rank, word in enumerate(words)}


def _model() -> Any:
    import wordninja

    return wordninja.DEFAULT_LANGUAGE_MODEL


def is_word(word: str) -> bool:
    """Whether a word is frequent in English, or stands for one: `cat`, not `gus`."""
    if len(word) < 3:
        return word in _SHORT
    return word in ABBREVIATIONS or _ranks().get(word, COMMON) < FREQUENT


def with_words_apart(database: Database, glossary: Glossary = NO_GLOSSARY) -> Database:
    """Return the database with the words of its names apart, where they are written as
    one. The words of the glossary stay whole."""
    if any(t.apart or any(c.apart for c in t.columns) for t in database.tables):
        return database
    splitter = WordSplitter(database, glossary)
    tables = [_apart(table, splitter) for table in database.tables]
    return replace(database, tables=tuple(tables))


def _apart(table: Table, splitter: "WordSplitter") -> Table:
    columns = [
        replace(column, apart=_joined(column.name, splitter.column(table, column.name)))
        for column in table.columns
    ]
    own = _joined(table.own_name, splitter.table(table.own_name))
    if not own and not any(column.apart for column in columns):
        return table
    kept = [new if new.apart else old for new, old in zip(columns, table.columns, strict=True)]  # fmt: skip
    return replace(table, apart=own, columns=tuple(kept))


def _joined(name: str, words: Sequence[str]) -> str:
    """Return words as a name, "" where they are those of `name` already."""
    return "" if [*words] == split_words(name) else "_".join(words)


_SUFFIXES = frozenset({"able", "ible", "ware", "ness", "less", "ship", "hood", "wise", "ing", "ings",
                       "ment", "ments", "like", "ish"})  # fmt: skip


class WordSplitter:
    """Splits the words of one database. Its own names come before the dictionary."""

    def __init__(
        self, database: Database | None = None, glossary: Glossary = NO_GLOSSARY
    ) -> None:
        tables = database.tables if database is not None else ()
        names = [split_words(table.own_name) for table in tables]
        columns = [split_words(c.name) for table in tables for c in table.columns]
        own = {word for words in names for word in words if len(word) > 3}
        own |= {to_singular(word) for word in own}
        self._own = dict.fromkeys(sorted(own, key=lambda word: (-len(word), word)))
        self._known = [w for words in (*names, *columns) if len(words) > 1 for w in words if len(w) > 3]  # fmt: skip
        self._is_english: bool | None = None
        self._split = lru_cache(maxsize=20_000)(self._find)
        self._whole = frozenset(glossary)
        self._begins = _shared_letters([w for w in names if len(w) == 1])
        self._stems: frozenset[str] = frozenset()
        self._prefixes: dict[str, str] = {}
        self._stems = frozenset(filter(None, map(self._stem, names)))
        self._prefixes = {t.name: p for t in tables if (p := self._prefix(t))}
        self._stems |= {*self._prefixes.values()}
        self._short = ShortNames(
            tables, self._is_whole, is_word, self._parts, self._whole, self._begins
        )  # fmt: skip
        self._split.cache_clear()
        self._meanings: dict[str, str] = {}
        self._meanings = dict(self._meant(tables))

    def words(self, words: Iterable[str]) -> list[str]:
        """Split the words that are written as one; return all of them."""
        return [part for word in words for part in self._split(word)]

    def table(self, name: str) -> list[str]:
        """Return the words of a table's name, without the letters that all begin
        with."""
        words = split_words(name)
        rest = words[0].removeprefix(self._begins) if len(words) == 1 else ""
        if not rest or rest == words[0]:
            short = self._short.table(words[0]) if len(words) == 1 else ()
            return self._meaning(short or self.words(words))
        is_stem = rest in self._stems
        if is_stem:
            return self._meaning([rest])
        return self._meaning(self._parts(rest) or self._short.table(rest) or (rest,))

    def column(self, table: Table, name: str) -> list[str]:
        """Return the words of a column's name."""
        words = split_words(name)
        prefix = self._prefixes.get(table.name)
        if prefix and words and words[0] not in self._whole:
            rest = words[0].removeprefix(prefix)
            if rest not in ("", words[0]) and not self._is_plain(words[0]):
                parts = [prefix, *(self._parts(rest) or (rest,))]
                return self._meaning(parts + self.words(words[1:]))
        is_one = len(words) == 1 and words[0] not in self._whole
        if is_one and (short := self._short.column(table, words[0])):
            return self._meaning(short)
        return self._meaning(self.words(words))

    def _meaning(self, words: Iterable[str]) -> list[str]:
        meant = [self._meanings.get(word, word) for word in words]
        return spelled(meant, self._whole)

    def _meant(self, tables: Sequence[Table]) -> Iterator[tuple[str, str]]:
        """Yield the stems that abbreviate a word of this database, and the only one: of
        their table's comment, or of a column that is named like a key: `TPRT` beside
        `VSLHOMEPORTKEY`."""
        referring = {
            words[-2]
            for table in tables
            for column in table.columns
            if (words := self.column(table, column.name))[-1:] in _KEY_ENDS and len(words) > 1
        }  # fmt: skip
        for table in tables:
            (stem, *rest) = self.table(table.own_name) or [""]
            if rest or stem not in self._stems or self._is_plain(stem):
                continue
            told = {to_singular(w) for w in split_words(table.comment)[:6]} - {stem}
            for near in (told, referring):
                meant = {
                    word for word in near if is_word(word) and abbreviates(stem, word)
                }
                if len(meant) == 1:
                    yield stem, meant.pop()
                    break

    def _stem(self, words: Sequence[str]) -> str:
        """Return the rest of a table's name without the letters that all begin with, ""
        where that is several words."""
        rest = words[0].removeprefix(self._begins) if len(words) == 1 else ""
        return rest if self._begins and 2 < len(rest) < SHORTEST else ""

    def _prefix(self, table: Table) -> str:
        """Return the letters that a table adds to the beginning of its columns, ""
        where there are none: `VSL` of `VSLNAME` and `VSLTYPE`."""
        firsts = [words[0] for c in table.columns if (words := split_words(c.name))]
        odd = [word for word in firsts if len(word) > 3 and not self._is_plain(word)]
        counts = Counter(word[:n] for word in odd for n in range(PREFIX[0], PREFIX[1] + 1) if len(word) > n + 1)  # fmt: skip
        own = split_words(table.own_name)[-1:]
        best, most = "", 0
        for prefix, count in sorted(counts.items(), key=lambda each: (-each[1], -len(each[0]))):  # fmt: skip
            is_own = bool(own) and own[0].removeprefix(self._begins) == prefix
            rests = [word.removeprefix(prefix) for word in odd if word.startswith(prefix)]  # fmt: skip
            enough = 2 if is_own else max(3, PREFIXED * len(firsts), 8 - 2 * len(prefix))  # fmt: skip
            if count < enough or count <= most or len({r[0] for r in rests}) < 2:
                continue
            told = sum(bool(self._parts(rest)) for rest in rests)
            if told >= (SPLIT / 2 if is_own else SPLIT) * len(rests):
                best, most = prefix, count
        return best

    def _is_plain(self, word: str) -> bool:
        """Tell whether a word is one, whatever it begins with: `carrier` of `car`."""
        return is_word(word) or word in _COMPOUNDS or word in ACRONYMS

    def _is_whole(self, word: str) -> bool:
        """Tell whether a word is in the dictionary, however rare, or stays whole."""
        return word in _ranks() or word in self._whole or self._is_plain(word)

    def _parts(self, word: str) -> tuple[str, ...]:
        """Return the fewest and most frequent words that a text without a break is made
        of, () for none: the stems of this database before those of the dictionary."""
        found = _LETTERS.fullmatch(word)
        if found is None:
            return ()
        letters, digits = found.groups()
        best: list[tuple[float, tuple[str, ...]] | None] = [(0.0, ())]
        for end in range(1, len(letters) + 1):
            ways = [
                (before[0] + cost, (*before[1], letters[start:end]))
                for start in range(max(0, end - 20), end)
                if (before := best[start]) is not None
                and (cost := self._cost(letters, start, end)) is not None
            ]
            best.append(min(ways, default=None))
        way = best[-1]
        if way is None or len(way[1]) > MOST_PARTS + 1:
            return ()
        return (*way[1][:-1], way[1][-1] + digits)

    def _cost(self, letters: str, start: int, end: int) -> float | None:
        """Return the cost of a part of a name, None for what can be none."""
        part = letters[start:end]
        if part in self._stems or part in _COMPOUNDS or part in self._own:
            return OWN_COST + PART_COST
        is_last = end == len(letters)
        if len(part) < 3:
            is_end = part in _BRIEF_ENDS | _TERMS and is_last and start > 0
            is_known = is_end or (part in _BRIEF_PARTS and not is_last)
            return END_COST + PART_COST if is_known else None
        if part in ABBREVIATIONS or part in _ENDS or part in _TERMS:
            return END_COST + PART_COST
        rank = _ranks().get(part, COMMON)
        if rank >= (BRIEF if len(part) == 3 else COMMON) or not self.is_english:
            return None
        return log(rank + 2) + PART_COST

    def _find(self, word: str) -> tuple[str, ...]:
        if len(word) < SHORTEST or not word.isascii() or not word.isalpha():
            return (word,)
        if word in ABBREVIATIONS or word in self._whole or self._is_common(word):
            return (word,)
        if word in _COMPOUNDS or word in ACRONYMS:
            return (word,)
        if any(stem in word for stem in self._stems) and (parts := self._parts(word)):
            return parts
        if short := self._short.split(word):
            return short
        if not self.is_english:
            return (word,)
        if word in _ranks():  # a rare word, unless its parts are much more frequent
            parts = self._by_dictionary(word)
            rarest = max(_ranks().get(part, COMMON) for part in parts)
            return parts if rarest < VERY_FREQUENT else (word,)
        for end in (*_ENDS, *self._own):
            rest = word.removesuffix(end)
            if rest == word or len(rest) < 3:
                continue
            if rest in self._own or self._is_common(rest) or rest in _COMPOUNDS:
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
        if parts[-1] in _SUFFIXES:
            return (word,)  # a longer word, rather than two: `middleware`
        if 1 < len(parts) <= MOST_PARTS and all(self._is_part(part) for part in parts):
            return parts
        return (word,)

    def _is_part(self, part: str) -> bool:
        rank = _ranks().get(part, COMMON)
        return part in _SHORT or rank < (BRIEF if len(part) == 3 else COMMON if len(part) > 3 else 0)  # fmt: skip

    def _is_common(self, word: str) -> bool:
        return _ranks().get(word, COMMON) < COMMON

    @property
    def is_english(self) -> bool:
        """Whether the names that are written apart are English, as far as they tell."""
        if self._is_english is None:
            known = [word in _ranks() or word in ABBREVIATIONS for word in self._known]
            self._is_english = len(known) < ENOUGH or sum(known) >= ENGLISH * len(known)
        return self._is_english


def _shared_letters(names: Sequence[Sequence[str]]) -> str:
    """Return the letters that nearly all names of one word begin with, "" where there
    are none, or where the names are but words: `TVSL` and `TPRT`, not `task` and
    `team`."""
    words = [name[0] for name in names]
    if len(words) < ENOUGH_TABLES:
        return ""
    counts = Counter(word[:n] for word in words for n in range(1, 6) if len(word) > n + 1)  # fmt: skip
    for begins, count in sorted(counts.items(), key=lambda each: (-len(each[0]), each[0])):  # fmt: skip
        held = [word for word in words if word.startswith(begins)]
        is_plain = sum(map(is_word, held)) > FEW_WORDS * len(held)
        follow = {word[len(begins)] for word in held if word[len(begins) :].isalpha()}
        if count >= SHARED * len(words) and len(follow) > 2 and not is_plain:
            return begins
    return ""
