"""Writing rows: many at once, and where the database refuses, one by one."""

from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Connection

from lumet.facts.connecting import quoted_source
from lumet.facts.dialects import server_of
from lumet.facts.model import Column, Table

MOST_REFUSED = 300  # rows of a table, and a fiftieth of it, before it is given up
Row = Sequence[Any]


class GivenUp(Exception):
    """Too many rows of a table were refused."""


class Writer:
    """Writes rows to one table; counts why the database refuses others. Where it `keeps`
    what was written before a failure, having no transactions, rows go one by one."""

    def __init__(
        self, connection: Connection, table: Table, columns: Sequence[Column], keeps: bool = False
    ) -> None:  # fmt: skip
        self.connection, self.table, self.columns = connection, table, columns
        self.server = server_of(connection.dialect.name)
        self.source = quoted_source(connection.dialect, table)
        self.error: Any = connection.dialect.loaded_dbapi.Error
        self.refusals: Counter[str] = Counter()
        self.keeps = keeps
        self.taken = 0

    def try_each(self, rows: Sequence[Row]) -> list[bool]:
        """Write rows one by one; return for each whether it was taken."""
        return [self._is_taken([row]) for row in rows]

    def write(self, rows: Sequence[Row]) -> list[int]:
        """Write rows; return the places of those that were taken. Raises GivenUp."""
        if self.keeps:
            return [place for place, row in enumerate(rows) if self._is_taken([row])]
        return list(self._write(rows, 0))

    def _write(self, rows: Sequence[Row], first: int) -> Iterator[int]:
        if not rows:
            return
        if self._is_taken(rows):
            yield from range(first, first + len(rows))
        elif len(rows) > 1:
            if self.refusals.total() > MOST_REFUSED + self.taken // 50:
                raise GivenUp
            middle = len(rows) // 2
            yield from self._write(rows[:middle], first)
            yield from self._write(rows[middle:], first + middle)

    def _is_taken(self, rows: Sequence[Row]) -> bool:
        try:
            with saved(self.connection):
                self.server.insert(self.connection, self.source, self.columns, rows)
        except self.error as error:
            if len(rows) == 1:
                self.refusals[said(error)] += 1
            return False
        self.taken += len(rows)
        return True

    @property
    def why(self) -> str:
        """What the database said most often."""
        found = self.refusals.most_common(1)
        return found[0][0] if found else ""


@contextmanager
def saved(connection: Connection) -> Iterator[None]:
    """Undo what is done within where it fails, and nothing else."""
    connection.exec_driver_sql("SAVEPOINT made_up")
    try:
        yield
    except BaseException:
        connection.exec_driver_sql("ROLLBACK TO SAVEPOINT made_up")
        raise
    connection.exec_driver_sql("RELEASE SAVEPOINT made_up")


def said(error: Any) -> str:
    """Return the words of a database's error, in one line."""
    text = str(error.args[-1] if error.args else error) or type(error).__name__
    return text.strip().split("\n")[0]
