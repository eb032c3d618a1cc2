"""Form tokens: they make saving idempotent, so that a form which arrives twice makes
one record."""

import hashlib
from datetime import timedelta

from sqlalchemy import delete, insert, select, update
from sqlalchemy.exc import IntegrityError

from ..db.engine import Database
from .store import sent_form
from .throttle import now

KEPT = timedelta(days=1)
SAVING = timedelta(minutes=1)  # longer, and whoever saved it has broken off


class FormTokens:
    """The tokens of forms that were sent, in the accounts store."""

    def __init__(self, store: Database) -> None:
        self.store = store

    def claim(self, token: str) -> str | None:
        """Take a form to be saved: None. Or, for one that was sent before, return where
        its record is; "" while it is still being saved."""
        values = {"token": _digest(token), "at": now(), "location": ""}
        mine = sent_form.c.token == values["token"]
        try:
            with self.store.writing() as connection:
                old = sent_form.c.at < now() - KEPT
                broken_off = mine & (sent_form.c.location == "")
                broken_off &= sent_form.c.at < now() - SAVING
                connection.execute(delete(sent_form).where(old | broken_off))
                connection.execute(insert(sent_form).values(values))
        except IntegrityError:
            with self.store.reading() as connection:
                return connection.scalar(select(sent_form.c.location).where(mine)) or ""
        return None

    def settle(self, token: str, location: str) -> None:
        """Note where the record of a form is; "" lets the form be sent again."""
        mine = sent_form.c.token == _digest(token)
        change = update(sent_form).values(location=location).where(mine)
        with self.store.writing() as connection:
            connection.execute(change if location else delete(sent_form).where(mine))


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
