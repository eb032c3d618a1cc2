"""Databases on real servers, made by the tests under names of their own, and dropped."""

import os
import unittest
from collections.abc import Sequence
from typing import Any, ClassVar

from sqlalchemy import URL, create_engine, make_url

POSTGRESQL = os.environ.get(
    "LUMET_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres"
)
_LOCAL = URL.create("mariadb", "root", host="127.0.0.1", port=3306, database="mysql")
MARIADB = os.environ.get("LUMET_MARIADB", _LOCAL.render_as_string())
_DRIVERS = {"postgresql": "postgresql+psycopg", "mariadb": "mariadb+pymysql"}


def connect(address: str) -> Any:
    """Return an engine that commits each statement by itself."""
    scheme, _, rest = address.partition("://")
    return create_engine(f"{_DRIVERS[scheme]}://{rest}", isolation_level="AUTOCOMMIT")


def run(address: str, statements: Sequence[str] | str) -> None:
    """Run statements, each by itself; a text is split at its semicolons."""
    listed = (
        [s for s in statements.split(";\n") if s.strip()]
        if isinstance(statements, str)
        else statements
    )
    engine = connect(address)
    try:
        with engine.connect() as connection:
            for statement in listed:
                connection.exec_driver_sql(statement.replace("%", "%%"))
    finally:
        engine.dispose()


def make_server_database(
    case: type[unittest.TestCase], server: str, name: str, script: str
) -> str:
    """Make a database on a server for a class of tests; return its address."""
    drop = f"DROP DATABASE IF EXISTS {name}" + (
        " WITH (FORCE)" if server == POSTGRESQL else ""
    )
    run(server, [drop, f"CREATE DATABASE {name}"])
    case.addClassCleanup(run, server, [drop])
    url = make_url(server).set(database=name)
    address = url.render_as_string(hide_password=False)
    run(address, script)
    return address


class OnServer:
    """What makes a test of an application one on a server; its `script` makes the
    database anew for the class."""

    SERVER: ClassVar[str]
    DATABASE: ClassVar[str]
    address: ClassVar[str]

    @classmethod
    def script(cls) -> str:
        """Return the statements that make the database."""
        raise NotImplementedError

    @classmethod
    def make(cls: Any) -> str:
        cls.address = make_server_database(cls, cls.SERVER, cls.DATABASE, cls.script())
        return str(cls.address)

    @classmethod
    def keep_pristine(cls) -> None:
        pass

    def restore(self) -> None:
        pass

    def rows(self, query: str) -> list[Any]:
        engine = connect(self.address)
        try:
            with engine.connect() as connection:
                return [tuple(row) for row in connection.exec_driver_sql(query)]
        finally:
            engine.dispose()

    def change(self, statement: str) -> None:
        run(self.address, [statement])
