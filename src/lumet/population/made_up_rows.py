"""The rows of one table: its references, its values, and what they keep to together."""

import time as clock
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from anyascii import anyascii

from lumet.design.decision_schema import FieldDecisions, TableDecisions
from lumet.facts.dialects import server_of
from lumet.facts.model import Column, Reference, Table
from lumet.inference.labels_from_names import split_words
from lumet.population.conditions import Conditions
from lumet.population.limits import Ordered, limits_of
from lumet.population.pools import Pools
from lumet.population.values import DAY, Batch, Draw, Subject, drawing

ROUNDS = 14  # of mending rows that break a rule, before they are left out
YEARS = 3  # over which rows come to be
SELDOM = frozenset(
    ["deleted", "cancelled", "canceled", "revoked", "archived", "retired"]
)
ENDS = frozenset(["end", "ended", "closed", "finished", "left", "resolved", "completed", "decommissioned"])  # fmt: skip
DATES = frozenset({"date", "datetime"})

Columns = dict[str, list[Any]]
Key = tuple[Any, ...]


@dataclass(slots=True)
class Parents:
    """The rows that a reference can name: the values of the referred columns, and when
    each row came to be, in seconds, as far as that is known."""

    keys: list[Key]
    moments: Any = None
    weights: Any = None

    def chosen(self, random: np.random.Generator, count: int) -> Any:
        """Return the places of parents: few are chosen often, many seldom."""
        if self.weights is None or len(self.weights) != len(self.keys):
            raw = random.lognormal(0, 1.1, len(self.keys))
            self.weights = np.cumsum(raw / raw.sum())
        places = np.searchsorted(self.weights, random.random(count))
        return np.minimum(places, len(self.keys) - 1)


@dataclass(frozen=True, slots=True)
class Link:
    """A reference of the table, and what it can name now."""

    reference: Reference
    parents: Callable[[], Parents]
    none: Any = None  # what stands for none where the columns take no NULL


