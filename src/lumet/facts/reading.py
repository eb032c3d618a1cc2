"""Reading the catalogue of a live database into frozen facts."""

import json
import re
import sqlite3
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from sqlalchemy import Connection, Engine, inspect
from sqlalchemy.engine.interfaces import ReflectedColumn
from sqlalchemy.engine.reflection import Inspector, ObjectKind
from sqlalchemy.exc import OperationalError

from lumet.facts.model import (
    Check,
    Column,
    Database,
    Default,
    Index,
    Reference,
    Table,
    TableKind,
    Type,
    Unique,
)
from lumet.facts.types import canonical_sqlite_type

_QUOTED = re.compile(r"'(?:[^']|'')*'")
_NUMBER = re.compile(r"[+-]?\d+(\.\d+)?([eE][+-]?\d+)?")


def read_database(engine: Engine) -> Database:
    """Read every table and view of the default schema.

    One inspector serves all calls, since it caches what the bulk calls share. What it
    returns is copied at once: its lists are its cache, and foreign keys come in no
    dependable order.
    """
    with engine.connect() as connection:
        inspector = inspect(connection)
        version = _version(connection)
        views = set(inspector.get_view_names())
        names = [*inspector.get_table_names(), *sorted(views)]
        unreadable = [name for name in names if not _is_readable(connection, name)]
        readable = [name for name in names if name not in unreadable]
        sqlite = _SqliteSupplement(connection, readable)
        columns = inspector.get_multi_columns(
            kind=ObjectKind.ANY, filter_names=readable
        )
        parts = _Parts(inspector, readable)
        tables = [
            _table(name, "view" if name in views else "table", found, parts, sqlite)
            for (_, name), found in columns.items()
        ]
    tables.sort(key=lambda table: (table.name.casefold(), table.name))
    return Database(
        engine.dialect.name, version, tuple(tables), tuple(sorted(unreadable))
    )


def _is_readable(connection: Connection, name: str) -> bool:
    """Tell whether a table or view can be read at all: a view over a table that is gone
    cannot, nor can a virtual table whose module is missing."""
    quoted = connection.dialect.identifier_preparer.quote_identifier(name)
    try:
        connection.exec_driver_sql(f"SELECT * FROM {quoted} LIMIT 0")
    except OperationalError as error:
        said = str(error.orig)
        if "no such" in said or "module" in said:
            return False
        raise
    return True


def _version(connection: Connection) -> str:
    info = connection.dialect.server_version_info
    if not info:
        return sqlite3.sqlite_version
    return ".".join(str(part) for part in info)


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


class _SqliteSupplement:
    """What SQLAlchemy's inspector leaves out on SQLite: the declared spelling of each
    type, generated columns, and which key column numbers itself."""

    def __init__(self, connection: Connection, names: Sequence[str]) -> None:
        rows = connection.exec_driver_sql(
            "SELECT m.name, m.sql, x.name, x.type, x.pk, x.hidden"
            " FROM sqlite_master m, pragma_table_xinfo(m.name) x"
            " WHERE m.type IN ('table', 'view')"
            " AND m.name IN (SELECT value FROM json_each(?))",
            (json.dumps(list(names)),),
        ).all()
        self.types: dict[tuple[str, str], str] = {}
        self.computed: set[tuple[str, str]] = set()
        keys: dict[str, list[str]] = {}
        without_rowid: set[str] = set()
        for table, sql, column, native, key_position, hidden in rows:
            self.types[table, column] = native or ""
            if hidden in (2, 3):
                self.computed.add((table, column))
            if key_position:
                keys.setdefault(table, []).append(column)
            if sql and re.search(r"WITHOUT\s+ROWID[^)]*$", sql, re.IGNORECASE):
                without_rowid.add(table)
        self.rules = self._read_rules(connection)
        self.automatic = {
            (table, columns[0])
            for table, columns in keys.items()
            if len(columns) == 1
            and table not in without_rowid
            and self.types[table, columns[0]].upper() == "INTEGER"
        }

    @staticmethod
    def _read_rules(
        connection: Connection,
    ) -> dict[tuple[str, tuple[str, ...]], tuple[str, str]]:
        """Return ON DELETE and ON UPDATE of each foreign key by its table and columns;
        the inspector knows only those that are written as a table's constraint."""
        rows = connection.exec_driver_sql(
            'SELECT m.name, f.id, f."from", f.on_delete, f.on_update'
            " FROM sqlite_master m, pragma_foreign_key_list(m.name) f"
            " WHERE m.type = 'table' ORDER BY m.name, f.id, f.seq"
        ).all()
        columns: dict[tuple[str, int], list[str]] = {}
        rules: dict[tuple[str, int], tuple[str, str]] = {}
        for table, number, column, on_delete, on_update in rows:
            columns.setdefault((table, number), []).append(column)
            rules[table, number] = (_rule(on_delete), _rule(on_update))
        return {(key[0], tuple(columns[key])): rules[key] for key in columns}


