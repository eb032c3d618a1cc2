"""Prefix search in a large table: rows that begin with a word, by the indexes there
are.

The keys of at most MAX_FOUND records are found first, and the list is read among
those; so neither its order nor its filters can lead a server past the index.
"""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, bindparam

from ..pages.table_context import Plan, TableContext
from ..pages.table_pages import Reference, python_type
from .lookups import lookup_plan
from .search import SPELLINGS, spellings
from .select_builder import SelectBuilder

MAX_FOUND = 1_000


class PrefixSearch(Plan):
    """The statements that find records by how a column, or the title of what they refer
    to, begins; built once."""

    def __init__(self, context: TableContext) -> None:
        super().__init__(context)
        site, pages, reach = context.site, context.pages, context.reach
        self._site = site
        self._pages = pages
        self._server = site.database.server
        selection = SelectBuilder(context)
        self._keys = selection.keys_reader()
        limited = selection.statement().limit(MAX_FOUND)
        self._own: list[Any] = []
        self._through: list[tuple[Reference, Any]] = []
        for key in pages.seen_by(reach, pages.prefix_searchable):
            column = selection.base.c[key]
            reference = pages.lookups.get(key)
            if reference is None:
                self._own.append(
                    limited.where(self._server.begins_with(column, SPELLINGS))
                )
            elif reach.may("view", site.registry[reference.target].table.fullname):
                held = column.in_(bindparam("values", expanding=True))
                self._through.append((reference, limited.where(held)))

    def find(self, connection: Connection, search: str) -> list[tuple[Any, ...]]:
        """Return the keys of records that begin with `search`, or that refer to one
        that holds it."""
        bound = self._server.prefix_values(_filled_up(spellings(search)))
        found: dict[tuple[Any, ...], None] = {}
        for statement in self._own:
            self._add(found, connection, statement, bound)
        for reference, statement in self._through:
            parse = python_type(self._pages.column(reference.columns[0]))
            plan = lookup_plan(self.context, reference)
            options = plan.find(search).options
            if options and len(found) < MAX_FOUND:
                values = [parse(option.value) for option in options]
                self._add(found, connection, statement, {"values": values})
        return list(found)[:MAX_FOUND]

    def _add(
        self,
        found: dict[tuple[Any, ...], None],
        connection: Connection,
        statement: Any,
        bound: dict[str, Any],
    ) -> None:
        rows = self.reach.run(connection, statement, bound)
        found.update(dict.fromkeys(self._keys(row) for row in rows))


def _filled_up(spelled: list[str]) -> list[str]:
    """Return as many spellings as the statements bind."""
    return [*spelled, *spelled[-1:] * (SPELLINGS - len(spelled))]


def find_by_prefix(context: TableContext, search: str) -> Sequence[tuple[Any, ...]]:
    """Return the keys of the records of a table with many rows that a search means."""
    return context.plan(PrefixSearch).find(context.connection, search)
