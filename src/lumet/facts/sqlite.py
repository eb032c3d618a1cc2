"""What SQLAlchemy's inspector leaves out on SQLite: the declared spelling of each type,
generated columns, which key numbers itself, and the rules of inline references."""

import json
import re
from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.engine.interfaces import ReflectedColumn
from sqlalchemy.engine.reflection import Inspector
from sqlalchemy.exc import OperationalError

from lumet.facts.model import Column, TableKind
from lumet.facts.supplement import Plain, make_column, rule_of
from lumet.facts.types import canonical_sqlite_type


class SqliteSupplement(Plain):
    """The supplement for SQLite."""

    def __init__(self, inspector: Inspector, connection: Connection) -> None:
        super().__init__(inspector)
        doubtful = connection.exec_driver_sql(
            "SELECT name FROM sqlite_master WHERE type = 'view'"
            " OR (type = 'table' AND sql LIKE 'CREATE VIRTUAL%')"
        ).scalars()
        self.unreadable = [n for n in doubtful if not _is_readable(connection, n)]
        self.kinds: Mapping[str, TableKind] = {
            name: kind
            for name, kind in self.kinds.items()
            if name not in self.unreadable
        }
        self._read_columns(connection)
        self._read_rules(connection)

    def _read_columns(self, connection: Connection) -> None:
        rows = connection.exec_driver_sql(
            "SELECT m.name, m.sql, x.name, x.type, x.pk, x.hidden"
            " FROM sqlite_master m, pragma_table_xinfo(m.name) x"
            " WHERE m.type IN ('table', 'view')"
            " AND m.name IN (SELECT value FROM json_each(?))",
            (json.dumps(list(self.kinds)),),
        ).all()
        self._types: dict[tuple[str, str], str] = {}
        self._computed: set[tuple[str, str]] = set()
        keys: dict[str, list[str]] = {}
        without_rowid: set[str] = set()
        for table, sql, column, native, key_position, hidden in rows:
            self._types[table, column] = native or ""
            if hidden in (2, 3):
                self._computed.add((table, column))
            if key_position:
                keys.setdefault(table, []).append(column)
            if sql and re.search(r"WITHOUT\s+ROWID[^)]*$", sql, re.IGNORECASE):
                without_rowid.add(table)
        self._automatic = {
            (table, columns[0])
            for table, columns in keys.items()
            if len(columns) == 1
            and table not in without_rowid
            and self._types[table, columns[0]].upper() == "INTEGER"
        }

    def _read_rules(self, connection: Connection) -> None:
        rows = connection.exec_driver_sql(
            'SELECT m.name, f.id, f."from", f.on_delete, f.on_update'
            " FROM sqlite_master m, pragma_foreign_key_list(m.name) f"
            " WHERE m.type = 'table' ORDER BY m.name, f.id, f.seq"
        ).all()
        columns: dict[tuple[str, int], list[str]] = {}
        rules: dict[tuple[str, int], tuple[str, str]] = {}
        for table, number, column, on_delete, on_update in rows:
            columns.setdefault((table, number), []).append(column)
            rules[table, number] = (rule_of(on_delete), rule_of(on_update))
        self._rules = {(key[0], tuple(columns[key])): rules[key] for key in columns}

    def column(self, table: str, found: ReflectedColumn) -> Column:
        """Return a column with its declared type."""
        place = (table, found["name"])
        automatic = place in self._automatic
        return make_column(
            found,
            canonical_sqlite_type(self._types.get(place, "")),
            automatic=automatic,
            needed=automatic,
            generated="by the database" if place in self._computed else "",
        )

    def rules(self, table: str, found: Any) -> tuple[str, str]:
        """Return the rules; the inspector knows only those of a table's constraint."""
        return self._rules.get((table, tuple(found["constrained_columns"])), ("", ""))


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
