"""Invitations: links by which users set their passwords, and the first one is made."""

import secrets
from collections.abc import Sequence
from datetime import timedelta
from typing import TYPE_CHECKING

from flask_babel import gettext as _
from sqlalchemy import (
    delete,
    insert,
    select,
)

from . import passwords
from .passwords import (
    NONE,
    AccountError,
    check_password,
)
from .store import (
    invitation,
    link,
    user,
)
from .throttle import now
from .user_rows import (
    check_name,
    insert_user,
    make_link,
    store_password,
    token_digest,
)

if TYPE_CHECKING:
    from .users import Users

LINK_LASTS = timedelta(hours=24)
INVITATION_LASTS = timedelta(days=7)


class Invitations:
    """The links of one accounts store."""

    def __init__(self, users: "Users") -> None:
        self.users, self.store = users, users.store

    def invite(self, name: str, roles: Sequence[str]) -> str:
        """Add a user without a password; return the token of the link that sets it."""
        name = name.strip()
        check_name(name)
        with self.store.writing() as connection:
            number = insert_user(connection, name, NONE, roles, {})
            return make_link(connection, number, INVITATION_LASTS)

    def link_for(self, number: int) -> str:
        """Return the token of a link by which a user sets a new password; links made
        before for this user are no longer good."""
        with self.store.writing() as connection:
            return make_link(connection, number, LINK_LASTS)

    def of_link(self, token: str) -> str | None:
        """Return the name of the user whose password a link sets, None when it is not,
        or no longer, good."""
        statement = (
            select(user.c.name)
            .join(link, link.c.user_id == user.c.id)
            .where(link.c.token == token_digest(token), link.c.expires_at > now())
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
        check_password(name, password, *self.users.password_rules)
        kept = passwords.hash_password(password)
        with self.store.writing() as connection:
            # by the number: the user may be renamed meanwhile
            mine = link.c.token == token_digest(token)
            number = connection.scalar(select(link.c.user_id).where(mine))
            used = delete(link).where(mine)
            if number is None or not connection.execute(used).rowcount:
                raise AccountError(
                    _("This link is no longer valid. Ask for a new one.")
                )
            store_password(connection, number, kept)
        return name

    def invite_first(self, role: str) -> str:
        """Return the token of a link by which the first user can be made, for a day."""
        token = secrets.token_urlsafe(24)
        with self.store.writing() as connection:
            connection.execute(delete(invitation))
            connection.execute(
                insert(invitation).values(
                    token=token_digest(token), role=role, expires_at=now() + LINK_LASTS
                )
            )
        return token

    def invited_role(self, token: str) -> str | None:
        """Return the role that a link gives; None when it is not, or no longer,
        good."""
        with self.store.reading() as connection:
            found = connection.execute(
                select(invitation).where(invitation.c.token == token_digest(token))
            ).first()
        if found is None or found.expires_at < now() or not self.users.is_empty():
            return None
        return str(found.role)

    def accept(self, token: str, name: str, password: str) -> None:
        """Make the first user by a link, which is then used up."""
        role = self.invited_role(token)
        if role is None:
            raise AccountError(_("This link is no longer valid. Ask for a new one."))
        name = name.strip()
        check_name(name)
        check_password(name, password, *self.users.password_rules)
        kept = passwords.hash_password(password)
        with self.store.writing() as connection:
            # of several who come at once, one uses it up
            used = delete(invitation).where(invitation.c.token == token_digest(token))
            if not connection.execute(used).rowcount or self.users.has_users(
                connection
            ):
                raise AccountError(
                    _("This link is no longer valid. Ask for a new one.")
                )
            insert_user(connection, name, kept, [role], {})
