"""Readers: they pick a value, a text or a title from a row."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    Row,
)

Path = tuple[str, ...]
Reader = Callable[[Any], Any]  # of a row
Rows = Sequence[Any]
Columns = Sequence[Sequence[Any]]  # the values of some rows, by their place


@dataclass(frozen=True, slots=True)
class At:
    """A reader of the value at one place of a row; of many rows at once, by column."""

    place: int

    def __call__(self, row: Any, /) -> Any:
        return row[self.place]

    def of(self, rows: Rows, columns: Columns) -> Sequence[Any]:
        """Return the values of all rows, which stand by column in `columns`."""
        return columns[self.place]


@dataclass(frozen=True, slots=True)
class TextAt(At):
    """The same of a text, "" for none."""

    def __call__(self, row: Any, /) -> str:
        value = row[self.place]
        return "" if value is None else str(value)


@dataclass(frozen=True, slots=True)
class TextOrKey(TextAt):
    """The same of a title that may be empty: then of the noun and the key of its
    record, "Berth 12"; "" where there is no record."""

    noun: str
    keys: tuple[int, ...]

    def __call__(self, row: Any, /) -> str:
        return str(row[self.place] or "") or self.by_key(row)

    def by_key(self, row: Any) -> str:
        """Return the noun and the key of a record."""
        values = [row[place] for place in self.keys]
        return "" if None in values else f"{self.noun} {', '.join(map(str, values))}"

    def of(self, rows: Rows, columns: Columns) -> Sequence[Any]:
        """Return the titles of all rows."""
        return [self(row) for row in rows]


@dataclass(frozen=True, slots=True)
class TitleAt:
    """A reader of the text of a reference whose title is one text, at a place; `read`
    does what there is to do where that is missing."""

    place: int
    read: Reader

    def __call__(self, row: Any, /) -> Any:
        return row[self.place] or self.read(row)

    def of(self, rows: Rows, columns: Columns) -> Sequence[Any]:
        """Return the texts of all rows."""
        titles = zip(columns[self.place], rows, strict=True)
        return [title or self.read(row) for title, row in titles]


def nothing(row: Row[Any]) -> str:
    return ""
