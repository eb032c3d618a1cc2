"""Users, their roles and attributes, passwords and sessions."""

import hashlib
import secrets
from collections.abc import Collection, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from flask_babel import gettext as _
from flask_login import UserMixin
from sqlalchemy import (
    ColumnElement,
    Connection,
    Table,
    bindparam,
    delete,
    insert,
    select,
    true,
    update,
)
from sqlalchemy.exc import DBAPIError

from ..db.engine import Database
from . import passwords
from .passwords import (
    MIN_LENGTH,
    NONE,
    AccountError,
    check_password,
    fold_name,
    mixes_alphabets,
    skeleton,
)
from .preferences import UserData, mark_changed, new_revision, read_user_data
from .store import (
    device,
    former_name,
    invitation,
    link,
    session,
    user,
    user_attribute,
    user_role,
)
from .throttle import TooManyFailures, Try, begin_try, forgive, network_of, now

__all__ = [
    "AccountError",
    "SessionUser",
    "TooManyFailures",
    "Users",
    "check_password",
    "fold_name",
]

LINK_LASTS = timedelta(hours=24)
INVITATION_LASTS = timedelta(days=7)
CONFIRMING = "confirming "  # before a number: tries at one's own password; no name
MAX_WRONG = 5  # of them end the session
SEEN_EVERY = timedelta(minutes=1)  # how often the last use of a session is written down
_FIRST_OF_SESSION = (
    select(
        user.c.id, user.c.name, user.c.display_name, user.c.disabled, user.c.language, user.c.time_zone,
        user.c.revision, session.c.began_at, session.c.seen_at, user_role.c.role,
    )
    .select_from(session)
    .join(user, user.c.id == session.c.user_id)
    .outerjoin(user_role, user_role.c.user_id == user.c.id)
    .where(session.c.token == bindparam("token"))
)  # fmt: skip
MAX_REMEMBERED = 5_000  # users whose stored data is cached
REMEMBERED = timedelta(minutes=1)
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


