"""The query of a list: a page at a time, by keyset pagination, however large the table
is."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from types import MappingProxyType
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Integer,
    Row,
    Select,
    bindparam,
    func,
    literal,
    select,
)
from sqlalchemy.sql import operators

from ..db.keyset import (
    Term,
    branches,
    make_terms,
    read_place,
)
from ..pages.table_context import Plan, TableContext
from ..pages.table_pages import Order
from ..queries.select_builder import SelectBuilder
from .deferred_cells import DeferredCells
from .list_columns import ListColumns
from .list_conditions import ListConditions
from .list_html import Page
from .list_spec import ALL_ROWS, Junction, ListSpec
from .row_readers import RowReaders

PAGE_ROWS = 25
MAX_COUNTED = 10_000  # counting stops here: "more than 10,000"
NOTHING: Mapping[str, Any] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class Count:
    """How many rows there are; `is_capped`: at least so many."""

    number: int
    is_capped: bool


class ListPlan(Plan):
    """The statements and readers of one list in one order, built once.

    `by` are the columns that point at a parent, whose values the pages of its related
    records bind as `p0`, `p1`…; what they say is left out. Where a table joins the two,
    the list is `through` its references, to the parent and to here.
    Formulas are worked out for the rows of a page alone; a plan that is `inline` has no
    cells, and whoever wants all rows adds what is read of them.
    """

    def __init__(
        self,
        context: TableContext,
        order: Sequence[Order],
        by: Sequence[str] = (),
        asked: ListSpec = ALL_ROWS,
        inline: bool = False,
        through: Junction = (),
    ) -> None:
        site, pages, reach = context.site, context.pages, context.reach
        super().__init__(context)
        self.pages = pages
        self._order, self._by = order, by
        self._server = site.database.server
        self.selection = SelectBuilder(context)
        wanted = asked.columns or (*pages.list.columns, *asked.wide)
        shown = pages.seen_by(reach, dict.fromkeys(wanted))
        self.shown = [key for key in shown if key not in by and pages.is_shown(key)]
        wide = asked.wide if asked.columns is None else ()
        self.wide = frozenset(wide) & set(self.shown)
        columns = ListColumns(pages, self.shown, self.wide)
        asks = ListConditions(self.selection, context, columns)
        self._where = asks.conditions(by, asked, through)
        self.terms = self._make_terms(self.selection)
        # where neither reads another table, rows are limited before they are joined
        is_own = self.selection.source is self.selection.base
        late = [key for key in self.shown if key in pages.computed and pages.key]
        deferred = DeferredCells(context, late) if late and not inline else None
        self._readers = partial(
            RowReaders,
            context=context,
            columns=columns,
            by=by,
            late=deferred,
            inline=inline,
        )
        self.rows = self._readers(self.selection, terms=self.terms)
        self.labels = columns.labels
        self.starts = columns.cell_starts()
        self._statements: dict[tuple[Any, ...], list[Select[Any]]] = {}
        self._limited = self._limited_columns() if is_own else ()
        # searched titles are in joined tables; without a search those joins are saved
        is_searched = bool(asked.words or asked.titled)
        self._counted = self.selection.source if is_searched else self.selection.base

    def _limited_columns(self) -> tuple[str, ...]:
        """Return the columns that are read before rows are joined; none where nothing
        is joined, or where bytes would be read for the sake of it."""
        if self.selection.source is self.selection.base:
            return ()
        used = self.selection.used_columns()
        return () if any(map(self.pages.is_binary, used)) else tuple(sorted(used))

    def _make_terms(self, selection: SelectBuilder) -> tuple[Term, ...]:
        """Return the terms of the order, which end in the key as it is stored: the
        title of what a key refers to may be that of others too."""
        wanted = [item for item in self._order if item.column not in self._by]
        down = wanted[-1].down if wanted else False
        terms = selection.order_terms(wanted)
        known = [expression for expression, _down, _nullable in terms]
        for key in self.pages.key:
            column = selection.base.c[key]
            if all(each is not column for each in known):
                # SQLite lets a key be NULL, but for one that it numbers
                may_be = self._server.has_nullable_keys
                may_be &= not isinstance(self.pages.column(key).type, Integer)
                terms.append((column, down, may_be))
        return make_terms(terms, self._server.nulls_are_largest)

    def read(
        self,
        connection: Connection,
        word: str = "",
        backward: bool = False,
        size: int = PAGE_ROWS,
        parent: Sequence[Any] = (),
        bound: Mapping[str, Any] = NOTHING,
    ) -> Page:
        """Read the page behind the place `word`, or before it; without a word the first
        page, or the last. Raises ValueError for a word of another order."""
        place = read_place(word, len(self.terms)) if word else []
        rows = self._rows(connection, place, backward, size + 1, parent, bound)
        more = len(rows) > size
        rows = rows[:size]
        if backward:
            rows.reverse()
            return self.rows.page(self.context.on(connection), rows, more, bool(word))
        return self.rows.page(self.context.on(connection), rows, bool(word), more)

    def _rows(
        self,
        connection: Connection,
        place: Sequence[Any],
        backward: bool,
        wanted: int,
        parent: Sequence[Any],
        bound: Mapping[str, Any],
    ) -> list[Row[Any]]:
        rows: list[Row[Any]] = []
        values = {
            **bound,
            **{f"v{number}": value for number, value in enumerate(place)},
        }
        values |= {f"p{number}": value for number, value in enumerate(parent)}
        for statement in self._branches(place, backward):
            left = {**values, "wanted": wanted - len(rows)}
            rows += self.reach.run(connection, statement, left).all()
            if len(rows) >= wanted:
                break
        return rows

    def neighbours(
        self, connection: Connection, key: Mapping[str, Any], bound: Mapping[str, Any]
    ) -> tuple[str, str]:
        """Return the keys, as addresses have them, of the records before and behind the
        one with this key; "" for none, and where the list does not show it."""
        if self.rows.key is None:
            return "", ""
        if ("here",) not in self._statements:
            base = self.selection.base
            matches = [base.c[each] == bindparam(f"k_{each}") for each in key]
            here = self.selection.statement().where(*self._where, *matches)
            self._statements["here",] = [here]
        values = {**bound, **{f"k_{name}": value for name, value in key.items()}}
        (statement,) = self._statements["here",]
        row = self.reach.run(connection, statement, values).first()
        if row is None:
            return "", ""
        place = read_place(self.rows.place(row), len(self.terms))
        found = [
            self._rows(connection, place, backward, 1, (), bound)
            for backward in (True, False)
        ]
        earlier, later = (self.rows.key(rows[0]) if rows else "" for rows in found)
        return earlier, later

    def _rows_at(
        self,
        connection: Connection,
        skipped: int,
        wanted: int,
        bound: Mapping[str, Any],
    ) -> list[Row[Any]]:
        key = ("at",)
        if key not in self._statements:
            order = [term.ordered() for term in self.terms]
            self._statements[key] = [self._limit((), order, "skipped")]
        values = {**bound, "wanted": wanted, "skipped": skipped}
        (statement,) = self._statements[key]
        return list(self.reach.run(connection, statement, values).all())

    def all_rows(self) -> Select[Any]:
        """Return the statement of all rows, in their order."""
        order = [term.ordered() for term in self.terms]
        return self.selection.statement().where(*self._where).order_by(*order)

    def _limit(
        self,
        where: Sequence[ColumnElement[bool]],
        order: Sequence[ColumnElement[Any]],
        offset: str = "",
    ) -> Select[Any]:
        """Return the statement of `wanted` rows. They are limited before other tables
        are joined to them, where neither the order nor a condition reads those: without
        statistics a server joins all rows for the sake of a few."""
        if not self._limited:
            statement = self.selection.statement().where(*self._where, *where)
            return _limited(statement.order_by(*order), offset)
        base = self.selection.base
        inner = select(*[base.c[key] for key in self._limited]).select_from(base)
        inner = inner.where(*self._where, *where).order_by(*order)
        rows = _limited(inner, offset).subquery(self.pages.table.name)
        selection = SelectBuilder(self.context, base=rows)
        self._readers(selection, terms=self._make_terms(selection))
        downward = [each.modifier is operators.desc_op for each in order]
        terms = self._make_terms(selection)[len(self.terms) - len(order) :]
        again = [
            term.expression.desc() if down else term.expression.asc()
            for term, down in zip(terms, downward, strict=True)
        ]
        return selection.statement().order_by(*again)

    def read_at(
        self,
        connection: Connection,
        skipped: int,
        size: int = PAGE_ROWS,
        bound: Mapping[str, Any] = NOTHING,
    ) -> Page:
        """Read a page by its number of rows before it: for views and tables without a
        key, in which no row can be told from another."""
        rows = self._rows_at(connection, skipped, size + 1, bound)
        end = str(skipped + size) if len(rows) > size else ""
        begin = str(max(0, skipped - size)) if skipped else ""
        return self.rows.page_at(rows[:size], begin, end)

    def _branches(self, place: Sequence[Any], backward: bool) -> list[Select[Any]]:
        is_null = tuple(value is None for value in place)
        key = (backward, is_null)
        if key not in self._statements:
            terms = [term.flipped() for term in self.terms] if backward else self.terms
            if place:
                found = branches(terms, is_null)
                made = [self._limit(branch.where, branch.order) for branch in found]
            else:
                made = [self._limit((), [term.ordered() for term in terms])]
            self._statements[key] = made
        return self._statements[key]

    def over_all(self, columns: Sequence[ColumnElement[Any]]) -> Select[Any]:
        """Select something over all rows that fit, instead of the rows."""
        return select(*columns).select_from(self._counted).where(*self._where)

    def count(
        self,
        connection: Connection,
        parent: Sequence[Any] = (),
        bound: Mapping[str, Any] = NOTHING,
        is_exact: bool = False,
    ) -> Count:
        """Count the rows, up to MAX_COUNTED unless it is to be exact."""
        key = ("count", is_exact)
        if key not in self._statements:
            inner = select(literal(1)).select_from(self._counted)
            inner = inner.where(*self._where)
            inner = inner if is_exact else inner.limit(MAX_COUNTED + 1)
            counted = select(func.count()).select_from(inner.subquery())
            self._statements[key] = [counted]
        values = {f"p{number}": value for number, value in enumerate(parent)}
        found = self.reach.run(
            connection, self._statements[key][0], {**bound, **values}
        ).scalar_one()
        if is_exact:
            return Count(found, False)
        return Count(min(found, MAX_COUNTED), found > MAX_COUNTED)


def _limited(statement: Select[Any], offset: str) -> Select[Any]:
    statement = statement.limit(bindparam("wanted"))
    return statement.offset(bindparam(offset)) if offset else statement


def list_plan(
    context: TableContext,
    order: Sequence[Order],
    by: tuple[str, ...] = (),
    asked: ListSpec = ALL_ROWS,
    through: Junction = (),
) -> ListPlan:
    """Return the plan of a list, built when it is first wanted."""

    def build(bare: TableContext) -> ListPlan:
        return ListPlan(bare, order, by, asked, through=through)

    return context.plan(ListPlan, tuple(order), by, asked, through, build=build)
