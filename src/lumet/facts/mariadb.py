"""What SQLAlchemy's inspector leaves out on MariaDB: the column's own spelling of its type,
generated columns, and the checks that stand behind a column."""

import re
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.engine.interfaces import ReflectedColumn
from sqlalchemy.engine.reflection import Inspector
from sqlalchemy.exc import DatabaseError

from lumet.facts.model import Check, Column, TableKind, Type, TypeKind
from lumet.facts.supplement import Plain, make_column

_TABLES = """
    SELECT table_name, table_type, table_comment FROM information_schema.tables
    WHERE table_schema = database() AND table_type <> 'SEQUENCE' ORDER BY table_name
"""
_COLUMNS = """
    SELECT table_name, column_name, data_type, column_type, character_maximum_length,
           numeric_precision, numeric_scale, extra, generation_expression, column_comment
    FROM information_schema.columns WHERE table_schema = database()
"""
_CHECKS = """
    SELECT table_name, constraint_name, level, check_clause
    FROM information_schema.check_constraints WHERE constraint_schema = database()
"""
_RIGHTS = """
    SELECT privilege_type, NULL FROM information_schema.user_privileges
    WHERE grantee = (SELECT concat("'", replace(current_user(), '@', "'@'"), "'"))
    UNION SELECT privilege_type, NULL FROM information_schema.schema_privileges
    WHERE database() LIKE table_schema
    UNION SELECT privilege_type, table_name FROM information_schema.table_privileges
    WHERE table_schema = database()
"""
_WRITING = frozenset({"INSERT", "UPDATE", "DELETE"})
_KINDS: dict[str, TypeKind] = {
    "tinyint": "integer", "smallint": "integer", "mediumint": "integer", "int": "integer",
    "bigint": "integer", "year": "integer", "decimal": "decimal", "float": "float",
    "double": "float", "char": "text", "varchar": "text", "tinytext": "text",
    "text": "text", "mediumtext": "text", "longtext": "text", "enum": "text",
    "date": "date", "time": "time", "datetime": "moment", "timestamp": "moment",
    "binary": "binary", "varbinary": "binary", "tinyblob": "binary", "blob": "binary",
    "mediumblob": "binary", "longblob": "binary", "uuid": "uuid",
}  # fmt: skip
_VALUES = re.compile(r"'((?:[^']|'')*)'")
_JSON = re.compile(r"json_valid\(`((?:[^`]|``)*)`\)", re.IGNORECASE)


class MariadbSupplement(Plain):
    """The supplement for MariaDB."""

    def __init__(self, inspector: Inspector, connection: Connection) -> None:
        kinds: dict[str, TableKind] = {}
        self.unreadable = []
        self.comments = {}
        for name, kind, comment in connection.exec_driver_sql(_TABLES).all():
            if "VIEW" in kind and not _is_readable(connection, name):
                self.unreadable.append(name)
                continue
            kinds[name] = "view" if "VIEW" in kind else "table"
            if comment and comment != "VIEW":
                self.comments[name] = comment
        self.kinds: Mapping[str, TableKind] = kinds
        self.unwritable = _unwritable(connection, kinds)
        rows = connection.exec_driver_sql(_COLUMNS).all()
        self._columns = {(row[0], row[1]): row[2:] for row in rows}
        self._checks: dict[str, list[Check]] = {}
        self._json: set[tuple[str, str]] = set()
        for table, name, level, text in connection.exec_driver_sql(_CHECKS):
            if json := _JSON.fullmatch(text):
                self._json.add((table, json[1].replace("``", "`")))
            own = "" if level == "Column" else name  # a column's check has its name
            self._checks.setdefault(table, []).append(Check(text, own))

    def column(self, table: str, found: ReflectedColumn) -> Column:
        """Return a column with its type as the catalogue spells it."""
        if (table, found["name"]) not in self._columns:  # the inspector doubles a `
            found["name"] = found["name"].replace("``", "`")
        place = (table, found["name"])
        name, native, length, precision, scale, extra, expression, comment = (
            self._columns[place]
        )
        kind = canonical_type(name, native, length, precision, scale)
        is_generated = "GENERATED" in extra.upper()
        return make_column(
            found,
            Type("json", native) if place in self._json else kind,
            automatic="auto_increment" in extra.lower(),
            generated=(expression or "by the database") if is_generated else "",
            comment=comment or "",
        )

    def checks(self, table: str, found: Sequence[Any]) -> tuple[Check, ...]:
        """Return all checks, those of columns too."""
        checks = self._checks.get(table, ())
        return tuple(sorted(checks, key=lambda check: (check.name, check.text)))


def _unwritable(
    connection: Connection, kinds: Mapping[str, TableKind]
) -> frozenset[str]:
    """Return the tables on which the connected user lacks a right to write; rights by a
    role that is not active are not seen."""
    held: dict[str | None, set[str]] = {}
    for right, table in connection.exec_driver_sql(_RIGHTS):
        held.setdefault(table, set()).add(right)
    everywhere = held.get(None, set())
    return frozenset(
        name for name in kinds if not everywhere | held.get(name, set()) >= _WRITING
    )


def canonical_type(
    name: str, native: str, length: int | None, precision: int | None, scale: int | None
) -> Type:
    """Return the canonical type of a column of data type `name`."""
    if native.lower().startswith("tinyint(1)"):
        return Type("boolean", native)
    kind = _KINDS.get(name.lower(), "unknown")
    if name.lower() == "enum":
        values = tuple(v.replace("''", "'") for v in _VALUES.findall(native))
        return Type(kind, native, values=values)
    if kind == "text":
        return Type(kind, native, length=length if length and length < 65_535 else None)
    if kind == "decimal":
        return Type(kind, native, precision=precision, scale=scale)
    return Type(kind, native)


def _is_readable(connection: Connection, name: str) -> bool:
    """Tell whether a view can be read: one over a table that is gone cannot."""
    quoted = connection.dialect.identifier_preparer.quote_identifier(name)
    try:
        connection.exec_driver_sql(f"SELECT * FROM {quoted} LIMIT 0")
    except DatabaseError:
        return False
    return True
