"""Bounded, repeatable reading of rows: whole rows in random blocks, seeded by name."""

import random
import zlib
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, Engine
from sqlalchemy.exc import DatabaseError

from lumet.evidence.model import Evidence, TableProfile, two_digits
from lumet.evidence.profiling import profile_columns
from lumet.facts.connecting import short_statements
from lumet.facts.model import Column, Database, Table

SAMPLE_ROWS = 10_000
BLOCK_ROWS = 100
EXACT_ROWS = 50_000  # up to here rows are counted; above, estimated
VALUE = "\0"  # stands for a value in a query; no name can hold it
_PLAIN = frozenset({"integer", "decimal", "float", "boolean", "text", "uuid"})


def read_evidence(engine: Engine, database: Database) -> Evidence:
    """Profile every table in a short transaction of its own.

    A table that cannot be read is left without a profile and named in `cut`.
    """
    profiles: dict[str, TableProfile] = {}
    cut: list[str] = []
    for table in database.tables:
        try:
            profiles[table.name] = _read_table(engine, table)
        except DatabaseError:
            cut.append(table.name)
    return Evidence(profiles, tuple(cut))


def _read_table(engine: Engine, table: Table) -> TableProfile:
    with engine.connect() as connection, short_statements(connection):
        total, rows = _Sampler(connection, table).sample()
    return TableProfile(
        rows=int(two_digits(total)) if total > EXACT_ROWS else total,
        sampled=len(rows),
        columns=profile_columns(table, rows),
    )


class _Sampler:
    """Reads rows of one table, by the means of its server.

    `SELECT … LIMIT n` alone would come in the order of some index and so be biased; it
    is used only where a whole small table or a view is read.
    """

    def __init__(self, connection: Connection, table: Table) -> None:
        self.connection = connection
        self.table = table
        self.dialect = connection.dialect.name
        self.quote = connection.dialect.identifier_preparer.quote_identifier
        self.source = self.quote(table.name)
        self.columns = ", ".join(self._read(column) for column in table.columns)

    def _read(self, column: Column) -> str:
        """Return the expression that reads a column: as text where a driver might refuse
        a value, and of bytes only the length."""
        name = self.quote(column.name)
        if self.dialect == "sqlite" or column.type.kind in _PLAIN:
            return name
        if column.type.kind == "binary":
            return f"length({name})"
        if self.dialect != "postgresql" and column.type.is_shape:
            return f"ST_AsText({name})"
        return f"CAST({name} AS {'text' if self.dialect == 'postgresql' else 'char'})"

    def ask(self, query: str, *values: Any) -> Sequence[Sequence[Any]]:
        """Run a query, with VALUE for each value."""
        mark = "?" if self.connection.dialect.paramstyle == "qmark" else "%s"
        query = query.replace(VALUE, mark)
        return self.connection.exec_driver_sql(query, values or None).all()

    def sample(self) -> tuple[int, Sequence[Sequence[Any]]]:
        """Return the number of rows and at most SAMPLE_ROWS of them."""
        estimate = self._estimate()
        if estimate <= EXACT_ROWS:
            limited = f"SELECT 1 AS one FROM {self.source} LIMIT {EXACT_ROWS}"
            counted = int(self.ask(f"SELECT count(*) FROM ({limited}) counted")[0][0])
            if counted <= SAMPLE_ROWS or self.table.kind == "view":
                return counted, self._first()
            return counted, self._spread(counted)[1]
        return self._spread(estimate)

    def _estimate(self) -> int:
        """Return about how many rows there are without counting, 0 where that is small
        or not known."""
        if self.table.kind == "view":
            return 0
        if self.dialect == "postgresql":
            query = f"SELECT reltuples::bigint FROM pg_class WHERE oid = to_regclass({VALUE})"
            return int(self.ask(query, self.source)[0][0] or 0)
        bounds = self._bounds()
        return bounds[1] - bounds[0] + 1 if bounds else 0

    def _first(self) -> Sequence[Sequence[Any]]:
        return self.ask(f"SELECT {self.columns} FROM {self.source} LIMIT {SAMPLE_ROWS}")

    def _spread(self, estimate: int) -> tuple[int, Sequence[Sequence[Any]]]:
        if self.dialect == "postgresql":
            percent = min(100.0, 120.0 * SAMPLE_ROWS / max(1, estimate))
            seed = zlib.crc32(self.table.name.encode())
            rows = self.ask(
                f"SELECT {self.columns} FROM {self.source} TABLESAMPLE SYSTEM ({percent})"
                f" REPEATABLE ({seed}) LIMIT {SAMPLE_ROWS}"
            )
            return estimate, rows
        bounds = self._bounds()
        if bounds is None:
            return estimate, self._first()
        total, rows = self._blocks(bounds)
        return (total if estimate > EXACT_ROWS else estimate), rows

    def _key(self) -> str:
        """Return the expression of an integer key, "" where there is none."""
        if self.dialect == "sqlite":
            return "rowid" if self.table.kind == "table" else ""
        key = self.table.primary_key
        if len(key) == 1 and self.table.column(key[0]).type.kind == "integer":
            return self.quote(key[0])
        return ""

    def _bounds(self) -> tuple[int, int] | None:
        key = self._key()
        if not key:
            return None
        try:
            low = self.ask(f"SELECT min({key}) FROM {self.source}")[0][0]
            high = self.ask(f"SELECT max({key}) FROM {self.source}")[0][0]
        except DatabaseError:  # SQLite: a table WITHOUT ROWID
            return None
        if not isinstance(low, int) or not isinstance(high, int):
            return None  # an empty table, or an ordinary column called rowid
        return low, high

    def _blocks(self, bounds: tuple[int, int]) -> tuple[int, list[Any]]:
        low, high = bounds
        key = self._key()
        chance = random.Random(self.table.name)
        count = SAMPLE_ROWS // BLOCK_ROWS
        starts = sorted({chance.randint(low, high) for _ in range(count)})
        rows: list[Any] = []
        spanned = 0
        reached = low - 1
        for start in starts:
            first = max(start, reached + 1)
            found = self.ask(
                f"SELECT {key}, {self.columns} FROM {self.source}"
                f" WHERE {key} >= {VALUE} ORDER BY {key} LIMIT {BLOCK_ROWS}",
                first,
            )
            if not found:
                break
            reached = found[-1][0]
            spanned += reached - first + 1
            rows.extend(row[1:] for row in found)
        density = len(rows) / spanned if spanned else 0
        return round((high - low + 1) * density), rows
