"""Transactions of changes, each recorded in the audit log."""

import random
import time
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from flask_babel import gettext as _
from sqlalchemy import Connection, select
from sqlalchemy.exc import DBAPIError

from ..access.reach import UNBOUNDED
from ..accounts.audit_log import Owners, Recording, recorded
from ..common.url_keys import encode_key
from ..db.errors import classify, is_passing
from ..pages.context import note_change, site
from ..pages.table_context import TableContext
from ..queries.record import record_plan

TRIES = 8  # at a transaction that others got in the way of


class SaveAborted(Exception):
    """A change was not carried out, since the database is busy or away; `is_unsure`:
    perhaps it was, since the connection was lost at its very end."""

    def __init__(self, kind: str, is_unsure: bool) -> None:
        super().__init__(kind)
        self.kind = kind
        self.is_unsure = is_unsure

    @property
    def message(self) -> str:
        """The message for the user."""
        if self.is_unsure:
            text = _("The connection to the database was lost while saving. Check "
                     "whether the record was saved before you save it again.")  # fmt: skip
        elif self.kind == "busy":
            text = _("Another user is changing the same data. Nothing was saved; try "
                     "again in a moment.")  # fmt: skip
        else:
            text = _("The database cannot be reached. Nothing was saved; try again in "
                     "a moment.")  # fmt: skip
        return str(text)


T = TypeVar("T")


def run_in_transaction(work: Callable[[Connection, Recording], T]) -> T:
    """Carry out `work` in one transaction; again, from its beginning, where
    transactions got in each other's way.

    Raises SaveAborted where the database is busy or away, and what else `work` raises.
    """
    for tried in range(TRIES):
        is_worked = False
        try:
            with (
                recorded(site().log) as recording,
                site().database.writing() as connection,
            ):
                done = work(connection, recording)
                recording.begin()
                is_worked = True
            note_change()
            return done
        except DBAPIError as error:
            if tried == TRIES - 1 or not is_passing(error):
                kind = classify(error).kind
                if kind in ("busy", "lost"):
                    raise SaveAborted(kind, is_worked and kind == "lost") from error
                raise
        time.sleep(random.uniform(0.01, 0.05) * (tried + 1))
    raise AssertionError


def audited(context: TableContext, segment: str) -> tuple[str, Owners]:
    """Return the title of a record by its key in an address, "" where it is beyond
    reach, and the records whose row it is."""
    if not context.pages.key:
        return "", ()
    plan = record_plan(context)
    found = plan.read(context.connection, context.key_values(segment))
    if found is None:
        return "", ()
    return found.title, owners_of(context, found.values)


def owners_of(context: TableContext, values: Mapping[str, Any]) -> Owners:
    """Return the records, by table and key, on whose forms a record with these values
    is a row."""
    pages = context.pages
    found = []
    for reference in context.site.registry.outgoing[pages.name]:
        parent = context.site.registry[reference.target]
        owns = any(
            each.table == pages.name
            and each.columns == reference.columns
            and each.is_part
            for each in parent.details
        )
        held = [values.get(name) for name in reference.columns]
        if not owns or not parent.key or None in held:
            continue
        referred = dict(zip(reference.referred, held, strict=True))
        if not set(parent.key) <= set(referred):
            statement = select(*[parent.column(name) for name in parent.key])
            statement = statement.where(parent.is_key(referred)).limit(1)
            row = UNBOUNDED.run(context.connection, statement).first()
            referred = dict(zip(parent.key, row, strict=True)) if row else {}
        if referred:
            found.append((parent.name, encode_key([referred[k] for k in parent.key])))
    return tuple(found)
