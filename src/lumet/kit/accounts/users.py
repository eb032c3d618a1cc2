"""Users, their roles and attributes, passwords and sessions."""

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import (
    ColumnElement,
    Connection,
    Table,
    delete,
    insert,
    select,
    true,
    update,
)

from ..db.engine import Database
from . import passwords
from .invitations import Invitations
from .passwords import (
    NONE,
    AccountError,
    check_password,
    fold_name,
    skeleton,
)
from .preferences import mark_changed
from .sessions import Sessions
from .store import (
    former_name,
    link,
    session,
    user,
    user_attribute,
    user_role,
)
from .throttle import Try, begin_try, forgive, network_of, now
from .user_rows import (
    Account,
    AccountPolicy,
    SessionUser,
    check_name,
    gather_rows,
    insert_user,
    refuse_taken,
    store_password,
    user_number,
)

CONFIRMING = "confirming "  # before a number: tries at one's own password; no name
MAX_WRONG = 5  # of them end the session


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
        self.sessions = Sessions(store, self.rules)
        self.invitations = Invitations(self)

    @property
    def password_rules(self) -> tuple[int, tuple[str, ...]]:
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
        check_name(name)
        check_password(name, password, *self.password_rules)
        kept = passwords.hash_password(password)
        with self.store.writing() as connection:
            return insert_user(connection, name, kept, roles, attributes or {})

    def set_password(self, name: str, password: str) -> None:
        """Give a user a new password, which ends all of the user's sessions."""
        check_password(name, password, *self.password_rules)
        kept = passwords.hash_password(password)
        with self.store.writing() as connection:
            store_password(connection, user_number(connection, name), kept)

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
            self.sessions.sign_out(visitor.token)
        raise AccountError(_("The current password is wrong."))

    def change_password(self, visitor: SessionUser, new: str) -> None:
        """Change one's own password, which was confirmed; the other sessions of the
        user end."""
        check_password(visitor.name, new, *self.password_rules)
        hash_password = passwords.hash_password(new)
        with self.store.writing() as connection:
            store_password(connection, visitor.id, hash_password, visitor.token)

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
        check_name(name)
        with self.store.writing() as connection:
            refuse_taken(connection, name, number)
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
            check_name(name)
        with self.store.writing() as connection:
            if name:
                refuse_taken(connection, name, number)
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
                return gather_rows(connection, held.where(table.c.user_id.in_(chosen)))

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
            return not self.has_users(connection)

    @staticmethod
    def has_users(connection: Connection) -> bool:
        return connection.scalar(select(user.c.id).limit(1)) is not None
