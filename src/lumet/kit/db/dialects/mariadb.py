"""MariaDB: limits by settings of the session, errors by number."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import ColumnElement, Connection, func

from .base import (
    LOCK_SECONDS,
    STATEMENT_SECONDS,
    DatabaseError,
    ErrorKind,
    Server,
    raw,
)

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

    def month(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        return func.date_format(raw(column), "%Y-%m")

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
