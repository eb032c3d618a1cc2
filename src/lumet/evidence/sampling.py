"""Bounded, repeatable reading of rows: whole rows in random blocks, seeded by name."""

import random
import zlib
from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy import Connection, Engine
from sqlalchemy.exc import DatabaseError

from lumet.evidence.model import Evidence, TableProfile
from lumet.evidence.profiling import EXACT_ROWS, MAX_BYTES, profile_table
from lumet.evidence.sketches import TableSketch
from lumet.facts.connecting import limited, quoted_source
from lumet.facts.dialects import server_of
from lumet.facts.dialects.base import VALUE
from lumet.facts.model import Column, Database, Table

SAMPLE_ROWS = 10_000
BLOCK_ROWS = 100
MAX_COUNT = 4_000  # characters of a text that are read; a few rows may hold megabytes


def read_samples(
    engine: Engine,
    database: Database,
    told: Callable[[str], None] = lambda table: None,
) -> tuple[Evidence, dict[str, TableSketch]]:
    """Profile every table in a short transaction of its own; `told` is called with the
    name of each before it is read. Returns the sketches beside the evidence.

    A table that cannot be read is left without a profile and named in `cut`, as are
    those behind an interruption.
    """
    profiles: dict[str, TableProfile] = {}
    sketches: dict[str, TableSketch] = {}
    cut: list[str] = []
    unanalysed: list[str] = []
    # a view's functions run with the rights of who reads it
    unread = [t.name for t in database.tables if t.is_view] if _rules(engine) else []
    for place, table in enumerate(database.tables):
        if table.name in unread:
            continue
        told(table.name)
        try:
            with engine.connect() as connection, limited(connection):
                sampler = _Sampler(connection, table)
                total, rows = sampler.sample()
                if sampler.is_unanalysed and rows:
                    unanalysed.append(table.name)
        except DatabaseError:
            cut.append(table.name)
        except KeyboardInterrupt:  # a person has waited long enough
            cut += [each.name for each in database.tables[place:]]
            break
        else:
            profiles[table.name], sketches[table.name] = profile_table(
                table, rows, total
            )
    evidence = Evidence(
        profiles,
        tuple(cut),
        unanalysed=tuple(unanalysed),
        unread=tuple(unread),
    )
    return evidence, sketches


def _rules(engine: Engine) -> bool:
    """Tell whether the one who reads is a superuser of the server."""
    query = server_of(engine.dialect.name).superuser_query
    if not query:
        return False
    with engine.connect() as connection, limited(connection):
        return bool(connection.exec_driver_sql(query).scalar())


class _Sampler:
    """Reads rows of one table, by the means of its server.

    `SELECT … LIMIT n` alone would come in the order of some index and so be biased; it
    is used only where a whole small table or a view is read.
    """

    def __init__(self, connection: Connection, table: Table) -> None:
        self.connection = connection
        self.table = table
        self.server = server_of(connection.dialect.name)
        self.quote = connection.dialect.identifier_preparer.quote_identifier
        self.source = quoted_source(connection.dialect, table)
        self.columns = ", ".join(self._read(column) for column in table.columns)
        self.is_unanalysed = False  # the server has no statistics of the table

    def _read(self, column: Column) -> str:
        name = self.quote(column.name)
        return self.server.read(column, name, MAX_COUNT, MAX_BYTES)

    def ask(self, query: str, *values: Any) -> Sequence[Sequence[Any]]:
        """Run a query, with VALUE for each value."""
        mark = "?" if self.connection.dialect.paramstyle == "qmark" else "%s"
        query = query.replace(VALUE, mark)
        found: Sequence[Sequence[Any]] = self.server.run(self.connection, query, values)
        return found

    def sample(self) -> tuple[int, Sequence[Sequence[Any]]]:
        """Return the number of rows and at most SAMPLE_ROWS of them."""
        estimate = self._estimate()
        if estimate <= EXACT_ROWS:
            limited = f"SELECT 1 AS one FROM {self.source} LIMIT {EXACT_ROWS}"
            counted = int(self.ask(f"SELECT count(*) FROM ({limited}) counted")[0][0])
            if counted <= SAMPLE_ROWS or self.table.is_view:
                return counted, self._first()
            return counted, self._spread(counted)[1]
        return self._spread(estimate)

    def _estimate(self) -> int:
        """Return about how many rows there are without counting, 0 where that is small
        or not known."""
        if self.table.is_view:
            return 0
        estimate = self.server.estimate(self.ask, self.source)
        if estimate is not None:
            self.is_unanalysed = estimate < 0
            return estimate
        bounds = self._bounds()
        return bounds[1] - bounds[0] + 1 if bounds else 0

    def _first(self) -> Sequence[Sequence[Any]]:
        return self.ask(f"SELECT {self.columns} FROM {self.source} LIMIT {SAMPLE_ROWS}")

    def _spread(self, estimate: int) -> tuple[int, Sequence[Sequence[Any]]]:
        percent = min(100.0, 120.0 * SAMPLE_ROWS / max(1, estimate))
        seed = zlib.crc32(self.table.name.encode())
        if query := self.server.sample(self.columns, self.source, percent, seed):
            return estimate, self.ask(f"{query} LIMIT {SAMPLE_ROWS}")
        bounds = self._bounds()
        if bounds is None:
            return estimate, self._first()
        total, rows = self._blocks(bounds)
        return (total if estimate > EXACT_ROWS else estimate), rows

    def _bounds(self) -> tuple[int, int] | None:
        key = self.server.row_number(self.table, self.quote)
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
        key = self.server.row_number(self.table, self.quote)
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
