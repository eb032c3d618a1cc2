"""Users: adding them, checking their passwords, and slowing down who guesses."""

import hashlib
import secrets
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError
from flask_login import UserMixin
from sqlalchemy import Connection, bindparam, delete, func, insert, select, update

from ..database import Database
from .store import failure, invitation, user, user_role

SHORTEST_PASSWORD = 12
FAILURES_PER_NAME = 5
FAILURES_PER_ORIGIN = 30
FAILURES_WITHIN = timedelta(minutes=15)
INVITATION_LASTS = timedelta(hours=24)

_hasher = (
    PasswordHasher()
)  # argon2id with the library's parameters (RFC 9106, low memory)


@cache
def _nobodys_password() -> str:
    """Return what the password of a name that does not exist is compared with."""
    return _hasher.hash(secrets.token_urlsafe())


_OF_SESSION = (
    select(user.c.name, user.c.stamp, user.c.disabled, user_role.c.role)
    .outerjoin(user_role, user_role.c.user_id == user.c.id)
    .where(user.c.id == bindparam("number"))
)


class Refused(Exception):
    """Says why an account cannot be made or changed so."""


class TooManyFailures(Exception):
    """Somebody tried too often; the next try counts after FAILURES_WITHIN."""


@dataclass(frozen=True)
class Visitor(UserMixin):  # type: ignore[misc]
    """A signed-in user."""

    id: int
    name: str
    stamp: str
    roles: tuple[str, ...]

    def get_id(self) -> str:
        """Return what a session keeps: it ends when the stamp changes."""
        return f"{self.id}.{self.stamp}"


@dataclass(frozen=True, slots=True)
class Account:
    """One line of the list of users."""

    name: str
    roles: tuple[str, ...]
    disabled: bool


def fold(name: str) -> str:
    """Return a name as it is compared: case and compatible characters do not count."""
    return unicodedata.normalize("NFKC", name).strip().casefold()


def _now() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None)


def check_password(name: str, password: str) -> None:
    """Raise Refused, with the reason, for a password that is too easy to guess."""
    if len(password) < SHORTEST_PASSWORD:
        raise Refused(f"A password needs at least {SHORTEST_PASSWORD} characters.")
    if fold(name) in fold(password):
        raise Refused("A password must not contain the user's name.")
    if len(set(password)) < 4:
        raise Refused("A password needs at least four different characters.")


