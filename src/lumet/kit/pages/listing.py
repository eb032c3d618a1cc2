"""The list of a table: a page at a time, by key, however large the table is."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Row,
    Select,
    bindparam,
    func,
    literal,
    select,
)

from ..fields import JsonField, LongTextField, OtherField
from ..reach import Reach
from .keyset import Term, branches, make_terms, read_place, write_place
from .model import Order, TablePages
from .selection import Cell, Selection
from .site import Plan, Site, record_address

PAGE_ROWS = 25
MOST_COUNTED = 10_000  # counting stops here: "more than 10,000"
TITLE = "title"  # the word that stands for the title in an address


@dataclass(frozen=True, slots=True)
class Line:
    """One row of a list."""

    key: str
    title: Cell
    cells: list[Cell]


@dataclass(frozen=True, slots=True)
class Page:
    """One page of a list. `begin` and `end` are the places before and behind it, empty
    where nothing is."""

    lines: list[Line]
    begin: str = ""
    end: str = ""


@dataclass(frozen=True, slots=True)
class Count:
    """How many rows there are; `is_capped`: at least so many."""

    number: int
    is_capped: bool


class ListPlan(Plan):
    """The statements and readers of one list in one order, built once.

    `by` are the columns that point at a parent, whose values the pages of its related
    records bind as `p0`, `p1`…; what they say is left out.
    """

    def __init__(
        self,
        site: Site,
        pages: TablePages,
        reach: Reach,
        order: Sequence[Order],
        by: Sequence[str] = (),
    ) -> None:
        self.reach = reach
        self.selection = Selection(site.registry, pages, reach, site.language)
        shown = pages.seen_by(reach, pages.shown)
        self.shown = [key for key in shown if key not in by]
        has_address = bool(pages.key)
        self._key = self.selection.key_reader() if has_address else None
        self._title = self.selection.title_reader(without=by)
        self._cells = [
            self.selection.cell_reader(key, record_address) for key in self.shown
        ]
        self._name = pages.name
        self._where: list[ColumnElement[bool]] = [
            self.selection.base.c[key] == bindparam(f"p{place}")
            for place, key in enumerate(by)
        ]
        self.terms = self._make_terms(site, pages, order, by)
        self._raw = [self.selection.place_raw(term.expression) for term in self.terms]
        self._statements: dict[tuple[Any, ...], list[Select[Any]]] = {}

    def _make_terms(
        self, site: Site, pages: TablePages, order: Sequence[Order], by: Sequence[str]
    ) -> tuple[Term, ...]:
        wanted = [item for item in order if item.column not in by]
        named = {item.column for item in wanted}
        down = wanted[-1].down if wanted else False
        wanted += [Order(key, down) for key in pages.key if key not in named]
        nulls_are_largest = site.database.engine.dialect.name == "postgresql"
        return make_terms(self.selection.order_terms(wanted), nulls_are_largest)

    def read(
        self,
        connection: Connection,
        word: str = "",
        backward: bool = False,
        size: int = PAGE_ROWS,
        parent: Sequence[Any] = (),
    ) -> Page:
        """Read the page behind the place `word`, or before it; without a word the first
        page, or the last. Raises ValueError for a word of another order."""
        place = read_place(word, len(self.terms)) if word else []
        rows: list[Row[Any]] = []
        values = {f"v{number}": value for number, value in enumerate(place)}
        values |= {f"p{number}": value for number, value in enumerate(parent)}
        for statement in self._branches(place, backward):
            wanted = {**values, "wanted": size + 1 - len(rows)}
            rows += self.reach.run(connection, statement, wanted).all()
            if len(rows) > size:
                break
        more = len(rows) > size
        rows = rows[:size]
        if backward:
            rows.reverse()
            return self._page(rows, more, bool(word))
        return self._page(rows, bool(word), more)

    def read_at(
        self, connection: Connection, skipped: int, size: int = PAGE_ROWS
    ) -> Page:
        """Read a page by its number of rows before it: for views and tables without a
        key, in which no row can be told from another."""
        order = [term.ordered() for term in self.terms]
        statement = self.selection.statement().order_by(*order)
        statement = statement.limit(size + 1).offset(skipped)
        rows = self.reach.run(connection, statement).all()
        lines = [self._line(row) for row in rows[:size]]
        end = str(skipped + size) if len(rows) > size else ""
        begin = str(max(0, skipped - size)) if skipped else ""
        return Page(lines, begin, end)

    def _branches(self, place: Sequence[Any], backward: bool) -> list[Select[Any]]:
        is_null = tuple(value is None for value in place)
        key = (backward, is_null)
        if key not in self._statements:
            terms = [term.flipped() for term in self.terms] if backward else self.terms
            base = self.selection.statement().where(*self._where)
            limited = base.limit(bindparam("wanted"))
            if place:
                found = branches(terms, is_null)
                made = [limited.where(*b.where).order_by(*b.order) for b in found]
            else:
                made = [limited.order_by(*[term.ordered() for term in terms])]
            self._statements[key] = made
        return self._statements[key]

    def _page(self, rows: Sequence[Row[Any]], earlier: bool, later: bool) -> Page:
        lines = [self._line(row) for row in rows]
        return Page(
            lines,
            begin=self._place(rows[0]) if rows and earlier else "",
            end=self._place(rows[-1]) if rows and later else "",
        )

    def _place(self, row: Row[Any]) -> str:
        return write_place([row[place] for place in self._raw])

    def _line(self, row: Row[Any]) -> Line:
        key = self._key(row) if self._key is not None else ""
        address = record_address(self._name, key) if key else ""
        title = Cell(self._title(row) or "–", address)
        return Line(key, title, [read(row) for read in self._cells])

    def count(self, connection: Connection, parent: Sequence[Any] = ()) -> Count:
        """Count the rows, up to MOST_COUNTED."""
        key = ("count",)
        if key not in self._statements:
            inner = select(literal(1)).select_from(self.selection.base)
            inner = inner.where(*self._where).limit(MOST_COUNTED + 1)
            counted = select(func.count()).select_from(inner.subquery())
            self._statements[key] = [counted]
        values = {f"p{number}": value for number, value in enumerate(parent)}
        found = self.reach.run(
            connection, self._statements[key][0], values
        ).scalar_one()
        return Count(min(found, MOST_COUNTED), found > MOST_COUNTED)


def list_plan(
    site: Site,
    pages: TablePages,
    reach: Reach,
    order: Sequence[Order],
    by: tuple[str, ...] = (),
) -> ListPlan:
    """Return the plan of a list, built when it is first wanted."""
    key = ("list", pages.name, reach.shape, tuple(order), by)
    plan = site.plan(key, lambda: ListPlan(site, pages, reach, order, by))
    assert isinstance(plan, ListPlan)
    return plan.within(reach)


def is_sortable(pages: TablePages, key: str) -> bool:
    """Tell whether a list can be sorted by a column: not by long texts or bytes."""
    unsorted = LongTextField | JsonField | OtherField
    return key in pages.fields and not isinstance(pages.fields[key], unsorted)


def read_sort(pages: TablePages, word: str) -> tuple[Sequence[Order], str, bool]:
    """Return the order that the word in an address asks for, the column it names and
    whether it goes down. A word that names no column means the first order."""
    down = word.startswith("-")
    key = word.removeprefix("-")
    if key == TITLE:
        return [Order(part, down) for part in pages.parsed_title.keys], TITLE, down
    if is_sortable(pages, key):
        return [Order(key, down)], key, down
    first = pages.first
    titled = pages.parsed_title.keys
    if first and first[0].column in titled:
        return first, TITLE, first[0].down
    return first, first[0].column if first else "", bool(first and first[0].down)
