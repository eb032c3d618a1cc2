"""SQLite's facts beyond SQLAlchemy's inspector: the declared spelling of each type,
generated columns, which key numbers itself, and the rules of inline references."""

import json
import logging
import re
import sqlite3
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from datetime import date, datetime
from datetime import time as day_time
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlalchemy import URL, Connection, Engine, QueuePool, create_engine, event
from sqlalchemy.engine.interfaces import ReflectedColumn
from sqlalchemy.engine.reflection import Inspector
from sqlalchemy.exc import OperationalError

from lumet.facts.dialects.base import LOCK_SECONDS, STATEMENT_SECONDS, Server
from lumet.facts.dialects.catalogue import (
    About,
    Catalogue,
    Outgoing,
    about_many,
    make_column,
    rule_of,
    sorted_indexes,
)
from lumet.facts.model import (
    Column,
    Index,
    Reference,
    Table,
    TableKind,
    Type,
    Unique,
    Writing,
)
from lumet.facts.types import canonical_sqlite_type

PROGRESS_STEPS = 10_000  # virtual machine steps between two looks at the clock
_IN_KINDS = "m.name IN (SELECT value FROM json_each(?))"
_COLUMNS = f"""
    SELECT m.name, m.sql, x.name, x.type, x.pk, x.hidden
    FROM sqlite_master m, pragma_table_xinfo(m.name) x
    WHERE m.type IN ('table', 'view') AND {_IN_KINDS}
"""
_REFERENCES = f"""
    SELECT m.name, f.id, f."from", f.on_delete, f.on_update
    FROM sqlite_master m, pragma_foreign_key_list(m.name) f
    WHERE m.type = 'table' AND {_IN_KINDS} ORDER BY m.name, f.id, f.seq
"""
_INDEXES = f"""
    SELECT m.name, l.name, l.origin, l."unique", l.partial, x.name, x."desc"
    FROM sqlite_master m, pragma_index_list(m.name) l, pragma_index_xinfo(l.name) x
    WHERE m.type = 'table' AND l.origin IN ('c', 'u') AND x.key = 1 AND {_IN_KINDS}
    ORDER BY m.name, l.name, x.seqno
"""
_SHADOWS = """
    SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'shadow'
"""
_NOTHING_DENIED: tuple[tuple[Writing, ...], str] = ((), "")
_FOLDED = re.compile(r"COLLATE\s+[\"'\[`]?(NOCASE)", re.IGNORECASE)
_INSTEAD = re.compile(r"INSTEAD\s+OF\s+(INSERT|UPDATE|DELETE)", re.IGNORECASE)
_WITHOUT_ROWID = re.compile(r"WITHOUT\s+ROWID[^)]*$", re.IGNORECASE)


