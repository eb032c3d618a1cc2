"""Reading the catalogue of a live database into frozen facts."""

import sqlite3
import warnings
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from sqlalchemy import Connection, Engine, inspect
from sqlalchemy.engine.interfaces import ReflectedColumn
from sqlalchemy.engine.reflection import Inspector, ObjectKind
from sqlalchemy.exc import SAWarning

from lumet.facts.mariadb import MariadbSupplement
from lumet.facts.model import (
    Database,
    Index,
    Reference,
    Table,
    TableKind,
    Type,
    Unique,
)
from lumet.facts.postgresql import PostgresqlSupplement
from lumet.facts.sqlite import SqliteSupplement
from lumet.facts.supplement import Plain, Supplement

_SUPPLEMENTS: dict[str, Callable[[Inspector, Connection], Supplement]] = {
    "sqlite": SqliteSupplement,
    "postgresql": PostgresqlSupplement,
    "mariadb": MariadbSupplement,
    "mysql": MariadbSupplement,
}


def read_database(engine: Engine) -> Database:
    """Read every table and view of the default schema.

    One inspector serves all calls, since it caches what the bulk calls share. What it
    returns is copied at once: its lists are its cache, and foreign keys come in no
    dependable order.
    """
    with engine.connect() as connection, warnings.catch_warnings():
        warnings.simplefilter("ignore", SAWarning)  # a type it does not know: we do
        inspector = inspect(connection)
        make = _SUPPLEMENTS.get(engine.dialect.name)
        supplement = make(inspector, connection) if make else Plain(inspector)
        readable = list(supplement.kinds)
        columns = inspector.get_multi_columns(
            kind=ObjectKind.ANY, filter_names=readable
        )
        parts = _Parts(inspector, readable)
        tables = [
            _table(name, found, parts, supplement)
            for (_, name), found in columns.items()
        ]
        version = _version(connection)
    tables.sort(key=lambda table: (table.name.casefold(), table.name))
    dialect = "mariadb" if engine.dialect.name == "mysql" else engine.dialect.name
    unreadable = tuple(sorted(supplement.unreadable))
    return Database(dialect, version, tuple(tables), unreadable)


def _version(connection: Connection) -> str:
    info = connection.dialect.server_version_info
    if not info:
        return sqlite3.sqlite_version
    return ".".join(str(part) for part in info if isinstance(part, int))


class _Parts:
    """What the inspector's bulk calls say of each table, by its name."""

    def __init__(self, inspector: Inspector, names: Sequence[str]) -> None:
        def by_name(bulk_call: Callable[..., Any]) -> dict[str, Any]:
            found = bulk_call(kind=ObjectKind.ANY, filter_names=names)
            return {name: each for (_, name), each in found.items()}

        self.keys = by_name(inspector.get_multi_pk_constraint)
        self.references = by_name(inspector.get_multi_foreign_keys)
        self.uniques = by_name(inspector.get_multi_unique_constraints)
        self.checks = by_name(inspector.get_multi_check_constraints)
        self.indexes = by_name(inspector.get_multi_indexes)


def _table(
    name: str,
    columns: Iterable[ReflectedColumn],
    parts: _Parts,
    supplement: Supplement,
) -> Table:
    kind: TableKind = supplement.kinds[name]
    key = parts.keys.get(name) or {}
    indexes = parts.indexes.get(name) or ()
    return Table(
        name=name,
        kind=kind,
        columns=tuple(supplement.column(name, column) for column in columns),
        primary_key=tuple(key.get("constrained_columns") or ()),
        references=_references(name, parts, supplement),
        uniques=_uniques(parts.uniques.get(name) or (), indexes),
        checks=supplement.checks(name, parts.checks.get(name) or ()),
        indexes=_indexes(indexes),
        comment=supplement.comments.get(name, ""),
        writable=name not in supplement.unwritable,
    )


def _references(
    name: str, parts: _Parts, supplement: Supplement
) -> tuple[Reference, ...]:
    references = []
    for item in parts.references.get(name) or ():
        table = item["referred_table"]
        # "REFERENCES t" alone means t's primary key
        referred = tuple(item["referred_columns"] or ()) or tuple(
            (parts.keys.get(table) or {}).get("constrained_columns") or ()
        )
        if item.get("referred_schema"):
            table = f"{item['referred_schema']}.{table}"
        on_delete, on_update = supplement.rules(name, item)
        references.append(
            Reference(
                columns=tuple(item["constrained_columns"]),
                referred_table=table,
                referred_columns=referred,
                name=item.get("name") or "",
                on_delete=on_delete,
                on_update=on_update,
            )
        )
    return tuple(sorted(references, key=lambda each: (each.columns, each.name)))


def _uniques(constraints: Iterable[Any], indexes: Iterable[Any]) -> tuple[Unique, ...]:
    uniques = {tuple(item["column_names"]): item["name"] or "" for item in constraints}
    for item in indexes:
        columns = tuple(item["column_names"])
        if item["unique"] and None not in columns and not _is_partial(item):
            uniques.setdefault(columns, item["name"] or "")
    return tuple(Unique(columns, uniques[columns]) for columns in sorted(uniques))


def _indexes(found: Iterable[Any]) -> tuple[Index, ...]:
    indexes = [
        Index(
            name=item["name"] or "",
            columns=tuple(item["column_names"]),
            unique=bool(item["unique"]),
            partial=_is_partial(item),
        )
        for item in found
        if None not in item["column_names"]
    ]
    return tuple(sorted(indexes, key=lambda index: (index.columns, index.name)))


def _is_partial(index: Any) -> bool:
    options = index.get("dialect_options") or {}
    return any(
        options.get(f"{name}_where") is not None for name in ("sqlite", "postgresql")
    )


def unknown_columns(database: Database) -> tuple[tuple[str, Type], ...]:
    """Return each "table.column" whose type nobody knows, with that type."""
    return tuple(
        (f"{table.name}.{column.name}", column.type)
        for table in database.tables
        for column in table.columns
        if column.type.kind == "unknown"
    )
