"""The servers that the application runs on; another is a class and its line here."""

from typing import Any

from .base import Server
from .mariadb import LONG_TEXT, Mariadb
from .postgresql import Postgresql
from .sqlite import Sqlite

__all__ = ["LONG_TEXT", "server_of", "server_of_error", "server_of_url"]

SERVERS: tuple[Server, ...] = (Sqlite(), Postgresql(), Mariadb())
_BY_NAME = {
    name: server for server in SERVERS for name in (server.name, *server.aliases)
}
_STANDARD = Server()
_BY_SCHEME = {scheme: server for server in SERVERS for scheme in server.schemes}


def server_of(name: str) -> Server:
    """Return the server of SQLAlchemy's name of a dialect; for one that is not known, as
    when a statement is printed, one that keeps to the standard."""
    return _BY_NAME.get(name, _STANDARD)


def server_of_url(url: str) -> Server | None:
    """Return the server that an address names, None for one that is not known."""
    return _BY_SCHEME.get(url.partition("://")[0].partition("+")[0])


def server_of_error(error: Any) -> Server:
    """Return the server whose driver raised `error`."""
    module = type(error).__module__.partition(".")[0]
    known = (server for server in SERVERS if server.module == module)
    return next(known, _STANDARD)
