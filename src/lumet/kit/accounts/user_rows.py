"""Users, as the accounts store has them: their rows, names and passwords."""

import hashlib
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from flask_babel import gettext as _
from flask_login import UserMixin
from sqlalchemy import (
    Connection,
    delete,
    insert,
    select,
    update,
)

from .passwords import (
    MIN_LENGTH,
    AccountError,
    fold_name,
    mixes_alphabets,
    skeleton,
)
from .preferences import UserData, new_revision
from .store import (
    device,
    former_name,
    link,
    session,
    user,
    user_attribute,
    user_role,
)
from .throttle import now

MAX_NAME_LENGTH = 80  # characters, folded too


@dataclass(frozen=True, slots=True)
class AccountPolicy:
    """The policy for passwords and sessions."""

    min_password_length: int = MIN_LENGTH
    words: tuple[str, ...] = ()  # of the application, which no password may rest on
    idle: timedelta = timedelta(hours=10)
    absolute: timedelta = timedelta(days=7)


@dataclass(frozen=True)
class SessionUser(UserMixin):  # type: ignore[misc]
    """A signed-in user, by the session that the request came with."""

    id: int
    name: str
    roles: tuple[str, ...]
    token: str = field(repr=False)
    kept: UserData = field(default_factory=UserData)
    language: str = ""
    time_zone: str = ""
    display_name: str = ""

    @property
    def shown_name(self) -> str:
        """The display name of the user; rules, automatic values and the log use
        `name`."""
        return self.display_name or self.name

    @property
    def attributes(self) -> Mapping[str, str]:
        """The attributes of the user for rules, by name."""
        return self.kept.attributes

    def get_id(self) -> str:
        """Return the token for the session cookie."""
        return self.token


@dataclass(frozen=True, slots=True)
class Account:
    """One user, as administrators see it."""

    id: int
    name: str
    roles: tuple[str, ...]
    disabled: bool
    is_invited: bool = False  # has no password yet
    attributes: Mapping[str, str] = field(default_factory=dict)
    sessions: int = 0
    display_name: str = ""


@dataclass(frozen=True, slots=True)
class OpenSession:
    """One session of a user: `id` names it without giving it away."""

    id: str
    began_at: datetime
    seen_at: datetime
    origin: str
    browser: str


def check_name(name: str) -> None:
    longest = max(len(each) for each in (name, fold_name(name), skeleton(name)))
    if not name or longest > MAX_NAME_LENGTH or not name.isprintable():
        raise AccountError(_("Enter a name of 1 to 80 printable characters."))
    if mixes_alphabets(name):
        raise AccountError(_("Enter a name in the letters of one alphabet."))


def refuse_taken(connection: Connection, name: str, number: int) -> None:
    """Raise AccountError for a name that another than user `number` has or had."""
    wanted = skeleton(name)
    taken = select(user.c.id).where(user.c.skeleton == wanted, user.c.id != number)
    if connection.scalar(taken):
        raise AccountError(
            _('The name "%(name)s" is taken. Choose another.', name=name)
        )
    former = select(former_name.c.user_id).where(former_name.c.skeleton == wanted)
    if connection.scalar(former.where(former_name.c.user_id != number)):
        raise AccountError(
            _('"%(name)s" was the name of another user. Choose another.', name=name)
        )


def insert_user(
    connection: Connection,
    name: str,
    kept: str,
    roles: Sequence[str],
    attributes: Mapping[str, str],
) -> int:
    refuse_taken(connection, name, 0)
    values = {
        "name": name,
        "folded": fold_name(name),
        "skeleton": skeleton(name),
        "password": kept,
        "stamp": secrets.token_urlsafe(18),
        "disabled": False,
        "created_at": now(),
        "revision": new_revision(),
    }
    result = connection.execute(insert(user).values(values))
    (number,) = result.inserted_primary_key or (0,)
    for role in dict.fromkeys(roles):
        connection.execute(insert(user_role).values(user_id=number, role=role))
    for key, value in attributes.items():
        held = {"user_id": number, "name": key, "value": value}
        connection.execute(insert(user_attribute).values(held))
    return int(number)


def make_link(connection: Connection, number: int, lasts: timedelta) -> str:
    token = secrets.token_urlsafe(24)
    connection.execute(delete(link).where(link.c.user_id == number))
    values = {
        "token": token_digest(token),
        "user_id": number,
        "expires_at": now() + lasts,
    }
    connection.execute(insert(link).values(values))
    return token


def user_number(connection: Connection, name: str) -> int:
    """Return the number of a user. Raises AccountError when there is none of this
    name."""
    number = connection.scalar(
        select(user.c.id).where(user.c.folded == fold_name(name))
    )
    if number is None:
        raise AccountError(_('There is no user "%(name)s".', name=name))
    return int(number)


def store_password(
    connection: Connection, number: int, kept: str, but: str = ""
) -> None:
    """Keep a new password; end the user's sessions and links, `but` one session."""
    values = {"password": kept, "stamp": secrets.token_urlsafe(18)}
    connection.execute(update(user).where(user.c.id == number).values(values))
    ended = delete(session).where(session.c.user_id == number)
    if but:
        ended = ended.where(session.c.token != token_digest(but))
    connection.execute(ended)
    connection.execute(delete(link).where(link.c.user_id == number))


def is_known_device(connection: Connection, number: int, device_token: str) -> bool:
    if not device_token or not number:
        return False
    statement = select(device.c.user_id).where(
        device.c.token == token_digest(device_token), device.c.user_id == number
    )
    return connection.scalar(statement) is not None


def gather_rows(
    connection: Connection, statement: Any
) -> dict[int, list[tuple[Any, ...]]]:
    """Return rows without their first column, by that."""
    found: dict[int, list[tuple[Any, ...]]] = {}
    for number, *rest in connection.execute(statement):
        found.setdefault(number, []).append(tuple(rest))
    return found


def token_digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
