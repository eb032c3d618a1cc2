"""Errors on opening or reading a database, with the remedy."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from sqlalchemy.exc import DatabaseError, InvalidRequestError

from lumet.errors import CannotRun
from lumet.facts.dialects import server_of_error
from lumet.facts.dialects.base import Server


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
    server, said = server_of_error(error), str(error)
    make = _BY_CAUSE.get(server.cause(error))
    if make is not None:
        return make(Failure(place, said, server, has_password, others))
    first = said.strip().split("\n")[0]
    return CannotRun(f"{place} could not be read: {first}.")


@dataclass(frozen=True, slots=True)
class Failure:
    """A connection that failed: where, what the driver said, of which server."""

    place: str
    said: str
    server: Server
    has_password: bool
    others: Callable[[], Sequence[str]]


def _no_database(failure: Failure) -> CannotRun:
    return CannotRun(
        f"{failure.place} is not a {failure.server.title} database.",
        "Give the database file itself, not a dump or another kind of file.",
    )


def _locked(failure: Failure) -> CannotRun:
    return CannotRun(
        f"{failure.place} is locked by another program that is writing to it.",
        "Try again when it has finished; nothing was changed.",
    )


def _closed(failure: Failure) -> CannotRun:
    return CannotRun(
        f"{failure.place} cannot be opened.", "Check the rights on the file."
    )


def _damaged(failure: Failure) -> CannotRun:
    return CannotRun(
        f"{failure.place} is damaged: {failure.said}.",
        "Restore it from a copy, or try sqlite3's .recover.",
    )


def _slow(failure: Failure) -> CannotRun:
    return CannotRun(f"{failure.place}: a statement took too long and was stopped.")


def _unreachable(failure: Failure) -> CannotRun:
    return CannotRun(
        f"{failure.place}: no server answers at this address.",
        "Check the host and the port, and that the server is running and reachable.",
    )


def _unknown_host(failure: Failure) -> CannotRun:
    return CannotRun(f"{failure.place}: the host does not exist.", "Check the host.")


def _refused_user(failure: Failure) -> CannotRun:
    if not failure.has_password:
        return PasswordNeeded(
            f"{failure.place}: the server requires a password.",
            "Set it in DATABASE_URL in .env, or run the command in a terminal: you are asked for it there.",
        )
    return CannotRun(
        f"{failure.place}: the server rejected this user or password.",
        "Check both; in an address, write @ as %40 and / as %2F.",
    )


def _unknown_database(failure: Failure) -> CannotRun:
    wanted = failure.place.partition(" at ")[0]
    try:
        names = list(failure.others())
    except (DatabaseError, CannotRun):
        names = []
    near = get_close_matches(wanted, names, n=len(names) or 1, cutoff=0)
    listed = f"Available, nearest first: {', '.join(near[:8])}." if near else ""
    return CannotRun(f"{failure.place}: the database does not exist.", listed)


def _needs_encryption(failure: Failure) -> CannotRun:
    return CannotRun(
        f"{failure.place}: the server accepts only encrypted connections.",
        f"Add {failure.server.encrypted} to the address.",
    )


def _no_right(failure: Failure) -> CannotRun:
    first = failure.said.strip().split("\n")[0]
    return CannotRun(
        f"{failure.place}: this user has no right to read it: {first}.",
        "Ask for the SELECT privilege, or use another user.",
    )


_BY_CAUSE: dict[str, Callable[[Failure], CannotRun]] = {
    "format": _no_database,
    "locked": _locked,
    "closed": _closed,
    "damaged": _damaged,
    "slow": _slow,
    "unencrypted": _needs_encryption,
    "host": _unknown_host,
    "unreachable": _unreachable,
    "user": _refused_user,
    "database": _unknown_database,
    "right": _no_right,
}


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
