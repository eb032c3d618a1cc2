"""Keys and references that a person declares by hand, put into the facts.

From here on they count as real: inference, generation and the application do not know
the difference.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from lumet.design.decision_schema import Refer
from lumet.design.toml_statements import Path
from lumet.facts.model import Database, Reference, Table


@dataclass(frozen=True, slots=True)
class Declared:
    """One declaration: a key of `table` over `columns`; with `referred_table` a
    reference that starts there; `is_denied`: that there is none, whatever else says
    so."""

    table: str
    columns: tuple[str, ...]
    referred_table: str = ""
    referred_columns: tuple[str, ...] = ()
    is_denied: bool = False


def declarations(
    values: Mapping[str, Mapping[Path, Any]], database: Database
) -> tuple[Declared, ...]:
    """Return the keys and references that decisions declare, by table and path."""
    found = []
    for table, decisions in values.items():
        for path, value in decisions.items():
            if path == ("key",):
                found.append(Declared(table, tuple(value)))
            elif len(path) == 3 and path[2] == "references":
                if value:
                    referred, column = _end(str(value), database)
                    found.append(Declared(table, (path[1],), referred, (column,)))
                else:
                    found.append(Declared(table, (path[1],), is_denied=True))
            elif len(path) == 2 and path[0] == "references":
                refers = refers_of(path[1], value)
                found += [Declared(table, r.by, r.table, r.to) for r in refers]
                if not refers:
                    found.append(Declared(table, (), path[1], is_denied=True))
    return tuple(found)


def _end(text: str, database: Database) -> tuple[str, str]:
    """Return the table and the column of "table.column"; either name may hold a dot."""
    parts = text.split(".")
    for place in range(1, len(parts)):
        table, column = ".".join(parts[:place]), ".".join(parts[place:])
        found = database.by_name.get(table)
        if found is not None and found.has_column(column):
            return table, column
    table, _, column = text.rpartition(".")
    return table, column


def refers_of(name: str, value: Any) -> tuple[Refer, ...]:
    """Return the references in the TOML `value` of table `name`."""
    items = value if isinstance(value, list | tuple) else [value]
    return tuple(
        item if isinstance(item, Refer) else Refer(
            table=name, by=tuple(item["by"]), to=tuple(item["to"])
        )
        for item in items
    )  # fmt: skip


def with_declared(database: Database, declared: tuple[Declared, ...]) -> Database:
    """Return the database with the declarations in its facts; a declared reference
    takes the place of the database's own from the same columns."""
    if not declared:
        return database
    tables = {table.name: table for table in database.tables}
    for each in declared:
        if each.table in tables:
            tables[each.table] = _with_one(tables[each.table], each)
    return replace(database, tables=tuple(tables.values()))


def _with_one(table: Table, declared: Declared) -> Table:
    if not declared.referred_table and not declared.is_denied:
        return replace(table, primary_key=declared.columns)
    kept = [r for r in table.references if not _is_replaced(r, declared)]
    if not declared.is_denied:
        reference = Reference(
            declared.columns,
            declared.referred_table,
            declared.referred_columns,
            enforced=False,
        )
        if any(_ends(r) == _ends(reference) for r in table.references):
            return table  # the database has it already, with its rules
        kept.append(reference)
    ordered = sorted(kept, key=lambda r: (r.columns, r.name))
    return replace(table, references=tuple(ordered))


def _ends(reference: Reference) -> tuple[tuple[str, ...], str, tuple[str, ...]]:
    return reference.columns, reference.referred_table, reference.referred_columns


def _is_replaced(reference: Reference, declared: Declared) -> bool:
    if declared.is_denied and not declared.columns:
        several = len(reference.columns) > 1
        return several and reference.referred_table == declared.referred_table
    return reference.columns == declared.columns
