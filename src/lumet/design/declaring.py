"""Keys and references that a person declares by hand, put into the facts.

From here on they count as real: inference, generation and the application do not know the
difference.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from lumet.design.statements import Path
from lumet.facts.model import Database, Reference, Table


@dataclass(frozen=True, slots=True)
class Declared:
    """One declaration: a key of `table` over `columns`, or, with `referred_table`, a
    reference that starts there."""

    table: str
    columns: tuple[str, ...]
    referred_table: str = ""
    referred_columns: tuple[str, ...] = ()


def declarations(own: Mapping[str, Mapping[Path, Any]]) -> tuple[Declared, ...]:
    """Return what a person's decisions, by table and path, declare."""
    found = []
    for table, values in own.items():
        for path, value in values.items():
            if path == ("key",):
                found.append(Declared(table, tuple(value)))
            elif len(path) == 3 and path[2] == "references":
                referred, _, column = str(value).rpartition(".")
                found.append(Declared(table, (path[1],), referred, (column,)))
    return tuple(found)


def with_declared(database: Database, declared: tuple[Declared, ...]) -> Database:
    """Return the database with the declarations in its facts; a declared reference takes
    the place of the database's own from the same columns."""
    if not declared:
        return database
    tables = {table.name: table for table in database.tables}
    for each in declared:
        if each.table in tables:
            tables[each.table] = _with_one(tables[each.table], each)
    return replace(database, tables=tuple(tables.values()))


def _with_one(table: Table, declared: Declared) -> Table:
    if not declared.referred_table:
        return replace(table, primary_key=declared.columns)
    others = [r for r in table.references if r.columns != declared.columns]
    reference = Reference(
        declared.columns, declared.referred_table, declared.referred_columns
    )
    ordered = sorted([*others, reference], key=lambda r: (r.columns, r.name))
    return replace(table, references=tuple(ordered))
