"""The methods of your own code that a change passes: `validate`, `write`, `committed`."""

import logging
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import partial
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection, select
from sqlalchemy.exc import DBAPIError
from werkzeug.exceptions import HTTPException

from ..access.denied import AccessDenied, ChangeDenied
from ..access.reach import UNBOUNDED
from ..accounts.audit_log import current_recording
from ..accounts.outbox import Message
from ..common.url_keys import encode_key
from ..forms.base import RecordForm
from ..pages.changes import (
    ADD,
    EDIT,
    TRANSITION,
    Change,
    ChangeRefused,
    CodeFailed,
)
from ..pages.context import actor
from ..pages.table_context import TableContext
from ..pages.transitions import initial_values
from .outgoing import About, made_messages
from .save_result import SaveResult

log = logging.getLogger(__name__)
METHODS = ("validate", "write", "committed")  # of own code
NOTHING: Mapping[str, Any] = {}


class OwnChanges:
    """Takes the changes of one table from one source through the methods of its
    pages."""

    def __init__(self, context: TableContext, source: str) -> None:
        self.context, self.pages, self.source = context, context.pages, source

    def change(
        self,
        kind: str,
        connection: Connection,
        carry_out: Callable[[Change], None],
        key: Mapping[str, Any] = NOTHING,
        values: Mapping[str, Any] = NOTHING,
    ) -> Change:
        """Return a change that is about to be carried out."""
        takes_part = bool(self.pages.transitions) or any(map(self.pages.overrides, METHODS))  # fmt: skip
        return Change(
            kind=kind,
            source=self.source,
            connection=connection,
            user=actor(),
            roles=tuple(role.name for role in self.context.reach.roles),
            key=dict(key),
            before=self.stored(connection, key) if key and takes_part else {},
            values=dict(values),
            carry_out=carry_out,
        )

    def stored(
        self, connection: Connection, key: Mapping[str, Any]
    ) -> Mapping[str, Any]:
        """Return all columns of the record with this key: your own code looks past the
        user's reach."""
        columns = [self.pages.column(name) for name in self.pages.column_keys()]
        statement = select(*columns).where(self.pages.is_key(key))
        row = UNBOUNDED.run(connection, statement).first()
        return dict(zip(self.pages.column_keys(), row or (), strict=False))

    def is_admitted(self, change: Change, outcome: SaveResult) -> bool:
        """Let your own code look at a change; put what it refuses at the fields of the
        form, else at its top."""
        self.validate(change)
        for name, message in change.refusals:
            _refuse(outcome.form, outcome, name, message)
        return not change.refusals

    def admit(self, change: Change) -> None:
        """Let your own code look at a change that has no form. Raises ChangeRefused."""
        self.validate(change)
        if change.refusals:
            raise ChangeRefused(" ".join(message for _name, message in change.refusals))

    def validate(self, change: Change) -> None:
        """Check the transitions, and call `validate`."""
        self._check_transitions(change)
        if self.pages.overrides("validate"):
            with own_code(self.pages.name, "validate"):
                try:
                    self.pages.validate(change)
                except ChangeRefused as refused:
                    change.refuse(refused.message, refused.field)

    def _check_transitions(self, change: Change) -> None:
        """Refuse changes of a column with transitions that are none of them."""
        if change.source == TRANSITION:
            return
        for column in dict.fromkeys(each.column for each in self.pages.transitions):
            label = self.pages.label(column)
            if change.kind == EDIT and change.sets(column):
                change.refuse(_("%(label)s is changed by its buttons alone.", label=label), column)  # fmt: skip
            initial = initial_values(self.pages.transitions, column)
            value = change.values.get(column)
            if change.kind == ADD and initial and value is not None and str(value) not in initial:  # fmt: skip
                names = ", ".join(self._spoken(column, each) for each in initial)
                change.refuse(_("A new record begins as: %(names)s.", names=names), column)  # fmt: skip

    def _spoken(self, column: str, value: str) -> str:
        field = self.pages.fields.get(column)
        return str(field.show(value, "")) if field is not None else value

    def write(self, change: Change) -> None:
        """Call `write`, and, once the transaction is kept, `committed`."""
        if self.pages.overrides("write"):
            with own_code(self.pages.name, "write"):
                self.pages.write(change)
        else:
            change.carry_out(change)
        self.follow(change)

    def follow(self, change: Change) -> None:
        """Send what is to be sent, and call `committed`, once the transaction is
        kept."""
        if change.sent:
            with own_code(self.pages.name, "send"):
                current_recording().send(self._messages(change))
        if self.pages.overrides("committed") and not self.context.site.is_rehearsal:
            current_recording().following.append(partial(self._commit, change))

    def _messages(self, change: Change) -> list[Message]:
        sent, change.sent = change.sent, []
        key = encode_key([*change.key.values()]) if change.key else ""
        return made_messages(sent, About(change.user.name, self.pages.name, key))

    def _commit(self, change: Change) -> None:
        try:
            self.pages.committed(change)
            if change.sent:  # nothing is left that could be undone
                outbox = self.context.site.log.outbox
                outbox.release(outbox.prepare(self._messages(change)))
        except Exception as error:
            number, name = change.user.request, self.pages.name
            log.error(
                "request %s: custom/%s.py: committed", number, name, exc_info=error
            )


@contextmanager
def own_code(name: str, method: str) -> Iterator[None]:
    """Run a method of your own code. What the database and the rights refuse passes;
    any other exception is logged, and becomes CodeFailed."""
    try:
        yield
    except (ChangeRefused, ChangeDenied, AccessDenied, DBAPIError, HTTPException):
        raise
    except Exception as error:
        number = actor().request
        log.error("request %s: custom/%s.py: %s", number, name, method, exc_info=error)
        text = _(
            "The application's own code failed. Nothing was saved; the error is in the "
            "log under %(number)s.",
            number=number,
        )
        raise CodeFailed(text) from error


def _refuse(form: RecordForm, outcome: SaveResult, name: str, message: str) -> None:
    if name in form._fields:
        form.add_error(name, message)
    else:
        outcome.refused.append(message)
