"""Stored preferences of users: attributes, choices of columns, and saved views.

What pages need of it is read once and remembered under the revision of the user, which
every change makes anew: so a session's own query tells whether it still holds.
"""

import secrets
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, delete, insert, or_, select, update

from ..contract import MAX_WIDTH, MIN_WIDTH
from ..db.engine import Database
from .store import choice, saved_view, user, user_attribute, view_role

COLUMNS = "columns "  # begins the choice of a list's columns; its table follows
WIDTHS = "widths "  # and that of their widths
FAVOURITES = "favourites"  # the choice of entries of the menu, one a line
MAX_QUERY_LENGTH = 2_000  # characters of a view's address


def read_widths(text: str) -> dict[str, int]:
    """Return the widths of a choice in pixels, by the keys of columns."""
    found = {}
    for word in text.split(","):
        key, _sep, number = word.partition(":")
        if number.isdecimal() and MIN_WIDTH <= int(number) <= MAX_WIDTH:
            found[key] = int(number)
    return found


@dataclass(frozen=True, slots=True)
class SavedView:
    """A saved view of the list of a table: a name for a query."""

    id: int
    table: str
    name: str
    query: str
    is_own: bool
    is_first: bool
    roles: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class UserData:
    """The stored data of a user that pages need: attributes and choices by name, and
    the views that open first by table."""

    attributes: Mapping[str, str] = field(default_factory=dict)
    choices: Mapping[str, str] = field(default_factory=dict)
    first_views: Mapping[str, str] = field(default_factory=dict)


def read_user_data(connection: Connection, user_id: int) -> UserData:
    """Read the stored data of a user."""
    attribute, view = user_attribute.c, saved_view.c
    statements = (
        select(attribute.name, attribute.value).where(attribute.user_id == user_id),
        select(choice.c.name, choice.c.value).where(choice.c.user_id == user_id),
        select(view.record_table, view.query).where(
            view.user_id == user_id, view.is_first
        ),
    )
    found = [
        {row[0]: row[1] for row in connection.execute(each)} for each in statements
    ]
    return UserData(*found)


def new_revision() -> int:
    """Return a revision that was none before; a number given again to another user
    must not meet what was remembered of the first."""
    return secrets.randbits(31)


def mark_changed(connection: Connection, user_id: int) -> None:
    """Note that the stored data of a user has changed."""
    mine = update(user).where(user.c.id == user_id)
    connection.execute(mine.values(revision=new_revision()))


class Preferences:
    """The choices of one user, who may be nobody: then nothing is kept."""

    def __init__(
        self, store: Database, user_id: int | None, kept: UserData | None = None
    ) -> None:
        self.store = store
        self.user_id = user_id
        self.kept = kept or UserData()

    def get(self, name: str) -> str | None:
        """Return a choice, None where there is none."""
        return self.kept.choices.get(name)

    def set(self, name: str, value: str) -> None:
        """Keep a choice; "" forgets it."""
        if self.user_id is None:
            return
        mine = (choice.c.user_id == self.user_id) & (choice.c.name == name)
        with self.store.writing() as connection:
            connection.execute(delete(choice).where(mine))
            if value:
                values = {"user_id": self.user_id, "name": name, "value": value}
                connection.execute(insert(choice).values(values))
            mark_changed(connection, self.user_id)

    def first_view(self, table: str) -> str:
        """Return the query of the default view, "" for none."""
        return self.kept.first_views.get(table, "")

    def views(self, table: str, roles: Sequence[str]) -> list[SavedView]:
        """Return the views of a list that are the user's own or shared with a role."""
        return self._views(roles, saved_view.c.record_table == table)

    def all_views(self, roles: Sequence[str]) -> list[SavedView]:
        """Return the views of all lists that are the user's own or shared with a
        role."""
        return self._views(roles)

    def _views(self, roles: Sequence[str], *where: Any) -> list[SavedView]:
        if self.user_id is None:
            return []
        shared = select(view_role.c.view_id).where(view_role.c.role.in_(roles))
        statement = (
            select(saved_view)
            .where(
                or_(saved_view.c.user_id == self.user_id, saved_view.c.id.in_(shared)),
                *where,
            )
            .order_by(saved_view.c.name)
        )
        with self.store.reading() as connection:
            rows = connection.execute(statement).all()
            held: dict[int, list[str]] = {}
            for number, role in connection.execute(
                select(view_role.c.view_id, view_role.c.role)
            ):
                held.setdefault(number, []).append(role)
        return [
            SavedView(
                id=row.id,
                table=row.record_table,
                name=row.name,
                query=row.query,
                is_own=row.user_id == self.user_id,
                is_first=row.is_first and row.user_id == self.user_id,
                roles=tuple(sorted(held.get(row.id, ()))),
            )
            for row in rows
        ]

    def save_view(
        self,
        table: str,
        name: str,
        query: str,
        roles: Collection[str],
        is_first: bool,
    ) -> None:
        """Keep a view under a name, in the place of an own one of that name."""
        assert self.user_id is not None
        own = (saved_view.c.user_id == self.user_id) & (
            saved_view.c.record_table == table
        )
        with self.store.writing() as connection:
            connection.execute(delete(saved_view).where(own, saved_view.c.name == name))
            if is_first:
                connection.execute(update(saved_view).where(own).values(is_first=False))
            result = connection.execute(
                insert(saved_view).values(
                    user_id=self.user_id,
                    record_table=table,
                    name=name,
                    query=query,
                    is_first=is_first,
                )
            )
            (number,) = result.inserted_primary_key or (0,)
            for role in sorted(set(roles)):
                connection.execute(insert(view_role).values(view_id=number, role=role))
            mark_changed(connection, self.user_id)

    def delete_view(self, number: int) -> None:
        """Forget an own view."""
        if self.user_id is None:
            return
        with self.store.writing() as connection:
            connection.execute(
                delete(saved_view).where(
                    saved_view.c.id == number, saved_view.c.user_id == self.user_id
                )
            )
            mark_changed(connection, self.user_id)
