"""Bounded, repeatable reading of rows: whole rows in random blocks, seeded by name."""

import random
import sqlite3
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Engine
from sqlalchemy.exc import DatabaseError

from lumet.evidence.model import Evidence, TableProfile, two_digits
from lumet.evidence.profiling import profile_columns
from lumet.facts.connecting import short_statements
from lumet.facts.model import Database, Table

SAMPLE_ROWS = 10_000
BLOCK_ROWS = 100
EXACT_ROWS = 50_000  # up to here rows are counted; above, estimated from the blocks


def read_evidence(engine: Engine, database: Database) -> Evidence:
    """Profile every table in a short transaction of its own.

    A table that cannot be read is left without a profile and named in `cut`.
    """
    profiles: dict[str, TableProfile] = {}
    cut: list[str] = []
    for table in database.tables:
        try:
            profiles[table.name] = _read_table(engine, table)
        except (DatabaseError, sqlite3.Error):
            cut.append(table.name)
    return Evidence(profiles, tuple(cut))


def _read_table(engine: Engine, table: Table) -> TableProfile:
    with engine.connect() as connection:
        raw = connection.connection.driver_connection
        assert isinstance(raw, sqlite3.Connection)
        with short_statements(raw):
            total, rows = _sample(raw, table)
    return TableProfile(
        rows=int(two_digits(total)) if total > EXACT_ROWS else total,
        sampled=len(rows),
        columns=profile_columns(table, rows),
    )


def _sample(
    raw: sqlite3.Connection, table: Table
) -> tuple[int, Sequence[Sequence[Any]]]:
    """Return the number of rows and at most SAMPLE_ROWS of them.

    `SELECT … LIMIT n` alone would come in the order of some index and so be biased;
    it is used only where a whole small table or a view is read.
    """
    source = quote_name(table.name)
    columns = ", ".join(quote_name(column.name) for column in table.columns)
    bounds = _rowid_bounds(raw, source) if table.kind == "table" else None
    if bounds is None or bounds[1] - bounds[0] < EXACT_ROWS:
        counted = raw.execute(
            f"SELECT count(*) FROM (SELECT 1 FROM {source} LIMIT {EXACT_ROWS})"
        ).fetchone()[0]
        if counted <= SAMPLE_ROWS or bounds is None:
            query = f"SELECT {columns} FROM {source} LIMIT {SAMPLE_ROWS}"
            return counted, raw.execute(query).fetchall()
        return counted, _blocks(raw, table, columns, bounds)[1]
    return _blocks(raw, table, columns, bounds)


def _rowid_bounds(raw: sqlite3.Connection, source: str) -> tuple[int, int] | None:
    try:
        low = raw.execute(f"SELECT min(rowid) FROM {source}").fetchone()[0]
        high = raw.execute(f"SELECT max(rowid) FROM {source}").fetchone()[0]
    except sqlite3.OperationalError:  # a table WITHOUT ROWID
        return None
    if not isinstance(low, int) or not isinstance(high, int):
        return None  # an ordinary column that is called rowid
    return low, high


def _blocks(
    raw: sqlite3.Connection, table: Table, columns: str, bounds: tuple[int, int]
) -> tuple[int, list[Any]]:
    low, high = bounds
    chance = random.Random(table.name)
    starts = sorted(
        {chance.randint(low, high) for _ in range(SAMPLE_ROWS // BLOCK_ROWS)}
    )
    rows: list[Any] = []
    spanned = 0
    reached = low - 1
    for start in starts:
        first = max(start, reached + 1)
        found = raw.execute(
            f"SELECT rowid, {columns} FROM {quote_name(table.name)}"
            " WHERE rowid >= ? ORDER BY rowid LIMIT ?",
            (first, BLOCK_ROWS),
        ).fetchall()
        if not found:
            break
        reached = found[-1][0]
        spanned += reached - first + 1
        rows.extend(row[1:] for row in found)
    density = len(rows) / spanned if spanned else 0
    return round((high - low + 1) * density), rows


def quote_name(name: str) -> str:
    """Quote a name for SQLite."""
    return '"' + name.replace('"', '""') + '"'
