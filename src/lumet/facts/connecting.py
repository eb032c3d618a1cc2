"""Addresses of databases as people have them, and connections that cannot write."""

import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote

from sqlalchemy import (
    URL,
    Connection,
    Dialect,
    Engine,
    QueuePool,
    create_engine,
    make_url,
)
from sqlalchemy.exc import ArgumentError, NoSuchModuleError

from lumet.errors import CannotRun, LumetError
from lumet.facts.connection_errors import nearest_files
from lumet.facts.model import Table

SQLITE_PREFIX = "sqlite:///"
STATEMENT_SECONDS = 30.0  # an emergency brake, not a bound on the work
LOCK_SECONDS = 2.0  # how long a statement waits for another's lock
PROGRESS_STEPS = 10_000  # virtual machine steps between two looks at the clock
DRIVERS = {
    "postgresql": "postgresql+psycopg",
    "postgres": "postgresql+psycopg",
    "mysql": "mariadb+pymysql",
    "mariadb": "mariadb+pymysql",
}
SERVER_NAMES = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
PORTS = {"postgresql": 5432, "mariadb": 3306}
_POSTGRESQL_OPTIONS = (
    "-c default_transaction_read_only=on"
    f" -c statement_timeout={STATEMENT_SECONDS * 1000:.0f}"
    f" -c lock_timeout={LOCK_SECONDS * 1000:.0f}"
    " -c idle_in_transaction_session_timeout=60000"
)
_MARIADB_INIT = (
    f"SET SESSION max_statement_time={STATEMENT_SECONDS:.0f},"
    f" SESSION lock_wait_timeout={LOCK_SECONDS:.0f}, SESSION tx_read_only=1"
)


@dataclass(frozen=True, slots=True)
class Address:
    """Where a database is: a file's absolute path, or the address of a server."""

    dialect: str
    path: Path | None = None
    url: URL | None = None

    def kept(self, folder: Path) -> str:
        """Return the address as `.env` keeps it, with its password; a file in `folder`
        is kept relative to it."""
        if self.url is not None:
            text = self.url.render_as_string(hide_password=False)
            return text.replace("+psycopg", "").replace("+pymysql", "")
        assert self.path is not None
        try:
            path = self.path.relative_to(folder.resolve())
        except ValueError:
            path = self.path
        return SQLITE_PREFIX + quote(path.as_posix(), safe="/:\\ ()")

    @property
    def shown(self) -> str:
        """The database's name as it may be shown: never with a password."""
        if self.path is not None:
            return self.path.name
        assert self.url is not None
        return f"{self.url.database or ''} at {self.url.host or 'the local server'}"

    @property
    def stem(self) -> str:
        """The name that an application for it begins with."""
        if self.path is not None:
            return self.path.stem
        return (self.url.database if self.url is not None else "") or "application"

    def with_password(self, password: str) -> "Address":
        """Return the same address with a password."""
        assert self.url is not None
        return Address(self.dialect, url=self.url.set(password=password))

    def with_database(self, name: str) -> "Address":
        """Return the address of another database on the same server."""
        assert self.url is not None
        return Address(self.dialect, url=self.url.set(database=name))


def server_address(
    kind: str, *, host: str, port: int, user: str, password: str
) -> Address:
    """Return the address of a server, without a database yet."""
    url = URL.create(
        DRIVERS[kind], user, password or None, host=host or None, port=port
    )
    return Address(kind, url=url)


def parse_address(text: str, folder: Path) -> Address:
    """Understand an address as people have it: a URL, or the path of a SQLite file.

    Relative paths start at `folder`. An existing file wins over any escape in its
    address. Raises LumetError for an address that cannot be understood.
    """
    if text.startswith(SQLITE_PREFIX):
        plain = text.removeprefix(SQLITE_PREFIX)
        literal = folder / plain
        path = literal if literal.exists() else folder / unquote(plain)
        return Address("sqlite", path.resolve())
    scheme, separator, rest = text.partition("://")
    if not separator:
        return Address("sqlite", (folder / text).expanduser().resolve())
    driver = DRIVERS.get(scheme.partition("+")[0], scheme)
    try:
        url = make_url(f"{driver}://{rest}")
        dialect = url.get_dialect().name
    except (ArgumentError, NoSuchModuleError, ValueError) as error:
        raise LumetError(
            f"{scheme}://…: this address is not valid.",
            "Give a path, or an address that begins with postgresql://, mariadb:// or sqlite:///.",
        ) from error
    if not url.database:
        raise LumetError(
            f"{scheme}://…: the address contains no database.",
            f"Put it at the end: {scheme}://USER@HOST/DATABASE",
        )
    return Address("mariadb" if dialect == "mysql" else dialect, url=url)


def open_for_reading(address: Address) -> Engine:
    """Return an engine that cannot write, whose statements and waits are limited.

    SQLite is opened by path with `mode=ro`; an address string would decode escapes
    twice and could open another file. Raises CannotRun when there is no such file, or
    no driver for such a server.
    """
    if address.path is not None:
        return _open_file(address.path)
    assert address.url is not None
    arguments: dict[str, Any] = {}
    if address.dialect == "postgresql":
        arguments = {"options": _POSTGRESQL_OPTIONS, "prepare_threshold": None,
                     "connect_timeout": 10}  # fmt: skip
    elif address.dialect == "mariadb":
        arguments = {"init_command": _MARIADB_INIT, "connect_timeout": 10}
    try:
        engine = create_engine(address.url, connect_args=arguments)
    except ImportError as error:
        raise CannotRun(
            f"{address.dialect}: the driver {error.name} is not installed.",
            f"Install it: pip install {error.name}",
        ) from error
    if address.dialect == "postgresql":
        return engine.execution_options(
            isolation_level="REPEATABLE READ", postgresql_readonly=True
        )
    return engine


def _open_file(path: Path) -> Engine:
    if path.is_dir():
        raise CannotRun(f"{path} is a folder, not a database file.")
    if not path.exists():
        raise CannotRun(f"{path}: the file does not exist.", nearest_files(path))

    def connect() -> sqlite3.Connection:
        connection = sqlite3.connect(
            path.as_uri() + "?mode=ro",
            uri=True,
            check_same_thread=False,
            timeout=LOCK_SECONDS,
        )
        connection.text_factory = _decode
        return connection

    return create_engine(SQLITE_PREFIX, poolclass=QueuePool, creator=connect)


def quoted_source(dialect: Dialect, table: Table) -> str:
    """Return a table's name as written after FROM."""
    quote = dialect.identifier_preparer.quote_identifier
    own = quote(table.own_name)
    return f"{quote(table.schema)}.{own}" if table.schema else own


def _decode(raw: bytes) -> str:
    return raw.decode("utf-8", "surrogateescape")


@contextmanager
def short_statements(connection: Connection) -> Iterator[None]:
    """Interrupt what runs longer than STATEMENT_SECONDS; servers do so by
    themselves."""
    raw = connection.connection.driver_connection
    if not isinstance(raw, sqlite3.Connection):
        yield
        return
    deadline = time.monotonic() + STATEMENT_SECONDS
    raw.set_progress_handler(lambda: time.monotonic() > deadline, PROGRESS_STEPS)
    try:
        yield
    finally:
        raw.set_progress_handler(None, 0)
