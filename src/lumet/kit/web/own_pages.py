"""Pages of your own: who may open them, and what they read."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from flask import Blueprint, abort
from flask.typing import ResponseReturnValue
from flask_login import current_user
from sqlalchemy import Connection, FromClause, Table

from ..access.reach import Reach
from ..pages.context import current_reach, site
from .navigation import redirect_to_sign_in


def own_pages(name: str, *, roles: Sequence[str] = ()) -> Blueprint:
    """Return a Flask blueprint for pages of your own, which only users with one of the
    `roles` can open; without roles, all who are signed in."""
    blueprint = Blueprint(name, __name__)

    @blueprint.before_request
    def admit() -> ResponseReturnValue | None:
        if not current_user.is_authenticated:
            return redirect_to_sign_in()
        if roles and not {role.name for role in current_reach().roles} & {*roles}:
            abort(403)
        return None

    return blueprint


@contextmanager
def reading() -> Iterator[tuple[Connection, Reach]]:
    """Give a connection for reading and the reach of the present user, who executes:
    `reach.run(connection, select(rows(table)))`."""
    with site().database.reading() as connection:
        yield connection, current_reach()


def rows(table: Table) -> FromClause:
    """Return the rows and columns of a table within reach of the present user, to
    select from."""
    return current_reach().rows(table)


def setting(name: str) -> str:
    """Return the value of a setting of your own, as `SETTINGS` in custom/__init__.py
    declares it. Raises KeyError for one that it does not."""
    return site().own_settings[name]


def is_rehearsal() -> bool:
    """Tell whether this is a rehearsal, in which nothing is kept: leave out what cannot
    be undone."""
    return site().is_rehearsal
