"""PostgreSQL's facts beyond SQLAlchemy's inspector. Only pg_catalog is asked: a
user with nothing but SELECT sees little in information_schema."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from sqlalchemy import URL, Connection, Engine
from sqlalchemy.engine.reflection import Inspector

from lumet.facts.dialects.base import (
    CONNECT_SECONDS,
    LOCK_SECONDS,
    STATEMENT_SECONDS,
    VALUE,
    Ask,
    Server,
)
from lumet.facts.dialects.catalogue import (
    About,
    Catalogue,
    Outgoing,
    about_many,
    make_column,
    sorted_checks,
    told_apart,
)
from lumet.facts.model import (
    WRITINGS,
    Check,
    Column,
    Parameter,
    ParameterMode,
    Reference,
    Routine,
    TableKind,
    Type,
    TypeKind,
    Writing,
)

_SCHEMA = (
    "(SELECT oid FROM pg_namespace WHERE nspname = coalesce(%s, current_schema()))"
)
_REFUSED = """
    (row_security_active(c.oid) AND NOT EXISTS (
        SELECT FROM pg_policy p WHERE p.polrelid = c.oid AND p.polpermissive
        AND p.polcmd IN ('*', '{command}') AND EXISTS (
            SELECT FROM unnest(p.polroles) r WHERE r = 0 OR pg_has_role(r, 'USAGE'))))
"""
# what a rule does instead returns no key, nor the number of the rows
_REPLACED = """
    EXISTS (SELECT FROM pg_rewrite w WHERE w.ev_class = c.oid AND w.is_instead
            AND w.ev_type = '{event}' AND c.relkind IN ('r', 'p')
            AND pg_get_ruledef(w.oid) !~* '\\mRETURNING\\M')
"""
_TABLES = f"""
    SELECT c.oid, c.relname, c.relkind, obj_description(c.oid, 'pg_class'), c.reltuples,
           has_table_privilege(c.oid, 'SELECT'), has_any_column_privilege(c.oid, 'SELECT'),
           has_table_privilege(c.oid, 'INSERT') AND has_table_privilege(c.oid, 'UPDATE'),
           ARRAY[has_any_column_privilege(c.oid, 'INSERT') AND NOT {_REFUSED.format(command="a")}
                     AND NOT {_REPLACED.format(event="3")},
                 has_any_column_privilege(c.oid, 'UPDATE') AND NOT {_REFUSED.format(command="w")}
                     AND NOT {_REPLACED.format(event="2")},
                 has_table_privilege(c.oid, 'DELETE') AND NOT {_REFUSED.format(command="d")}
                     AND NOT {_REPLACED.format(event="4")}],
           row_security_active(c.oid),
           CASE WHEN c.relkind IN ('v', 'f')
                THEN pg_relation_is_updatable(c.oid, true) & 28 = 28 ELSE false END,
           CASE WHEN c.relkind IN ('v', 'm') THEN pg_get_viewdef(c.oid) ELSE '' END,
           ARRAY(SELECT t.tgname::text FROM pg_trigger t WHERE t.tgrelid = c.oid
                 AND NOT t.tgisinternal ORDER BY t.tgname),
           ARRAY(SELECT w.rulename::text FROM pg_rewrite w WHERE w.ev_class = c.oid
                 AND w.is_instead AND c.relkind IN ('r', 'p') ORDER BY w.rulename)
    FROM pg_class c
    WHERE c.relnamespace = {_SCHEMA}
      AND c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition
    ORDER BY c.relname
"""
_COLUMNS = f"""
    SELECT c.relname, a.attname, format_type(a.atttypid, a.atttypmod), t.oid, a.atttypmod,
           a.attidentity <> '', pg_get_expr(d.adbin, d.adrelid),
           a.attgenerated <> '', col_description(c.oid, a.attnum), a.attnotnull,
           to_jsonb(l)::text ~ 'ks-level[12]'
    FROM pg_attribute a
    JOIN pg_class c ON c.oid = a.attrelid
    JOIN pg_type t ON t.oid = a.atttypid
    LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
    LEFT JOIN pg_collation l ON l.oid = a.attcollation AND NOT l.collisdeterministic
    WHERE c.relnamespace = {_SCHEMA} AND a.attnum > 0
      AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'v', 'm', 'f')
    ORDER BY c.relname, a.attnum
"""
_TYPES = """
    SELECT t.oid, t.typname, t.typtype, t.typbasetype, t.typtypmod, t.typnotnull,
           CASE WHEN t.typcategory = 'A' THEN format_type(t.typelem, NULL) ELSE '' END
    FROM pg_type t WHERE t.typtype IN ('b', 'd', 'e', 'r', 'm')