class SqliteCatalogue(Catalogue):
    """The catalogue of SQLite."""

    def __init__(
        self, inspector: Inspector, schema: str | None, connection: Connection
    ) -> None:
        super().__init__(inspector, schema, connection)
        doubtful = connection.exec_driver_sql(
            "SELECT name FROM sqlite_master WHERE type = 'view'"
            " OR (type = 'table' AND sql LIKE 'CREATE VIRTUAL%')"
        ).scalars()
        self.unreadable = [n for n in doubtful if not _is_readable(connection, n)]
        left_out = {*self.unreadable, *_shadows(connection)}
        self.kinds: Mapping[str, TableKind] = {
            name: kind for name, kind in self.kinds.items() if name not in left_out
        }
        self._connection = connection
        self._names = json.dumps(list(self.kinds))
        self._read_columns()
        self._read_refusals()
        self._read_rules()
        self._read_about()
        self._read_indexes()

    def _ask(self, query: str) -> Sequence[Any]:
        return self._connection.exec_driver_sql(query, (self._names,)).all()

    def _read_columns(self) -> None:
        self._types: dict[tuple[str, str], str] = {}
        self._computed: set[tuple[str, str]] = set()
        self._folded: set[tuple[str, str]] = set()
        self._sql: dict[str, str] = {}
        keys: dict[str, list[str]] = {}
        for table, sql, column, native, key_position, hidden in self._ask(_COLUMNS):
            self._sql[table] = sql or ""
            self._types[table, column] = native or ""
            if hidden in (2, 3):
                self._computed.add((table, column))
            if key_position:
                keys.setdefault(table, []).append(column)
        for table, sql in self._sql.items():
            if _FOLDED.search(sql):
                self._folded |= {(table, name) for name in _folded_columns(sql)}
        self._automatic = {
            (table, columns[0])
            for table, columns in keys.items()
            if len(columns) == 1
            and not _WITHOUT_ROWID.search(self._sql[table])
            and self._types[table, columns[0]].upper() == "INTEGER"
        }

    def _read_refusals(self) -> None:
        """Prepare a change of each table, which compiles its triggers and looks for the
        keys that its references need: functions may be missing that only another
        program has."""
        refusals = _Refusals(self._connection)
        columns: dict[str, list[str]] = {}
        for table, name in self._types:
            if self.kinds[table] == "table" and (table, name) not in self._computed:
                columns.setdefault(table, []).append(name)
        self._denied: dict[str, tuple[tuple[Writing, ...], str]] = {}
        self._fixed: set[tuple[str, str]] = set()
        with refusals.checking_references():
            for table, names in columns.items():
                denied, reason, fixed = refusals.of(table, names)
                self._denied[table] = (denied, reason)
                self._fixed |= {(table, name) for name in fixed}

    def _read_rules(self) -> None:
        found: dict[tuple[str, int], list[Any]] = {}
        for table, number, *rest in self._ask(_REFERENCES):
            found.setdefault((table, number), []).append(rest)
        self._rules = {
            (table, tuple(row[0] for row in rows)): (
                rule_of(rows[0][1]),
                rule_of(rows[0][2]),
            )
            for (table, _), rows in found.items()
        }
        self._spelled = {name.casefold(): name for name in self.kinds}

    def _read_about(self) -> None:
        estimates = _estimates(self._connection)
        triggers: dict[str, list[str]] = {}
        instead: dict[str, set[str]] = {}
        for table, name, sql in self._connection.exec_driver_sql(
            "SELECT tbl_name, name, sql FROM sqlite_master WHERE type = 'trigger'"
            " ORDER BY 1, 2"
        ):
            triggers.setdefault(table, []).append(name)
            if found := _INSTEAD.search(sql or ""):
                instead.setdefault(table, set()).add(found[1].upper())
        self._about = {
            name: About(
                denied=self._denied.get(name, _NOTHING_DENIED)[0],
                refusal=self._denied.get(name, _NOTHING_DENIED)[1],
                estimate=about_many(estimates.get(name)),
                triggers=tuple(triggers.get(name, ())),
                definition=self._sql.get(name, "") if kind == "view" else "",
                updatable=len(instead.get(name, ())) == 3,
            )
            for name, kind in self.kinds.items()
        }

    def columns(self, table: str) -> tuple[Column, ...]:
        """Return the columns with their declared types."""
        found = self.bulk(self.inspector.get_multi_columns).get(table) or ()
        return tuple(self._column(table, each) for each in found)

    def _column(self, table: str, found: ReflectedColumn) -> Column:
        place = (table, found["name"])
        automatic = place in self._automatic
        kind = canonical_sqlite_type(self._types.get(place, ""))
        if place in self._folded and kind.kind == "text":
            kind = replace(kind, ignores_case=True)
        return make_column(
            found["name"],
            kind,
            # SQLite lets a key be NULL, and nothing could find such a record again
            nullable=found["nullable"] and not (automatic or found.get("primary_key")),
            default=found.get("default"),
            automatic=automatic,
            generated="by the database" if place in self._computed else "",
            denied=("edit",) if place in self._fixed else (),
        )

    def references(self, table: str) -> Sequence[Outgoing]:
        """Return the foreign keys with their rules, of which the inspector knows only
        those of a table's constraint; the table referred to as its name is spelled."""
        return [self._whole(table, each) for each, _ in super().references(table)]

    def _whole(self, table: str, reference: Reference) -> Outgoing:
        referred = reference.referred_table
        if referred not in self.kinds:
            referred = self._spelled.get(referred.casefold(), referred)
        on_delete, on_update = self._rules.get((table, reference.columns), ("", ""))
        whole = replace(
            reference, referred_table=referred, on_delete=on_delete, on_update=on_update
        )
        return Outgoing(whole, None)

    def indexes(self, table: str) -> tuple[Index, ...]:
        """Return the indexes, those over expressions too."""
        return self._indexes.get(table, ())

    def _read_indexes(self) -> None:
        self._uniques: dict[str, list[tuple[str, ...]]] = {}
        parts: dict[tuple[str, str, str, bool, bool], list[tuple[str | None, bool]]]
        parts = {}
        for table, name, origin, unique, partial, column, down in self._ask(_INDEXES):
            key = (table, name, origin, bool(unique), bool(partial))
            parts.setdefault(key, []).append((column, bool(down)))
        found: dict[str, list[Index]] = {}
        for (table, name, origin, unique, partial), columns in parts.items():
            names = tuple(column for column, _ in columns if column is not None)
            if origin == "u":
                self._uniques.setdefault(table, []).append(names)
                continue
            descending = tuple(column for column, down in columns if column and down)
            is_computed = len(names) < len(columns)
            index = Index(name, names, unique, partial, descending, is_computed)
            found.setdefault(table, []).append(index)
        self._indexes = {table: sorted_indexes(each) for table, each in found.items()}

    def uniques(self, table: str) -> Sequence[Unique]:
        """Return the unique constraints. The inspector reads them out of the table's
        SQL: it knows their names, and none of `VARCHAR(40) UNIQUE`."""
        names = {each.columns: each.name for each in super().uniques(table)}
        found = self._uniques.get(table, ())
        return [Unique(columns, names.get(columns, "")) for columns in found]

    def about(self, table: str) -> About:
        """Return the facts about the table as a whole."""
        return self._about[table]


