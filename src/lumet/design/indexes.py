"""Which sorts and filters no index serves on a table with many rows, and which
would."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from lumet.design.decision_schema import TableDecisions
from lumet.design.value_types import TITLE_PART
from lumet.facts.dialects import server_of
from lumet.facts.model import Database, Table

MANY_ROWS = 100_000  # below, a server reads all rows in some tens of milliseconds


@dataclass(frozen=True, slots=True)
class Wanted:
    """An index that would serve a page, as text for whoever keeps the database."""

    table: str
    reason: str
    statement: str


def is_served(table: Table, columns: Sequence[str]) -> bool:
    """Tell whether an index of the table begins with `columns`."""
    held = [
        table.primary_key,
        *(unique.columns for unique in table.uniques),
        *(i.columns for i in table.indexes if not (i.partial or i.computed)),
    ]
    return any(each[: len(columns)] == tuple(columns) for each in held)


def unserved(table: Table) -> list[str]:
    """Return the columns that no index begins with."""
    return [c.name for c in table.columns if not is_served(table, (c.name,))]


def wanted_indexes(
    database: Database, table: Table, decisions: TableDecisions, rows: int
) -> Iterator[Wanted]:
    """Yield the indexes that the list of a table with so many rows wants: for its
    order, its title, its references and the blocks of related records. None for one
    with few rows."""
    if rows < MANY_ROWS or table.is_view or not decisions.include:
        return
    order = [word.removeprefix("-") for word in decisions.list.order]
    if _wants_order(table, order):
        whole = [*order, *(k for k in table.primary_key if k not in order)]
        yield _index(database, table, whole, "the order of the list")
    titled = TITLE_PART.findall(decisions.title)[:1]
    if any(_wants_search(table, name) for name in titled):
        reason = "the search, and choosing one by its title"
        yield _index(database, table, titled, reason, begins=True)
    for reference in table.references:
        if not is_served(table, reference.columns):
            reason = f"the filter by, and the records of, {reference.referred_table}"
            yield _index(database, table, reference.columns, reason)


def _wants_order(table: Table, order: Sequence[str]) -> bool:
    """Tell whether an index would serve an order: of columns, and not by the titles of
    other records."""
    if not order or not all(table.has_column(name) for name in order):
        return False
    is_lookup = any(table.reference_of(name) for name in order)
    return not is_lookup and not is_served(table, order)


def _wants_search(table: Table, name: str) -> bool:
    """Tell whether an index would serve a search in a column: in a text of its own."""
    if not table.has_column(name) or table.reference_of(name) is not None:
        return False
    return table.column(name).type.kind == "text" and not is_served(table, (name,))


def _index(
    database: Database,
    table: Table,
    columns: Sequence[str],
    reason: str,
    begins: bool = False,
) -> Wanted:
    server = server_of(database.dialect)

    def quoted(name: str) -> str:
        plain = name.isascii() and name.isidentifier() and name == name.lower()
        return name if plain else server.quoted(name)

    name = "_".join([table.own_name, *columns])[:60]
    within = f"{quoted(table.schema)}." if table.schema else ""
    kind = server.prefix_index if begins else ""
    listed = ", ".join(quoted(column) + kind for column in columns)
    statement = (
        f"CREATE INDEX {quoted(name)} ON {within}{quoted(table.own_name)} ({listed});"
    )
    return Wanted(table.name, reason, statement)
