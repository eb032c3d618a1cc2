"""The sessions of users: signing in and out, what a cookie stands for."""

import secrets
from contextlib import suppress
from datetime import datetime, timedelta

from sqlalchemy import (
    Connection,
    bindparam,
    delete,
    insert,
    select,
    update,
)
from sqlalchemy.exc import DBAPIError

from ..db.engine import Database
from . import passwords
from .passwords import (
    fold_name,
)
from .preferences import UserData, read_user_data
from .store import (
    device,
    session,
    user,
    user_role,
)
from .throttle import Try, begin_try, forgive, network_of, now
from .user_rows import (
    AccountPolicy,
    OpenSession,
    SessionUser,
    is_known_device,
    token_digest,
)

SEEN_EVERY = timedelta(minutes=1)  # how often the last use of a session is written down
MAX_REMEMBERED = 5_000  # users whose stored data is cached
REMEMBERED = timedelta(minutes=1)
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


class Sessions:
    """The sessions of one accounts store."""

    def __init__(self, store: Database, rules: AccountPolicy) -> None:
        self.store, self.rules = store, rules
        self._remembered: dict[int, tuple[int | None, datetime, UserData]] = {}

    def load(self, token: str) -> SessionUser | None:
        """Return the user of a session, None when it has ended."""
        with self.store.reading() as connection:
            digest = {"token": token_digest(token)}
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
            mine = update(session).where(session.c.token == token_digest(token))
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
            known = is_known_device(connection, number, device_token)
            tried = Try(folded, network, token_digest(device_token) if known else "")
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
                    token=token_digest(token),
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
        digest = token_digest(device_token)
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
            connection.execute(
                delete(session).where(session.c.token == token_digest(token))
            )

    def of_user(self, number: int) -> list[OpenSession]:
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
        return token_digest(visitor.token)[:16]

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
