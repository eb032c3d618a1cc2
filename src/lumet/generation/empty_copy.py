"""The schema of a SQLite database as a script, for tests that begin with an empty copy."""

from collections.abc import Iterator

from lumet.facts.dialects import FILE
from lumet.facts.model import Column, Database, Default, Reference, Table

_HEAD = (
    "-- The tables and views of the last survey, for tests. Generated.\n"
    "-- Triggers, and indexes that are not unique, are left out; columns that the database\n"
    "-- computes are empty.\n"
)


def sqlite_schema(database: Database) -> str:
    """Return the script that makes the tables and views of a database, without rows; ""
    for one of another server, whose SQL a file does not understand."""
    if database.dialect != FILE.name:
        return ""
    tables = [each for each in database.tables if each.kind == "table" and each.columns]
    views = [each for each in database.tables if each.kind == "view"]
    parts = [_table(each) for each in tables]
    parts += [f"{each.definition.rstrip().rstrip(';')};" for each in views if each.definition]  # fmt: skip
    return _HEAD + "".join(f"\n{part}\n" for part in parts)


def _table(table: Table) -> str:
    lines = [_column(table, each) for each in table.columns]
    if len(table.primary_key) > 1:
        lines.append(f"PRIMARY KEY ({_names(table.primary_key)})")
    lines += [f"{_named(each.name)}UNIQUE ({_names(each.columns)})" for each in table.uniques]  # fmt: skip
    lines += [f"{_named(each.name)}CHECK ({each.text})" for each in table.checks]
    lines += [_reference(each) for each in table.references if each.enforced]
    body = ",\n".join(f"  {line}" for line in lines)
    made = [f"CREATE TABLE {FILE.quoted(table.name)} (\n{body}\n);", *_indexes(table)]
    return "\n".join(made)


def _column(table: Table, column: Column) -> str:
    parts = [FILE.quoted(column.name), column.type.native]
    if table.primary_key == (column.name,):
        # only "INTEGER PRIMARY KEY" numbers itself (sqlite.org, "Rowid Tables")
        parts.append("PRIMARY KEY")
    if not column.nullable and not column.generated:
        parts.append("NOT NULL")
    if column.default is not None:
        parts.append(f"DEFAULT {_default(column, column.default)}")
    if column.type.ignores_case:
        parts.append("COLLATE NOCASE")
    return " ".join(filter(None, parts))


def _default(column: Column, default: Default) -> str:
    if not default.literal:
        return f"({default.text})"
    if column.type.kind in ("integer", "decimal", "float", "boolean"):
        return default.text
    return "'" + default.text.replace("'", "''") + "'"


def _reference(reference: Reference) -> str:
    words = (
        f"FOREIGN KEY ({_names(reference.columns)}) REFERENCES"
        f" {FILE.quoted(reference.referred_table)} ({_names(reference.referred_columns)})"
    )
    for event, rule in (("DELETE", reference.on_delete), ("UPDATE", reference.on_update)):  # fmt: skip
        words += f" ON {event} {rule.upper()}" if rule else ""
    return words + (" DEFERRABLE INITIALLY DEFERRED" if reference.deferred else "")


def _indexes(table: Table) -> Iterator[str]:
    """Yield unique indexes over whole columns that no constraint stands for."""
    known = {each.columns for each in table.uniques} | {table.primary_key}
    for each in table.indexes:
        is_whole = not (each.partial or each.computed)
        if each.unique and is_whole and each.columns not in known:
            yield f"CREATE UNIQUE INDEX {FILE.quoted(each.name)} ON {FILE.quoted(table.name)} ({_names(each.columns)});"  # fmt: skip


def _named(name: str) -> str:
    return f"CONSTRAINT {FILE.quoted(name)} " if name else ""


def _names(columns: tuple[str, ...]) -> str:
    return ", ".join(map(FILE.quoted, columns))