class _Refusals:
    """Finds the changes that SQLite cannot prepare, without making one."""

    def __init__(self, connection: Connection) -> None:
        self._quote = connection.dialect.identifier_preparer.quote_identifier
        raw = connection.connection.driver_connection
        assert isinstance(raw, sqlite3.Connection)
        self._raw = raw

    @contextmanager
    def checking_references(self) -> Iterator[None]:
        """Prepare as the application does, with references checked."""
        self._raw.execute("PRAGMA foreign_keys = ON")
        try:
            yield
        finally:
            self._raw.execute("PRAGMA foreign_keys = OFF")

    def of(
        self, table: str, columns: Sequence[str]
    ) -> tuple[tuple[Writing, ...], str, list[str]]:
        """Return the changes of a table that are refused, the first reason in SQLite's words, and
        the columns that alone cannot be edited."""
        name = self._quote(table)
        tries: tuple[tuple[Writing, str], ...] = (
            ("add", f"INSERT INTO {name} DEFAULT VALUES"),
            ("edit", self._update(name, columns)),
            ("delete", f"DELETE FROM {name}"),
        )
        said = {writing: self._refused(words) for writing, words in tries}
        fixed: list[str] = []
        if said["edit"]:
            fixed = [c for c in columns if self._refused(self._update(name, [c]))]
            if len(fixed) == len(columns):
                fixed = []
            else:
                said["edit"] = ""
        reason = next((words for words in said.values() if words), "")
        return tuple(w for w, words in said.items() if words), reason, fixed

    def _update(self, name: str, columns: Sequence[str]) -> str:
        quoted = [self._quote(each) for each in columns]
        return f"UPDATE {name} SET " + ", ".join(f"{c} = {c}" for c in quoted)

    def _refused(self, words: str) -> str:
        try:
            self._raw.execute(f"EXPLAIN {words}").close()
        except sqlite3.Error as error:
            return str(error)
        return ""


def _shadows(connection: Connection) -> set[str]:
    """Return the shadow tables of virtual tables."""
    try:
        return set(connection.exec_driver_sql(_SHADOWS).scalars())
    except OperationalError:  # before SQLite 3.37
        return set()


def _estimates(connection: Connection) -> dict[str, int]:
    """Return the rows by table that the last ANALYZE counted."""
    try:
        rows = connection.exec_driver_sql("SELECT tbl, stat FROM sqlite_stat1").all()
    except OperationalError:
        return {}
    found: dict[str, int] = {}
    for table, stat in rows:
        first = str(stat or "").split(" ")[0]
        if first.isdecimal():
            found[table] = max(found.get(table, 0), int(first))
    return found


def _folded_columns(sql: str) -> set[str]:
    """Return the columns that compare without case, as far as the text of the table can
    be understood."""
    import sqlglot  # slow to import, and seldom needed
    from sqlglot import exp

    logging.getLogger("sqlglot").setLevel(logging.ERROR)  # of what it does not know
    try:
        parsed = sqlglot.parse_one(sql[: sql.rfind(")") + 1], dialect="sqlite")
    except sqlglot.errors.SqlglotError:
        return set()
    return {
        column.name
        for column in parsed.find_all(exp.ColumnDef)
        for collation in column.find_all(exp.CollateColumnConstraint)
        if collation.this.name.upper() == "NOCASE"
    }


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


