"""The accounts store: its tables, and the steps that bring an older one up to date."""

from pathlib import Path

from sqlalchemy import (
    Boolean,
    Column,
    Connection,
    DateTime,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    insert,
    make_url,
    select,
    update,
)

from ..database import Database, open_sqlite
from ..errors import CannotStart
from ..settings import sqlite_path

tables = MetaData()

store_version = Table(
    "store_version", tables, Column("version", Integer, nullable=False)
)

user = Table(
    "app_user",
    tables,
    Column("id", Integer, primary_key=True),
    Column("name", String(80), nullable=False),
    Column("folded", String(80), nullable=False, unique=True),
    Column("password", String(200), nullable=False),
    Column(
        "stamp", String(40), nullable=False
    ),  # new with each password: ends sessions
    Column("disabled", Boolean, nullable=False, default=False),
    Column("created_at", DateTime, nullable=False),
)

user_role = Table(
    "user_role",
    tables,
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), primary_key=True),
    Column("role", String(80), primary_key=True),
)

failure = Table(
    "sign_in_failure",
    tables,
    Column("id", Integer, primary_key=True),
    Column("folded", String(80), nullable=False),
    Column("origin", String(80), nullable=False),
    Column("at", DateTime, nullable=False),
    Index("sign_in_failure_folded", "folded", "at"),
    Index("sign_in_failure_origin", "origin", "at"),
)

invitation = Table(
    "invitation",
    tables,
    Column("token", String(80), primary_key=True),  # its digest, never the token
    Column("role", String(80), nullable=False),
    Column("expires_at", DateTime, nullable=False),
)


def _first(connection: Connection) -> None:
    for table in (user, user_role, failure, invitation):
        table.create(connection)


UPGRADES = (_first,)
"""Each brings the store from the version of its place to the next."""


def open_store(url: str, folder: Path) -> Database:
    """Open the accounts store, made or brought up to date first.

    The first statement takes the write lock, so that of several processes that start
    together one upgrades and the others wait. Raises CannotStart when the store is
    newer than this application, or cannot be opened.
    """
    kind = make_url(url).get_backend_name()
    if kind != "sqlite":
        raise CannotStart(f"ACCOUNTS_URL: a store on {kind} is not supported yet.")
    path = sqlite_path(url, folder)
    if not path.parent.is_dir():
        raise CannotStart(f"ACCOUNTS_URL: there is no folder {path.parent}.")
    engine = open_sqlite(path, create=True)
    store = Database(engine)
    with store.writing() as connection:
        store_version.create(connection, checkfirst=True)
        version = connection.scalar(select(store_version.c.version))
        if version is None:
            connection.execute(insert(store_version).values(version=0))
            version = 0
        if version > len(UPGRADES):
            raise CannotStart(
                f"The accounts store is of version {version}; this application knows "
                f"{len(UPGRADES)}.\n  Run the newer application, or another store."
            )
        for upgrade in UPGRADES[version:]:
            upgrade(connection)
        connection.execute(update(store_version).values(version=len(UPGRADES)))
    _keep_private(path)
    return store


def _keep_private(path: Path) -> None:
    if path.stat().st_mode & 0o077:
        path.chmod(0o600)
