"""The accounts store: its tables, and the steps that bring an older one up to date.

Steps only ever add, so that an application that is still running on the version before
keeps working; one that starts on a newer store than it knows says so and ends.
"""

from pathlib import Path
from typing import Any

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
    inspect,
    select,
    text,
    update,
)
from sqlalchemy.exc import DBAPIError
from sqlalchemy.schema import CreateColumn

from ..common.exceptions import CannotStart
from ..common.settings import sqlite_path
from ..db.dialects import LONG_TEXT, server_of, server_of_url
from ..db.dialects.sqlite import open_sqlite
from ..db.engine import Database
from .passwords import skeleton

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
    Column("stamp", String(40), nullable=False),  # new with each password
    Column("disabled", Boolean, nullable=False, default=False),
    Column("created_at", DateTime, nullable=False),
    Column("language", String(20)),  # since version 2
    Column("time_zone", String(60)),
    Column(
        "revision", Integer
    ),  # since version 4: another whenever what is kept changes
    Column("display_name", String(80)),  # since version 8: free to change
    Column("skeleton", String(80)),  # of the name, see `passwords.skeleton`
)

former_name = Table(  # since version 8: names that were in use, and stay reserved
    "former_name",
    tables,
    Column("skeleton", String(80), primary_key=True),
    Column(
        "user_id", Integer, nullable=False
    ),  # without a reference: it outlives users
    Column("at", DateTime, nullable=False),
)

user_role = Table(
    "user_role",
    tables,
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), primary_key=True),
    Column("role", String(80), primary_key=True),
)

user_attribute = Table(  # since version 2, as all below but for the first invitation
    "user_attribute",
    tables,
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), primary_key=True),
    Column("name", String(80), primary_key=True),
    Column("value", String(400), nullable=False),
)

failure = Table(
    "sign_in_failure",
    tables,
    Column("id", Integer, primary_key=True),
    Column("folded", String(80), nullable=False),
    Column("origin", String(80), nullable=False),  # the network
    Column("at", DateTime, nullable=False),
    Column("device", String(64)),  # since version 2: of one that signed in before
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

link = Table(
    "password_link",
    tables,
    Column("token", String(64), primary_key=True),  # its digest
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), nullable=False),
    Column("expires_at", DateTime, nullable=False),
)

session = Table(
    "user_session",
    tables,
    Column("token", String(64), primary_key=True),  # its digest
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), nullable=False),
    Column("began_at", DateTime, nullable=False),
    Column("seen_at", DateTime, nullable=False),
    Column("origin", String(80), nullable=False),
    Column("browser", String(200), nullable=False),
    Index("user_session_user", "user_id"),
)

device = Table(
    "known_device",
    tables,
    Column("token", String(64), primary_key=True),  # its digest
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), primary_key=True),
    Column("seen_at", DateTime, nullable=False),
)

entry = Table(
    "log_entry",
    tables,
    Column("id", Integer, primary_key=True),
    Column("at", DateTime, nullable=False),
    Column("kind", String(20), nullable=False),
    Column("state", String(10), nullable=False),
    Column("user_id", Integer),  # without a reference: the log outlives its users
    Column("name", String(80), nullable=False),
    Column("origin", String(80), nullable=False),
    Column("request", String(20), nullable=False),
    Column("record_table", String(120), nullable=False),
    Column("record_key", String(400), nullable=False),
    Column("title", String(200), nullable=False),
    Column("detail", LONG_TEXT, nullable=False),  # JSON
    Index("log_entry_at", "at"),
    Index("log_entry_record", "record_table", "record_key"),
    Index("log_entry_name", "name"),
)

choice = Table(  # since version 3, as those below
    "user_choice",
    tables,
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), primary_key=True),
    Column("name", String(160), primary_key=True),
    Column("value", LONG_TEXT, nullable=False),
)

saved_view = Table(
    "saved_view",
    tables,
    Column("id", Integer, primary_key=True),
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), nullable=False),
    Column("record_table", String(120), nullable=False),
    Column("name", String(80), nullable=False),
    Column("query", LONG_TEXT, nullable=False),
    Column("is_first", Boolean, nullable=False),
    Index("saved_view_table", "record_table"),
)

