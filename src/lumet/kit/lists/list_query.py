"""The query of a list: a page at a time, by keyset pagination, however large the table
is."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any

from babel.numbers import get_decimal_symbol
from sqlalchemy import (
    ColumnElement,
    Connection,
    Integer,
    Row,
    Select,
    bindparam,
    func,
    literal,
    not_,
    or_,
    select,
)
from sqlalchemy.sql import operators

from ..db.keyset import (
    Term,
    among_keys,
    bound_keys,
    branches,
    make_terms,
    read_place,
    write_place,
)
from ..forms.fields import (
    ChoiceField,
    JsonField,
    LongTextField,
    MultipleChoiceField,
    OtherField,
    SecretField,
    TextField,
)
from ..forms.file_fields import FileField
from ..forms.number_fields import DecimalField, DegreesField
from ..pages.table_context import Plan, TableContext
from ..pages.table_pages import Order, Reference, TablePages
from ..pages.urls import record_home
from ..queries.filters import Shape, conditions
from ..queries.hierarchy import hierarchy_of
from ..queries.search import has_words, matchers
from ..queries.select_builder import Cell, SelectBuilder, escape
from ..queries.title_search import Modes, is_titled
from .list_html import ListRow, Page

PAGE_ROWS = 25
MAX_SORTED = 2  # columns in one order
MAX_ON_CARD = 3  # columns beside the title and the state
MAX_COUNTED = 10_000  # counting stops here: "more than 10,000"
NOTHING: Mapping[str, Any] = MappingProxyType({})
Junction = tuple[()] | tuple[Reference, Reference]
TOP, BRANCH = "top", "branch"  # parts of a tree
WITH, ONLY = "with", "only"  # records marked as deleted
TITLE = "record-title"  # of an address; a column's key has no hyphen


@dataclass(frozen=True, slots=True)
class ListSpec:
    """The specification of a list beyond its order, as far as its statement depends on
    it: the columns it shows, the shape of its filters, how many words are searched,
    whether it is read `among` keys that were found before, what becomes of records
    marked as deleted (left out, WITH them, ONLY them), which part of a tree it has:
    TOP, the records without a parent, or BRANCH, the children of the one bound as
    `p0`…"""

    columns: tuple[str, ...] | None = None
    shape: Shape = ()
    words: int = 0
    among: bool = False
    deleted: str = ""
    part: str = ""
    titled: Modes = ()
    is_folded: bool = False
    wide: tuple[str, ...] = ()  # columns that only wide windows show as well


ALL_ROWS = ListSpec()


@dataclass(frozen=True, slots=True)
class Count:
    """How many rows there are; `is_capped`: at least so many."""

    number: int
    is_capped: bool


class DeferredCells(Plan):
    """The formulas of some rows, by their keys: worked out for the rows of one page."""

    def __init__(self, context: TableContext, formulas: Sequence[str]) -> None:
        super().__init__(context)
        selection = SelectBuilder(context)
        self._keys = selection.keys_reader()
        self._cells = {key: selection.cell_reader(key, record_home) for key in formulas}
        held = among_keys(selection.base, context.pages.key, "keys")
        self._statement = selection.statement().where(held)

    def cells(
        self, connection: Connection, keys: Sequence[tuple[Any, ...]]
    ) -> dict[tuple[Any, ...], dict[str, Cell]]:
        """Return the cells of the formulas, by key and by name."""
        if not keys:
            return {}
        bound = {"keys": bound_keys(keys)}
        rows = self.reach.run(connection, self._statement, bound).all()
        return {
            self._keys(row): {key: read(row) for key, read in self._cells.items()}
            for row in rows
        }


def deferred_cells(context: TableContext, formulas: Sequence[str]) -> DeferredCells:
    """Return the plan of some formulas, built when it is first wanted."""
    return context.plan(
        DeferredCells, *formulas, build=lambda bare: DeferredCells(bare, formulas)
    )


def _later(row: Row[Any]) -> Cell:
    return Cell("")


@dataclass(frozen=True, slots=True)
class _Readers:
    """The readers of a list's rows: their keys in addresses, those as they are stored,
    titles, cells, and the places of the order's terms."""

    key: Callable[[Row[Any]], str] | None
    keys: Callable[[Row[Any]], tuple[Any, ...]] | None
    title: Callable[[Row[Any]], str]
    cells: list[Callable[[Row[Any]], Cell]]
    raw: list[int]


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
        self._has_address = bool(pages.key) and not inline
        self._has_cells = not inline
        self._where = self._conditions(by, asked, through)
        self.terms = self._make_terms(self.selection)
        # where neither reads another table, rows are limited before they are joined
        is_own = self.selection.source is self.selection.base
        self._late: DeferredCells | None = None
        late = [key for key in self.shown if key in pages.computed and pages.key]
        if late and not inline:
            self._late = DeferredCells(context, late)
        self._readers = self._arrange(self.selection)
        self.labels = labels_of(pages, self.shown)
        self._home = record_home(pages.name)
        self.starts = self._cell_starts()
        self._aligned = [
            place for place, key in enumerate(self.shown) if self._is_ragged(key)
        ]
        self._point = get_decimal_symbol(site.language)
        self._statements: dict[tuple[Any, ...], list[Select[Any]]] = {}
        joins = self.selection.source is not self.selection.base
        used = self.selection.used_columns() if is_own and joins else set()
        self._limited = () if any(map(pages.is_binary, used)) else tuple(sorted(used))
        # searched titles are in joined tables; without a search those joins are saved
        is_searched = bool(asked.words or asked.titled)
        self._counted = self.selection.source if is_searched else self.selection.base

    def _cell_starts(self) -> list[str]:
        """Return the beginnings of a row's cells as HTML. Those that a card shows,
        where the window is narrow, say what they are."""
        cards = self._card_columns()
        found = []
        for key, label, numeric in self.labels:
            classes = " ".join(
                ["num"] * numeric
                + ["wide-only"] * (key in self.wide)
                + ["state-cell"] * (key in cards[:1] and self._has_colours(key))
            )
            start = f'<td class="{classes}"' if classes else "<td"
            if key in cards:
                start += f' data-label="{escape(label)}"'
            found.append(start + ">")
        return found

    def _card_columns(self) -> list[str]:
        """Return the columns that a card shows besides the title: the first that has
        colours, a state, and the most telling others."""
        fields = {key: self.pages.shown_field(key) for key in self.shown}
        states = [key for key in fields if self._has_colours(key)]
        long = (
            LongTextField | JsonField | SecretField | MultipleChoiceField | OtherField
        )
        others = [
            key
            for key, shown in fields.items()
            if key not in states[:1]
            and key not in self.wide
            and not isinstance(shown, long)
        ]
        return [*states[:1], *others[:MAX_ON_CARD]]

    def _has_colours(self, key: str) -> bool:
        shown = self.pages.shown_field(key)
        return isinstance(shown, ChoiceField) and bool(shown.colours)

    def _is_ragged(self, key: str) -> bool:
        """Tell whether the numbers of a column have different numbers of digits."""
        shown = self.pages.shown_field(key)
        if key in self.pages.lookups or not isinstance(shown, DecimalField):
            return False
        return shown.scale is None or isinstance(shown, DegreesField)

    def _arrange(self, selection: SelectBuilder) -> "_Readers":
        """Add what the list reads to a selection; return the readers, whose places are
        the same in every selection that is arranged so."""
        by, late = self._by, self._late
        key = selection.key_reader() if self._has_address else None
        keys = selection.keys_reader() if self._has_address else None
        title = selection.title_reader(without=by)
        cells = [
            _later
            if late is not None and each in self.pages.computed
            else selection.cell_reader(each, record_home)
            for each in (self.shown if self._has_cells else ())
        ]
        terms = self._make_terms(selection)
        raw = [selection.place_raw(term.expression) for term in terms]
        return _Readers(key, keys, title, cells, raw)

    def _conditions(
        self, by: Sequence[str], asked: ListSpec, through: Junction
    ) -> list[ColumnElement[bool]]:
        """Return the conditions of the list's rows."""
        pages, reach, base = self.pages, self.reach, self.selection.base
        found: list[ColumnElement[bool]] = [
            base.c[key] == bindparam(f"p{place}") for place, key in enumerate(by)
        ]
        if pages.soft_delete and asked.deleted != WITH:
            alive = pages.is_alive(base)
            found.append(not_(alive) if asked.deleted == ONLY else alive)
        tree = hierarchy_of(self.context) if asked.part else None
        if tree is not None:
            is_top = asked.part == TOP
            found.append(tree.is_top(base, reach) if is_top else tree.is_under(base))
        if through:
            found.append(self._is_joined(*through))
        found += conditions(self.selection, asked.shape, self._server)
        if asked.among:
            found.append(among_keys(base, pages.key, "among"))
            return found
        searched = []
        if asked.words:
            likes = matchers(self._searched(), self._server, asked.is_folded)
            searched.append(has_words(likes, asked.words))
        if asked.titled:
            columns = self.selection.title_columns()
            searched.append(
                is_titled(columns, asked.titled, self._server, asked.is_folded)
            )
        return [*found, or_(*searched)] if searched else found

    def _is_joined(self, near: Reference, far: Reference) -> ColumnElement[bool]:
        """Return the condition that a table joins a row to the parent."""
        base = self.selection.base
        rows = self.reach.rows(self.context.of(near.source).pages.table)
        held = [rows.c[k] == bindparam(f"p{n}") for n, k in enumerate(near.columns)]
        held += [
            rows.c[ours] == base.c[its]
            for ours, its in zip(far.columns, far.referred, strict=True)
        ]
        return select(literal(1)).select_from(rows).where(*held).exists()

    def _searched(self) -> list[ColumnElement[Any]]:
        """Return the searched columns: the title, with those of its references,
        and the other texts that the list shows."""
        keys = list(self.pages.parsed_title.keys)
        keys += [
            key
            for key in self.shown
            if key not in keys
            and key not in self.wide
            and key in self.pages.fields
            and key not in self.pages.lookups
            and isinstance(self.pages.fields[key], TextField | LongTextField)
        ]
        seen = self.pages.seen_by(self.reach, keys)
        order = [Order(key) for key in seen]
        return [term for term, _, _ in self.selection.order_terms(order)]

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
            return self._page(connection, rows, more, bool(word))
        return self._page(connection, rows, bool(word), more)

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
        if self._readers.key is None:
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
        place = read_place(self._place(row), len(self.terms))
        found = [
            self._rows(connection, place, backward, 1, (), bound)
            for backward in (True, False)
        ]
        earlier, later = (self._readers.key(rows[0]) if rows else "" for rows in found)
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
        self._arrange(selection)
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
        lines = [self._line(row) for row in rows[:size]]
        end = str(skipped + size) if len(rows) > size else ""
        begin = str(max(0, skipped - size)) if skipped else ""
        return Page(lines, begin, end, self._aligned, self._point)

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

    def _page(
        self,
        connection: Connection,
        rows: Sequence[Row[Any]],
        earlier: bool,
        later: bool,
    ) -> Page:
        lines = [self._line(row) for row in rows]
        if self._late is not None and self._readers.keys is not None:
            keys = [self._readers.keys(row) for row in rows]
            cells = self._late.for_context(self.context).cells(connection, keys)
            for line, key in zip(lines, keys, strict=True):
                for name, cell in cells.get(key, {}).items():
                    line.cells[self.shown.index(name)] = cell
        return Page(
            lines,
            begin=self._place(rows[0]) if rows and earlier else "",
            end=self._place(rows[-1]) if rows and later else "",
            aligned=self._aligned,
            point=self._point,
        )

    def _place(self, row: Row[Any]) -> str:
        return write_place([row[place] for place in self._readers.raw])

    def _line(self, row: Row[Any]) -> ListRow:
        key = self._readers.key(row) if self._readers.key is not None else ""
        title = Cell(self._readers.title(row) or "–", self._home + key if key else "")
        return ListRow(
            key, title, [read(row) for read in self._readers.cells], self.starts
        )

    @property
    def title(self) -> Callable[[Row[Any]], str]:
        """The reader of a row's title."""
        return self._readers.title

    def cell(self, key: str) -> Callable[[Row[Any]], Cell]:
        """Return the reader of a shown column's cell."""
        return self._readers.cells[self.shown.index(key)]

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


