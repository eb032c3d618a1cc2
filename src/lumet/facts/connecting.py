"""Addresses of databases as people have them, and connections that cannot write."""

import re
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote, unquote

from sqlalchemy import URL, Connection, Dialect, Engine, make_url
from sqlalchemy.exc import ArgumentError, NoSuchModuleError

from lumet.errors import CannotRun, LumetError
from lumet.facts.connection_errors import nearest_files
from lumet.facts.dialects import FILE, server_of
from lumet.facts.model import Table

FILE_PREFIX = "sqlite:///"


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
            return re.sub(r"^(\w+)\+\w+:", r"\1:", text)
        assert self.path is not None
        try:
            path = self.path.relative_to(folder.resolve())
        except ValueError:
            path = self.path
        return FILE_PREFIX + quote(path.as_posix(), safe="/:\\ ()")

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
        server_of(kind).driver, user, password or None, host=host or None, port=port
    )
    return Address(kind, url=url)


def parse_address(text: str, folder: Path) -> Address:
    """Understand an address as people have it: a URL, or the path of a SQLite file.

    Relative paths start at `folder`. An existing file wins over any escape in its
    address. Raises LumetError for an address that cannot be understood.
    """
    if text.startswith(FILE_PREFIX):
        plain = text.removeprefix(FILE_PREFIX)
        literal = folder / plain
        path = literal if literal.exists() else folder / unquote(plain)
        return Address(FILE.name, path.resolve())
    scheme, separator, rest = text.partition("://")
    if not separator:
        return Address(FILE.name, (folder / text).expanduser().resolve())
    server = server_of(scheme.partition("+")[0])
    driver = server.driver or scheme
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
    return Address(server.name or dialect, url=url)


def open_for_reading(address: Address) -> Engine:
    """Return an engine that cannot write, whose statements and waits are limited.

    Raises CannotRun when there is no such file, or no driver for such a server.
    """
    server = server_of(address.dialect)
    place = address.path or address.url
    assert place is not None
    if address.path is not None:
        _look_for(address.path)
    try:
        return server.open(place)
    except ImportError as error:
        raise CannotRun(
            f"{address.dialect}: the driver {error.name} is not installed.",
            f"Install it: pip install {error.name}",
        ) from error


def _look_for(path: Path) -> None:
    if path.is_dir():
        raise CannotRun(f"{path} is a folder, not a database file.")
    if not path.exists():
        raise CannotRun(f"{path}: the file does not exist.", nearest_files(path))


def quoted_source(dialect: Dialect, table: Table) -> str:
    """Return a table's name as written after FROM."""
    quote = dialect.identifier_preparer.quote_identifier
    own = quote(table.own_name)
    return f"{quote(table.schema)}.{own}" if table.schema else own


def limited(connection: Connection) -> AbstractContextManager[None]:
    """Limit the statements of a connection in time, where its server does not."""
    return server_of(connection.dialect.name).limited(connection)