"""
_VALUES = "SELECT enumtypid, enumlabel FROM pg_enum ORDER BY enumtypid, enumsortorder"
_DOMAIN_CHECKS = """
    SELECT contypid, conname, pg_get_constraintdef(oid) FROM pg_constraint
    WHERE contypid <> 0 AND contype = 'c' ORDER BY conname
"""
_REFERENCES = f"""
    SELECT c.relname, k.conname, k.confdeltype, k.confupdtype, k.condeferrable,
           k.condeferred, r.relnamespace = k.connamespace, n.nspname, r.relname,
           ARRAY(SELECT a.attname::text FROM unnest(k.conkey) WITH ORDINALITY u(number, place)
                 JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = u.number
                 ORDER BY u.place),
           ARRAY(SELECT a.attname::text FROM unnest(k.confkey) WITH ORDINALITY u(number, place)
                 JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = u.number
                 ORDER BY u.place)
    FROM pg_constraint k
    JOIN pg_class c ON c.oid = k.conrelid
    JOIN pg_class r ON r.oid = k.confrelid
    JOIN pg_namespace n ON n.oid = r.relnamespace
    WHERE k.contype = 'f' AND k.conparentid = 0 AND c.relnamespace = {_SCHEMA}
"""
_RULED = f"""
    SELECT c.relname, k.contype, k.conname, pg_get_constraintdef(k.oid, true)
    FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid
    WHERE k.contype IN ('x', 'c') AND c.relnamespace = {_SCHEMA} ORDER BY k.conname
"""
_COLUMN_RIGHTS = """
    SELECT c.relname, a.attname, has_column_privilege(c.oid, a.attnum, 'SELECT'),
           has_column_privilege(c.oid, a.attnum, 'INSERT'),
           has_column_privilege(c.oid, a.attnum, 'UPDATE')
    FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
    WHERE c.oid = ANY(%s::oid[]) AND a.attnum > 0 AND NOT a.attisdropped
"""
_ROUTINES = f"""
    SELECT p.proname, p.prokind = 'p', p.proretset, p.prorettype, t.typtype,
           format_type(p.prorettype, NULL), p.proargnames, p.proargmodes::text[],
           p.pronargdefaults, obj_description(p.oid, 'pg_proc'),
           coalesce(p.proallargtypes, p.proargtypes::oid[]),
           ARRAY(SELECT format_type(u.type, NULL)
                 FROM unnest(coalesce(p.proallargtypes, p.proargtypes::oid[]))
                 WITH ORDINALITY u(type, place) ORDER BY u.place)
    FROM pg_proc p JOIN pg_type t ON t.oid = p.prorettype
    WHERE p.pronamespace = {_SCHEMA} AND p.prokind IN ('f', 'p') AND p.provariadic = 0
      AND p.prorettype NOT IN ('trigger'::regtype, 'event_trigger'::regtype)
      AND has_function_privilege(p.oid, 'EXECUTE')
      AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = p.oid
                      AND d.classid = 'pg_proc'::regclass AND d.deptype = 'e')
      AND NOT EXISTS (SELECT FROM unnest(p.proargtypes::oid[]) u(type)
                      JOIN pg_type a ON a.oid = u.type WHERE a.typtype = 'p')
    ORDER BY p.proname, p.oid
