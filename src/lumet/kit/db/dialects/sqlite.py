"""SQLite: a file, no types that are kept, statements that a clock ends."""

import math
import re
import sqlite3
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Engine,
    LargeBinary,
    QueuePool,
    and_,
    bindparam,
    cast,
    create_engine,
    event,
    func,
    or_,
)

from ...common.exceptions import CannotStart
from ...common.settings import SQLITE, sqlite_path
from .base import (
    LOCK_SECONDS,
    STATEMENT_SECONDS,
    WRITING,
    DatabaseError,
    ErrorKind,
    Matcher,
    Server,
    holds_days,
    raw,
)

STEPS = 400_000  # of SQLite's machine, between two looks at the time: some 10 ms. At
# each look a thread waits for Python's lock, in the middle of a statement
_PERIODS = {"year": "%Y", "month": "%Y-%m", "day": "%Y-%m-%d"}
LAST = "\U0010ffff"  # behind every text that begins alike
_CLOCK = "clock"  # what a connection keeps of its statements' time
_SAID = re.compile(
    r"^(UNIQUE|NOT NULL|CHECK|FOREIGN KEY) constraint failed(?:: (.+))?$"
)
_KINDS: dict[str, ErrorKind] = {
    "UNIQUE": "unique",
    "NOT NULL": "needed",
    "CHECK": "rule",
    "FOREIGN KEY": "reference",
}


class Sqlite(Server):
    """The file of a SQLite database."""

    name = "sqlite"
    schemes = ("sqlite",)
    driver = "sqlite"
    module = "sqlite3"
    is_file = True
    has_nullable_keys = True
    is_untyped = True
    has_booleans = False

    def open(self, url: str, folder: Path, setting: str) -> Engine:
        return open_sqlite(sqlite_path(url, folder))

    @contextmanager
    def limited(self, connection: Connection, seconds: float) -> Iterator[None]:
        connection.begin()
        connection.info[_CLOCK].seconds = seconds
        yield

    def is_empty(self, column: ColumnElement[Any]) -> ColumnElement[bool]:
        # texts of zeros and blanks, as they come with the rows of other servers
        nothing = super().is_empty(column)
        is_none = func.substr(raw(column), 1, 10).in_(["0000-00-00", ""])
        return or_(nothing, is_none) if holds_days(column) else nothing

    def period_of_moment(
        self, moment: ColumnElement[Any], unit: str
    ) -> ColumnElement[Any]:
        return func.strftime(_PERIODS[unit], moment)

    def moment_of_seconds(self, seconds: ColumnElement[Any]) -> ColumnElement[Any]:
        return func.datetime(seconds, "unixepoch")

    def matcher(self, text: ColumnElement[Any], is_folded: bool) -> Matcher:
        if not is_folded:  # LIKE does not tell upper from lower case, within ASCII
            return text.like
        folded = func.casefold(cast(text, LargeBinary))

        def like(word: Any, escape: str | None = None) -> ColumnElement[bool]:
            return folded.like(func.casefold(word), escape=escape)

        return like

    def begins_with(
        self, column: ColumnElement[Any], count: int
    ) -> ColumnElement[bool]:
        # LIKE and an index differ about capitals
        spans = [
            and_(raw(column) >= bindparam(f"b{n}"), raw(column) < bindparam(f"e{n}"))
            for n in range(count)
        ]
        return or_(*spans)

    def prefix_values(self, texts: Sequence[str]) -> dict[str, str]:
        bound = {f"b{n}": text for n, text in enumerate(texts)}
        return bound | {f"e{n}": text + LAST for n, text in enumerate(texts)}

    def classify(self, error: Any) -> DatabaseError | None:
        name, said = getattr(error, "sqlite_errorname", ""), str(error)
        if not name:
            return None
        if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED", "SQLITE_INTERRUPT")):
            return DatabaseError("busy")
        if name.startswith(("SQLITE_CANTOPEN", "SQLITE_IOERR")):
            return DatabaseError("lost")
        found = _SAID.match(said)
        if found is None:
            return DatabaseError("other", rule=said)
        kind = _KINDS[found[1]]
        named = (found[2] or "").split(", ")
        if kind == "rule":
            return DatabaseError(kind, rule=named[0])
        return DatabaseError(kind, tuple(each.partition(".")[2] for each in named))

    def is_passing(self, error: Any) -> bool:
        return getattr(error, "sqlite_errorname", "") == "SQLITE_BUSY_SNAPSHOT"


class _Clock:
    """How long a statement of one connection may take; SQLite asks, and ends one that
    has taken longer."""

    def __init__(self) -> None:
        self.seconds = math.inf
        self._ends = math.inf

    def start(self) -> None:
        """Begin with a statement."""
        self._ends = time.monotonic() + self.seconds

    def is_over(self) -> bool:
        """Tell whether the time is up."""
        return time.monotonic() > self._ends


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
