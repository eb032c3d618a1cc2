"""MariaDB: limits by settings of the session, errors by number."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    CursorResult,
    Dialect,
    Integer,
    Text,
    TypeDecorator,
    extract,
    func,
    literal_column,
    or_,
    text,
)
from sqlalchemy.dialects.mysql import LONGTEXT
from sqlalchemy.exc import DBAPIError

from ...common.formatting import without_accents
from ..routines import (
    MAX_ROWS,
    ResultSet,
    RoutineCall,
    RoutineResult,
    Run,
    result_set,
)
from .base import (
    LOCK_SECONDS,
    STATEMENT_SECONDS,
    DatabaseError,
    ErrorKind,
    Server,
    holds_days,
    quoted_name,
    raw,
)

# TEXT ends at 64 KB here, and refuses what is longer
LONG_TEXT = Text().with_variant(LONGTEXT(), "mysql", "mariadb")
# https://mariadb.com/kb/en/mariadb-error-code-reference/
_KINDS: dict[int, ErrorKind] = {
    1062: "unique",
    1048: "needed",
    1364: "needed",
    1451: "reference",
    1452: "reference",
    4025: "rule",
    1264: "range",
    1265: "range",
    1366: "range",
    1406: "range",
    1205: "busy",
    1213: "busy",
    1969: "busy",
}
_PASSING = (1213, 1020)  # a deadlock; a record that changed since it was read
_LOST = (2002, 2003, 2006, 2013)
_COLUMN = re.compile(r"[Cc]olumn '([^']*)'|Field '([^']*)'")
_CONSTRAINT = re.compile(r"CONSTRAINT `([^`]*)`|for key '([^']*)'")


class _Period(TypeDecorator[str]):
    """A year, month or day as a number of its digits, which a server groups by in a
    third of the time that texts take; it is a text like 2026-11 in Python."""

    impl = Integer
    cache_ok = True

    def __init__(self, width: int) -> None:
        super().__init__()
        self.width = width

    def process_result_value(self, value: Any, dialect: Dialect) -> str | None:
        if value is None:
            return None
        digits = f"{value:0{self.width}d}"
        return "-".join(filter(None, (digits[:4], digits[4:6], digits[6:])))


class Mariadb(Server):
    """A MariaDB server, by PyMySQL."""

    name = "mariadb"
    aliases = ("mysql",)
    schemes = ("mariadb", "mysql")
    driver = "mariadb+pymysql"
    module = "pymysql"
    port = 3306
    has_booleans = False
    has_ordered_cascades = True
    has_short_texts = True

    def connect_arguments(self) -> dict[str, Any]:
        limits = {"max_statement_time": STATEMENT_SECONDS,
                  "innodb_lock_wait_timeout": LOCK_SECONDS}  # fmt: skip
        given = ", ".join(f"SESSION {name}={value}" for name, value in limits.items())
        return {"init_command": f"SET {given}"}

    @contextmanager
    def limited(self, connection: Connection, seconds: float) -> Iterator[None]:
        connection.exec_driver_sql(f"SET SESSION max_statement_time = {seconds}")
        try:
            yield
        finally:
            if not connection.invalidated:
                usual = f"SET SESSION max_statement_time = {STATEMENT_SECONDS}"
                connection.exec_driver_sql(usual)

    @contextmanager
    def lock_store(self, connection: Connection) -> Iterator[None]:
        connection.exec_driver_sql("SELECT GET_LOCK('accounts store', 60)")
        try:
            yield
        finally:
            connection.exec_driver_sql("SELECT RELEASE_LOCK('accounts store')")

    def period_of_moment(
        self, moment: ColumnElement[Any], unit: str
    ) -> ColumnElement[Any]:
        width, digits = {
            "year": (4, func.year(moment)),
            "month": (6, extract("year_month", moment)),
            "day": (8, func.date(moment) + literal_column("0")),
        }[unit]
        return func.nullif(digits, 0, type_=_Period(width))  # a day of zeros is none

    def moment_of_seconds(self, seconds: ColumnElement[Any]) -> ColumnElement[Any]:
        # from_unixtime() goes by the zone of the session, and begins in 1970
        epoch: ColumnElement[Any] = literal_column("'1970-01-01'")
        return func.timestampadd(literal_column("SECOND"), seconds, epoch)

    def as_compared(self, text: str) -> str:
        # most collations tell neither capitals nor accents apart
        return without_accents(super().as_compared(text)).casefold()

    def is_empty(self, column: ColumnElement[Any]) -> ColumnElement[bool]:
        # a day of zeros IS NULL only in a column that takes none
        # https://mariadb.com/kb/en/is-null/
        nothing = super().is_empty(column)
        is_zero = raw(column) == literal_column("0")
        return or_(nothing, is_zero) if holds_days(column) else nothing

    def call(
        self, connection: Connection, run: Run, call: RoutineCall
    ) -> RoutineResult:
        name = quoted_name(connection, call.name)
        values = {f"a{n}": e.value for n, e in enumerate(call.arguments) if e.mode != "out"}  # fmt: skip
        if call.is_function:
            inner = ", ".join(f":{each}" for each in values)
            found = run(text(f"SELECT {name}({inner})"), values)
            return RoutineResult(value=found.scalar_one())
        parts, outs = [], {}
        for n, each in enumerate(call.arguments):
            if each.mode == "in":
                parts.append(f":a{n}")
                continue
            # values come back in variables of the session
            outs[each.name] = variable = f"@routine_{n}"
            parts.append(variable)
            begin = f":a{n}" if each.mode == "inout" else "NULL"
            bound = {f"a{n}": each.value} if each.mode == "inout" else {}
            run(text(f"SET {variable} = {begin}"), bound)
        taken = {k: v for k, v in values.items() if f":{k}" in parts}
        result = RoutineResult(
            sets=_sets(run(text(f"CALL {name}({', '.join(parts)})"), taken))
        )
        if outs:
            row = run(text(f"SELECT {', '.join(outs.values())}"), {}).one()
            result.outs = dict(zip(outs, row, strict=True))
        return result

    def classify(self, error: Any) -> DatabaseError | None:
        kind = _KINDS.get(_number(error))
        if kind is None:
            return None
        said = str(error)
        columns = tuple(first or second for first, second in _COLUMN.findall(said))
        constraint = _CONSTRAINT.search(said)
        rule = constraint[1] or constraint[2] if constraint else ""
        return DatabaseError(kind, columns, rule)

    def is_lost(self, error: Any) -> bool:
        return _number(error) in _LOST

    def is_passing(self, error: Any) -> bool:
        return _number(error) in _PASSING


def _number(error: Any) -> int:
    """Return the number of a driver's error, 0 for one that has none."""
    number = error.args[0] if error is not None and error.args else 0
    return number if isinstance(number, int) else 0


def _sets(found: CursorResult[Any]) -> list[ResultSet]:
    """Return all results of a call: there is one for each SELECT in the procedure."""
    sets: list[ResultSet] = []
    cursor: Any = found.cursor
    try:
        while found.returns_rows and cursor.description:
            columns = [column[0] for column in cursor.description]
            sets.append(result_set(columns, cursor.fetchmany(MAX_ROWS + 1)))
            if not cursor.nextset():
                break
    except (
        found.dialect.loaded_dbapi.Error
    ) as error:  # behind the first result SQLAlchemy sees none
        raise DBAPIError("CALL", None, error) from error
    finally:
        found.close()
    return sets