"""
_TABLE_KINDS: dict[str, TableKind] = {
    "r": "table",
    "p": "partitioned table",
    "f": "foreign table",
    "v": "view",
    "m": "materialised view",
}
_KINDS: dict[str, TypeKind] = {
    "int2": "integer", "int4": "integer", "int8": "integer", "oid": "integer",
    "numeric": "decimal", "float4": "float", "float8": "float", "bool": "boolean",
    "varchar": "text", "bpchar": "text", "text": "text", "name": "text", "citext": "text",
    "date": "date", "time": "time", "timestamp": "datetime", "timestamptz": "datetime",
    "bytea": "binary", "json": "json", "jsonb": "json", "uuid": "uuid",
}  # fmt: skip
_MODES: dict[str, ParameterMode] = {"i": "in", "o": "out", "b": "inout"}
_RULES = {"a": "", "r": "restrict", "c": "cascade", "n": "set null", "d": "set default"}
_HEADER = 4  # bytes that a type's modifier counts beside the length
_CHECK = re.compile(r"CHECK \((.*)\)(?: NOT VALID| NO INHERIT)*", re.DOTALL)
_VALUE = re.compile(r"\bVALUE\b")


@dataclass(frozen=True, slots=True)
class _Base:
    """A type, or what a domain comes to: the type below it, its own modifier (-1 for
    none), and its rules about VALUE."""

    name: str
    kind: str
    modifier: int = -1
    needed: bool = False
    element: str = ""
    values: tuple[str, ...] = ()
    checks: tuple[Check, ...] = ()


_NOTHING = _Base("", "")


class PostgresqlCatalogue(Catalogue):
    """The catalogue of PostgreSQL."""

    def __init__(
        self, inspector: Inspector, schema: str | None, connection: Connection
    ) -> None:
        self.inspector = inspector
        self.schema = schema
        self._read: dict[str, Any] = {}
        self._connection = connection
        self._read_tables()
        self._types = _read_types(connection)
        self._read_columns()
        self._references: dict[str, list[Outgoing]] = {}
        for table, *rest in self._ask(_REFERENCES):
            self._references.setdefault(table, []).append(_outgoing(*rest))

    def _ask(self, query: str) -> Sequence[Any]:
        return self._connection.exec_driver_sql(query, (self.schema,)).all()

    def _read_tables(self) -> None:
        kinds: dict[str, TableKind] = {}
        self.unreadable = []
        self._about: dict[str, About] = {}
        exclusions: dict[str, list[Check]] = {}
        self._checks: dict[str, list[Check]] = {}
        for table, kind, name, text in self._ask(_RULED):
            if kind == "x":
                exclusions.setdefault(table, []).append(Check(text, name))
            elif found := _CHECK.fullmatch(text):
                self._checks.setdefault(table, []).append(Check(found[1], name))
        unequal = []
        for (
            oid, name, kind, comment, rows, whole, some, writes_all, allowed, row_security,
            updatable, definition, triggers, rules,
        ) in self._ask(_TABLES):  # fmt: skip
            if not some:
                self.unreadable.append(name)
                continue
            kinds[name] = _TABLE_KINDS[kind]
            if not (whole and (writes_all or not (allowed[0] or allowed[1]))):
                unequal.append(oid)
            self._about[name] = About(
                comment=comment or "",
                denied=tuple(w for w, may in zip(WRITINGS, allowed, strict=True)
                             if not may),
                row_security=row_security,
                estimate=about_many(rows),
                exclusions=tuple(exclusions.get(name, ())),
                triggers=tuple(triggers),
                definition=definition.strip(),
                updatable=updatable,
                refusal=_rules_instead(rules),
            )  # fmt: skip
        self.kinds: Mapping[str, TableKind] = kinds
        self._rights = _column_rights(self._connection, unequal)

    def _read_columns(self) -> None:
        quote = self.inspector.dialect.identifier_preparer.quote
        self._columns: dict[str, list[Column]] = {name: [] for name in self.kinds}
        for table, name, native, oid, modifier, *rest in self._ask(_COLUMNS):
            reads, adds, edits = self._rights.get((table, name), (True, True, True))
            if not reads or table not in self.kinds:
                continue
            identity, text, is_generated, comment, needed, ignores_case = rest
            base = self._types.get(oid, _NOTHING)
            about = self._about[table].denied
            may: tuple[tuple[Writing, bool], ...] = (("add", adds), ("edit", edits))
            column = make_column(
                name,
                canonical_type(
                    native,
                    base,
                    modifier if base.modifier < 0 else base.modifier,
                    bool(ignores_case),
                ),
                nullable=not (needed or base.needed),
                default=None if is_generated else text,
                automatic=identity or bool(text and text.startswith("nextval(")),
                generated=text if is_generated else "",
                comment=comment or "",
                denied=tuple(w for w, ok in may if not ok and w not in about),
            )
            self._columns[table].append(column)
            for check in base.checks:
                spelled = _VALUE.sub(quote(name).replace("\\", r"\\"), check.text)
                self._checks.setdefault(table, []).append(Check(spelled, check.name))

    def columns(self, table: str) -> tuple[Column, ...]:
        """Return the columns with their types as the catalogue spells them."""
        return tuple(self._columns[table])

    def references(self, table: str) -> Sequence[Outgoing]:
        """Return the foreign keys; those of partitions are their table's."""
        return self._references.get(table, ())

    def checks(self, table: str) -> tuple[Check, ...]:
        """Return the checks of the table, and those of its columns' domains."""
        return sorted_checks(self._checks.get(table, ()))

    def about(self, table: str) -> About:
        """Return the facts about the table as a whole."""
        return self._about[table]

    def routines(self) -> Sequence[Routine]:
        """Return the procedures and functions but those of extensions and triggers, and
        those with parameters of any type, or of any number."""
        return told_apart(self._routine(*row) for row in self._ask(_ROUTINES))

    def _routine(
        self, name: str, is_procedure: bool, several: bool, returned: int, kind: str,
        native: str, names: list[str] | None, modes: list[str] | None, defaults: int,
        comment: str | None, types: list[int], natives: list[str],
    ) -> Routine:  # fmt: skip
        count = len(types)
        modes = modes or ["i"] * count
        given = [n for n, mode in enumerate(modes) if mode in "ib"]
        optional = {*given[len(given) - defaults :]} if defaults else set()
        parameters = tuple(
            Parameter(
                (names or [""] * count)[n],
                canonical_type(natives[n], self._types.get(types[n], _NOTHING), -1),
                _MODES[mode],
                n in optional,
            )
            for n, mode in enumerate(modes)
            if mode in _MODES  # others are columns of the rows
        )
        has_row = "t" in modes or kind == "c" or native == "record"
        is_value = not (is_procedure or several or has_row or native == "void")
        base = self._types.get(returned, _NOTHING)
        return Routine(
            name,
            "procedure" if is_procedure else "function",
            parameters,
            canonical_type(native, base, -1) if is_value else None,
            rows=not is_procedure and (has_row or several),
            several=several,
            comment=comment or "",
        )


