"""The engine of the business database, its transactions and their limits."""

import math
import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
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
from sqlalchemy.exc import ArgumentError, NoSuchModuleError

from ..access.guard import guard, guard_words
from ..access.reach import QUOTING
from ..common.exceptions import CannotStart
from ..common.settings import SQLITE, sqlite_path

metadata = MetaData()  # the business tables

LOCK_SECONDS = 5  # how long a statement waits for another program's lock
STATEMENT_SECONDS = 30  # how long a statement may take
STEPS = 10_000  # of SQLite's machine, between two looks at the time
_CLOCK = "clock"  # what a SQLite connection keeps of its statements' time
WRITING = "writing"  # the option of a transaction that will write
DRIVERS = {
    "postgresql": "postgresql+psycopg",
    "postgres": "postgresql+psycopg",
    "mysql": "mariadb+pymysql",
    "mariadb": "mariadb+pymysql",
}


class Database:
    """One database: short transactions for reading, and others for writing."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._writing = engine.execution_options(**{WRITING: True})

    @contextmanager
    def reading(self, seconds: float | None = None) -> Iterator[Connection]:
        """Open a transaction that only reads; each of its statements may take so many
        `seconds`, by default STATEMENT_SECONDS."""
        with self.engine.connect() as connection:
            if seconds is None:
                yield connection
                return
            with _limited(connection, seconds):
                yield connection

    @contextmanager
    def exporting(self, seconds: float) -> Iterator[Connection]:
        """Open a transaction that reads all rows of something, for so many
        `seconds`."""
        with self.engine.connect() as connection, _limited(connection, seconds):
            if connection.dialect.name == "postgresql":
                # without statistics it would compare all rows with all others
                connection.exec_driver_sql("SET LOCAL enable_nestloop = off")
            yield connection

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """Open a transaction that writes; it is committed at the end, unless an
        exception leaves the block."""
        with self._writing.connect() as connection, connection.begin():
            yield connection


@contextmanager
def _limited(connection: Connection, seconds: float) -> Iterator[None]:
    """Limit each statement of a transaction, which only reads, in time."""
    kind = connection.dialect.name
    if kind == "sqlite":
        connection.begin()
        connection.info[_CLOCK].seconds = seconds
        yield
        return
    words = f"SET LOCAL statement_timeout = {int(seconds * 1000)}"
    if kind != "postgresql":
        words = f"SET SESSION max_statement_time = {seconds}"
    connection.exec_driver_sql(words)
    try:
        yield
    finally:
        if kind != "postgresql" and not connection.invalidated:
            usual = f"SET SESSION max_statement_time = {STATEMENT_SECONDS}"
            connection.exec_driver_sql(usual)


class _Clock:
    """How long a statement of one SQLite connection may take; SQLite asks, and ends one
    that has taken longer."""

    def __init__(self) -> None:
        self.seconds = math.inf
        self._ends = math.inf

    def start(self) -> None:
        """Begin with a statement."""
        self._ends = time.monotonic() + self.seconds

    def is_over(self) -> bool:
        """Tell whether the time is up."""
        return time.monotonic() > self._ends


def open_database(url: str, folder: Path, dialect: str) -> Database:
    """Open the business database, which must be of the kind it was surveyed on.

    Raises CannotStart when it is of another kind or its file is not there.
    """
    found = kind_of(url)
    if found != dialect:
        raise CannotStart(
            f"DATABASE_URL names a {found} database, but this application was made "
            f"for {dialect}.\n  Change DATABASE_URL, or generate it for {found}."
        )
    if dialect == "sqlite":
        engine = open_sqlite(sqlite_path(url, folder))
    else:
        engine = open_server(url)
    metadata.info[QUOTING] = engine.dialect.identifier_preparer
    event.listen(engine, "before_execute", _guard)
    event.listen(engine, "before_cursor_execute", _guard_words)
    return Database(engine)


def kind_of(url: str) -> str:
    """Return the kind of database that an address names: sqlite, postgresql,
    mariadb."""
    scheme = url.partition("://")[0].partition("+")[0]
    return DRIVERS.get(scheme, scheme).partition("+")[0]


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


def open_server(url: str, setting: str = "DATABASE_URL") -> Engine:
    """Open a database server, with limits on statements and on waiting for locks.

    Raises CannotStart, naming the `setting`, for an address that cannot be understood.
    """
    scheme, _, rest = url.partition("://")
    driver = DRIVERS.get(scheme.partition("+")[0], scheme)
    arguments: dict[str, Any] = {}
    if driver.startswith("postgresql"):
        limits = {"statement_timeout": STATEMENT_SECONDS, "lock_timeout": LOCK_SECONDS}
        options = " ".join(f"-c {name}={value}s" for name, value in limits.items())
        # a statement kept by the server would lose the index behind a search
        arguments = {"options": options, "prepare_threshold": None}
    elif driver.startswith("mariadb"):
        arguments = {
            "init_command": f"SET SESSION max_statement_time={STATEMENT_SECONDS},"
            f" SESSION innodb_lock_wait_timeout={LOCK_SECONDS}"
        }
    try:
        engine = create_engine(
            make_url(f"{driver}://{rest}"),
            connect_args=arguments,
            pool_pre_ping=True,
            hide_parameters=True,  # what people search for and save is in no log
        )
    except (ArgumentError, NoSuchModuleError, ValueError) as error:
        raise CannotStart(f"{setting}: this address cannot be understood.") from error
    except ImportError as error:
        raise CannotStart(
            f"The driver {error.name} is not installed.\n  pip install {error.name}"
        ) from error
    if driver.startswith("postgresql"):
        event.listen(engine, "connect", _read_any_date)
    return engine


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


def open_sqlite(path: Path, create: bool = False, write_ahead: bool = False) -> Engine:
    """Open a SQLite file: foreign keys on, transactions begun by us alone (Python's own
    handling commits behind one's back), the journal mode left as it is; `write_ahead`,
    for a file of our own: who reads does not wait for who writes.

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
            timeout=LOCK_SECONDS,
            isolation_level=None,
        )
        connection.execute("PRAGMA foreign_keys = ON")
        if write_ahead:
            connection.execute("PRAGMA journal_mode = WAL")
        connection.text_factory = _DECODE
        connection.create_function("casefold", 1, _casefold, deterministic=True)
        return connection

    engine = create_engine(
        SQLITE, poolclass=QueuePool, creator=connect, hide_parameters=True
    )

    @event.listens_for(engine, "connect")
    def watch(raw: sqlite3.Connection, record: Any) -> None:
        clock = record.info[_CLOCK] = _Clock()
        raw.set_progress_handler(clock.is_over, STEPS)

    @event.listens_for(engine, "before_cursor_execute")
    def start(connection: Connection, *statement: Any) -> None:
        connection.info[_CLOCK].start()

    @event.listens_for(engine, "begin")
    def begin(connection: Connection) -> None:
        if connection.get_execution_options().get(WRITING):
            connection.info[_CLOCK].seconds = math.inf
            connection.exec_driver_sql("BEGIN IMMEDIATE")
            return
        raw = connection.connection.dbapi_connection
        assert isinstance(raw, sqlite3.Connection)
        connection.info[_CLOCK].seconds = STATEMENT_SECONDS
        raw.execute("BEGIN")  # takes no lock yet, so that it cannot fail

    return engine


def _casefold(value: Any) -> Any:
    """Return a text as it is compared without regard to case: SQLite's own functions
    know ASCII alone. A column's text comes as bytes, since it may be no UTF-8."""
    if isinstance(value, bytes):
        value = _DECODE(value)
    return value.casefold() if isinstance(value, str) else value


# what is no UTF-8 is shown all the same; an unchanged field is never written
_DECODE = partial(str, encoding="utf-8", errors="replace")
