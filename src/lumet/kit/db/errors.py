"""Classification of database errors, by the server that raised them."""

from collections.abc import Sequence
from typing import Any

from flask_babel import gettext as _
from sqlalchemy.exc import DBAPIError

from .dialects import server_of_error
from .dialects.base import DatabaseError

Messages = Sequence[tuple[str, Any]]  # by the name of a constraint


def decided_message(constraint: str, messages: Messages) -> str:
    """Return the message that was decided for a constraint, "" for none. MariaDB puts the table and a dot before the name of some."""
    names = (constraint, constraint.rpartition(".")[2])
    return next((str(text) for name, text in messages if name in names), "")


def not_allowed(told: DatabaseError, messages: Messages = ()) -> str:
    """Return the message of a refusal that belongs to no field and no reference: the
    decided one of `messages`, else what the database says."""
    if text := decided_message(told.rule, messages):
        return text
    if told.kind == "transaction":
        text = _("The database's code ends the transaction itself; here it cannot.")
    elif told.kind == "needed" and told.columns:
        names = ", ".join(told.columns)
        text = _("The database requires a value in %(names)s, which is not on this "
                 "form.",
                 names=names)  # fmt: skip
    elif told.rule:
        text = _(
            "The database does not allow this: %(rule)s.", rule=told.rule.rstrip(".")
        )
    else:
        text = _("The database does not allow this.")
    return str(text)


def classify(error: DBAPIError) -> DatabaseError:
    """Return the class of a driver's error."""
    server = server_of_error(error.orig)
    if found := server.classify(error.orig):
        return found
    if is_lost(error):
        return DatabaseError("lost")
    return DatabaseError("other", rule=str(error.orig).split("\n")[0])


def is_lost(error: DBAPIError) -> bool:
    """Tell whether the database cannot be reached, or the connection broke off."""
    if error.connection_invalidated:
        return True
    return server_of_error(error.orig).is_lost(error.orig)


def is_passing(error: DBAPIError) -> bool:
    """Tell whether transactions got in each other's way, so that the same work, done
    again from its beginning, will do."""
    return server_of_error(error.orig).is_passing(error.orig)
