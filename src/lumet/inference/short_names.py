"""Names of a few letters for each word, written as one: `BUYNAM` beside `BUYNUM` is
"buy name", `DEPTNO` "department number"."""

import re
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence

from lumet.facts.model import Table
from lumet.inference.labels_from_names import ABBREVIATIONS, split_words, to_singular
from lumet.inference.name_similarity import abbreviates

# suffixes: what a column holds
_ENDS = (
    "name", "date", "code", "type", "time", "text", "desc", "stat",
    "num", "nbr", "nam", "cod", "cde", "dte", "dat", "tim", "tme", "tms", "typ", "sts",
    "txt", "dsc", "amt", "qty", "cnt", "pct", "flg", "ind", "seq", "key", "val", "adr", "tel",
    "usr", "lvl", "grp", "cls", "lat", "lon", "lng", "deg", "hrs",
    "no", "nr", "nm", "cd", "dt", "ts", "tm", "id", "yr", "yn",
)  # fmt: skip
# of these a name may have one letter before them, its table's: `ENAME` of `EMP`
_WHOLE_ENDS = frozenset({"name", "date", "code", "type", "time", "desc"})
# the words that rules look for, and those that they are at the beginning of a name
_SPELLED = {
    "nam": "name", "dte": "date", "dat": "date", "cod": "code", "cde": "code", "dsc": "description",
    "typ": "type", "sts": "status", "tms": "timestamp", "tim": "time", "tme": "time",
    "adr": "address", "cls": "class", "lvl": "level", "svc": "service",
    "fnam": "fname", "lnam": "lname",
}  # fmt: skip
_SPELLED_FIRST = {"lst": "last", "nxt": "next", "fst": "first", "prv": "previous"}
_PERSON_NAMES = frozenset({"fname", "lname", "fnam", "lnam"})
# whole names, of which the letters would say something else
_WORDS = {
    "surnam": ("surname",), "usrnam": ("username",), "lnm": ("lname",), "fnm": ("fname",),
    **{f"{a}{b}": (c, b) for a, c in (("cr", "crt"), ("up", "upd"), ("to", "to"))
       for b in ("dt", "dte", "dat", "ts", "tms", "tm", "usr", "by")},
}  # fmt: skip
_OF_TABLES = ("mst", "trn", "tbl", "trx")
PREFIX = (2, 5)  # letters of a prefix that several names share
SHORT_NAMES = 0.3  # of the names in one piece end so, and
ENOUGH_NAMES = 8  # as many of them: any prefix of theirs is taken for a word
_LETTERS = re.compile(r"([a-z]+)(\d*)")


def spelled(words: Sequence[str], kept: Collection[str] = ()) -> list[str]:
    """Return words with the usual abbreviations spelled out, except for those in
    `kept`: "buy name" of "buy nam"."""
    if len(words) < 2:
        return [*words]
    first = words[0] if words[0] in kept else _SPELLED_FIRST.get(words[0], words[0])
    return [word if word in kept else _SPELLED.get(word, word) for word in (first, *words[1:])]  # fmt: skip


