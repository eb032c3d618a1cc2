"""Errors on opening or reading a database, with the remedy."""

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from sqlalchemy.exc import DatabaseError, InvalidRequestError

from lumet.errors import CannotRun


class PasswordNeeded(CannotRun):
    """The server wants a password, and the address has none."""


@contextmanager
def saying_why(
    place: str, has_password: bool = True, others: Callable[[], Sequence[str]] = tuple
) -> Iterator[None]:
    """Turn a driver's error into a message with its remedy.

    `place` is the database as it may be shown; `others` lists the databases that exist
    where a wrong name was given.
    """
    try:
        yield
    except DatabaseError as error:
        raise explain(place, error.orig, has_password, others) from error
    except InvalidRequestError as error:  # SQLAlchemy's, of a server that is no MariaDB
        raise CannotRun(
            f"{place}: {error}.", "MySQL is not supported; MariaDB is."
        ) from error


def explain(
    place: str,
    error: Any,
    has_password: bool = True,
    others: Callable[[], Sequence[str]] = tuple,
) -> CannotRun:
    """Return the LumetError for a driver's `error`."""
    name = getattr(error, "sqlite_errorname", "")
    said = str(error)
    if name:
        return _of_sqlite(place, name, said)
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    for pattern, numbers, make in _SERVERS:
        if number in numbers or re.search(pattern, said):
            return make(place, said, has_password, others)
    first = said.strip().split("\n")[0]
    return CannotRun(f"{place} could not be read: {first}.")


def _of_sqlite(place: str, name: str, said: str) -> CannotRun:
    if name == "SQLITE_NOTADB":
        return CannotRun(
            f"{place} is not a SQLite database.",
            "Give the database file itself, not a dump or another kind of file.",
        )
    if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED")):
        return CannotRun(
            f"{place} is locked by another program that is writing to it.",
            "Try again when it has finished; nothing was changed.",
        )
    if name.startswith("SQLITE_CANTOPEN"):
        return CannotRun(f"{place} cannot be opened.", "Check the rights on the file.")
    if name.startswith("SQLITE_CORRUPT"):
        return CannotRun(
            f"{place} is damaged: {said}.",
            "Restore it from a copy, or try sqlite3's .recover.",
        )
    if name == "SQLITE_INTERRUPT":
        return CannotRun(f"{place}: a statement took too long and was stopped.")
    return CannotRun(f"{place} could not be read: {said}.")


def _unreachable(place: str, said: str, *_: Any) -> CannotRun:
    return CannotRun(
        f"{place}: no server answers at this address.",
        "Check the host and the port, and that the server is running and reachable.",
    )


def _unknown_host(place: str, said: str, *_: Any) -> CannotRun:
    return CannotRun(f"{place}: the host does not exist.", "Check the host.")


def _refused_user(place: str, said: str, has_password: bool, *_: Any) -> CannotRun:
    if not has_password:
        return PasswordNeeded(
            f"{place}: the server requires a password.",
            "Set it in DATABASE_URL in .env, or run the command in a terminal: you are asked for it there.",
        )
    return CannotRun(
        f"{place}: the server rejected this user or password.",
        "Check both; in an address, write @ as %40 and / as %2F.",
    )


def _unknown_database(
    place: str, said: str, _: bool, others: Callable[[], Sequence[str]]
) -> CannotRun:
    wanted = place.partition(" at ")[0]
    try:
        names = list(others())
    except (DatabaseError, CannotRun):
        names = []
    near = get_close_matches(wanted, names, n=len(names) or 1, cutoff=0)
    listed = f"Available, nearest first: {', '.join(near[:8])}." if near else ""
    return CannotRun(f"{place}: the database does not exist.", listed)


def _needs_tls(place: str, said: str, *_: Any) -> CannotRun:
    return CannotRun(
        f"{place}: the server accepts only encrypted connections.",
        "Add ?sslmode=require (PostgreSQL) or ?ssl=true (MariaDB) to the address.",
    )


def _no_right(place: str, said: str, *_: Any) -> CannotRun:
    first = said.strip().split("\n")[0]
    return CannotRun(
        f"{place}: this user has no right to read it: {first}.",
        "Ask for the SELECT privilege, or use another user.",
    )


_Make = Callable[[str, str, bool, Callable[[], Sequence[str]]], CannotRun]
_SERVERS: tuple[tuple[str, tuple[int, ...], _Make], ...] = (
    (r"no encryption|SSL (connection )?is required|require_secure_transport|TLS required",
     (3159, 4151), _needs_tls),
    (r"failed to resolve host|Name or service not known|nodename nor servname",
     (), _unknown_host),
    ((r"Connection refused|timeout expired|timed out|Can't connect|No route to host"
     r"|No such file or directory"), (2002, 2003, 2005), _unreachable),
    ((r"no password supplied|password authentication failed|role \".*\" does not exist"
     r"|no pg_hba.conf entry|Access denied for user .*using password|Peer authentication"),
     (1045, 1698), _refused_user),
    (r"database \".*\" does not exist", (1049,), _unknown_database),
    (r"permission denied|Access denied|command denied", (1044, 1142, 1143), _no_right),
)  # fmt: skip


def nearest_files(path: Path) -> str:
    """Say which files beside `path` come closest to its name."""
    try:
        names = [entry.name for entry in path.parent.iterdir() if entry.is_file()]
    except OSError:
        return f"There is no folder {path.parent} either."
    near = get_close_matches(path.name, names, n=3)
    if near:
        return f"Nearest in {path.parent}: {', '.join(near)}."
    return "Check the path; a relative one starts at the current folder."
