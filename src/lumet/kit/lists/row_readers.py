"""The readers of a list's rows: what a page shows of a row, and its place in the order."""

from collections.abc import Callable, Sequence
from typing import Any

from babel.numbers import get_decimal_symbol
from sqlalchemy import (
    Row,
)

from ..db.keyset import (
    Term,
    write_place,
)
from ..pages.table_context import TableContext
from ..pages.urls import record_home
from ..queries.cells import Cell
from ..queries.select_builder import SelectBuilder
from .deferred_cells import DeferredCells
from .list_columns import ListColumns
from .list_html import ListRow, Page


def _later(row: Row[Any]) -> Cell:
    return Cell("")


class RowReaders:
    """Adds what a list reads to a selection, and reads its rows.

    The places are the same in every selection to which the same was added. `by` are
    columns that titles leave out; `late` works out formulas for the rows of a page.
    """

    def __init__(
        self,
        selection: SelectBuilder,
        context: TableContext,
        columns: ListColumns,
        terms: Sequence[Term],
        by: Sequence[str] = (),
        late: DeferredCells | None = None,
        inline: bool = False,
    ) -> None:
        pages = context.pages
        has_address = bool(pages.key) and not inline
        self.key = selection.key_reader() if has_address else None
        self._keys = selection.keys_reader() if has_address else None
        self.title = selection.title_reader(without=by)
        self._cells = [
            _later
            if late is not None and each in pages.computed
            else selection.cell_reader(each, record_home)
            for each in (() if inline else columns.shown)
        ]
        self._raw = [selection.place_raw(term.compared) for term in terms]
        self._late, self._shown = late, columns.shown
        self._home = record_home(pages.name)
        self._starts, self._aligned = columns.cell_starts(), columns.aligned
        self._point = get_decimal_symbol(context.site.language)

    def cell(self, key: str) -> Callable[[Row[Any]], Cell]:
        """Return the reader of a shown column's cell."""
        return self._cells[self._shown.index(key)]

    def place(self, row: Row[Any]) -> str:
        """Return the place of a row in the order, as addresses have it."""
        return write_place([row[place] for place in self._raw])

    def line(self, row: Row[Any]) -> ListRow:
        """Return a row as the list shows it."""
        key = self.key(row) if self.key is not None else ""
        title = Cell(self.title(row) or "–", self._home + key if key else "")
        return ListRow(key, title, [read(row) for read in self._cells], self._starts)

    def page(
        self,
        context: TableContext,
        rows: Sequence[Row[Any]],
        earlier: bool,
        later: bool,
    ) -> Page:
        """Return a page of these rows, with the formulas worked out; whether there are
        `earlier` and `later` ones."""
        lines = [self.line(row) for row in rows]
        if self._late is not None and self._keys is not None:
            keys = [self._keys(row) for row in rows]
            plan = self._late.for_context(context)
            cells = plan.cells(context.connection, keys)
            for line, key in zip(lines, keys, strict=True):
                for name, cell in cells.get(key, {}).items():
                    line.cells[self._shown.index(name)] = cell
        begin = self.place(rows[0]) if rows and earlier else ""
        end = self.place(rows[-1]) if rows and later else ""
        return Page(lines, begin, end, self._aligned, self._point)

    def page_at(self, rows: Sequence[Row[Any]], begin: str, end: str) -> Page:
        """Return a page of rows that have no place but their number."""
        lines = [self.line(row) for row in rows]
        return Page(lines, begin, end, self._aligned, self._point)