@dataclass
class TableRows:
    """Makes up the rows of one table. `left_out` are columns that the database fills;
    with `least` only what must be filled is."""

    table: Table
    decisions: TableDecisions
    dialect: str
    pools: Pools
    random: np.random.Generator
    links: Sequence[Link]
    left_out: frozenset[str] = frozenset()
    least: bool = False
    refused: dict[str, set[Any]] = field(default_factory=dict)  # values that never pass

    def __post_init__(self) -> None:
        rules = [each.rule for each in self.decisions.field.values() if each.rule]
        texts = [*(check.text for check in self.table.checks), *rules]
        fields = dict(self.decisions.field)
        self.limits, self.ordered = limits_of(self.table, fields, self.dialect, texts)
        self.conditions = Conditions(self.table, texts, self.dialect)
        self.seen: dict[tuple[str, ...], set[Any]] = defaultdict(set)
        self.counters: dict[tuple[tuple[str, ...], Any], int] = defaultdict(int)
        self.linked = {name for link in self.links for name in link.reference.columns}
        self.uniques = self._uniques()
        self.subjects = self._subjects()
        self.draws = {name: self._draw_of(each) for name, each in self.subjects.items()}
        self.columns = [c.name for c in self.table.columns if self._is_written(c)]
        self.grouped = self._grouped_numbers()

    # what there is

    def _uniques(self) -> list[tuple[str, ...]]:
        keys = [self.table.primary_key, *(u.columns for u in self.table.uniques)]
        keys += [
            index.columns for index in self.table.indexes
            if index.unique and not index.computed
            and not (index.partial and {*index.columns} <= self.linked)
        ]  # fmt: skip
        keys = [key for key in dict.fromkeys(keys) if key]
        return [key for key in keys if not set(key) & self.left_out]

    def _subjects(self) -> dict[str, Subject]:
        words = split_words(self.table.own_name)
        places = [c.name for c in self.table.columns if c.type.kind in DATES]
        excluded = " ".join(each.text for each in self.table.exclusions)
        return {
            column.name: Subject(
                column, self.decisions.field.get(column.name, FieldDecisions()),
                self.limits[column.name], words,
                (column.name,) in self.uniques or (column.type.kind in DATES and column.name in excluded),
                places.index(column.name) if column.name in places else 0,
            )
            for column in self.table.columns
        }  # fmt: skip

    def _draw_of(self, subject: Subject) -> Draw | None:
        if subject.column.name in self.left_out:
            return None
        if subject.column.name in self.linked:
            return None
        return drawing(subject, self.pools, server_of(self.dialect))

    def _is_written(self, column: Column) -> bool:
        if column.name in self.left_out or column.generated:
            return False
        if column.name in self.linked:
            return True
        if self.draws[column.name] is None:
            return False
        default = column.default
        is_reckoned = default is not None and not default.literal and column.type.kind not in DATES  # fmt: skip
        return not (is_reckoned or "add" in column.denied)

    def _grouped_numbers(self) -> dict[str, tuple[str, ...]]:
        """Return the numbers that count within what the rest of a key names: the line of
        a document, the position of a part."""
        found = {}
        for key in self.uniques:
            rest = [name for name in key if name in self.linked]
            numbers = [
                name for name in key
                if name not in self.linked and self.table.column(name).type.kind == "integer"
                and not self.limits[name].choices
            ]  # fmt: skip
            if len(key) > 1 and rest and len(numbers) == 1:
                found[numbers[0]] = tuple(n for n in key if n != numbers[0])
        return found

    def most(self) -> int | None:
        """Return how many rows there can be at most, None for any number: a key over
        references and choices alone is used up some time."""
        found: list[int] = []
        for key in self.uniques:
            sizes = [self._size(name) for name in key if name not in self._linked_twice(key)]  # fmt: skip
            if None in sizes:
                continue
            product = 1
            for size in sizes:
                product *= size or 0
            found.append(product)
        return min(found, default=None)

    def _linked_twice(self, key: Sequence[str]) -> set[str]:
        """Return the columns of a key that belong to a reference counted already."""
        found: set[str] = set()
        for link in self.links:
            inside = [name for name in link.reference.columns if name in key]
            found |= {*inside[1:]} - {*inside[:1]}
        return found

    def _size(self, name: str) -> int | None:
        column = self.table.column(name)
        for link in self.links:
            if name in link.reference.columns:
                return len(link.parents().keys)
        if self.limits[name].choices:
            return len(self.limits[name].choices)
        if column.type.kind == "boolean" or self.subjects[name].decided.kind == "yes/no":  # fmt: skip
            return 2
        low, high = self.limits[name].lowest, self.limits[name].highest
        if column.type.kind != "integer" or low is None or high is None:
            return None
        return int(high) - max(int(low), 1) + 1 if high < 100_000 else None

    # making them

    def make(self, first: int, count: int) -> tuple[list[Key], Any]:
        """Return up to `count` rows with the values of `columns`, the first being the
        row of that number, and when each came to be."""
        batch = self._batch(first, count)
        found = self._linked_columns(batch)
        for name in self.columns:
            draw = self.draws[name]
            if name not in found and draw is not None:
                found[name] = self._nulled(name, draw(batch), batch)
        self._number_groups(found)
        self._put_in_order(found)
        kept = self._mended(found, batch)
        kept = self._single(found, kept, batch)
        rows = list(zip(*(found[name] for name in self.columns), strict=True))
        return [rows[place] for place in kept], batch.moments[kept]

    def _batch(self, first: int, count: int) -> Batch:
        now = clock.time()
        spread = YEARS * 365 * DAY
        # later rows came later: their time runs on with their number
        share = (first + np.arange(count)) / (first + count + 1)
        moments = now - spread * (1 - share) + self.random.normal(0, 5 * DAY, count)
        return Batch(self.random, first, count, np.minimum(moments, now - 3600), now)

    def _linked_columns(self, batch: Batch) -> Columns:
        """Choose what the references name. A reference that shares a column with one
        before it names what agrees with that."""
        found: Columns = {}
        for link in sorted(self.links, key=lambda each: -len(each.reference.columns)):
            columns = link.reference.columns
            shared = [name for name in columns if name in found]
            parents = link.parents()
            if not parents.keys:
                values: list[Key] = [self._nothing(link)] * batch.count
            elif shared:
                values = self._agreeing(link, parents, found, shared, batch)
            else:
                places = self._places(link, parents, batch)
                values = [parents.keys[place] for place in places]
                if parents.moments is not None and len(parents.moments) == len(parents.keys):  # fmt: skip
                    late = parents.moments[places] + self.random.exponential(20 * DAY, batch.count)  # fmt: skip
                    batch.moments = np.minimum(np.maximum(batch.moments, late), batch.now - 60)  # fmt: skip
            share = self._null_share_of_link(link)
            if parents.keys and share:
                nothing = self._nothing(link)
                gone = self.random.random(batch.count) < share
                values = [
                    nothing if g else v for g, v in zip(gone, values, strict=True)
                ]
            for place, name in enumerate(columns):
                if name not in shared:
                    found[name] = [value[place] for value in values]
        return found

    def _places(self, link: Link, parents: Parents, batch: Batch) -> Any:
        columns = set(link.reference.columns)
        if any(set(key) <= columns for key in self.uniques):  # one each
            return (batch.first + np.arange(batch.count)) % len(parents.keys)
        return parents.chosen(self.random, batch.count)

    def _agreeing(
        self, link: Link, parents: Parents, found: Columns, shared: Sequence[str], batch: Batch
    ) -> list[Key]:  # fmt: skip
        columns = link.reference.columns
        places = [columns.index(name) for name in shared]
        by_shared: dict[Key, list[Key]] = defaultdict(list)
        for key in parents.keys:
            by_shared[tuple(key[place] for place in places)].append(key)
        nothing = self._nothing(link)
        values = []
        for row in zip(*(found[name] for name in shared), strict=True):
            fitting = by_shared.get(row)
            values.append(fitting[int(self.random.integers(len(fitting)))] if fitting else nothing)  # fmt: skip
        return values

    def _nothing(self, link: Link) -> Key:
        return tuple(self._none_of(link, name) for name in link.reference.columns)

    def _none_of(self, link: Link, name: str) -> Any:
        """Return the value of a column that refers to nothing: in one that takes no NULL
        its default, where the database does not see to the reference."""
        column = self.table.column(name)
        if column.nullable or link.none is not None or link.reference.enforced:
            return None if column.nullable else link.none
        is_number = column.type.kind in ("integer", "decimal", "float")
        text = column.default.text if column.default and column.default.literal else ""
        if is_number:
            return int(text) if text.lstrip("-").isdigit() else 0
        return text

    def _null_share_of_link(self, link: Link) -> float:
        columns = [self.table.column(name) for name in link.reference.columns]
        if not any(each.nullable for each in columns) and link.none is None:
            return 0.0
        if any(self.subjects[each.name].decided.required for each in columns):
            return 0.0
        return 1.0 if self.least else 0.12

    def _null_share(self, name: str) -> float:
        subject = self.subjects[name]
        column = subject.column
        if not column.nullable or subject.decided.required or name in self.table.primary_key:  # fmt: skip
            return 0.0
        if self.least:
            return 1.0
        words = {*subject.words}
        if name == self.decisions.soft_delete or words & SELDOM:
            return 0.95
        if words & ENDS and column.type.kind in DATES:
            return 0.5
        return 0.0 if words & {"name", "title", "code"} else 0.15

    def _nulled(self, name: str, values: list[Any], batch: Batch) -> list[Any]:
        if share := self._null_share(name):
            gone = self.random.random(batch.count) < share
            values = [None if g else v for g, v in zip(gone, values, strict=True)]
        never = self.refused.get(name)
        if never:
            good = [value for value in values if value not in never]
            if good:
                values = [v if v not in never else good[i % len(good)] for i, v in enumerate(values)]  # fmt: skip
        return values

    def _number_groups(self, found: Columns) -> None:
        for name, rest in self.grouped.items():
            if name not in found or not all(each in found for each in rest):
                continue
            for place, group in enumerate(zip(*(found[each] for each in rest), strict=True)):  # fmt: skip
                self.counters[rest, group] += 1
                found[name][place] = self.counters[rest, group]

    def _put_in_order(self, found: Columns) -> None:
        """Exchange two values of a row where the later comes before the earlier."""
        for pair in self.ordered * 2:
            self._exchange(pair, found)

    @staticmethod
    def _exchange(pair: Ordered, found: Columns) -> None:
        low, high = found.get(pair.low), found.get(pair.high)
        if low is None or high is None:
            return
        for place, (a, b) in enumerate(zip(low, high, strict=True)):
            if a is not None and b is not None and type(a) is type(b) and a > b:
                low[place], high[place] = b, a

    def _mended(self, found: Columns, batch: Batch) -> list[int]:
        """Make up anew what breaks a rule, for some rounds; return the rows that keep
        them all."""
        for attempt in range(ROUNDS):
            failing = self.conditions.failing(found)
            if not failing:
                return [*range(batch.count)]
            for condition, places in failing:
                if attempt > 3 and attempt % 2 and condition.settings:
                    self._set(found, condition.settings, attempt, places)
                else:
                    self._redraw(found, condition.columns, places, batch)
            self._put_in_order(found)
        broken = {place for _, places in self.conditions.failing(found) for place in places}  # fmt: skip
        return [place for place in range(batch.count) if place not in broken]

    def _set(
        self, found: Columns, settings: Sequence[tuple[str, str]], attempt: int, places: list[int]
    ) -> None:  # fmt: skip
        name, expression = settings[attempt // 2 % len(settings)]
        if name not in found or name in self.linked:
            return
        part = {each: [values[place] for place in places] for each, values in found.items()}  # fmt: skip
        for place, value in zip(places, self.conditions.reckoned(part, expression), strict=True):  # fmt: skip
            found[name][place] = _like(found[name][place], value)

    def _redraw(
        self, found: Columns, names: Sequence[str], places: list[int], batch: Batch
    ) -> None:  # fmt: skip
        part = Batch(self.random, batch.first, len(places), batch.moments[places], batch.now)  # fmt: skip
        self._redraw_links(found, names, places, part)
        for name in names:
            draw = self.draws.get(name)
            if (
                draw is None
                or name not in found
                or (name,) in self.uniques
                or name in self.grouped
            ):
                continue
            self._put(found, [name], [(each,) for each in draw(part)], places)

    def _redraw_links(
        self, found: Columns, names: Sequence[str], places: list[int], part: Batch
    ) -> None:  # fmt: skip
        """Choose anew what the references with one of these columns name."""
        links = [each for each in self.links if {*each.reference.columns} & {*names}]
        linked = self._linked_columns(part) if links else {}
        for link in links:
            columns = link.reference.columns
            if not any(set(key) <= {*columns} for key in self.uniques):
                rows = list(zip(*(linked[name] for name in columns), strict=True))
                self._put(found, columns, rows, places)

    def _put(
        self, found: Columns, names: Sequence[str], rows: Sequence[Key], places: list[int]
    ) -> None:  # fmt: skip
        """Set columns of some rows, half of them to nothing where they may be empty."""
        can_be_empty = [
            self.table.column(name).nullable and not self.subjects[name].decided.required
            for name in names
        ]  # fmt: skip
        gone = self.random.random(len(places)) < (0.5 if any(can_be_empty) else 0.0)
        for place, row, none in zip(places, rows, gone, strict=True):
            for name, value, empty in zip(names, row, can_be_empty, strict=True):
                found[name][place] = None if none and empty else value

    def _single(self, found: Columns, kept: list[int], batch: Batch) -> list[int]:
        """Leave out, after some rounds of mending, the rows whose keys are there
        already."""
        keys = [key for key in self.uniques if all(name in found for name in key)]
        for attempt in range(ROUNDS):
            taken = {key: set() for key in keys}  # type: dict[tuple[str, ...], set[Any]]
            double: dict[int, tuple[str, ...]] = {}
            for place in kept:
                for key in keys:
                    held = tuple(_folded(found[name][place]) for name in key)
                    if None in held:
                        continue
                    if held in self.seen[key] or held in taken[key]:
                        double[place] = key
                    taken[key].add(held)
            if not double or attempt == ROUNDS - 1:
                break
            by_key: dict[tuple[str, ...], list[int]] = defaultdict(list)
            for place, key in double.items():
                by_key[key].append(place)
            for key, places in by_key.items():
                names = [n for n in key if (n,) not in self.uniques and n not in self.grouped]  # fmt: skip
                self._redraw_filled(found, names, places, batch)
        left = set(double)
        if self.conditions.known:
            left |= {place for _, places in self.conditions.failing(found) for place in places}  # fmt: skip
        rest = [place for place in kept if place not in left]
        for key in keys:
            self.seen[key] |= {
                held for place in rest
                if None not in (held := tuple(_folded(found[name][place]) for name in key))
            }  # fmt: skip
        return rest

    def _redraw_filled(
        self, found: Columns, names: Sequence[str], places: list[int], batch: Batch
    ) -> None:  # fmt: skip
        part = Batch(self.random, batch.first, len(places), batch.moments[places], batch.now)  # fmt: skip
        linked = self._linked_columns(part) if set(names) & self.linked else {}
        whole = {n for link in self.links if set(link.reference.columns) & set(names) for n in link.reference.columns}  # fmt: skip
        for name in {*names, *(whole & set(linked))}:
            draw = self.draws.get(name)
            values = linked.get(name) or (draw(part) if draw is not None else None)
            for place, value in zip(places, values or (), strict=False):
                found[name][place] = value


def _like(old: Any, value: Any) -> Any:
    """Return a reckoned value with the type of the one before."""
    if value is None or old is None or isinstance(value, type(old)):
        return value
    from datetime import date, datetime
    from decimal import Decimal

    try:
        if isinstance(old, datetime):
            return datetime.fromisoformat(str(value))
        if isinstance(old, date):
            return date.fromisoformat(str(value)[:10])
        return Decimal(str(value)) if isinstance(old, Decimal) else type(old)(value)
    except (ValueError, TypeError):
        return old


def _folded(value: Any) -> Any:
    """Return a value as the most lenient server compares it: without case, accents and
    blanks behind."""
    if isinstance(value, str):
        return value if value.islower() and value.isalnum() and value.isascii() else anyascii(value).casefold().rstrip()  # fmt: skip
    return tuple(value) if isinstance(value, list) else value
