"""Whether a lookup leads to records that refer to the same as other columns of its
row."""

from collections.abc import Iterable, Iterator

from sqlalchemy import Engine
from sqlalchemy.exc import DatabaseError

from lumet.evidence.model import Agreement
from lumet.facts.connecting import limited, quoted_source
from lumet.facts.model import Database, Reference, Table

MAX_ROWS = 20_000  # that are looked at of one table

Pair = tuple[
    Table, Reference, str, str
]  # table, its lookup, the column followed, theirs


def find_agreements(
    engine: Engine, database: Database, pairs: Iterable[Pair]
) -> tuple[Agreement, ...]:
    """Return, for each pair of a lookup and a column it may follow, how many of the
    rows that have both agree; what does not answer in time is left out."""
    return tuple(_ask_all(engine, database, pairs))


def _ask_all(
    engine: Engine, database: Database, pairs: Iterable[Pair]
) -> Iterator[Agreement]:
    quote = engine.dialect.identifier_preparer.quote_identifier
    for table, reference, followed, theirs in pairs:
        target = database.by_name.get(reference.referred_table)
        if target is None or len(reference.columns) > 1:
            continue
        (column,), (referred,) = reference.columns, reference.referred_columns
        ours, key = quote(followed), quote(column)
        source = quoted_source(engine.dialect, table)
        rows = (
            f"SELECT {ours} AS followed, {key} AS chosen FROM {source}"
            f" WHERE {ours} IS NOT NULL AND {key} IS NOT NULL LIMIT {MAX_ROWS}"
        )
        query = (
            "SELECT count(*), coalesce(sum(CASE WHEN"
            f" p.{quote(theirs)} = c.followed THEN 1 ELSE 0 END), 0) FROM ({rows}) c"
            f" JOIN {quoted_source(engine.dialect, target)} p"
            f" ON p.{quote(referred)} = c.chosen"
        )
        try:
            with engine.connect() as connection, limited(connection):
                checked, agreed = connection.exec_driver_sql(query).one()
        except DatabaseError:
            continue
        yield Agreement(table.name, column, followed, int(checked), int(agreed))