class Users:
    """The users of one accounts store; `administrator_roles` are those that manage
    users."""

    def __init__(
        self,
        store: Database,
        rules: AccountPolicy | None = None,
        administrator_roles: Collection[str] = (),
    ) -> None:
        self.store = store
        self.rules = rules or AccountPolicy()
        self.administrator_roles = frozenset(administrator_roles)
        self._remembered: dict[int, tuple[int | None, datetime, UserData]] = {}

    @property
    def _password_rules(self) -> tuple[int, tuple[str, ...]]:
        return self.rules.min_password_length, self.rules.words

    # Keeping them

    def add(
        self,
        name: str,
        password: str,
        roles: Sequence[str],
        attributes: Mapping[str, str] | None = None,
    ) -> int:
        """Add a user; return the number. Raises AccountError when the name is taken or
        the password easy."""
        name = name.strip()
        _check_name(name)
        check_password(name, password, *self._password_rules)
        kept = passwords.hash_password(password)
        with self.store.writing() as connection:
            return _insert(connection, name, kept, roles, attributes or {})

    def invite(self, name: str, roles: Sequence[str]) -> str:
        """Add a user without a password; return the token of the link that sets it."""
        name = name.strip()
        _check_name(name)
        with self.store.writing() as connection:
            number = _insert(connection, name, NONE, roles, {})
            return _make_link(connection, number, INVITATION_LASTS)

    def link_for(self, number: int) -> str:
        """Return the token of a link by which a user sets a new password; links made
        before for this user are no longer good."""
        with self.store.writing() as connection:
            return _make_link(connection, number, LINK_LASTS)

    def of_link(self, token: str) -> str | None:
        """Return the name of the user whose password a link sets, None when it is not,
        or no longer, good."""
        statement = (
            select(user.c.name)
            .join(link, link.c.user_id == user.c.id)
            .where(link.c.token == _digest(token), link.c.expires_at > now())
            .where(user.c.disabled.is_(False))
        )
        with self.store.reading() as connection:
            return connection.scalar(statement)

    def use_link(self, token: str, password: str) -> str:
        """Set a password by a link, which is then used up; return the user's name. All
        sessions of the user end."""
        name = self.of_link(token)
        if name is None:
            raise AccountError(_("This link is no longer valid. Ask for a new one."))
        check_password(name, password, *self._password_rules)
        kept = passwords.hash_password(password)
        with self.store.writing() as connection:
            # by the number: the user may be renamed meanwhile
            mine = link.c.token == _digest(token)
            number = connection.scalar(select(link.c.user_id).where(mine))
            used = delete(link).where(mine)
            if number is None or not connection.execute(used).rowcount:
                raise AccountError(
                    _("This link is no longer valid. Ask for a new one.")
                )
            _set_password(connection, number, kept)
        return name

    def set_password(self, name: str, password: str) -> None:
        """Give a user a new password, which ends all of the user's sessions."""
        check_password(name, password, *self._password_rules)
        kept = passwords.hash_password(password)
        with self.store.writing() as connection:
            _set_password(connection, _number_of(connection, name), kept)

    def confirm(self, visitor: SessionUser, password: str, origin: str) -> None:
        """Make sure that who is signed in knows the present password.

        Raises AccountError for another one, TooManyFailures too early after some;
        MAX_WRONG in a row end the session.
        """
        tried = Try(CONFIRMING + str(visitor.id), network_of(origin))
        with self.store.writing() as connection:
            kept = connection.scalar(
                select(user.c.password).where(user.c.id == visitor.id)
            )
            count = begin_try(connection, tried)
        if passwords.is_correct(kept, password):
            with self.store.writing() as connection:
                forgive(connection, tried)
            return
        if count >= MAX_WRONG:
            self.sign_out(visitor.token)
        raise AccountError(_("The current password is wrong."))

    def change_password(self, visitor: SessionUser, new: str) -> None:
        """Change one's own password, which was confirmed; the other sessions of the
        user end."""
        check_password(visitor.name, new, *self._password_rules)
        hash_password = passwords.hash_password(new)
        with self.store.writing() as connection:
            _set_password(connection, visitor.id, hash_password, visitor.token)

    def disable(self, name: str) -> None:
        """Let a user no longer sign in, and end the user's sessions."""
        number = self.find(name).id
        with self.store.writing() as connection:
            self._keep_an_administrator(connection, number, ())
            connection.execute(
                update(user).where(user.c.id == number).values(disabled=True)
            )
            for table in (session, link):
                connection.execute(delete(table).where(table.c.user_id == number))

    def enable(self, name: str) -> None:
        """Let a user sign in again."""
        number = self.find(name).id
        with self.store.writing() as connection:
            connection.execute(
                update(user).where(user.c.id == number).values(disabled=False)
            )

    def set_roles(self, number: int, roles: Collection[str]) -> None:
        """Give a user these roles and no others. Raises AccountError for the last user
        who manages users."""
        with self.store.writing() as connection:
            self._keep_an_administrator(connection, number, roles)
            connection.execute(delete(user_role).where(user_role.c.user_id == number))
            for role in dict.fromkeys(roles):
                connection.execute(insert(user_role).values(user_id=number, role=role))

    def _keep_an_administrator(
        self, connection: Connection, number: int, roles: Collection[str]
    ) -> None:
        if not self.administrator_roles or self.administrator_roles & set(roles):
            return
        of_keepers = (
            select(user.c.id)
            .join(user_role, user_role.c.user_id == user.c.id)
            .where(
                user_role.c.role.in_(self.administrator_roles),
                user.c.disabled.is_(False),
            )
        )
        # locked, since two who demote each other at once would leave none
        keepers = set(connection.scalars(of_keepers.with_for_update()))
        if keepers == {number}:
            raise AccountError(_("At least one user who manages users must remain."))

    def set_attributes(self, number: int, attributes: Mapping[str, str]) -> None:
        """Give a user these attributes and no others."""
        with self.store.writing() as connection:
            mine = user_attribute.c.user_id == number
            connection.execute(delete(user_attribute).where(mine))
            for name, value in attributes.items():
                values = {"user_id": number, "name": name, "value": value}
                connection.execute(insert(user_attribute).values(values))
            mark_changed(connection, number)

    def set_profile(self, number: int, language: str, time_zone: str) -> None:
        """Keep how a user wants dates and numbers written, and in which zone."""
        values = {"language": language or None, "time_zone": time_zone or None}
        with self.store.writing() as connection:
            connection.execute(update(user).where(user.c.id == number).values(values))

    def rename(self, number: int, name: str) -> None:
        """Give a user another name; the one before stays reserved, since rules, stamps
        and the log know it. Raises AccountError when it is, or was, somebody else's."""
        name = name.strip()
        _check_name(name)
        with self.store.writing() as connection:
            _refuse_taken(connection, name, number)
            before = connection.scalar(
                select(user.c.skeleton).where(user.c.id == number)
            )
            if before and before != skeleton(name):
                gone = former_name.c.skeleton == before
                connection.execute(delete(former_name).where(gone))
                held = {"skeleton": before, "user_id": number, "at": now()}
                connection.execute(insert(former_name).values(held))
            values = {
                "name": name,
                "folded": fold_name(name),
                "skeleton": skeleton(name),
            }
            connection.execute(update(user).where(user.c.id == number).values(values))

    def set_display_name(self, number: int, name: str) -> None:
        """Keep what others call a user. Raises AccountError for the name, or the
        display name, of somebody else."""
        name = name.strip()
        if name:
            _check_name(name)
        with self.store.writing() as connection:
            if name:
                _refuse_taken(connection, name, number)
                shown = select(user.c.id, user.c.display_name)
                others = connection.execute(shown.where(user.c.id != number))
                if any(skeleton(o or "") == skeleton(name) for _id, o in others):
                    raise AccountError(
                        _('The name "%(name)s" is taken. Choose another.', name=name)
                    )
            mine = update(user).where(user.c.id == number)
            connection.execute(mine.values(display_name=name or None))

    # Looking at them

    def accounts(self) -> list[Account]:
        """Return all users by name."""
        return self._accounts(true())

    def find(self, name: str) -> Account:
        """Return the user of this name. Raises AccountError when there is none."""
        for account in self._accounts(user.c.folded == fold_name(name)):
            return account
        raise AccountError(_('There is no user "%(name)s".', name=name))

    def account(self, number: int) -> Account | None:
        """Return the user of this number."""
        return next(iter(self._accounts(user.c.id == number)), None)

    def _accounts(self, which: ColumnElement[bool]) -> list[Account]:
        chosen = select(user.c.id).where(which)
        with self.store.reading() as connection:

            def gathered(table: Table, *columns: str) -> dict[int, list[Any]]:
                held = select(table.c.user_id, *[table.c[name] for name in columns])
                return _gathered(connection, held.where(table.c.user_id.in_(chosen)))

            rows = connection.execute(select(user).where(which).order_by(user.c.folded))
            found = rows.all()
            roles = gathered(user_role, "role")
            values = gathered(user_attribute, "name", "value")
            seen = gathered(session, "seen_at")
        live = now() - self.rules.idle
        return [
            Account(
                id=row.id,
                name=row.name,
                roles=tuple(sorted(role for (role,) in roles.get(row.id, ()))),
                disabled=row.disabled,
                is_invited=row.password == NONE,
                attributes=dict(values.get(row.id, ())),
                sessions=sum(at > live for (at,) in seen.get(row.id, ())),
                display_name=row.display_name or "",
            )
            for row in found
        ]

    def is_empty(self) -> bool:
        """Tell whether there is no user yet."""
        with self.store.reading() as connection:
            return not self._has_users(connection)

    @staticmethod
    def _has_users(connection: Connection) -> bool:
        return connection.scalar(select(user.c.id).limit(1)) is not None

    # Their sessions

    def load(self, token: str) -> SessionUser | None:
        """Return the user of a session, None when it has ended."""
        with self.store.reading() as connection:
            digest = {"token": _digest(token)}
            rows = connection.execute(_FIRST_OF_SESSION, digest).all()
            if not rows or rows[0].disabled:
                return None
            kept = self._kept(connection, rows[0].id, rows[0].revision)
        first, moment = rows[0], now()
        if (
            first.seen_at < moment - self.rules.idle
            or first.began_at < moment - self.rules.absolute
        ):
            self.sign_out(token)
            return None
        if first.seen_at < moment - SEEN_EVERY:
            mine = update(session).where(session.c.token == _digest(token))
            # a store that is busy must not end the page
            with suppress(DBAPIError), self.store.writing() as connection:
                connection.execute(mine.values(seen_at=moment))
        roles = tuple(sorted(row.role for row in rows if row.role is not None))
        return SessionUser(
            first.id, first.name, roles, token, kept,
            first.language or "", first.time_zone or "", first.display_name or "",
        )  # fmt: skip

    def _kept(
        self, connection: Connection, number: int, revision: int | None
    ) -> UserData:
        """Return the stored data of a user, cached by revision for a
        while, since a process of an older version changes none."""
        known = self._remembered.get(number)
        if known and known[0] == revision and known[1] > now() - REMEMBERED:
            return known[2]
        if len(self._remembered) >= MAX_REMEMBERED:
            self._remembered.clear()
        kept = read_user_data(connection, number)
        self._remembered[number] = (revision, now(), kept)
        return kept

    def sign_in(
        self,
        name: str,
        password: str,
        origin: str,
        device_token: str = "",
        browser: str = "",
    ) -> SessionUser | None:
        """Return the user with this name and password in a new session, None when there
        is none.

        Takes as long for a name that does not exist. Raises TooManyFailures, for names
        that do not exist too.
        """
        folded, network = fold_name(name)[:80], network_of(origin)
        with self.store.writing() as connection:
            row = connection.execute(
                select(user).where(user.c.folded == folded)
            ).first()
            number = row.id if row is not None else 0
            known = _is_known(connection, number, device_token)
            tried = Try(folded, network, _digest(device_token) if known else "")
            begin_try(connection, tried)
        good = passwords.is_correct(row.password if row is not None else None, password)
        if row is None or row.disabled or not good:
            return None
        token, moment = secrets.token_urlsafe(32), now()
        with self.store.writing() as connection:
            forgive(connection, tried)
            old = session.c.began_at < moment - self.rules.absolute
            connection.execute(delete(session).where(old))
            connection.execute(
                insert(session).values(
                    token=_digest(token),
                    user_id=row.id,
                    began_at=moment,
                    seen_at=moment,
                    origin=network,
                    browser=browser[:200],
                )
            )
            if passwords.is_outdated(row.password):
                renewed = {"password": passwords.hash_password(password)}
                connection.execute(
                    update(user).where(user.c.id == row.id).values(renewed)
                )
        return self.load(token)

    def remember_device(self, number: int, device_token: str) -> None:
        """Remember that a user signed in on a device."""
        digest = _digest(device_token)
        with self.store.writing() as connection:
            mine = (device.c.token == digest) & (device.c.user_id == number)
            if not connection.execute(
                update(device).where(mine).values(seen_at=now())
            ).rowcount:
                values = {"token": digest, "user_id": number, "seen_at": now()}
                connection.execute(insert(device).values(values))

    def sign_out(self, token: str) -> None:
        """End a session."""
        with self.store.writing() as connection:
            connection.execute(delete(session).where(session.c.token == _digest(token)))

    def sessions(self, number: int) -> list[OpenSession]:
        """Return the open sessions of a user, the latest first."""
        statement = (
            select(session)
            .where(session.c.user_id == number)
            .where(session.c.seen_at > now() - self.rules.idle)
            .order_by(session.c.seen_at.desc())
        )
        with self.store.reading() as connection:
            return [
                OpenSession(
                    row.token[:16], row.began_at, row.seen_at, row.origin, row.browser
                )
                for row in connection.execute(statement)
            ]

    def own_session(self, visitor: SessionUser) -> str:
        """Return the identifier of the present session among those of its user."""
        return _digest(visitor.token)[:16]

    def end_session(self, number: int, name: str) -> None:
        """End one session of a user, by what names it."""
        with self.store.writing() as connection:
            connection.execute(
                delete(session).where(
                    session.c.user_id == number,
                    session.c.token.startswith(name, autoescape=True),
                )
            )

    def end_sessions(self, number: int) -> None:
        """End all sessions of a user."""
        with self.store.writing() as connection:
            connection.execute(delete(session).where(session.c.user_id == number))

    # The first one

    def invite_first(self, role: str) -> str:
        """Return the token of a link by which the first user can be made, for a day."""
        token = secrets.token_urlsafe(24)
        with self.store.writing() as connection:
            connection.execute(delete(invitation))
            connection.execute(
                insert(invitation).values(
                    token=_digest(token), role=role, expires_at=now() + LINK_LASTS
                )
            )
        return token

    def invited_role(self, token: str) -> str | None:
        """Return the role that a link gives; None when it is not, or no longer,
        good."""
        with self.store.reading() as connection:
            found = connection.execute(
                select(invitation).where(invitation.c.token == _digest(token))
            ).first()
        if found is None or found.expires_at < now() or not self.is_empty():
            return None
        return str(found.role)

    def accept(self, token: str, name: str, password: str) -> None:
        """Make the first user by a link, which is then used up."""
        role = self.invited_role(token)
        if role is None:
            raise AccountError(_("This link is no longer valid. Ask for a new one."))
        name = name.strip()
        _check_name(name)
        check_password(name, password, *self._password_rules)
        kept = passwords.hash_password(password)
        with self.store.writing() as connection:
            # of several who come at once, one uses it up
            used = delete(invitation).where(invitation.c.token == _digest(token))
            if not connection.execute(used).rowcount or self._has_users(connection):
                raise AccountError(
                    _("This link is no longer valid. Ask for a new one.")
                )
            _insert(connection, name, kept, [role], {})


