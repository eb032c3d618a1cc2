"""PostgreSQL: limits by settings of the transaction, errors by SQLSTATE."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Engine,
    String,
    and_,
    case,
    cast,
    event,
    func,
    literal_column,
    select,
    text,
)

from ..routines import MAX_ROWS, RoutineCall, RoutineResult, Run, result_set
from .base import (
    LOCK_SECONDS,
    STATEMENT_SECONDS,
    DatabaseError,
    ErrorKind,
    Matcher,
    Server,
    quoted_name,
)

_PERIODS = {"year": "YYYY", "month": "YYYY-MM", "day": "YYYY-MM-DD"}
_FIRST: ColumnElement[Any] = literal_column("DATE '0001-01-01'")
_BEHIND: ColumnElement[Any] = literal_column("DATE '10000-01-01'")
_STORE_LOCK = 7_239_417  # a number of our own, for advisory locks
# https://www.postgresql.org/docs/current/errcodes-appendix.html
_KINDS: dict[str, ErrorKind] = {
    "23505": "unique",
    "23502": "needed",
    "23503": "reference",
    "23514": "rule",
    "23P01": "rule",
    "22001": "range",
    "22003": "range",
    "22007": "range",
    "22008": "range",
    "22P02": "range",
    "2D000": "transaction",
    "40001": "busy",
    "40P01": "busy",
    "55P03": "busy",
    "57014": "busy",
}
_PASSING = ("40001", "40P01")  # serialisation failure, deadlock
_LOST = ("08", "57P")  # connection exception, operator intervention
_KEY = re.compile(r"Key \((.+?)\)=\(")


class Postgresql(Server):
    """A PostgreSQL server, by psycopg."""

    name = "postgresql"
    schemes = ("postgresql", "postgres")
    driver = "postgresql+psycopg"
    module = "psycopg"
    port = 5432
    nulls_are_largest = True

    def open(self, url: str, folder: Path, setting: str) -> Engine:
        engine = super().open(url, folder, setting)
        event.listen(engine, "connect", _read_any_date)
        return engine

    def connect_arguments(self) -> dict[str, Any]:
        limits = {"statement_timeout": STATEMENT_SECONDS, "lock_timeout": LOCK_SECONDS}
        options = " ".join(f"-c {name}={value}s" for name, value in limits.items())
        # a statement kept by the server would lose the index behind a search
        return {"options": options, "prepare_threshold": None}

    @contextmanager
    def limited(self, connection: Connection, seconds: float) -> Iterator[None]:
        connection.exec_driver_sql(
            f"SET LOCAL statement_timeout = {int(seconds * 1000)}"
        )
        yield

    def prepare_export(self, connection: Connection) -> None:
        # without statistics it would compare all rows with all others
        connection.exec_driver_sql("SET LOCAL enable_nestloop = off")

    def lock_numbers(self, name: str) -> Any:
        # locks of rows leave gaps open
        return select(func.pg_advisory_xact_lock(func.hashtext(name)))

    @contextmanager
    def lock_store(self, connection: Connection) -> Iterator[None]:
        connection.exec_driver_sql(f"SELECT pg_advisory_xact_lock({_STORE_LOCK})")
        yield

    def period_of_moment(
        self, moment: ColumnElement[Any], unit: str
    ) -> ColumnElement[Any]:
        # what is infinite, before Christ or past 9999 is in no period of four digits
        is_usual = and_(moment >= _FIRST, moment < _BEHIND)
        period = func.to_char(moment, _PERIODS[unit])
        return case((is_usual, period), else_=cast(moment, String))

    def moment_of_seconds(self, seconds: ColumnElement[Any]) -> ColumnElement[Any]:
        return func.timezone("UTC", func.to_timestamp(seconds))

    def decoded(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        return func.convert_from(column, "UTF8", type_=String())

    def matcher(self, text: ColumnElement[Any], is_folded: bool) -> Matcher:
        return text.ilike

    def check_deferred(self, connection: Connection) -> None:
        connection.exec_driver_sql("SET CONSTRAINTS ALL IMMEDIATE")

    def call(
        self, connection: Connection, run: Run, call: RoutineCall
    ) -> RoutineResult:
        parts, values = [], {}
        for n, each in enumerate(call.arguments):
            if each.mode == "out" and call.is_function:
                continue  # it is a column of the row
            type_ = each.type.replace(":", "\\:")
            value = "NULL" if each.mode == "out" else f"CAST(:a{n} AS {type_})"
            if each.mode != "out":
                values[f"a{n}"] = each.value
            named = f"{quoted_name(connection, [each.name])} => "
            parts.append(value if call.by_position else named + value)
        name, inner = quoted_name(connection, call.name), ", ".join(parts)
        verb = "SELECT * FROM" if call.is_function else "CALL"
        found = run(text(f"{verb} {name}({inner})"), values)
        if not found.returns_rows:
            return RoutineResult()
        columns, rows = list(found.keys()), found.fetchmany(MAX_ROWS + 1)
        found.close()
        if call.returns:
            return RoutineResult(value=rows[0][0] if rows else None)
        outs = [each.name for each in call.arguments if each.mode != "in"]
        if len(rows) == 1 and outs and len(outs) == len(columns):
            return RoutineResult(outs=dict(zip(outs, rows[0], strict=True)))
        sets = [result_set(columns, rows)] if call.rows else []  # else it is void
        return RoutineResult(sets=sets)

    def classify(self, error: Any) -> DatabaseError | None:
        state = getattr(error, "sqlstate", None)
        if state not in _KINDS:
            return None
        kind, told = _KINDS[state], getattr(error, "diag", None)
        column = getattr(told, "column_name", None)
        columns: tuple[str, ...] = (str(column),) if column else ()
        if found := _KEY.search(getattr(told, "message_detail", None) or ""):
            columns = tuple(part.strip().strip('"') for part in found[1].split(","))
            if "(" in found[1]:  # of an index over expressions, as lower(name::text)
                columns = tuple(dict.fromkeys(re.findall(r"\w+", found[1])))
        if kind == "needed" and not columns:
            columns = tuple(re.findall(r'column "([^"]+)"', str(error))[:1])
        rule = getattr(told, "constraint_name", None) or ""
        return DatabaseError(
            kind, columns, rule or str(getattr(told, "message_primary", ""))
        )

    def is_lost(self, error: Any) -> bool:
        state = getattr(error, "sqlstate", None)
        is_down = state is None and type(error).__name__ == "OperationalError"
        return is_down or str(state or "").startswith(_LOST)

    def is_passing(self, error: Any) -> bool:
        return getattr(error, "sqlstate", None) in _PASSING


def _read_any_date(connection: Any, record: Any) -> None:
    """Let dates that Python has no value for, such as infinity, be read as text; one of
    them would end the page."""
    from psycopg import DataError
    from psycopg.adapt import Loader
    from psycopg.pq import Format
    from psycopg.types.string import TextLoader

    def lenient(usual: Any) -> Any:
        class Lenient(Loader):
            def __init__(self, oid: int, context: Any = None) -> None:
                super().__init__(oid, context)
                self._load = usual(oid, context).load  # the driver's own, in C

            def load(self, data: Any) -> Any:
                try:
                    return self._load(data)
                except DataError:
                    return bytes(data).decode()

        return Lenient

    adapters = connection.adapters
    for name in ("date", "timestamp", "timestamptz", "time"):
        usual = adapters.get_loader(adapters.types[name].oid, Format.TEXT)
        adapters.register_loader(name, lenient(usual))
    adapters.register_loader("interval", TextLoader)
