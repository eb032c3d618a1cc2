"""MariaDB's facts beyond SQLAlchemy's inspector: the column's own spelling of its
type, generated columns, the checks of a single column, rights, triggers and views."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.engine.reflection import Inspector
from sqlalchemy.exc import DatabaseError

from lumet.facts.dialects.base import (
    CONNECT_SECONDS,
    LOCK_SECONDS,
    STATEMENT_SECONDS,
    Server,
)
from lumet.facts.dialects.catalogue import (
    About,
    Catalogue,
    Outgoing,
    about_many,
    make_column,
    rule_of,
    sorted_checks,
    sorted_indexes,
    told_apart,
)
from lumet.facts.model import (
    WRITINGS,
    Check,
    Column,
    Index,
    Parameter,
    ParameterMode,
    Reference,
    Routine,
    RoutineKind,
    TableKind,
    Type,
    TypeKind,
    Unique,
    Writing,
)

_HERE = "coalesce(%s, database())"
_TABLES = f"""
    SELECT t.table_name, t.table_type, t.table_comment, t.table_rows, t.create_options,
           v.view_definition, v.is_updatable
    FROM information_schema.tables t LEFT JOIN information_schema.views v
        ON v.table_schema = t.table_schema AND v.table_name = t.table_name
    WHERE t.table_schema = {_HERE} AND t.table_type <> 'SEQUENCE' ORDER BY 1
"""
_COLUMNS = f"""
    SELECT table_name, column_name, data_type, column_type, character_maximum_length,
           numeric_precision, numeric_scale, extra, generation_expression, column_comment,
           collation_name, column_default, is_nullable, privileges
    FROM information_schema.columns WHERE table_schema = {_HERE}
"""
_CHECKS = f"""
    SELECT table_name, constraint_name, level, check_clause
    FROM information_schema.check_constraints WHERE constraint_schema = {_HERE}
"""
_INDEXES = f"""
    SELECT table_name, index_name, non_unique, column_name, collation, sub_part
    FROM information_schema.statistics WHERE table_schema = {_HERE}
    ORDER BY table_name, index_name, seq_in_index
"""
_REFERENCES = f"""
    SELECT table_name, constraint_name, column_name, referenced_table_schema = table_schema,
           referenced_table_schema, referenced_table_name, referenced_column_name
    FROM information_schema.key_column_usage
    WHERE table_schema = {_HERE} AND referenced_table_name IS NOT NULL
    ORDER BY table_name, constraint_name, ordinal_position
"""
_RULES = f"""
    SELECT table_name, constraint_name, delete_rule, update_rule
    FROM information_schema.referential_constraints WHERE constraint_schema = {_HERE}
"""
_TRIGGERS = f"""
    SELECT event_object_table, trigger_name FROM information_schema.triggers
    WHERE event_object_schema = {_HERE} ORDER BY 1, 2
"""
_ROUTINES = f"""
    SELECT specific_name, routine_type, routine_comment FROM information_schema.routines
    WHERE routine_schema = {_HERE} AND routine_type IN ('PROCEDURE', 'FUNCTION')
    ORDER BY 1, 2 DESC
"""
_PARAMETERS = f"""
    SELECT specific_name, routine_type, ordinal_position, parameter_mode, parameter_name,
           data_type, dtd_identifier, character_maximum_length, numeric_precision,
           numeric_scale
    FROM information_schema.parameters WHERE specific_schema = {_HERE}
    ORDER BY ordinal_position
"""
_ME = "concat(\"'\", replace(current_user(), '@', \"'@'\"), \"'\")"
_DELETING = f"""
    SELECT NULL FROM information_schema.user_privileges
    WHERE grantee = {_ME} AND privilege_type = 'DELETE'
    UNION SELECT NULL FROM information_schema.schema_privileges
    WHERE grantee = {_ME} AND privilege_type = 'DELETE' AND {_HERE} LIKE table_schema
    UNION SELECT table_name FROM information_schema.table_privileges
    WHERE grantee = {_ME} AND privilege_type = 'DELETE' AND table_schema = {_HERE}