def _check_name(name: str) -> None:
    longest = max(len(each) for each in (name, fold_name(name), skeleton(name)))
    if not name or longest > MAX_NAME_LENGTH or not name.isprintable():
        raise AccountError(_("Enter a name of 1 to 80 printable characters."))
    if mixes_alphabets(name):
        raise AccountError(_("Enter a name in the letters of one alphabet."))


def _refuse_taken(connection: Connection, name: str, number: int) -> None:
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


def _insert(
    connection: Connection,
    name: str,
    kept: str,
    roles: Sequence[str],
    attributes: Mapping[str, str],
) -> int:
    _refuse_taken(connection, name, 0)
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


def _make_link(connection: Connection, number: int, lasts: timedelta) -> str:
    token = secrets.token_urlsafe(24)
    connection.execute(delete(link).where(link.c.user_id == number))
    values = {"token": _digest(token), "user_id": number, "expires_at": now() + lasts}
    connection.execute(insert(link).values(values))
    return token


def _number_of(connection: Connection, name: str) -> int:
    """Return the number of a user. Raises AccountError when there is none of this
    name."""
    number = connection.scalar(
        select(user.c.id).where(user.c.folded == fold_name(name))
    )
    if number is None:
        raise AccountError(_('There is no user "%(name)s".', name=name))
    return int(number)


def _set_password(
    connection: Connection, number: int, kept: str, but: str = ""
) -> None:
    """Keep a new password; end the user's sessions and links, `but` one session."""
    values = {"password": kept, "stamp": secrets.token_urlsafe(18)}
    connection.execute(update(user).where(user.c.id == number).values(values))
    ended = delete(session).where(session.c.user_id == number)
    if but:
        ended = ended.where(session.c.token != _digest(but))
    connection.execute(ended)
    connection.execute(delete(link).where(link.c.user_id == number))


def _is_known(connection: Connection, number: int, device_token: str) -> bool:
    if not device_token or not number:
        return False
    statement = select(device.c.user_id).where(
        device.c.token == _digest(device_token), device.c.user_id == number
    )
    return connection.scalar(statement) is not None


def _gathered(
    connection: Connection, statement: Any
) -> dict[int, list[tuple[Any, ...]]]:
    """Return rows without their first column, by that."""
    found: dict[int, list[tuple[Any, ...]]] = {}
    for number, *rest in connection.execute(statement):
        found.setdefault(number, []).append(tuple(rest))
    return found


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
