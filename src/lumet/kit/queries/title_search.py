"""Finding a record by its whole title, as pages show it: with its separators, its own
words, and dates, numbers and choices as they are written for people."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, String, and_, bindparam, or_, true

from ..db.column_types import is_plain_text
from ..db.dialects.base import Server, escape_like
from ..forms.date_fields import DateField, DateTimeField
from ..forms.fields import ChoiceField, SecretField, ValueField, YesNoField
from ..forms.number_fields import DecimalField, IntegerField
from ..pages.table_context import TableContext
from ..pages.table_pages import python_type
from ..pages.titles import DEPTH, Title, is_separator
from .joined_select import has_key_title
from .search import (
    MAX_SEARCH_LENGTH,
    is_beyond_ascii,
    matchers,
    word_values,
    words_of,
)

EMPTY, TEXT, VALUE, SPAN, ANY = "empty", "text", "value", "span", "any"
MAX_STEPS = 4_000  # of taking a title apart; what is still unclear then is not found
Modes = tuple[str, ...]  # how each column of a title is compared, in their order


@dataclass(frozen=True, slots=True)
class Leaf:
    """A column that a title ends in, through references; `of_key` is the type of one of
    the key, by which a record without a title goes."""

    number: int
    field: ValueField | None
    of_key: type | None = None


@dataclass(frozen=True, slots=True)
class Pattern:
    """A title: its texts, and between them columns, or the titles of what they refer
    to; `leaves` are all its columns, in their order. `noun` and `keys` are what a
    record without a title goes by, where there may be one."""

    title: Title
    parts: tuple["Leaf | Pattern | None", ...]  # None: left out of the title
    leaves: tuple[Leaf, ...]
    noun: str = ""
    keys: tuple[Leaf, ...] = ()

    @property
    def fixed(self) -> frozenset[str]:
        """The constant words of the title, in lower case."""
        own = {word.lower() for text in self.title.texts for word in text.split()}
        nested = (each.fixed for each in self.parts if isinstance(each, Pattern))
        return frozenset(own).union(*nested)


@dataclass(frozen=True, slots=True)
class Titled:
    """A search that is a whole title: how its columns are compared, and with what."""

    modes: Modes
    bound: dict[str, Any] = field(compare=False, hash=False)


@dataclass(frozen=True, slots=True)
class Search:
    """What somebody typed to find records: as it is, as words, and as a whole title
    where it is one."""

    text: str = ""
    words: tuple[str, ...] = ()
    titled: Titled | None = None

    @property
    def is_meant(self) -> bool:
        """Tell whether it leaves something out."""
        return bool(self.words or self.titled)

    @property
    def modes(self) -> Modes:
        """How the columns of the title are compared, () where it is no whole title."""
        return self.titled.modes if self.titled is not None else ()

    @property
    def is_folded(self) -> bool:
        """Tell whether it holds letters beyond ASCII."""
        return is_beyond_ascii(self.text)

    @property
    def bound(self) -> dict[str, Any]:
        """The values that its conditions bind."""
        titled = self.titled.bound if self.titled is not None else {}
        return {**titled, **word_values(self.words)}


def read_search(context: TableContext, text: str) -> Search:
    """Return the search for an entered text."""
    text = text.strip()[:MAX_SEARCH_LENGTH]
    if not text:
        return Search()
    key = ("title pattern", context.pages.name, context.reach.shape)
    pattern: Pattern = context.site.plan(key, lambda: title_pattern(context))
    words = words_of(text, pattern.fixed)
    return Search(text, tuple(words), read_title(pattern, text))


def title_pattern(context: TableContext) -> Pattern:
    """Return the pattern of a table's titles within a reach, with the same columns as
    `SelectBuilder.title_columns`."""
    return _pattern(context, 0, [])


def _pattern(context: TableContext, depth: int, found: list[Leaf]) -> Pattern:
    pages, reach = context.pages, context.reach
    first = len(found)
    parts: list[Leaf | Pattern | None] = []
    for key in pages.parsed_title.keys:
        reference = pages.lookups.get(key)
        if reach.hides(pages.table.fullname, key):
            parts.append(None)
        elif reference is None or depth >= DEPTH:
            leaf = Leaf(len(found), pages.fields.get(key))
            found.append(leaf)
            parts.append(leaf)
        else:
            target = context.site.registry[reference.target]
            if reach.may("view", target.table.fullname):
                parts.append(_pattern(context.about(target), depth + 1, found))
            else:
                parts.append(None)
    if not has_key_title(pages, reach):
        return Pattern(pages.parsed_title, tuple(parts), tuple(found[first:]))
    start = len(found)
    found += [
        Leaf(start + place, None, python_type(pages.column(key)))
        for place, key in enumerate(pages.key)
    ]
    leaves = tuple(found[first:])
    noun = str(pages.singular)
    return Pattern(pages.parsed_title, tuple(parts), leaves, noun, tuple(found[start:]))


def read_title(pattern: Pattern, search: str) -> Titled | None:
    """Return the values of a search that is a whole title, None for any other."""
    text = " ".join(search.split())
    for values in _Reader(pattern, text).readings():
        made = [_meaning(leaf, values.get(leaf.number, "")) for leaf in pattern.leaves]
        if all(each is not None for each in made):
            modes = tuple(each[0] for each in made if each is not None)
            bound = {
                f"t{number}_{place}": value
                for number, each in enumerate(made)
                if each is not None
                for place, value in enumerate(each[1])
            }
            return Titled(modes, bound)
    return None


class _Reader:
    """Takes a text apart by a pattern, in every way that there is, within bounds."""

    def __init__(self, pattern: Pattern, text: str) -> None:
        self.pattern, self.text = pattern, text
        self.steps = 0
        self.ends = sorted(_ends(pattern, text))

    def readings(self) -> Iterator[dict[int, str]]:
        """Yield the texts of the columns by their numbers."""
        for end, values in self._read(self.pattern, 0):
            if end == len(self.text) and values:
                yield values

    def _read(
        self, pattern: Pattern, start: int
    ) -> Iterator[tuple[int, dict[int, str]]]:
        # first, since a title that reads alike is found by its words as well
        yield from self._by_key(pattern, start)
        yield from self._parts(pattern, 0, start, {}, is_begun=False)

    def _by_key(
        self, pattern: Pattern, start: int
    ) -> Iterator[tuple[int, dict[int, str]]]:
        """Yield the key of a record that has no title."""
        begin = self._behind(f"{pattern.noun} ", start) if pattern.keys else None
        for end in self.ends if begin is not None else ():
            parts = self.text[begin:end].split(", ")
            if end > (begin or 0) and len(parts) == len(pattern.keys):
                numbers = (leaf.number for leaf in pattern.keys)
                yield end, dict(zip(numbers, parts, strict=True))

    def _parts(
        self,
        pattern: Pattern,
        place: int,
        start: int,
        values: dict[int, str],
        is_begun: bool,
    ) -> Iterator[tuple[int, dict[int, str]]]:
        self.steps += 1
        if self.steps > MAX_STEPS:
            return
        if place == len(pattern.parts):
            last = pattern.title.texts[-1] if is_begun else ""
            if (end := self._behind(last, start)) is not None:
                yield end, values
            return
        part, text = pattern.parts[place], pattern.title.texts[place]
        if part is not None:
            if not is_begun and is_separator(text):
                text = ""
            begin = self._behind(text, start)
            for end, own in self._part(part, begin) if begin is not None else ():
                rest = {**values, **own}
                yield from self._parts(pattern, place + 1, end, rest, is_begun=True)
        yield from self._parts(pattern, place + 1, start, values, is_begun)

    def _part(self, part: Leaf | Pattern, start: int) -> Iterator[tuple[int, dict[int, str]]]:  # fmt: skip
        if isinstance(part, Pattern):
            for end, values in self._read(part, start):
                if end > start:
                    yield end, values
            return
        for end in self.ends:
            if end > start:
                yield end, {part.number: self.text[start:end]}

    def _behind(self, words: str, start: int) -> int | None:
        """Return where a text of the title ends that begins here, None for no such."""
        words = " ".join(words.split(" "))
        if start + len(words) > len(self.text) and words.strip():
            words = words.rstrip()
        end = start + len(words)
        return end if self.text[start:end].lower() == words.lower() else None


def _ends(pattern: Pattern, text: str) -> set[int]:
    """Return where a column's text may end: before each text of the title, and at the
    end of all."""
    found = {len(text)}
    lowered = text.lower()
    for words in {*pattern.title.texts} - {""}:
        place = lowered.find(words.lower())
        while place >= 0:
            found.add(place)
            place = lowered.find(words.lower(), place + 1)
    for part in pattern.parts:
        if isinstance(part, Pattern):
            found |= _ends(part, text)
    return found


def _meaning(leaf: Leaf, text: str) -> tuple[str, Sequence[Any]] | None:
    """Return how a column is compared with the text that a title shows of it, and with
    which values; None where it cannot hold what would be shown so."""
    shown = leaf.field
    if not text:
        return (EMPTY if leaf.of_key is None else ANY), ()
    if leaf.of_key is not None:
        try:
            return VALUE, [leaf.of_key(text)]
        except (ValueError, ArithmeticError, TypeError):
            return None
    if isinstance(shown, SecretField):
        return None
    try:
        if isinstance(shown, ChoiceField):
            held = [v for v, label in shown.choices.items() if str(label).lower() == text.lower()]  # fmt: skip
            return (VALUE, [shown.parse(held[0])]) if held else (TEXT, [escape_like(text)])  # fmt: skip
        if isinstance(shown, YesNoField):
            words = {shown.show(v, "").lower(): v for v in (1, 0)}
            return VALUE, [shown.parse("yes" if words[text.lower()] else "no")]
        if isinstance(shown, DateTimeField):
            found = shown.parse(text)
            return SPAN, [found, _later(found)]
        if isinstance(shown, DateField | IntegerField | DecimalField):
            return VALUE, [shown.parse(shown.clean(text))]
    except (KeyError, ValueError, ArithmeticError):
        return TEXT, [escape_like(text)]
    return TEXT, [escape_like(text)]


def _later(moment: datetime) -> datetime:
    """Return the end of what is shown alike: of a minute, or of a second."""
    span = timedelta(seconds=1) if moment.second else timedelta(minutes=1)
    return moment + span


def is_titled(
    columns: Sequence[ColumnElement[Any]], modes: Modes, server: Server, is_folded: bool
) -> ColumnElement[bool]:
    """Return the condition that the columns of a title hold what is bound."""
    return and_(
        *[
            _compared(column, mode, number, server, is_folded)
            for number, (column, mode) in enumerate(zip(columns, modes, strict=True))
        ]
    )


def _compared(
    column: ColumnElement[Any], mode: str, number: int, server: Server, is_folded: bool
) -> ColumnElement[bool]:
    if mode == ANY:
        return true()
    if mode == EMPTY:
        nothing = column.is_(None)
        return or_(nothing, column == "") if is_plain_text(column) else nothing
    if mode == TEXT:
        (like,) = matchers([column], server, is_folded)
        return like(bindparam(f"t{number}_0", type_=String()), escape="\\")
    first = bindparam(f"t{number}_0", type_=column.type)
    if mode == VALUE:
        return column == first
    return and_(column >= first, column < bindparam(f"t{number}_1", type_=column.type))
