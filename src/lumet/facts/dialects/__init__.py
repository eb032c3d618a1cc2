"""The servers that Lumet reads; another is a class and its line here."""

from typing import Any

from lumet.facts.dialects.base import Server
from lumet.facts.dialects.mariadb import Mariadb
from lumet.facts.dialects.postgresql import Postgresql
from lumet.facts.dialects.sqlite import Sqlite

FILE = Sqlite()
"""The server of databases that are files."""
SERVERS: tuple[Server, ...] = (FILE, Postgresql(), Mariadb())
_STANDARD = Server()
_BY_NAME = {server.name: server for server in SERVERS}
_BY_SCHEME = {scheme: server for server in SERVERS for scheme in server.schemes}


def server_of(name: str) -> Server:
    """Return the server of this name; one that keeps to the standard where none has
    it."""
    return _BY_NAME.get(name) or _BY_SCHEME.get(name) or _STANDARD


def server_of_error(error: Any) -> Server:
    """Return the server whose driver raised `error`."""
    module = type(error).__module__.partition(".")[0]
    return next((each for each in SERVERS if each.module == module), _STANDARD)
