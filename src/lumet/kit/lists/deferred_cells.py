"""Formulas, worked out for the rows of one page."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import (
    Connection,
)

from ..db.keyset import (
    among_keys,
    bound_keys,
)
from ..pages.table_context import Plan, TableContext
from ..pages.urls import record_home
from ..queries.cells import Cell
from ..queries.select_builder import SelectBuilder


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