view_role = Table(
    "saved_view_role",
    tables,
    Column(
        "view_id", ForeignKey("saved_view.id", ondelete="CASCADE"), primary_key=True
    ),
    Column("role", String(80), primary_key=True),
)


sent_form = Table(  # since version 5
    "sent_form",
    tables,
    Column("token", String(64), primary_key=True),  # its digest
    Column("at", DateTime, nullable=False),
    Column("location", String(1000), nullable=False),  # "" while it is being saved
    Index("sent_form_at", "at"),
)


upload = Table(  # since version 6
    "upload",
    tables,
    Column("id", Integer, primary_key=True),
    Column("token", String(64), nullable=False, unique=True),
    Column("folder", String(200), nullable=False),
    Column("name", String(200), nullable=False),
    Column("original", String(200), nullable=False),
    Column("size", Integer, nullable=False),
    Column("at", DateTime, nullable=False),
    Column("user_id", Integer, nullable=False),
    Column("user_name", String(80), nullable=False),
    Column("state", String(10), nullable=False),
    Column("record_table", String(120), nullable=False),
    Column("record_column", String(120), nullable=False),
    Column("record_key", String(400), nullable=False),
    Index("upload_name", "folder", "name"),
)


owner = Table(  # since version 7: the records whose rows an entry is about
    "log_owner",
    tables,
    Column(
        "entry_id", ForeignKey("log_entry.id", ondelete="CASCADE"), primary_key=True
    ),
    Column("record_table", String(120), primary_key=True),
    Column("record_key", String(400), primary_key=True),
    Index("log_owner_record", "record_table", "record_key"),
)


followed_rename = Table(  # since version 9: renames of tables and columns
    "followed_rename", tables, Column("name", String(300), primary_key=True)
)


message = Table(  # since version 10: e-mails and webhooks on their way
    "outbox",
    tables,
    Column("id", Integer, primary_key=True),
    Column("token", String(40), nullable=False, unique=True),  # receivers know it
    Column("channel", String(10), nullable=False),
    Column("recipient", String(320), nullable=False),
    Column("subject", String(400), nullable=False),
    Column("content", LONG_TEXT, nullable=False),  # JSON
    Column("state", String(10), nullable=False),
    Column("at", DateTime, nullable=False),
    Column("due_at", DateTime, nullable=False),
    Column("tries", Integer, nullable=False),
    Column("error", String(400), nullable=False),
    Column("user_name", String(80), nullable=False),
    Column("record_table", String(120), nullable=False),
    Column("record_key", String(400), nullable=False),
    Column("title", String(200), nullable=False),
    Index("outbox_due", "state", "due_at"),
)


recent_record = Table(  # since version 11: what users opened or changed last
    "recent_record",
    tables,
    Column("user_id", ForeignKey("app_user.id", ondelete="CASCADE"), primary_key=True),
    Column("record_table", String(120), primary_key=True),
    Column("record_key", String(400), primary_key=True),
    Column("at", DateTime, nullable=False),
    Column("is_change", Boolean, nullable=False),
)


shared_choice = Table(  # since version 12: what an administrator chose for everybody
    "shared_choice",
    tables,
    Column("name", String(160), primary_key=True),
    Column("value", LONG_TEXT, nullable=False),
)


def _first(connection: Connection) -> None:
    for table in (user, user_role, failure, invitation):
        table.create(connection, checkfirst=True)


def _second(connection: Connection) -> None:
    # a store that is made now has these columns from the first step
    for column in (user.c.language, user.c.time_zone, failure.c.device):
        _add_column(connection, column)
    for table in (user_attribute, link, session, device, entry):
        table.create(connection, checkfirst=True)


def _add_column(connection: Connection, column: Column[Any]) -> None:
    name = column.table.name
    held = {each["name"] for each in inspect(connection).get_columns(name)}
    if column.name not in held:
        spelled = CreateColumn(column).compile(dialect=connection.dialect)
        connection.execute(text(f"ALTER TABLE {name} ADD COLUMN {spelled}"))