def _outgoing(
    name: str, on_delete: str, on_update: str, deferrable: bool, deferred: bool,
    is_here: bool, schema: str, referred: str, columns: list[str], others: list[str],
) -> Outgoing:  # fmt: skip
    reference = Reference(
        columns=tuple(columns),
        referred_table=referred,
        referred_columns=tuple(others),
        name=name,
        on_delete=_RULES.get(on_delete, ""),
        on_update=_RULES.get(on_update, ""),
        deferrable=deferrable,
        deferred=deferred,
    )
    return Outgoing(reference, None if is_here else schema)


def _column_rights(
    connection: Connection, tables: list[int]
) -> dict[tuple[str, str], tuple[bool, bool, bool]]:
    """Return the privileges to read, add and edit, by column of these tables alone."""
    if not tables:
        return {}
    rows = connection.exec_driver_sql(_COLUMN_RIGHTS, (tables,))
    return {(row[0], row[1]): (row[2], row[3], row[4]) for row in rows}


def _rules_instead(names: Sequence[str]) -> str:
    """Return why a table with these rules refuses changes, "" where it has none."""
    return f"a rule does something else instead: {', '.join(names)}" if names else ""


def _read_types(connection: Connection) -> dict[int, _Base]:
    """Return every type by its number, domains as what they come to."""
    values: dict[int, list[str]] = {}
    for oid, label in connection.exec_driver_sql(_VALUES):
        values.setdefault(oid, []).append(label)
    checks: dict[int, list[Check]] = {}
    for oid, name, text in connection.exec_driver_sql(_DOMAIN_CHECKS):
        if found := _CHECK.fullmatch(text):
            checks.setdefault(oid, []).append(Check(found[1], name))
    rows = {row[0]: row[1:] for row in connection.exec_driver_sql(_TYPES)}

    def base_of(oid: int) -> _Base:
        name, kind, below, modifier, needed, element = rows[oid]
        if kind != "d" or below not in rows:
            found = tuple(values.get(oid, ()))
            return _Base(name, kind, modifier, needed, element, found)
        base = base_of(below)
        return _Base(
            base.name,
            base.kind,
            modifier if modifier >= 0 else base.modifier,
            needed or base.needed,
            base.element,
            base.values,
            (*base.checks, *checks.get(oid, ())),
        )

    return {oid: base_of(oid) for oid in rows}


@lru_cache(maxsize=1000)
def canonical_type(
    native: str, base: _Base, modifier: int, ignores_case: bool = False
) -> Type:
    """Return the canonical type of a column over a base type.

    `modifier` is PostgreSQL's atttypmod: a length, or a precision and a scale.
    """
    name = base.name
    ignores_case = ignores_case or name == "citext"
    if base.kind == "e":
        return Type("text", native, values=base.values)
    found = _KINDS.get(name, "unknown")
    if found == "text":
        length = modifier - _HEADER if modifier > _HEADER else None
        return Type(found, native, length=length, ignores_case=ignores_case)
    if found == "decimal" and modifier > _HEADER:
        packed = modifier - _HEADER
        scale = ((packed & 0x7FF) ^ 0x400) - 0x400  # it may be negative
        return Type(found, native, precision=packed >> 16 & 0xFFFF, scale=scale)
    timezone = name in ("timestamptz", "timetz")
    return Type(found, native, timezone=timezone, element=base.element)


