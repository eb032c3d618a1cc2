"""What SQLAlchemy's inspector leaves out on PostgreSQL. Only pg_catalog is asked: a user
with nothing but SELECT sees little in information_schema."""

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.engine.interfaces import ReflectedColumn
from sqlalchemy.engine.reflection import Inspector

from lumet.facts.model import Column, TableKind, Type, TypeKind
from lumet.facts.supplement import Plain, make_column

_TABLES = """
    SELECT c.relname, c.relkind, obj_description(c.oid, 'pg_class'),
           has_table_privilege(c.oid, 'SELECT'),
           has_table_privilege(c.oid, 'INSERT') AND has_table_privilege(c.oid, 'UPDATE')
               AND has_table_privilege(c.oid, 'DELETE')
    FROM pg_class c
    WHERE c.relnamespace = current_schema()::regnamespace
      AND c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition
    ORDER BY c.relname
"""
_COLUMNS = """
    SELECT c.relname, a.attname, format_type(a.atttypid, a.atttypmod), b.typname, b.typtype,
           CASE WHEN t.typtype = 'd' THEN t.typtypmod ELSE a.atttypmod END,
           a.attidentity <> '' OR
               coalesce(pg_get_expr(d.adbin, d.adrelid) LIKE 'nextval(%%', false),
           a.attgenerated <> '', col_description(c.oid, a.attnum),
           a.attnotnull OR t.typnotnull,
           ARRAY(SELECT e.enumlabel::text FROM pg_enum e WHERE e.enumtypid = b.oid
                 ORDER BY e.enumsortorder)
    FROM pg_attribute a
    JOIN pg_class c ON c.oid = a.attrelid
    JOIN pg_type t ON t.oid = a.atttypid
    JOIN pg_type b ON b.oid = CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.oid END
    LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
    WHERE c.relnamespace = current_schema()::regnamespace AND a.attnum > 0
      AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'v', 'm', 'f')
"""
_KINDS: dict[str, TypeKind] = {
    "int2": "integer", "int4": "integer", "int8": "integer", "oid": "integer",
    "numeric": "decimal", "float4": "float", "float8": "float", "bool": "boolean",
    "varchar": "text", "bpchar": "text", "text": "text", "name": "text", "citext": "text",
    "date": "date", "time": "time", "timestamp": "moment", "timestamptz": "moment",
    "bytea": "binary", "json": "json", "jsonb": "json", "uuid": "uuid",
}  # fmt: skip
_HEADER = 4  # bytes that a type's modifier counts beside the length


class PostgresqlSupplement(Plain):
    """The supplement for PostgreSQL."""

    def __init__(self, inspector: Inspector, connection: Connection) -> None:
        kinds: dict[str, TableKind] = {}
        self.unreadable = []
        self.comments = {}
        unwritable = set()
        for name, kind, comment, readable, writable in connection.exec_driver_sql(
            _TABLES
        ):
            if not writable:
                unwritable.add(name)
            if not readable:
                self.unreadable.append(name)
                continue
            kinds[name] = "table" if kind in ("r", "p") else "view"
            if comment:
                self.comments[name] = comment
        self.kinds: Mapping[str, TableKind] = kinds
        self.unwritable = frozenset(unwritable)
        self._columns = {
            (row[0], row[1]): row[2:] for row in connection.exec_driver_sql(_COLUMNS)
        }

    def column(self, table: str, found: ReflectedColumn) -> Column:
        """Return a column with its type as the catalogue spells it."""
        native, name, kind, modifier, automatic, generated, comment, needed, values = (
            self._columns[table, found["name"]]
        )
        return make_column(
            found,
            canonical_type(native, name, kind, modifier, values),
            automatic=bool(automatic),
            needed=bool(needed),
            generated="by the database" if generated else "",
            comment=comment or "",
        )


def canonical_type(
    native: str, name: str, kind: str, modifier: int, values: Any
) -> Type:
    """Return the canonical type of a column whose base type is called `name`.

    `modifier` is PostgreSQL's atttypmod: a length, or a precision and a scale.
    """
    if kind == "e":
        return Type("text", native, values=tuple(values))
    found = _KINDS.get(name, "unknown")
    if found == "text" and modifier > _HEADER:
        return Type(found, native, length=modifier - _HEADER)
    if found == "decimal" and modifier > _HEADER:
        packed = modifier - _HEADER
        return Type(
            found, native, precision=packed >> 16 & 0xFFFF, scale=packed & 0x7FF
        )
    return Type(found, native, timezone=name == "timestamptz")