def _lengthen(connection: Connection, column: Column[Any]) -> None:
    """Make room in a column that older versions made as shorter texts."""
    if server_of(connection.dialect.name).has_short_texts:
        spelled = CreateColumn(column).compile(dialect=connection.dialect)
        connection.execute(text(f"ALTER TABLE {column.table.name} MODIFY {spelled}"))


def _third(connection: Connection) -> None:
    for table in (choice, saved_view, view_role):
        table.create(connection, checkfirst=True)


def _fourth(connection: Connection) -> None:
    _add_column(connection, user.c.revision)


def _fifth(connection: Connection) -> None:
    sent_form.create(connection, checkfirst=True)


def _sixth(connection: Connection) -> None:
    upload.create(connection, checkfirst=True)


def _seventh(connection: Connection) -> None:
    owner.create(connection, checkfirst=True)


def _eighth(connection: Connection) -> None:
    for column in (user.c.display_name, user.c.skeleton):
        _add_column(connection, column)
    former_name.create(connection, checkfirst=True)
    missing = select(user.c.id, user.c.name).where(user.c.skeleton.is_(None))
    for number, name in connection.execute(missing).all():
        mine = update(user).where(user.c.id == number)
        connection.execute(mine.values(skeleton=skeleton(name)))


def _ninth(connection: Connection) -> None:
    followed_rename.create(connection, checkfirst=True)


def _tenth(connection: Connection) -> None:
    message.create(connection, checkfirst=True)
    for column in (entry.c.detail, choice.c.value, saved_view.c.query):
        _lengthen(connection, column)


def _eleventh(connection: Connection) -> None:
    recent_record.create(connection, checkfirst=True)


def _twelfth(connection: Connection) -> None:
    shared_choice.create(connection, checkfirst=True)


UPGRADES = (
    _first,
    _second,
    _third,
    _fourth,
    _fifth,
    _sixth,
    _seventh,
    _eighth,
    _ninth,
    _tenth,
    _eleventh,
    _twelfth,
)
"""Each brings the store from the version of its place to the next."""


def open_store(url: str, folder: Path, business: str = "") -> Database:
    """Open the accounts store, made or brought up to date first: a SQLite file, or a
    database of its own on a server. `business` is the address of the business database.

    Of several processes that start together one upgrades and the others wait. Raises
    CannotStart when the store is newer than this application, or cannot be opened.
    """
    server = server_of_url(url)
    if server is None:
        raise CannotStart("ACCOUNTS_URL: this address cannot be understood.")
    if not server.is_file:
        if business and server.place(url) == _place(business):
            raise CannotStart(
                "ACCOUNTS_URL names the business database, whose schema is left alone.\n"
                "  Give the accounts a database of their own."
            )
        store = Database(server.open(url, folder, "ACCOUNTS_URL"))
        try:
            _bring_up_to_date(store)
        except DBAPIError as error:
            raise CannotStart(
                f"ACCOUNTS_URL: the store cannot be opened ({type(error).__name__})."
            ) from error
        return store
    path = sqlite_path(url, folder)
    if not path.parent.is_dir():
        raise CannotStart(f"ACCOUNTS_URL: there is no folder {path.parent}.")
    store = Database(open_sqlite(path, create=True, write_ahead=True))
    _bring_up_to_date(store)
    _keep_private(path)
    return store


def _place(url: str) -> tuple[str, ...]:
    """Return the identity of a database: server, port, name, search path."""
    server = server_of_url(url)
    return server.place(url) if server else ()


def _bring_up_to_date(store: Database) -> None:
    with store.writing() as connection, store.server.lock_store(connection):
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
        for number, upgrade in enumerate(UPGRADES[version:], version + 1):
            upgrade(connection)
            connection.execute(update(store_version).values(version=number))


def _keep_private(path: Path) -> None:
    if path.stat().st_mode & 0o077:
        path.chmod(0o600)