"""
_RIGHT_FOR: dict[Writing, str] = {"add": "insert", "edit": "update"}
_KINDS: dict[str, TypeKind] = {
    "tinyint": "integer", "smallint": "integer", "mediumint": "integer", "int": "integer",
    "bigint": "integer", "year": "integer", "decimal": "decimal", "float": "float",
    "double": "float", "char": "text", "varchar": "text", "tinytext": "text",
    "text": "text", "mediumtext": "text", "longtext": "text", "enum": "text",
    "date": "date", "time": "time", "datetime": "datetime", "timestamp": "datetime",
    "binary": "binary", "varbinary": "binary", "tinyblob": "binary", "blob": "binary",
    "mediumblob": "binary", "longblob": "binary", "uuid": "uuid",
}  # fmt: skip
_MODES: dict[str, ParameterMode] = {"IN": "in", "OUT": "out", "INOUT": "inout"}
_VALUES = re.compile(r"'((?:[^']|'')*)'")
_JSON = re.compile(r"json_valid\(`((?:[^`]|``)*)`\)", re.IGNORECASE)
_SEQUENCE = re.compile(r"nextval\(", re.IGNORECASE)


class MariadbCatalogue(Catalogue):
    """The catalogue of MariaDB."""

    def __init__(
        self, inspector: Inspector, schema: str | None, connection: Connection
    ) -> None:
        self.inspector = inspector
        self.schema = schema
        self._read: dict[str, Any] = {}
        self._connection = connection
        self._read_tables()
        self._columns: dict[str, list[Any]] = {}
        for table, *rest in self._ask(_COLUMNS):
            self._columns.setdefault(table, []).append(rest)
        self._read_rights()
        self._checks: dict[str, list[Check]] = {}
        self._json: set[tuple[str, str]] = set()
        self._read_indexes()
        self._read_references()
        for table, name, level, text in self._ask(_CHECKS):
            if json := _JSON.fullmatch(text):
                self._json.add((table, json[1].replace("``", "`")))
            own = "" if level == "Column" else name  # a column's check has its name
            self._checks.setdefault(table, []).append(Check(text, own))

    def _ask(self, query: str) -> Sequence[Any]:
        values = (self.schema,) * query.count("%s")
        return self._connection.exec_driver_sql(query, values).all()

    def _read_tables(self) -> None:
        triggers: dict[str, list[str]] = {}
        for table, name in self._ask(_TRIGGERS):
            triggers.setdefault(table, []).append(name)
        kinds: dict[str, TableKind] = {}
        self.unreadable = []
        self._about: dict[str, About] = {}
        for name, kind, comment, rows, options, definition, updatable in self._ask(
            _TABLES
        ):
            is_view = "VIEW" in kind
            # a view over a table that is gone cannot be read
            if is_view and not self._takes("SHOW COLUMNS FROM", name):
                self.unreadable.append(name)
                continue
            is_partitioned = "partitioned" in (options or "")
            kinds[name] = (
                "view"
                if is_view
                else "partitioned table"
                if is_partitioned
                else "table"
            )
            self._about[name] = About(
                comment="" if comment == "VIEW" else comment or "",
                estimate=0 if is_view else about_many(rows),
                triggers=tuple(triggers.get(name, ())),
                definition=definition or "",
                updatable=updatable == "YES",
            )
        self.kinds: Mapping[str, TableKind] = kinds

    def _read_rights(self) -> None:
        """Learn what may be written. Rights by a role are seen in the columns alone, so
        that a right to delete by one is not."""
        deletable = {row[0] for row in self._ask(_DELETING)}
        held = {
            table: set(",".join(row[-1] for row in rows).split(","))
            for table, rows in self._columns.items()
        }
        for name, about in self._about.items():
            allowed = {"delete"} if deletable & {None, name} else set()
            allowed |= {
                writing
                for writing, right in _RIGHT_FOR.items()
                if right in held.get(name, ())
            }
            denied = tuple(each for each in WRITINGS if each not in allowed)
            self._about[name] = replace(about, denied=denied)

    def columns(self, table: str) -> tuple[Column, ...]:
        """Return the columns that may be read, with their types as the catalogue spells
        them."""
        return tuple(
            self._column(table, *row)
            for row in self._columns.get(table, ())
            if "select" in row[-1]
        )

    def _column(
        self, table: str, column: str, name: str, native: str, length: int | None,
        precision: int | None, scale: int | None, extra: str, expression: str | None,
        comment: str, collation: str | None, default: str | None, nullable: str,
        privileges: str,
    ) -> Column:  # fmt: skip
        kind = canonical_type(name, native, length, precision, scale)
        if (table, column) in self._json:
            kind = Type("json", native)
        elif kind.kind == "text" and (collation or "").endswith("_ci"):
            kind = replace(kind, ignores_case=True)
        is_generated = "GENERATED" in extra.upper()
        is_numbered = "auto_increment" in extra.lower() or bool(
            default and _SEQUENCE.match(default)
        )
        about = self._about[table].denied
        return make_column(
            column,
            kind,
            nullable=nullable == "YES",
            default=default,
            automatic=is_numbered,
            generated=(expression or "by the database") if is_generated else "",
            comment=comment or "",
            denied=tuple(
                writing
                for writing, right in _RIGHT_FOR.items()
                if right not in privileges and writing not in about
            ),
        )

    def _read_indexes(self) -> None:
        parts: dict[tuple[str, str, bool], list[tuple[str, bool, bool]]] = {}
        for table, name, repeats, column, order, part in self._ask(_INDEXES):
            is_whole = part is None and column is not None
            key = (table, name, not repeats)
            parts.setdefault(key, []).append((column, order == "D", is_whole))
        self._keys: dict[str, tuple[str, ...]] = {}
        self._indexes: dict[str, list[Index]] = {}
        for (table, name, unique), found in parts.items():
            columns = tuple(column for column, _, is_whole in found if is_whole)
            if name == "PRIMARY":
                self._keys[table] = columns
                continue
            index = Index(
                name,
                columns,
                unique,
                descending=tuple(column for column, down, _ in found if down),
                computed=len(columns) < len(found),
            )
            self._indexes.setdefault(table, []).append(index)

    def _read_references(self) -> None:
        rules = {(row[0], row[1]): row[2:] for row in self._ask(_RULES)}
        parts: dict[tuple[str, str], list[Any]] = {}
        for table, name, *rest in self._ask(_REFERENCES):
            parts.setdefault((table, name), []).append(rest)
        self._references: dict[str, list[Outgoing]] = {}
        for (table, name), rows in parts.items():
            on_delete, on_update = rules.get((table, name), ("", ""))
            _, is_here, schema, referred, _ = rows[0]
            reference = Reference(
                columns=tuple(row[0] for row in rows),
                referred_table=referred,
                referred_columns=tuple(row[4] for row in rows),
                name=name,
                on_delete=rule_of(on_delete),
                on_update=rule_of(on_update),
            )
            outgoing = Outgoing(reference, None if is_here else schema)
            self._references.setdefault(table, []).append(outgoing)

    def primary_key(self, table: str) -> tuple[str, ...]:
        """Return the columns of the primary key, in its order."""
        return self._keys.get(table, ())

    def uniques(self, table: str) -> Sequence[Unique]:
        """Return none: each has its index."""
        return ()

    def indexes(self, table: str) -> tuple[Index, ...]:
        """Return the indexes but the primary key's."""
        return sorted_indexes(self._indexes.get(table, ()))

    def references(self, table: str) -> Sequence[Outgoing]:
        """Return the foreign keys."""
        return self._references.get(table, ())

    def checks(self, table: str) -> tuple[Check, ...]:
        """Return all checks, those of columns too."""
        return sorted_checks(self._checks.get(table, ()))

    def about(self, table: str) -> About:
        """Return the facts about the table as a whole."""
        return self._about[table]

    def routines(self) -> Sequence[Routine]:
        """Return the procedures and functions that the user has any right on."""
        parts: dict[tuple[str, str], list[Any]] = {}
        for name, kind, *rest in self._ask(_PARAMETERS):
            parts.setdefault((name, kind), []).append(rest)
        found = []
        for name, kind, comment in self._ask(_ROUTINES):
            own = [(row[0], row[1], row[2], canonical_type(*row[3:])) for row in parts.get((name, kind), ())]  # fmt: skip
            parameters = tuple(
                Parameter(given, type_, _MODES[mode or "IN"])
                for place, mode, given, type_ in own
                if place
            )
            returned = next((type_ for place, *_, type_ in own if not place), None)
            known: RoutineKind = "function" if kind == "FUNCTION" else "procedure"
            found.append(Routine(name, known, parameters, returned, comment=comment or ""))  # fmt: skip
        return told_apart(found)

    def _takes(self, statement: str, name: str) -> bool:
        """Tell whether the server takes a statement that ends in a table's name."""
        quote = self.inspector.dialect.identifier_preparer.quote_identifier
        parts = [part for part in (self.schema, name) if part]
        source = ".".join(map(quote, parts)).replace("%", "%%")
        try:
            self._connection.exec_driver_sql(f"{statement} {source}")
        except DatabaseError:
            return False
        return True


