"""Opening a database for reading only, and saying plainly why it cannot be opened."""

import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path
from urllib.parse import quote, unquote

from sqlalchemy import Engine, QueuePool, create_engine
from sqlalchemy.exc import DatabaseError

from lumet.errors import CannotRun, LumetError

SQLITE_PREFIX = "sqlite:///"
STATEMENT_SECONDS = 30.0  # an emergency brake, not a bound on the work
PROGRESS_STEPS = 10_000  # virtual machine steps between two looks at the clock


@dataclass(frozen=True, slots=True)
class Address:
    """Where a database is: for SQLite, the absolute path of its file."""

    dialect: str
    path: Path

    def relative_to(self, folder: Path) -> str:
        """Return the address as kept in `.env`: relative when it lies in `folder`."""
        try:
            path = self.path.relative_to(folder.resolve())
        except ValueError:
            path = self.path
        return SQLITE_PREFIX + quote(path.as_posix(), safe="/:\\ ()")


def parse_address(text: str, folder: Path) -> Address:
    """Understand an address as people have it: a URL, or the path of a SQLite file.

    Relative paths start at `folder`. Raises LumetError for a kind of database that
    is not supported. An existing file wins over any escape in its address.
    """
    if text.startswith(SQLITE_PREFIX):
        plain = text.removeprefix(SQLITE_PREFIX)
        literal = folder / plain
        path = literal if literal.exists() else folder / unquote(plain)
        return Address("sqlite", path.resolve())
    scheme, separator, _ = text.partition("://")
    if separator or text.startswith("sqlite:"):
        raise LumetError(
            f"{scheme.partition(':')[0]}: this kind of database cannot be read yet.",
            f"Give a SQLite file: a path, or {SQLITE_PREFIX}PATH.",
        )
    return Address("sqlite", (folder / text).expanduser().resolve())


def open_for_reading(address: Address) -> Engine:
    """Return an engine that cannot write.

    SQLite is opened by path with `mode=ro`; an address string would decode escapes
    twice and could open another file. Raises CannotRun when there is no such file.
    """
    path = address.path
    if path.is_dir():
        raise CannotRun(f"{path} is a folder, not a database file.")
    if not path.exists():
        raise CannotRun(f"{path}: there is no such file.", _nearest_files(path))

    def connect() -> sqlite3.Connection:
        connection = sqlite3.connect(
            path.as_uri() + "?mode=ro", uri=True, check_same_thread=False, timeout=2.0
        )
        connection.text_factory = _decode
        return connection

    return create_engine(SQLITE_PREFIX, poolclass=QueuePool, creator=connect)


def _decode(raw: bytes) -> str:
    return raw.decode("utf-8", "surrogateescape")


def _nearest_files(path: Path) -> str:
    try:
        names = [entry.name for entry in path.parent.iterdir() if entry.is_file()]
    except OSError:
        return f"There is no folder {path.parent} either."
    near = get_close_matches(path.name, names, n=3)
    if near:
        return f"Nearest in {path.parent}: {', '.join(near)}."
    return "Check the path; a relative one starts at the current folder."


@contextmanager
def saying_why(address: Address) -> Iterator[None]:
    """Turn a driver's refusal into a message that says what to do."""
    try:
        yield
    except DatabaseError as error:
        name = getattr(error.orig, "sqlite_errorname", "")
        raise _explain(address, name, str(error.orig)) from error


def _explain(address: Address, name: str, said: str) -> CannotRun:
    path = address.path
    if name == "SQLITE_NOTADB":
        return CannotRun(
            f"{path} is not a SQLite database.",
            "Give the database file itself, not a dump or another kind of file.",
        )
    if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED")):
        return CannotRun(
            f"{path} is locked by another program that is writing to it.",
            "Try again when it has finished; nothing was changed.",
        )
    if name.startswith("SQLITE_CANTOPEN"):
        return CannotRun(f"{path} cannot be opened.", "Check the rights on the file.")
    if name.startswith("SQLITE_CORRUPT"):
        return CannotRun(
            f"{path} is damaged: {said}.",
            "Restore it from a copy, or try sqlite3's .recover.",
        )
    if name == "SQLITE_INTERRUPT":
        return CannotRun(f"{path}: a statement took over {STATEMENT_SECONDS:.0f} s.")
    return CannotRun(f"{path} could not be read: {said}.")


@contextmanager
def short_statements(raw: sqlite3.Connection) -> Iterator[None]:
    """Interrupt what runs longer than STATEMENT_SECONDS on `raw`."""
    deadline = time.monotonic() + STATEMENT_SECONDS
    raw.set_progress_handler(lambda: time.monotonic() > deadline, PROGRESS_STEPS)
    try:
        yield
    finally:
        raw.set_progress_handler(None, 0)