class ShortNames:
    """Splits names by the suffixes that say what a column holds, and by the prefixes
    that several names share.

    `is_plain` tells texts that stay whole, `is_word` frequent words, `parts_of` splits
    a text into words that are known, () for none; `known` are further words, `begins`
    the letters that all tables begin with.
    """

    def __init__(
        self,
        tables: Iterable[Table],
        is_plain: Callable[[str], bool],
        is_word: Callable[[str], bool],
        parts_of: Callable[[str], tuple[str, ...]],
        known: Collection[str] = (),
        begins: str = "",
    ) -> None:
        self._is_plain, self._is_word, self._parts_of = is_plain, is_word, parts_of
        self._begins = begins
        self._known = {word for word in known if len(word) >= PREFIX[0]}
        self._tables = [*tables]
        names = sorted({word for word, _ in self._single()})
        ended = [(word, end) for word in names for end in self._ends(word)]
        found = self._found_prefixes(names, ended)
        self.prefixes = tuple(sorted(found, key=lambda prefix: (-len(prefix), prefix)))
        self._known |= {*self.prefixes}
        count = len({word for word, _ in ended})
        self.is_usual = count >= ENOUGH_NAMES and count >= SHORT_NAMES * len(names)
        self._prefix_of: dict[str, tuple[str, str]] = {}
        self._keys = dict(self._meant())

    def split(self, word: str, table: str = "") -> tuple[str, ...]:
        """Return the words of a name in one piece, () where it is none of these. With
        its table's own word, one letter of it may come before a whole word."""
        found = _LETTERS.fullmatch(word)
        if word in _WORDS:
            return _WORDS[word]
        if found is None or self._is_plain(word):
            return ()
        letters, digits = found.groups()
        parts = self._split(letters, table)
        return (*parts[:-1], parts[-1] + digits) if parts else ()

    def table(self, word: str) -> tuple[str, ...]:
        """Return the words of a table's name, as `split` does."""
        for begins in _OF_TABLES:
            rest = word.removeprefix(begins)
            if rest != word and len(rest) > 2 and (rest in self._known or self._is_word(rest)):  # fmt: skip
                return (begins, rest)
        return self.split(word)

    def column(self, table: Table, word: str) -> tuple[str, ...]:
        """Return the words of a column of a table, as `split` does. What it begins with
        is written out as the table's name has it, in the table itself and where the
        column is named as its key."""
        parts = self.split(word, self._own_words(table)[-1])
        if len(parts) < 2:
            return parts
        prefix, meant = self._prefix_of.get(table.name, ("", ""))
        first = meant if prefix == parts[0] else self._keys.get(word, parts[0])
        return (first, *parts[1:])

    def _split(self, word: str, table: str) -> tuple[str, ...]:
        for prefix in self.prefixes:
            rest = word.removeprefix(prefix)
            if rest != word and (self._follows(rest) or self._is_known(rest)):
                return (prefix, rest)
        for end in self._ends(word):
            if begins := self._before(word.removesuffix(end), end):
                return (*begins, end)
        if self.is_usual and len(word) == 6:
            halves = (word[:3], word[3:])
            if self._is_known(halves[0]) or halves[1] in self.prefixes:
                return halves
        is_of_table = bool(table) and word[0] == table[0] and word[1:] in _WHOLE_ENDS
        return (word[1:],) if is_of_table else ()

    def _before(self, prefix: str, end: str) -> tuple[str, ...]:
        """Return the words before the end of a name, () for none."""
        # words of Spanish and Italian end so: `interno`
        is_doubtful = end in ("no", "id") or len(prefix) < 3
        if self._is_known(prefix) or (self._is_word(prefix) and not is_doubtful):
            return (prefix,)
        if len(prefix) > 3 and (parts := self._parts_of(prefix)):
            return parts
        for n in range(3, len(prefix) - 2):
            if self._is_known(prefix[:n]) and self._is_known(prefix[n:]):
                return (prefix[:n], prefix[n:])
        is_short = len(prefix) == 3 or (len(prefix) == 4 and len(end) < 4)
        return (prefix,) if self.is_usual and is_short else ()

    def _follows(self, rest: str) -> bool:
        """Tell whether a text can follow a prefix."""
        is_end = rest in _ENDS or rest in _PERSON_NAMES or rest in ABBREVIATIONS
        return is_end or (len(rest) > 2 and self._is_word(rest))

    def _is_known(self, word: str) -> bool:
        return word in self._known or word in ABBREVIATIONS or word in _SPELLED_FIRST  # fmt: skip

    def _ends(self, word: str) -> Iterator[str]:
        for end in _ENDS:
            if word.endswith(end) and len(word) - len(end) >= PREFIX[0]:
                yield end

    def _single(self) -> Iterator[tuple[str, Table]]:
        """Yield the names in one piece that are no words, and their tables."""
        for table in self._tables:
            for column in table.columns:
                words = split_words(column.name)
                found = _LETTERS.fullmatch(words[0]) if len(words) == 1 else None
                if found and not self._is_plain(found[1]):
                    yield found[1], table

    def _found_prefixes(
        self, names: Sequence[str], ended: Iterable[tuple[str, str]]
    ) -> Iterator[str]:
        """Yield the prefixes that several names share, with a known suffix behind one of
        them."""
        lengths = range(PREFIX[0], PREFIX[1] + 1)
        begun = Counter(w[:n] for w in names for n in lengths if self._follows(w[n:]))
        for prefix in {word.removesuffix(end) for word, end in ended}:
            enough = 4 if len(prefix) == PREFIX[0] else 2
            if len(prefix) in lengths and begun[prefix] >= enough:
                yield prefix

    def _meant(self) -> Iterator[tuple[str, str]]:
        """Yield the keys that begin with an abbreviation of their table's own name, by
        their name: "buoy" of `BUYNUM` in `TBUOY`."""
        for table in self._tables:
            keys = table.primary_key or tuple(c.name for c in table.columns[:1])
            words = split_words(keys[0]) if len(keys) == 1 else []
            if len(words) != 1 or not (parts := self.split(words[0])):
                continue
            for word in map(to_singular, self._own_words(table)):
                if word != words[0] and abbreviates(parts[0], word):
                    self._prefix_of[table.name] = (parts[0], word)
                    yield words[0], word
                    break

    def _own_words(self, table: Table) -> list[str]:
        words = split_words(table.own_name) or [""]
        return [words[0].removeprefix(self._begins)] if len(words) == 1 else words
