"""The rows and columns within reach, and the statements that read them."""

import re
from dataclasses import dataclass
from typing import Any
from weakref import WeakKeyDictionary

from sqlalchemy import (
    CursorResult,
    Executable,
    FromClause,
    MetaData,
    Table,
    case,
    column,
    select,
    text,
)
from sqlalchemy.engine import Connection

from .denied import AccessDenied
from .rights import Rights

OPTION = "reach"
QUERY = "query"  # what a table of the project's own selects from others
QUOTING = "quoting"  # where the business tables keep how their database quotes names
_MARK = re.compile(r"\{([^{}]+)\}")
_ROWS = "existing rows"
GIVEN_ROWS: WeakKeyDictionary[FromClause, tuple[str, tuple[str, ...]]] = (
    WeakKeyDictionary()
)


@dataclass(frozen=True)
class RowReach(Rights):
    """The rows and columns within reach of one user."""

    def rows(self, table: Table) -> FromClause:
        """Return the rows of `table` within reach, to select from; columns that are
        hidden on a row are NULL there.

        The condition stands within a derived table, where no alias can break it;
        servers merge it, so that indexes are used all the same. Raises AccessDenied
        when none is.
        """
        name = table.fullname
        if self.everything and QUERY not in table.info:
            return table
        if not self.may("view", name):
            raise AccessDenied(f"view {name}")
        known: dict[Any, FromClause] = table.info.setdefault(_ROWS, {})
        if self.shape not in known:
            known[self.shape] = self._make_rows(table)
        return known[self.shape]

    def _make_rows(self, table: Table) -> FromClause:
        shown = {
            key: self.shown_where(table.fullname, key) for key in tuple(table.c.keys())
        }
        left_out = table.info.get("where", "").replace(":", "\\:")
        wanted = [
            each for each in (left_out, self.condition("view", table.fullname)) if each
        ]
        source: FromClause = table
        if QUERY in table.info:
            source = self._select_query(table)
        elif not wanted and not any(shown.values()):
            return table
        columns = [
            case((text(where), source.c[key])).label(key) if where else source.c[key]
            for key, where in shown.items()
        ]
        made = select(*columns).where(*[text(f"({each})") for each in wanted])
        if source is table or wanted or any(shown.values()):
            source = made.subquery(table.name)
        rows = source
        GIVEN_ROWS[rows] = (table.fullname, self.shape)
        return rows

    def _select_query(self, table: Table) -> FromClause:
        """Return the rows of a query of the project's own over those within reach."""
        columns = [column(each.name, each.type) for each in table.c]
        words = self.as_sql(table.info[QUERY], table.metadata)
        inner = text(words).columns(*columns).subquery(table.name)
        keyed = [inner.c[each.name].label(each.key) for each in table.c]
        return select(*keyed).subquery(table.name)

    def as_sql(self, sql: str, tables: MetaData) -> str:
        """Return SQL with `{TABLE}` replaced by the rows of a table: those within
        reach. Raises AccessDenied when none of them is."""
        return _MARK.sub(lambda mark: self._rows_as_sql(tables.tables[mark[1]]), sql)

    def _rows_as_sql(self, table: Table) -> str:
        quoting = table.metadata.info[QUOTING]
        name: str = quoting.format_table(table).replace(":", "\\:")
        if self.rows(table) is table:
            return name
        parts = []
        for key, each in table.c.items():
            own = quoting.quote(each.name).replace(":", "\\:")
            where = self.shown_where(table.fullname, key)
            parts.append(f"CASE WHEN {where} THEN {own} END AS {own}" if where else own)
        left_out = table.info.get("where", "").replace(":", "\\:")
        wanted = [left_out, self.condition("view", table.fullname)]
        where = " AND ".join(f"({each})" for each in wanted if each) or "1 = 1"
        return f"(SELECT {', '.join(parts)} FROM {name} WHERE {where})"

    def run(
        self, connection: Connection, statement: Executable, values: Any = None
    ) -> CursorResult[Any]:
        """Execute `statement` within this reach."""
        return self._execute(connection, statement, {**(values or {}), **self.bound})

    def stream(
        self, connection: Connection, statement: Executable, values: Any, size: int
    ) -> CursorResult[Any]:
        """Execute `statement` within this reach by a cursor of the server's: its rows
        are fetched `size` at a time."""
        bound = {**(values or {}), **self.bound}
        return self._execute(connection, statement, bound, yield_per=size)

    @property
    def bound(self) -> dict[str, str | None]:
        """The values that conditions bind."""
        return {f"user_{name}": value for name, value in self.attributes.items()}

    def _execute(
        self,
        connection: Connection,
        statement: Executable,
        values: Any = None,
        **options: Any,
    ) -> CursorResult[Any]:
        result: CursorResult[Any] = connection.execute(
            statement, values, execution_options={OPTION: self, **options}
        )
        return result
