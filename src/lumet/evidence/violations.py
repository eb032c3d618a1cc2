"""Whether the rows agree with a key or a reference that a person declared by hand."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Engine
from sqlalchemy.exc import DatabaseError

from lumet.facts.connecting import limited, quoted_source
from lumet.facts.model import Table


def count_duplicates(
    engine: Engine, table: Table, columns: Sequence[str]
) -> int | None:
    """Return how many rows share their key with another, or lack a part of it; None
    when the database did not answer in time."""
    quote = engine.dialect.identifier_preparer.quote_identifier
    names = [quote(column) for column in columns]
    listed = ", ".join(names)
    empty = " OR ".join(f"{name} IS NULL" for name in names)
    return _ask(
        engine,
        f"SELECT coalesce(sum(n), 0) FROM (SELECT count(*) AS n FROM {quoted_source(engine.dialect, table)}"
        f" GROUP BY {listed} HAVING count(*) > 1 OR max(CASE WHEN {empty} THEN 1 ELSE 0"
        " END) = 1) shared",
    )


def count_orphans(
    engine: Engine,
    table: Table,
    columns: Sequence[str],
    referred: Table,
    referred_columns: Sequence[str],
) -> int | None:
    """Return how many rows refer to nothing that is there; None when the database did
    not answer in time, or cannot compare the columns."""
    quote = engine.dialect.identifier_preparer.quote_identifier
    ours = [f"c.{quote(column)}" for column in columns]
    theirs = [f"p.{quote(column)}" for column in referred_columns]
    filled = " AND ".join(f"{name} IS NOT NULL" for name in ours)
    matches = " AND ".join(f"{a} = {b}" for a, b in zip(theirs, ours, strict=True))
    return _ask(
        engine,
        f"SELECT count(*) FROM {quoted_source(engine.dialect, table)} c"
        f" WHERE {filled} AND NOT EXISTS (SELECT 1"
        f" FROM {quoted_source(engine.dialect, referred)} p WHERE {matches})",
    )


def count_groups(
    engine: Engine, table: Table, columns: Sequence[str], most: int
) -> list[tuple[Any, int]] | None:
    """Return each value that is not empty, a tuple of several columns, with its number
    of rows; None when there are more than `most`, or no answer came in time."""
    quote = engine.dialect.identifier_preparer.quote_identifier
    names = [quote(column) for column in columns]
    filled = " AND ".join(f"{name} IS NOT NULL" for name in names)
    listed = ", ".join(names)
    query = (
        f"SELECT {listed}, count(*) FROM {quoted_source(engine.dialect, table)}"
        f" WHERE {filled} GROUP BY {listed} LIMIT {most + 1}"
    )
    try:
        with engine.connect() as connection, limited(connection):
            rows = connection.exec_driver_sql(query).all()
    except DatabaseError:
        return None
    if len(rows) > most:
        return None
    single = len(names) == 1
    return [(row[0] if single else tuple(row[:-1]), row[-1]) for row in rows]


def _ask(engine: Engine, query: str) -> int | None:
    try:
        with engine.connect() as connection, limited(connection):
            return int(connection.exec_driver_sql(query).scalar() or 0)
    except DatabaseError:
        return None
