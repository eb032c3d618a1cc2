"""Sketches of the sampled rows, in memory alone, for tests of references.

Of a column that could refer, or be referred to: a few hundred different values with
their numbers, and, where the whole table was read and no value repeats, hashes of all.
"""

import hashlib
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from itertools import combinations, islice
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumet.facts.model import Column, Table

CHECKED = 250  # different values of a column, or pairs of several, that are tried
MAX_KEY_LENGTH = 60  # characters, on average, of a text that could be a key
MAX_PARTS = 3  # columns of a key that nobody declared
FIRST_COLUMNS = 6  # those among which such a key is looked for
_KEY_KINDS = frozenset({"integer", "text", "uuid"})
_MASK = (1 << 64) - 1
Hashes = NDArray[np.uint64]


@dataclass(frozen=True, slots=True)
class ColumnSketch:
    """`values` are the first CHECKED different ones, with how often each was met;
    `distinct` counts all, `lowest` and `highest` are those of whole numbers; `keys` are
    the sorted hashes of all values of the table, None where one repeats or not all were
    read."""

    values: tuple[tuple[Any, int], ...]
    distinct: int
    keys: Hashes | None = None
    lowest: int | None = None
    highest: int | None = None


@dataclass(slots=True)
class TableSketch:
    """`is_whole`: every row was read. `rows` are the first CHECKED rows, of the columns
    called `names`, which could be keys; `key_hashes` holds the sorted hashes of keys
    over several columns."""

    is_whole: bool
    columns: dict[str, ColumnSketch] = field(default_factory=dict)
    names: tuple[str, ...] = ()
    rows: list[tuple[Any, ...]] = field(default_factory=list)
    key_hashes: dict[tuple[str, ...], Hashes] = field(default_factory=dict)


def could_be_key(column: Column) -> bool:
    """Tell whether a column's type is one that keys have."""
    if column.type.kind == "decimal":
        return column.type.scale == 0
    return column.type.kind in _KEY_KINDS


def sketch_table(
    table: Table,
    rows: Sequence[Sequence[Any]],
    counts: Sequence[Counter[Any]],
    is_whole: bool,
) -> TableSketch:
    """Make the sketch of a table from its sampled rows; `counts` has, by column, how
    often each value that is not empty was met."""
    made = TableSketch(is_whole)
    keyable: list[tuple[int, str]] = []
    for place, column in enumerate(table.columns):
        found = counts[place]
        if not could_be_key(column) or not found or _is_long(found):
            continue
        unique = is_whole and len(found) == found.total() == len(rows)
        made.columns[column.name] = ColumnSketch(
            tuple(islice(found.items(), CHECKED)),
            len(found),
            hashes(found) if unique else None,
            *_bounds(found),
        )
        keyable.append((place, column.name))
    made.names = tuple(name for _, name in keyable)
    places = [place for place, _ in keyable]
    made.rows = [tuple(row[place] for place in places) for row in rows[:CHECKED]]
    for names in [table.primary_key, *(unique.columns for unique in table.uniques)]:
        if len(names) > 1 and is_whole:
            _keep_key(made, table, rows, names)
    return made


def _bounds(counts: Counter[Any]) -> tuple[int | None, int | None]:
    numbers = [value for value in counts if isinstance(value, int)]
    return (min(numbers), max(numbers)) if len(numbers) == len(counts) else (None, None)


def _is_long(counts: Counter[Any]) -> bool:
    some = [len(value) for value in islice(counts, 50) if isinstance(value, str)]
    return bool(some) and sum(some) / len(some) > MAX_KEY_LENGTH


def _keep_key(
    made: TableSketch,
    table: Table,
    rows: Sequence[Sequence[Any]],
    names: tuple[str, ...],
) -> None:
    places = [
        place for place, column in enumerate(table.columns) if column.name in names
    ]
    ordered = sorted(places, key=lambda place: names.index(table.columns[place].name))
    tuples = {tuple(row[place] for place in ordered) for row in rows}
    made.key_hashes[names] = hashes(tuples)


def find_key(
    table: Table, rows: Sequence[Sequence[Any]], sketch: TableSketch
) -> tuple[str, ...]:
    """Return the first few columns that together are unique and never empty, the fewest
    possible of the first FIRST_COLUMNS that could be a key; () for none. One column is
    left to its own profile."""
    places = [
        place
        for place, column in enumerate(table.columns)
        if place < FIRST_COLUMNS and _is_part(column)
    ]
    for count in range(2, MAX_PARTS + 1):
        for chosen in combinations(places, count):
            tuples = {tuple(row[place] for place in chosen) for row in rows}
            if len(tuples) == len(rows) and not any(None in each for each in tuples):
                names = tuple(table.columns[place].name for place in chosen)
                if sketch.is_whole:
                    sketch.key_hashes[names] = hashes(tuples)
                return names
    return ()


def _is_part(column: Column) -> bool:
    return could_be_key(column) or column.type.kind in ("date", "datetime")


def hashes(values: Iterable[Any]) -> Hashes:
    """Return the sorted hashes of values or tuples of values; the same on any day."""
    return np.unique(in_order(values))


def in_order(values: Iterable[Any]) -> Hashes:
    """Return the hashes of values or tuples of values, in their order."""
    return np.array([_hash(value) for value in values], dtype=np.uint64)


def _hash(value: Any) -> int:
    if type(value) is int:
        return value & _MASK  # as good as any, and quick
    plain = _plain(value)
    if type(plain) is int:
        return plain & _MASK
    text = repr(plain).encode("utf-8", "surrogateescape")
    return int.from_bytes(hashlib.blake2b(text, digest_size=8).digest(), "little")


def _plain(value: Any) -> Any:
    """Return a value in one form, whatever type and padding its column has."""
    if isinstance(value, tuple):
        return tuple(map(_plain, value))
    if isinstance(value, str):
        return value.rstrip(" ")
    if isinstance(value, bytes) or value is None:
        return value
    try:
        return int(value) if value == int(value) else value
    except (ValueError, OverflowError, TypeError):
        return str(value)