class Users:
    """The users of one accounts store."""

    def __init__(self, store: Database) -> None:
        self.store = store

    def add(self, name: str, password: str, roles: Sequence[str]) -> None:
        """Add a user. Raises Refused when the name is taken or the password easy."""
        name = name.strip()
        if not name or len(name) > 80 or not name.isprintable():
            raise Refused("A name has 1 to 80 printable characters.")
        check_password(name, password)
        hashed = _hasher.hash(password)
        with self.store.writing() as connection:
            if connection.scalar(select(user.c.id).where(user.c.folded == fold(name))):
                raise Refused(f'There is a user "{name}" already.')
            result = connection.execute(
                insert(user).values(
                    name=name,
                    folded=fold(name),
                    password=hashed,
                    stamp=secrets.token_urlsafe(18),
                    created_at=_now(),
                )
            )
            (number,) = result.inserted_primary_key or (None,)
            for role in dict.fromkeys(roles):
                connection.execute(insert(user_role).values(user_id=number, role=role))

    def set_password(self, name: str, password: str) -> None:
        """Give a user a new password, which ends all of the user's sessions."""
        check_password(name, password)
        values = {
            "password": _hasher.hash(password),
            "stamp": secrets.token_urlsafe(18),
        }
        self._change(name, values)

    def disable(self, name: str) -> None:
        """Let a user no longer sign in, and end the user's sessions."""
        self._change(name, {"disabled": True, "stamp": secrets.token_urlsafe(18)})

    def _change(self, name: str, values: Mapping[str, object]) -> None:
        with self.store.writing() as connection:
            statement = update(user).where(user.c.folded == fold(name)).values(values)
            if not connection.execute(statement).rowcount:
                raise Refused(f'There is no user "{name}".')

    def accounts(self) -> list[Account]:
        """Return all users by name."""
        with self.store.reading() as connection:
            rows = connection.execute(select(user).order_by(user.c.folded)).all()
            return [
                Account(row.name, _roles(connection, row.id), row.disabled)
                for row in rows
            ]

    def is_empty(self) -> bool:
        """Tell whether there is no user yet."""
        with self.store.reading() as connection:
            return connection.scalar(select(user.c.id).limit(1)) is None

    def load(self, session_id: str) -> Visitor | None:
        """Return the user of a session, None when it has ended."""
        number, _, stamp = session_id.partition(".")
        if not number.isdecimal():
            return None
        with self.store.reading() as connection:
            rows = connection.execute(_OF_SESSION, {"number": int(number)}).all()
        if not rows or rows[0].disabled:
            return None
        first = rows[0]
        if not secrets.compare_digest(first.stamp, stamp):
            return None
        roles = tuple(sorted(row.role for row in rows if row.role is not None))
        return Visitor(int(number), first.name, first.stamp, roles)

    def sign_in(self, name: str, password: str, origin: str) -> Visitor | None:
        """Return the user with this name and password, None when there is none.

        Takes as long for a name that does not exist. Raises TooManyFailures, for
        names that do not exist too.
        """
        with self.store.reading() as connection:
            if _has_failed_too_often(connection, fold(name), origin):
                raise TooManyFailures
            row = connection.execute(
                select(user).where(user.c.folded == fold(name))
            ).first()
            roles = _roles(connection, row.id) if row is not None else ()
        good = _is_right(
            row.password if row is not None else _nobodys_password(), password
        )
        with self.store.writing() as connection:
            if row is None or row.disabled or not good:
                _note_failure(connection, fold(name), origin)
                return None
            connection.execute(delete(failure).where(failure.c.folded == fold(name)))
            if _hasher.check_needs_rehash(row.password):
                renewed = {"password": _hasher.hash(password)}
                connection.execute(
                    update(user).where(user.c.id == row.id).values(renewed)
                )
        return Visitor(row.id, row.name, row.stamp, roles)

    def invite_first(self, role: str) -> str:
        """Return the token of a link by which the first user can be made, for a day."""
        token = secrets.token_urlsafe(24)
        with self.store.writing() as connection:
            connection.execute(delete(invitation))
            connection.execute(
                insert(invitation).values(
                    token=_digest(token),
                    role=role,
                    expires_at=_now() + INVITATION_LASTS,
                )
            )
        return token

    def invited_role(self, token: str) -> str | None:
        """Return the role that a link gives; None when it is not, or no longer, good."""
        with self.store.reading() as connection:
            found = connection.execute(
                select(invitation).where(invitation.c.token == _digest(token))
            ).first()
        if found is None or found.expires_at < _now() or not self.is_empty():
            return None
        return str(found.role)

    def accept(self, token: str, name: str, password: str) -> None:
        """Make the first user by a link, which is then used up."""
        role = self.invited_role(token)
        if role is None:
            raise Refused("This link is no longer good.")
        self.add(name, password, [role])
        with self.store.writing() as connection:
            connection.execute(delete(invitation))


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _roles(connection: Connection, number: int) -> tuple[str, ...]:
    statement = select(user_role.c.role).where(user_role.c.user_id == number)
    return tuple(sorted(connection.scalars(statement)))


def _is_right(hashed: str, password: str) -> bool:
    try:
        return _hasher.verify(hashed, password)
    except (Argon2Error, InvalidHashError):
        return False


def _has_failed_too_often(connection: Connection, folded: str, origin: str) -> bool:
    since = _now() - FAILURES_WITHIN

    def count(column: str, value: str) -> int:
        statement = select(func.count()).where(
            failure.c[column] == value, failure.c.at > since
        )
        return connection.scalar(statement) or 0

    return (
        count("folded", folded) >= FAILURES_PER_NAME
        or count("origin", origin) >= FAILURES_PER_ORIGIN
    )


def _note_failure(connection: Connection, folded: str, origin: str) -> None:
    old = failure.c.at < _now() - FAILURES_WITHIN
    connection.execute(delete(failure).where(old))
    values = {"folded": folded[:80], "origin": origin[:80], "at": _now()}
    connection.execute(insert(failure).values(values))
