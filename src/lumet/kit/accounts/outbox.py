"""The outbox: e-mails and webhooks that changes and actions send, until they are sent.

It is in the accounts store, which is another database than the one that is changed. A
message is written down before the database is told to keep the change, and released
behind that; where the change is not kept it is withdrawn. One that is neither, since the
program ended in between, is doubtful: it is not sent, and a person decides.
"""

import json
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import (
    ColumnElement,
    and_,
    delete,
    exists,
    func,
    insert,
    or_,
    select,
    update,
)

from ..db.engine import Database
from .store import message
from .throttle import now

EMAIL, WEBHOOK = "email", "webhook"
PREPARED, WAITING, SENDING = "prepared", "waiting", "sending"
SENT, FAILED, DISCARDED = "sent", "failed", "discarded"
DOUBTFUL = "doubtful"  # prepared, and neither released nor withdrawn since
STATES = (WAITING, SENT, FAILED, DOUBTFUL, DISCARDED)  # as pages tell them
DOUBT = timedelta(minutes=1)  # as long as a transaction may take to end
LEASE = timedelta(minutes=5)  # behind which another worker may send a message again
# between one try and the next: two days in all, as long as a weekend without the receiver
WAITS = tuple(
    timedelta(seconds=each)
    for each in (10, 60, 300, 1_800, 7_200, 21_600, 43_200, 86_400)
)
MAX_ERROR_LENGTH = 400  # characters
IDS_AT_ONCE = 500  # in one statement


@dataclass(frozen=True, slots=True)
class Message:
    """A message of a `channel` to a `recipient`: an address, or the name of a webhook.
    `token` is another for each, and the same at each try."""

    channel: str
    recipient: str
    subject: str
    content: Mapping[str, Any]
    user_name: str = ""
    record_table: str = ""
    record_key: str = ""
    title: str = ""
    token: str = field(default_factory=lambda: f"msg_{secrets.token_urlsafe(18)}")
    error: str = ""  # why it cannot be sent at all


@dataclass(frozen=True, slots=True)
class OutboxEntry:
    """A message in the outbox: its number, its state, when it was written and is tried
    next, and how often it was tried."""

    id: int
    message: Message
    state: str
    at: datetime
    due_at: datetime
    tries: int


