"""The engine of the business database, its transactions and their limits."""

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import (
    Connection,
    Engine,
    Executable,
    MetaData,
    QueuePool,
    create_engine,
    event,
    make_url,
)

from .errors import CannotStart
from .reach import guard
from .settings import SQLITE, sqlite_path

metadata = MetaData()  # the business tables

BUSY_SECONDS = 5.0  # how long a statement waits for another program's lock
WRITING = "writing"  # the option of a transaction that will write


class Database:
    """One database: short transactions for reading, and others for writing."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._writing = engine.execution_options(**{WRITING: True})

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """Open a transaction that only reads."""
        with self.engine.connect() as connection:
            yield connection

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """Open a transaction that writes; it is committed at the end, unless an
        exception leaves the block."""
        with self._writing.connect() as connection, connection.begin():
            yield connection


def open_database(url: str, folder: Path, dialect: str) -> Database:
    """Open the business database, which must be of the kind it was surveyed on.

    Raises CannotStart when it is of another kind or its file is not there.
    """
    found = make_url(url).get_backend_name() if "://" in url else url
    if found != dialect:
        raise CannotStart(
            f"DATABASE_URL names a {found} database, but this application was made "
            f"for {dialect}.\n  Change DATABASE_URL, or generate it for {found}."
        )
    engine = open_sqlite(sqlite_path(url, folder))
    event.listen(engine, "before_execute", _guard)
    return Database(engine)


def _guard(
    connection: Connection,
    statement: Executable,
    multiparams: Any,
    params: Any,
    execution_options: Any,
) -> None:
    guard(metadata, statement, execution_options)


def open_sqlite(path: Path, create: bool = False) -> Engine:
    """Open a SQLite file: foreign keys on, transactions begun by us alone (Python's own
    handling commits behind one's back), the journal mode left as it is.

    Raises CannotStart when the file is not there and is not to be made.
    """
    if not create and not path.is_file():
        raise CannotStart(
            f"{path}: there is no such database file.\n  Set DATABASE_URL."
        )
    address = path.absolute().as_uri() + ("" if create else "?mode=rw")

    def connect() -> sqlite3.Connection:
        connection = sqlite3.connect(
            address,
            uri=True,
            check_same_thread=False,
            timeout=BUSY_SECONDS,
            isolation_level=None,
        )
        connection.execute("PRAGMA foreign_keys = ON")
        connection.text_factory = _decode
        return connection

    engine = create_engine(SQLITE, poolclass=QueuePool, creator=connect)

    @event.listens_for(engine, "begin")
    def begin(connection: Connection) -> None:
        writes = connection.get_execution_options().get(WRITING)
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    return engine


def _decode(raw: bytes) -> str:
    return raw.decode("utf-8", "replace")  # shown; an unchanged field is never written