@lru_cache(maxsize=1000)
def canonical_type(
    name: str, native: str, length: int | None, precision: int | None, scale: int | None
) -> Type:
    """Return the canonical type of a column of data type `name`."""
    if native.lower().startswith("tinyint(1)"):
        return Type("boolean", native)
    kind = _KINDS.get(name.lower(), "unknown")
    if name.lower() in ("enum", "set"):
        values = tuple(v.replace("''", "'") for v in _VALUES.findall(native))
        return Type(kind, native, values=values)
    if kind == "text":
        return Type(kind, native, length=length if length and length < 65_535 else None)
    if kind == "decimal":
        return Type(
            kind,
            native,
            precision=precision,
            scale=scale,
            unsigned="unsigned" in native,
        )
    return Type(kind, native, unsigned="unsigned" in native)


class Mariadb(Server):
    """A MariaDB server, by PyMySQL."""

    name = "mariadb"
    title = "MariaDB"
    schemes = ("mariadb", "mysql")
    driver = "mariadb+pymysql"
    requirement = "pymysql>=1.1,<2"
    module = "pymysql"
    port = 3306
    sqlglot = "mysql"
    quote = "`"
    catalogue = MariadbCatalogue
    length_counts_bytes = True
    long_texts = ("text",)
    directory = ("information_schema", "SHOW DATABASES")
    own_databases = frozenset(
        {"information_schema", "mysql", "performance_schema", "sys"}
    )
    unsafe_query = """
        SELECT t.table_name, concat('its engine ', t.engine, ' has no transactions')
        FROM information_schema.tables t
        JOIN information_schema.engines e ON e.engine = t.engine
        WHERE t.table_schema = database() AND e.transactions <> 'YES'
    """
    # a text is written out by the driver; a cast would fix its collation, which cannot
    # be compared with a column of another
    casts = {"integer": "SIGNED", "decimal": "DECIMAL(38, 10)", "yes/no": "SIGNED",
             "date": "DATE", "datetime": "DATETIME"}  # fmt: skip
    max_bytes = {"tinytext": 255, "text": 65_535, "tinyblob": 255, "blob": 65_535}
    integer_bits = {"tinyint": 8, "smallint": 16, "mediumint": 24}
    # https://mariadb.com/kb/en/mariadb-error-code-reference/
    causes = (
        (r"SSL (connection )?is required|require_secure_transport|TLS required",
         (3159, 4151), "unencrypted"),
        (r"Name or service not known|nodename nor servname", (), "host"),
        ((r"Connection refused|timed out|Can't connect|No route to host"
          r"|No such file or directory"), (2002, 2003, 2005), "unreachable"),
        (r"Access denied for user .*using password", (1045, 1698), "user"),
        (r"Unknown database", (1049,), "database"),
        (r"Access denied|command denied", (1044, 1142, 1143), "right"),
    )  # fmt: skip
    encrypted = "?ssl=true"

    def connect_arguments(self) -> dict[str, Any]:
        limits = (
            f"SET SESSION max_statement_time={STATEMENT_SECONDS:.0f},"
            f" SESSION lock_wait_timeout={LOCK_SECONDS:.0f}, SESSION tx_read_only=1"
        )
        return {"init_command": limits, "connect_timeout": CONNECT_SECONDS}

    def mark(self, column: Column) -> str:
        is_bits = column.type.native.lower().startswith("bit")
        return (
            "CAST(CONV(%s, 2, 10) AS UNSIGNED)"
            if is_bits and column.type.kind != "boolean"
            else super().mark(column)
        )

    def column_type(self, type_: Type, kind: str) -> str:
        if type_.native.lower().startswith(("enum(", "set(")):
            return "EnumText"
        if type_.native.lower().startswith("float"):
            return "SingleFloat"
        if type_.kind == "unknown" and type_.is_shape:
            return "Geometry"
        if type_.kind == "time":
            return "Clock"
        return super().column_type(type_, kind)
