"""The engine of the business database, its transactions and their limits."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, Executable, MetaData, event

from ..access.denied import AccessDenied
from ..access.guard import guard, guard_words
from ..access.row_reach import QUOTING
from ..common.exceptions import CannotStart
from .dialects import server_of, server_of_url
from .dialects.base import WRITING, Server

metadata = MetaData()  # the business tables


class Database:
    """One database: short transactions for reading, and others for writing."""

    def __init__(self, engine: Engine, is_read_only: bool = False) -> None:
        self.engine = engine
        self.is_read_only = is_read_only
        self.server: Server = server_of(engine.dialect.name)
        self._writing = engine.execution_options(**{WRITING: True})

    @contextmanager
    def reading(self, seconds: float | None = None) -> Iterator[Connection]:
        """Open a transaction that only reads; each of its statements may take so many
        `seconds`, by default STATEMENT_SECONDS."""
        with self.engine.connect() as connection:
            if seconds is None:
                yield connection
                return
            with self.server.limited(connection, seconds):
                yield connection

    @contextmanager
    def exporting(self, seconds: float) -> Iterator[Connection]:
        """Open a transaction that reads all rows of something, for so many
        `seconds`."""
        limited = self.server.limited
        with self.engine.connect() as connection, limited(connection, seconds):
            self.server.prepare_export(connection)
            yield connection

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """Open a transaction that writes; it is committed at the end, unless an
        exception leaves the block. Raises AccessDenied where nothing is written."""
        if self.is_read_only:
            raise AccessDenied("a change while the application is read-only")
        with self._writing.connect() as connection, connection.begin():
            yield connection


class RehearsalDatabase(Database):
    """A database for rehearsals: one connection, whose transaction is rolled back at the
    end of each case, so that nothing is kept. What would be checked when a transaction
    is committed is checked at the end of each of the application's."""

    def __init__(self, engine: Engine, is_read_only: bool = False) -> None:
        super().__init__(engine, is_read_only)
        self._snapshot = engine.execution_options(isolation_level="REPEATABLE READ")
        self._connection: Connection | None = None

    @property
    def connection(self) -> Connection:
        """The connection, within the transaction of the present case."""
        if self._connection is None:
            self._connection = self._snapshot.connect()
            self._connection.begin()
        return self._connection

    def roll_back(self) -> None:
        """End the case: undo all that was done in it."""
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    @contextmanager
    def reading(self, seconds: float | None = None) -> Iterator[Connection]:
        nested = self.connection.begin_nested()
        try:
            if seconds is None:
                yield self.connection
            else:
                with self.server.limited(self.connection, seconds):
                    yield self.connection
        finally:
            if nested.is_active:
                nested.rollback()  # limits that were set locally end with it

    @contextmanager
    def exporting(self, seconds: float) -> Iterator[Connection]:
        with self.reading(seconds) as connection:
            yield connection

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        if self.is_read_only:
            raise AccessDenied("a change while the application is read-only")
        with self.connection.begin_nested():
            yield self.connection
            self.server.check_deferred(self.connection)


def open_database(
    url: str,
    folder: Path,
    dialect: str,
    is_read_only: bool = False,
    is_rehearsal: bool = False,
) -> Database:
    """Open the business database, which must be of the kind it was surveyed on.

    Raises CannotStart when it is of another kind or its file is not there.
    """
    server = server_of_url(url)
    found = server.name if server else url.partition("://")[0]
    if server is None or found != dialect:
        raise CannotStart(
            f"DATABASE_URL names a {found} database, but this application was made "
            f"for {dialect}.\n  Change DATABASE_URL, or generate it for {found}."
        )
    engine = server.open(url, folder, "DATABASE_URL")
    metadata.info[QUOTING] = engine.dialect.identifier_preparer
    event.listen(engine, "before_execute", _guard)
    event.listen(engine, "before_cursor_execute", _guard_words)
    # a file is rehearsed on a copy, where transactions are as they are in use
    if is_rehearsal and not server.is_file:
        return RehearsalDatabase(engine, is_read_only)
    return Database(engine, is_read_only)


def _guard(
    connection: Connection,
    statement: Executable,
    multiparams: Any,
    params: Any,
    execution_options: Any,
) -> None:
    guard(metadata, statement, execution_options)


def _guard_words(
    connection: Connection,
    cursor: Any,
    statement: str,
    parameters: Any,
    context: Any,
    executemany: bool,
) -> None:
    if getattr(context, "compiled", None) is None:
        guard_words(statement, context.execution_options if context else {})