_CAUSES = (  # the beginning of an error's name, and what it means
    ("SQLITE_NOTADB", "format"),
    ("SQLITE_BUSY", "locked"),
    ("SQLITE_LOCKED", "locked"),
    ("SQLITE_CANTOPEN", "closed"),
    ("SQLITE_CORRUPT", "damaged"),
    ("SQLITE_INTERRUPT", "slow"),
)


class Sqlite(Server):
    """A SQLite file, by Python's own driver."""

    name = "sqlite"
    title = "SQLite"
    schemes = ("sqlite",)
    module = "sqlite3"
    sqlglot = "sqlite"
    catalogue = SqliteCatalogue
    is_file = True
    has_schemas = False
    is_untyped = True
    like_ignores_case = True
    shape = ""
    casts = {"text": "TEXT", "integer": "INTEGER", "decimal": "NUMERIC",
             "yes/no": "INTEGER", "date": "TEXT", "datetime": "TEXT"}  # fmt: skip

    def open(self, place: URL | Path) -> Engine:
        """Open a file by its path with `mode=ro`; an address string would decode
        escapes twice and could open another file."""
        assert isinstance(place, Path)

        def connect() -> sqlite3.Connection:
            connection = sqlite3.connect(
                place.as_uri() + "?mode=ro",
                uri=True,
                check_same_thread=False,
                timeout=LOCK_SECONDS,
            )
            connection.text_factory = _decode
            return connection

        return create_engine("sqlite:///", poolclass=QueuePool, creator=connect)

    def open_for_writing(self, place: URL | Path) -> Engine:
        assert isinstance(place, Path)

        def connect() -> sqlite3.Connection:
            uri = place.as_uri() + "?mode=rw"
            # without a level, transactions begin where they are begun
            raw = sqlite3.connect(uri, uri=True, timeout=LOCK_SECONDS, isolation_level=None)  # fmt: skip
            raw.execute("PRAGMA foreign_keys = ON")
            return raw

        engine = create_engine("sqlite:///", poolclass=QueuePool, creator=connect)
        event.listen(engine, "begin", lambda held: held.exec_driver_sql("BEGIN IMMEDIATE"))  # fmt: skip
        return engine

    def insert(
        self, connection: Connection, source: str, columns: Sequence[Column],
        rows: Sequence[Sequence[Any]],
    ) -> None:  # fmt: skip
        names = ", ".join(self.quoted(each.name) for each in columns)
        marks = ", ".join("?" * len(columns))
        raw: Any = connection.connection.driver_connection
        written = ([_written(value) for value in row] for row in rows)
        raw.executemany(f"INSERT INTO {source} ({names}) VALUES ({marks})", written)

    @contextmanager
    def limited(self, connection: Connection) -> Iterator[None]:
        raw = connection.connection.driver_connection
        assert isinstance(raw, sqlite3.Connection)
        deadline = time.monotonic() + STATEMENT_SECONDS
        raw.set_progress_handler(lambda: time.monotonic() > deadline, PROGRESS_STEPS)
        try:
            yield
        finally:
            raw.set_progress_handler(None, 0)

    def version(self, connection: Connection) -> str:
        return sqlite3.sqlite_version

    def cause(self, error: Any) -> str:
        name = getattr(error, "sqlite_errorname", "")
        known = (cause for begins, cause in _CAUSES if name.startswith(begins))
        return next(known, "")

    def run(self, connection: Connection, query: str, values: Sequence[Any]) -> Any:
        raw = connection.connection.driver_connection
        assert isinstance(raw, sqlite3.Connection)
        usual = raw.text_factory
        raw.text_factory = str  # ours is slow, and seldom needed
        try:
            return super().run(connection, query, values)
        except OperationalError as error:
            if "decode" not in str(error.orig):
                raise
            raw.text_factory = usual
            return super().run(connection, query, values)
        finally:
            raw.text_factory = usual

    def as_text(self, name: str) -> str:
        return name

    def beginning(self, name: str, most: int) -> str:
        cut = f"substr({name}, 1, {most})"  # values may be of any kind
        return f"CASE WHEN length({name}) > {most} THEN {cut} ELSE {name} END"

    def row_number(self, table: Table, quote: Callable[[str], str]) -> str:
        return "" if table.is_view else "rowid"

    def column_type(self, type_: Type, kind: str) -> str:
        return "Real" if type_.kind == "float" else ""


def _written(value: Any) -> Any:
    """Return a value as SQLite keeps it: dates as texts, decimals as numbers."""
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, datetime):
        return value.isoformat(" ")
    return value.isoformat() if isinstance(value, date | day_time) else value


def _decode(raw: bytes) -> str:
    return raw.decode("utf-8", "surrogateescape")