def _rule(text: str) -> str:
    return "" if text.upper() == "NO ACTION" else text.lower()


def _table(
    name: str,
    kind: TableKind,
    columns: Iterable[ReflectedColumn],
    parts: _Parts,
    sqlite: _SqliteSupplement,
) -> Table:
    key = parts.keys.get(name) or {}
    return Table(
        name=name,
        kind=kind,
        columns=tuple(_column(name, column, sqlite) for column in columns),
        primary_key=tuple(key.get("constrained_columns") or ()),
        references=_references(name, parts, sqlite),
        uniques=_uniques(parts.uniques.get(name) or (), parts.indexes.get(name) or ()),
        checks=_checks(parts.checks.get(name) or ()),
        indexes=_indexes(parts.indexes.get(name) or ()),
    )


def _column(table: str, found: ReflectedColumn, sqlite: _SqliteSupplement) -> Column:
    place = (table, found["name"])
    automatic = place in sqlite.automatic
    computed = found.get("computed")
    generated = str(computed["sqltext"]) if computed else ""
    if place in sqlite.computed and not generated:
        generated = "by the database"
    return Column(
        name=found["name"],
        type=canonical_sqlite_type(sqlite.types.get(place, "")),
        nullable=bool(found["nullable"]) and not automatic,
        default=_default(found.get("default")),
        automatic=automatic,
        generated=generated,
        comment=found.get("comment") or "",
    )


def _default(text: str | None) -> Default | None:
    if text is None or text.upper() == "NULL":
        return None
    if _QUOTED.fullmatch(text):
        return Default(text[1:-1].replace("''", "'"), literal=True)
    if _NUMBER.fullmatch(text) or text.upper() in ("TRUE", "FALSE"):
        return Default(text, literal=True)
    return Default(text, literal=False)


def _references(
    name: str, parts: _Parts, sqlite: _SqliteSupplement
) -> tuple[Reference, ...]:
    references = []
    for item in parts.references.get(name) or ():
        table = item["referred_table"]
        columns = tuple(item["constrained_columns"])
        # "REFERENCES t" alone means t's primary key
        referred = tuple(item["referred_columns"] or ()) or tuple(
            (parts.keys.get(table) or {}).get("constrained_columns") or ()
        )
        on_delete, on_update = sqlite.rules.get((name, columns), ("", ""))
        references.append(
            Reference(
                columns=columns,
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
    return bool((index.get("dialect_options") or {}).get("sqlite_where") is not None)


def _checks(found: Iterable[Any]) -> tuple[Check, ...]:
    checks = [Check(item["sqltext"].strip(), item["name"] or "") for item in found]
    return tuple(sorted(checks, key=lambda check: (check.name, check.text)))


def unknown_columns(database: Database) -> tuple[tuple[str, Type], ...]:
    """Return each "table.column" whose type nobody knows, with that type."""
    return tuple(
        (f"{table.name}.{column.name}", column.type)
        for table in database.tables
        for column in table.columns
        if column.type.kind == "unknown"
    )