class Outbox:
    """The outbox in an accounts store; what was sent is kept for `days`, 0 for ever."""

    def __init__(self, store: Database, days: int = 0) -> None:
        self.store = store
        self.days = days
        self._is_used = False

    # Writing down

    def prepare(self, messages: Sequence[Message]) -> list[int]:
        """Write down messages of a change that is about to be kept; return their
        numbers. One that cannot be sent is failed once it is released."""
        moment = now()
        made = insert(message).returning(message.c.id, sort_by_parameter_order=True)
        rows = [_values(each, moment) for each in messages]
        with self.store.writing() as connection:
            return list(connection.execute(made, rows).scalars())

    def release(self, numbers: Sequence[int]) -> None:
        """Let messages be sent: their change was kept."""
        is_good = message.c.error == ""
        self._turn(numbers, {"state": WAITING, "due_at": now()}, is_good)
        self._turn(numbers, {"state": FAILED}, message.c.error != "")

    def withdraw(self, numbers: Sequence[int]) -> None:
        """Forget messages: their change was not kept."""
        with self.store.writing() as connection:
            for some in _chunks(numbers):
                connection.execute(delete(message).where(_prepared(some)))

    def _turn(
        self, numbers: Sequence[int], values: Mapping[str, Any], where: Any
    ) -> None:
        with self.store.writing() as connection:
            for some in _chunks(numbers):
                changed = update(message).where(_prepared(some), where)
                connection.execute(changed.values(**values))

    # Sending

    def claim(self) -> OutboxEntry | None:
        """Return a message that is due, which no other worker gets for LEASE; None for
        none."""
        moment = now()
        due = and_(message.c.state.in_((WAITING, SENDING)), message.c.due_at <= moment)
        wanted = select(message).where(due).order_by(message.c.due_at, message.c.id)
        while True:
            with self.store.reading() as connection:
                row = connection.execute(wanted.limit(1)).first()
            if row is None:
                return None
            is_same = and_(message.c.id == row.id, message.c.due_at == row.due_at,
                           message.c.state == row.state)  # fmt: skip
            taken = update(message).where(is_same)
            taken = taken.values(state=SENDING, due_at=moment + LEASE, tries=row.tries + 1)  # fmt: skip
            with self.store.writing() as connection:
                if connection.execute(taken).rowcount == 1:
                    return _entry(row)

    def mark_sent(self, number: int) -> None:
        """Keep that a message was sent."""
        self._end(number, {"state": SENT, "error": ""})

    def mark_failed(self, entry: OutboxEntry, error: str, is_final: bool) -> None:
        """Keep that a message was not sent: it is tried again later, unless that is
        `is_final` or it was tried often enough."""
        values: dict[str, Any] = {"error": error[:MAX_ERROR_LENGTH]}
        if is_final or entry.tries >= len(WAITS):
            values["state"] = FAILED
        else:
            values |= {"state": WAITING, "due_at": now() + WAITS[entry.tries]}
        self._end(entry.id, values)

    def _end(self, number: int, values: Mapping[str, Any]) -> None:
        mine = and_(message.c.id == number, message.c.state == SENDING)
        with self.store.writing() as connection:
            connection.execute(update(message).where(mine).values(**values))

    def sweep(self) -> None:
        """Forget old messages that are sent or discarded."""
        if not self.days:
            return
        old = message.c.at < now() - timedelta(days=self.days)
        with self.store.writing() as connection:
            ended = message.c.state.in_((SENT, DISCARDED))
            connection.execute(delete(message).where(old, ended))

    # Administration

    def is_used(self) -> bool:
        """Tell whether there is, or was since the start, any message."""
        if not self._is_used:
            with self.store.reading() as connection:
                self._is_used = bool(connection.scalar(select(exists(select(message.c.id)))))  # fmt: skip
        return self._is_used

    def read(self, state: str, size: int, before: int = 0) -> list[OutboxEntry]:
        """Return messages in a state, "" for any, the latest first, those older than
        `before`."""
        statement = select(message).order_by(message.c.id.desc()).limit(size)
        statement = statement.where(_is_in(state) if state else _is_shown())
        if before:
            statement = statement.where(message.c.id < before)
        with self.store.reading() as connection:
            return [_entry(row) for row in connection.execute(statement)]

    def entry(self, number: int) -> OutboxEntry | None:
        """Return the message with this number."""
        wanted = select(message).where(message.c.id == number, _is_shown())
        with self.store.reading() as connection:
            row = connection.execute(wanted).first()
        return _entry(row) if row else None

    def counts(self) -> dict[str, int]:
        """Return how many messages there are, by state."""
        with self.store.reading() as connection:
            return {
                state: int(connection.scalar(select(func.count()).select_from(message).where(_is_in(state))) or 0)
                for state in STATES
            }  # fmt: skip

    def decide(self, number: int, is_sent: bool) -> bool:
        """Let a message that is failed or doubtful be sent, or discard it; a waiting
        one can be discarded, and a discarded one sent. Tell whether it was possible."""
        states = [FAILED, DOUBTFUL, DISCARDED if is_sent else WAITING]
        values: dict[str, Any] = {"state": DISCARDED}
        if is_sent:
            values = {"state": WAITING, "due_at": now(), "tries": 0, "error": ""}
        which = and_(message.c.id == number, or_(*map(_is_in, states)))
        with self.store.writing() as connection:
            changed = connection.execute(update(message).where(which).values(**values))
        return bool(changed.rowcount)


def _chunks(numbers: Sequence[int]) -> list[Sequence[int]]:
    return [numbers[n : n + IDS_AT_ONCE] for n in range(0, len(numbers), IDS_AT_ONCE)]


def _prepared(numbers: Sequence[int]) -> ColumnElement[bool]:
    return and_(message.c.id.in_(numbers), message.c.state == PREPARED)


def _is_in(state: str) -> ColumnElement[bool]:
    """Return the condition of a state as pages tell them."""
    if state == DOUBTFUL:
        return and_(message.c.state == PREPARED, message.c.at < now() - DOUBT)
    if state == WAITING:
        return message.c.state.in_((WAITING, SENDING))
    return message.c.state == state


def _is_shown() -> ColumnElement[bool]:
    """Return the condition of all but those whose transaction still goes on."""
    return or_(message.c.state != PREPARED, _is_in(DOUBTFUL))


def _values(each: Message, moment: datetime) -> dict[str, Any]:
    return {
        "token": each.token,
        "channel": each.channel,
        "recipient": each.recipient[:320],
        "subject": each.subject[:400],
        "content": json.dumps(each.content, ensure_ascii=False),
        "state": PREPARED,
        "at": moment,
        "due_at": moment,
        "tries": 0,
        "error": each.error[:MAX_ERROR_LENGTH],
        "user_name": each.user_name[:80],
        "record_table": each.record_table[:120],
        "record_key": each.record_key[:400],
        "title": each.title[:200],
    }


def _entry(row: Any) -> OutboxEntry:
    state = row.state
    if state == PREPARED:
        state = DOUBTFUL
    return OutboxEntry(
        id=row.id,
        message=Message(
            channel=row.channel,
            recipient=row.recipient,
            subject=row.subject,
            content=json.loads(row.content),
            user_name=row.user_name,
            record_table=row.record_table,
            record_key=row.record_key,
            title=row.title,
            token=row.token,
            error=row.error,
        ),
        state=WAITING if state == SENDING else state,
        at=row.at,
        due_at=row.due_at,
        tries=row.tries,
    )
