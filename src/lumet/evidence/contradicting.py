"""Whether the rows agree with a key or a reference that a person declared by hand."""

from collections.abc import Sequence

from sqlalchemy import Engine
from sqlalchemy.exc import DatabaseError

from lumet.facts.connecting import short_statements


def count_duplicates(engine: Engine, table: str, columns: Sequence[str]) -> int | None:
    """Return how many rows share their key with another, or lack a part of it; None when
    the database did not answer in time."""
    quote = engine.dialect.identifier_preparer.quote_identifier
    names = [quote(column) for column in columns]
    listed = ", ".join(names)
    empty = " OR ".join(f"{name} IS NULL" for name in names)
    return _ask(
        engine,
        f"SELECT coalesce(sum(n), 0) FROM (SELECT count(*) AS n FROM {quote(table)}"
        f" GROUP BY {listed} HAVING count(*) > 1 OR max(CASE WHEN {empty} THEN 1 ELSE 0"
        " END) = 1) shared",
    )


def count_orphans(
    engine: Engine, table: str, column: str, referred: str, referred_column: str
) -> int | None:
    """Return how many rows refer to nothing that is there; None when the database did
    not answer in time, or cannot compare the two columns."""
    quote = engine.dialect.identifier_preparer.quote_identifier
    return _ask(
        engine,
        f"SELECT count(*) FROM {quote(table)} c WHERE c.{quote(column)} IS NOT NULL"
        f" AND NOT EXISTS (SELECT 1 FROM {quote(referred)} p"
        f" WHERE p.{quote(referred_column)} = c.{quote(column)})",
    )


def _ask(engine: Engine, query: str) -> int | None:
    try:
        with engine.connect() as connection, short_statements(connection):
            return int(connection.exec_driver_sql(query).scalar() or 0)
    except DatabaseError:
        return None