_OPTIONS = (
    "-c default_transaction_read_only=on"
    f" -c statement_timeout={STATEMENT_SECONDS * 1000:.0f}"
    f" -c lock_timeout={LOCK_SECONDS * 1000:.0f}"
    " -c idle_in_transaction_session_timeout=60000"
)
_CAST_KINDS = frozenset({"json", "uuid"})


class Postgresql(Server):
    """A PostgreSQL server, by psycopg."""

    name = "postgresql"
    title = "PostgreSQL"
    schemes = ("postgresql", "postgres")
    driver = "postgresql+psycopg"
    requirement = "psycopg[binary]>=3.2,<4"
    module = "psycopg"
    port = 5432
    sqlglot = "postgres"
    catalogue = PostgresqlCatalogue
    compares_texts = False
    directory = ("postgres", ("SELECT datname FROM pg_database WHERE datallowconn"
                              " AND NOT datistemplate ORDER BY 1"))  # fmt: skip
    schemas_query = """
        SELECT n.nspname FROM pg_namespace n WHERE n.nspname <> 'information_schema'
          AND n.nspname !~ '^pg_' AND EXISTS (SELECT FROM pg_class c
              WHERE c.relnamespace = n.oid AND c.relkind IN ('r', 'p', 'v', 'm', 'f'))
        ORDER BY 1
    """
    unsafe_query = """
        SELECT c.relname, 'it is on another server' FROM pg_class c
        WHERE c.relkind = 'f' AND c.relnamespace = current_schema()::regnamespace
    """
    superuser_query = "SELECT rolsuper FROM pg_roles WHERE rolname = current_user"
    casts = {"text": "text", "integer": "bigint", "decimal": "numeric",
             "yes/no": "boolean", "date": "date", "datetime": "timestamp"}  # fmt: skip
    shape = ""
    integer_bits = {"smallint": 16}
    prefix_index = " text_pattern_ops"  # no other kind of index finds them
    causes = (
        (r"no encryption|SSL (connection )?is required", (), "unencrypted"),
        (r"failed to resolve host|Name or service not known|nodename nor servname",
         (), "host"),
        ((r"Connection refused|timeout expired|timed out|No route to host"
          r"|No such file or directory"), (), "unreachable"),
        ((r"no password supplied|password authentication failed|Peer authentication"
          r"|role \".*\" does not exist|no pg_hba.conf entry"), (), "user"),
        (r"database \".*\" does not exist", (), "database"),
        (r"permission denied", (), "right"),
    )  # fmt: skip
    encrypted = "?sslmode=require"

    def open(self, place: URL | Path) -> Engine:
        return (
            super()
            .open(place)
            .execution_options(
                isolation_level="REPEATABLE READ", postgresql_readonly=True
            )
        )

    def connect_arguments(self) -> dict[str, Any]:
        return {"options": _OPTIONS, "prepare_threshold": None,
                "connect_timeout": CONNECT_SECONDS}  # fmt: skip

    def insert(
        self, connection: Connection, source: str, columns: Sequence[Column],
        rows: Sequence[Sequence[Any]],
    ) -> None:  # fmt: skip
        names = ", ".join(self.quoted(each.name) for each in columns)
        raw: Any = connection.connection.driver_connection
        with (
            raw.cursor() as cursor,
            cursor.copy(f"COPY {source} ({names}) FROM STDIN") as copy,
        ):
            for row in rows:
                copy.write_row(row)

    def as_text(self, name: str) -> str:
        return f"CAST({name} AS text)"

    def beginning(self, name: str, most: int) -> str:
        return f"substring({name} from 1 for {most})"

    def estimate(self, ask: Ask, source: str) -> int | None:
        query = (
            f"SELECT reltuples::bigint FROM pg_class WHERE oid = to_regclass({VALUE})"
        )
        return int(ask(query, source)[0][0] or 0)

    def sample(self, columns: str, source: str, percent: float, seed: int) -> str:
        return (
            f"SELECT {columns} FROM {source} TABLESAMPLE SYSTEM ({percent})"
            f" REPEATABLE ({seed})"
        )

    def column_type(self, type_: Type, kind: str) -> str:
        if type_.native.lower() == "real":
            return "SingleFloat"
        if kind == "multiple choice":
            return f"Array.of({type_.native!r})"
        is_interval = type_.native.lower().startswith("interval")
        if is_interval or type_.values or type_.kind in _CAST_KINDS:
            return f"Cast.of({type_.native!r})"
        return super().column_type(type_, kind)