def labels_of(pages: TablePages, keys: Iterable[str]) -> list[tuple[str, str, bool]]:
    """Return each column's key, label, and whether it is a number."""
    return [
        (
            key,
            pages.label(key),
            pages.shown_field(key).numeric and key not in pages.lookups,
        )
        for key in keys
    ]


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


def is_sortable(context: TableContext, key: str) -> bool:
    """Tell whether a list can be sorted by a column: not by long texts or bytes, nor by
    references to what may not be seen."""
    pages = context.pages
    if key in pages.lookups:
        target = context.site.registry[pages.lookups[key].target].table.fullname
        if not context.reach.may("view", target):
            return False
    unsorted = (
        LongTextField
        | JsonField
        | OtherField
        | SecretField
        | MultipleChoiceField
        | FileField
    )
    if not pages.is_shown(key) or key in pages.computed or key in pages.list.unindexed:
        return False
    return not isinstance(pages.shown_field(key), unsorted)


@dataclass(frozen=True, slots=True)
class Sorting:
    """The requested order: the parameter, and its columns."""

    order: Sequence[Order]
    words: tuple[str, ...] = ()
    column: str = ""  # the first, TITLE for the title
    down: bool = False

    def by(self, key: str) -> str:
        """Return the word for sorting by another column, keeping the present one behind
        it; by the same, the other way round."""
        turned = self.column == key and not self.down
        kept = [word for word in self.words if word.removeprefix("-") != key]
        if not self.words and self.column and self.column != key:
            kept = [f"{'-' if self.down else ''}{self.column}"]
        return ",".join([f"{'-' if turned else ''}{key}", *kept[: MAX_SORTED - 1]])


def read_sort(context: TableContext, words: str) -> Sorting:
    """Return the order that the words in an address ask for. A word that names no
    column is left out; none mean the first order."""
    pages = context.pages
    order: list[Order] = []
    known: list[str] = []
    for word in words.split(",")[:MAX_SORTED]:
        down, key = word.startswith("-"), word.removeprefix("-")
        parts = pages.parsed_title.keys if key == TITLE else (key,)
        if key == TITLE or is_sortable(context, key):
            fresh = [part for part in parts if all(part != o.column for o in order)]
            order += [Order(part, down) for part in fresh]
            known.append(word)
    if known:
        first = known[0]
        return Sorting(
            tuple(order), tuple(known), first.removeprefix("-"), first.startswith("-")
        )
    first_ = pages.list.orders
    if not first_:
        return Sorting(())
    titled = first_[0].column in pages.parsed_title.keys
    column = TITLE if titled else first_[0].column
    return Sorting(tuple(first_), (), column, first_[0].down)
