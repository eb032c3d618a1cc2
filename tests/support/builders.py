"""Small builders of facts, for tests of rules."""

from lumet.evidence.model import ColumnProfile, Evidence, TableProfile
from lumet.facts.model import (
    Check,
    Column,
    Database,
    Default,
    Reference,
    Table,
    Type,
    Unique,
)
from lumet.facts.types import canonical_sqlite_type


def column(text: str) -> Column:
    """Build a column from "name TYPE", with "!" behind it for NOT NULL, "=x" for a
    literal default, "#" for one that numbers itself."""
    words = text.split()
    name, native = words[0], words[1] if len(words) > 1 else ""
    default = next(
        (Default(w[1:], literal=True) for w in words[2:] if w[0] == "="), None
    )
    return Column(
        name,
        canonical_sqlite_type(native),
        nullable="!" not in words[2:] and "#" not in words[2:],
        automatic="#" in words[2:],
        default=default,
    )


def reference(text: str, on_delete: str = "") -> Reference:
    """Build a reference from "column table.column"."""
    ours, theirs = text.split()
    table, _, referred = theirs.partition(".")
    return Reference((ours,), table, (referred,), on_delete=on_delete)


def table(
    name: str,
    *columns: str,
    key: str = "",
    references: tuple[Reference, ...] = (),
    unique: tuple[str, ...] = (),
    checks: tuple[str, ...] = (),
    view: bool = False,
) -> Table:
    """Build a table; key and uniques name columns, joined by "+"."""
    return Table(
        name,
        "view" if view else "table",
        tuple(column(text) for text in columns),
        primary_key=tuple(key.split("+")) if key else (),
        references=references,
        uniques=tuple(Unique(tuple(each.split("+"))) for each in unique),
        checks=tuple(Check(text) for text in checks),
    )


def database(*tables: Table) -> Database:
    """Build a SQLite database."""
    return Database("sqlite", "3.40.1", tuple(sorted(tables, key=lambda t: t.name)))


def evidence(rows: int = 1000, **tables: dict[str, ColumnProfile]) -> Evidence:
    """Build evidence of tables with `rows` rows each."""
    return Evidence(
        {name: TableProfile(rows, rows, each) for name, each in tables.items()}
    )


TEXT = Type("text", "TEXT")
