"""The audit log, shown as the activity log: user, action, time, origin, and the values
before.

A change is written down before the database is told to keep it, and marked as done
behind that; an entry that stays begun tells that something broke off in between.
"""

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any, Self

from sqlalchemy import (
    Connection,
    Select,
    and_,
    delete,
    insert,
    or_,
    select,
    true,
    update,
)
from sqlalchemy.exc import DBAPIError

from ..db.engine import Database
from ..db.errors import is_lost
from .outbox import Message, Outbox
from .recent_records import mark_recent
from .store import entry, owner
from .throttle import now

BEGUN, DONE, FAILED = "begun", "done", "failed"
KINDS = (
    "sign-in",
    "refusal",
    "add",
    "edit",
    "delete",
    "restore",
    "export",
    "action",
    "account",
    "look",
)
MARKED = "marked as deleted"  # words of a delete that can be taken back
IDS_AT_ONCE = 500  # in one statement
MAX_TEXT_LENGTH = 20_000  # characters of a value that can be put back
MAX_VALUE_LENGTH = 500  # characters of a value in the log
Owners = tuple[tuple[str, str], ...]
Changes = Mapping[str, tuple[str | None, str | None]]  # by label: before and after


_current: ContextVar["Recording"] = ContextVar("recording")


class FieldLabel(str):
    """The label of a column when it was changed; labels may be others by now."""

    column: str

    def __new__(cls, label: str, column: str) -> Self:
        """Return the label of a column."""
        made = super().__new__(cls, label)
        made.column = column
        return made


def column_of(label: str) -> str:
    """Return the column that a label of a change was of, "" where that is not known."""
    return label.column if isinstance(label, FieldLabel) else ""


@dataclass(frozen=True, slots=True)
class Actor:
    """Who did something: the user, and the network address and request it came by."""

    name: str
    user_id: int | None = None
    origin: str = ""
    request: str = ""


@dataclass(frozen=True, slots=True)
class AuditEvent:
    """An audited action: its kind, the record, a description, and the changed
    fields."""

    kind: str
    table: str = ""
    key: str = ""
    title: str = ""
    description: str = ""
    changes: Changes = field(default_factory=dict)
    texts: Changes = field(default_factory=dict)  # the same as a form has it, by column
    owners: Owners = ()  # the records whose rows it is about, by table and key

    def entitled(self, title: str, owners: Owners) -> "AuditEvent":
        """Return the same with the title of its record, and what that belongs to."""
        return replace(self, title=title, owners=owners)

    def also(self, changes: Changes) -> "AuditEvent":
        """Return the same with further changes."""
        return replace(self, changes={**self.changes, **changes})


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of the log."""

    id: int
    at: datetime
    actor: Actor
    event: AuditEvent
    state: str


@dataclass(frozen=True, slots=True)
class AuditQuery:
    """Which entries are wanted: by words in the name, by kind, table, record and
    days."""

    name: str = ""
    kind: str = ""
    table: str = ""
    key: str = ""
    since: datetime | None = None
    until: datetime | None = None
    with_rows: bool = False  # also of the rows that belong to the record


class AuditLog:
    """The log in an accounts store; entries older than `days` are deleted, 0 keeps
    all."""

    def __init__(
        self, store: Database, days: int = 0, outbox: Outbox | None = None
    ) -> None:
        self.store = store
        self.days = days
        self.outbox = outbox or Outbox(store)
        self._swept: datetime | None = None

    def note(self, actor: Actor, event: AuditEvent) -> None:
        """Record a completed action."""
        self._write([(actor, event)], DONE)

    def _write(
        self, events: Sequence[tuple[Actor, AuditEvent]], state: str
    ) -> list[int]:
        self._sweep()
        made = insert(entry).returning(entry.c.id, sort_by_parameter_order=True)
        values = [_values(actor, event, state) for actor, event in events]
        with self.store.writing() as connection:
            numbers = list(connection.execute(made, values).scalars())
            owned = [
                {"entry_id": number, "record_table": table, "record_key": key}
                for number, (_actor, event) in zip(numbers, events, strict=True)
                for table, key in dict.fromkeys(event.owners)
            ]
            if owned:
                connection.execute(insert(owner), owned)
        return numbers

    def begin(self, events: Sequence[tuple[Actor, AuditEvent]]) -> list[int]:
        """Record actions that are about to be carried out; return the entries'
        numbers."""
        return self._write(events, BEGUN)

    def end(
        self,
        numbers: Sequence[int],
        is_done: bool,
        last: tuple[Actor, AuditEvent] | None = None,
    ) -> None:
        """Mark entries as done, or as failed. The record of the `last` of them, which is
        that of the form, is one that its user changed."""
        state = DONE if is_done else FAILED
        with self.store.writing() as connection:
            if is_done and last is not None:
                _mark_changed(connection, *last)
            for start in range(0, len(numbers), IDS_AT_ONCE):
                some = entry.c.id.in_(numbers[start : start + IDS_AT_ONCE])
                connection.execute(update(entry).where(some).values(state=state))

    def _sweep(self) -> None:
        """Delete old entries, once an hour."""
        moment = now()
        if not self.days or (
            self._swept is not None and moment - self._swept < timedelta(hours=1)
        ):
            return
        self._swept = moment
        old = entry.c.at < moment - timedelta(days=self.days)
        with self.store.writing() as connection:
            connection.execute(delete(entry).where(old))

    def read(self, wanted: AuditQuery, size: int, before: int = 0) -> list[Entry]:
        """Return entries, the latest first, those older than the entry `before`."""
        statement = _selected(wanted).order_by(entry.c.id.desc()).limit(size)
        if before:
            statement = statement.where(entry.c.id < before)
        with self.store.reading() as connection:
            return [_entry(row) for row in connection.execute(statement)]

    def entry(self, number: int) -> Entry | None:
        """Return the entry with this number."""
        with self.store.reading() as connection:
            row = connection.execute(select(entry).where(entry.c.id == number)).first()
        return _entry(row) if row else None

    def each(self, wanted: AuditQuery, page: int = 500) -> Iterator[Entry]:
        """Yield all entries, the latest first, a few at a time."""
        found = self.read(wanted, page)
        while found:
            yield from found
            found = self.read(wanted, page, found[-1].id) if len(found) == page else []

    def unfinished(self) -> int:
        """Return how many changes began over a minute ago and never ended."""
        stale = and_(entry.c.state == BEGUN, entry.c.at < now() - timedelta(minutes=1))
        with self.store.reading() as connection:
            return len(connection.execute(select(entry.c.id).where(stale)).all())


@contextmanager
def recorded(log: AuditLog) -> Iterator["Recording"]:
    """Mark what is begun within the block as done at its end, and as failed where an
    exception leaves it."""
    recording = Recording(log)
    before = _current.set(recording)
    try:
        yield recording
    except BaseException as error:
        recording.close(is_done=False, is_unsure=_is_unsure(error))
        raise
    finally:
        _current.reset(before)
    try:
        recording.close(is_done=True)
    finally:
        for act in recording.following:
            act()


def _is_unsure(error: BaseException) -> bool:
    """Tell whether a transaction that was about to be kept when this was raised may have
    been: what the database itself refused was not."""
    return not isinstance(error, DBAPIError) or is_lost(error)


def current_recording() -> "Recording":
    """Return the recording of the present transaction."""
    return _current.get()


class Recording:
    """The entries of one transaction of the business database."""

    def __init__(self, log: AuditLog) -> None:
        self._log = log
        self._begun: list[int] = []
        self._last: tuple[Actor, AuditEvent] | None = None
        self._meant: list[tuple[Actor, AuditEvent]] = []
        self._messages: list[Message] = []
        self._prepared: list[int] = []
        self.following: list[Callable[[], None]] = []  # once it was kept

    def mean(self, actor: Actor, event: AuditEvent) -> None:
        """Remember what the transaction is about to keep, to be written down with all
        else before it does."""
        self._meant.append((actor, event))

    def send(self, messages: Sequence[Message]) -> None:
        """Remember messages that are to be sent once the transaction is kept."""
        self._messages += messages

    def begin(self) -> None:
        """Record the changes that the transaction is about to commit: its last act."""
        if self._messages:
            self._prepared += self._log.outbox.prepare(self._messages)
            self._messages = []
        if self._meant:
            self._begun += self._log.begin(self._meant)
            self._last = self._meant[-1]
            self._meant = []

    def close(self, is_done: bool, is_unsure: bool = False) -> None:
        """End all entries, and let the messages be sent; where the transaction may have
        been kept, they stay doubtful."""
        if self._prepared and is_done:
            self._log.outbox.release(self._prepared)
        elif self._prepared and not is_unsure:
            self._log.outbox.withdraw(self._prepared)
        if self._begun:
            self._log.end(self._begun, is_done, self._last)


def _mark_changed(connection: Connection, actor: Actor, event: AuditEvent) -> None:
    if actor.user_id is not None and event.key and event.kind in ("add", "edit"):
        mark_recent(connection, actor.user_id, event.table, event.key, is_change=True)


def _values(actor: Actor, event: AuditEvent, state: str) -> dict[str, Any]:
    detail = {
        "words": event.description,
        "changes": {
            label: [_cut(before), _cut(after)]
            for label, (before, after) in event.changes.items()
        },
        "columns": {
            label: column for label in event.changes if (column := column_of(label))
        },
        "texts": {
            key: pair
            for key, pair in event.texts.items()
            if max(len(text or "") for text in pair) <= MAX_TEXT_LENGTH
        },
    }
    return {
        "at": now(),
        "kind": event.kind,
        "state": state,
        "user_id": actor.user_id,
        "name": actor.name[:80],
        "origin": actor.origin[:80],
        "request": actor.request,
        "record_table": event.table[:120],
        "record_key": event.key[:400],
        "title": event.title[:200],
        "detail": json.dumps(detail, ensure_ascii=False),
    }


def _cut(text: str | None) -> str | None:
    if text is None or len(text) <= MAX_VALUE_LENGTH:
        return text
    return text[:MAX_VALUE_LENGTH] + " …"


def _selected(wanted: AuditQuery) -> Select[Any]:
    statement = select(entry)
    if wanted.kind:
        statement = statement.where(entry.c.kind == wanted.kind)
    pairs = (("record_table", wanted.table), ("record_key", wanted.key))
    own = and_(true(), *[entry.c[name] == value for name, value in pairs if value])
    if wanted.with_rows:
        rows = select(owner.c.entry_id).where(
            *[owner.c[name] == value for name, value in pairs]
        )
        own = or_(own, entry.c.id.in_(rows))
    statement = statement.where(own)
    if wanted.name:
        statement = statement.where(entry.c.name.contains(wanted.name, autoescape=True))
    if wanted.since is not None:
        statement = statement.where(entry.c.at >= wanted.since)
    if wanted.until is not None:
        statement = statement.where(entry.c.at < wanted.until)
    return statement


def _entry(row: Any) -> Entry:
    detail = json.loads(row.detail)
    columns = detail.get("columns", {})  # since version 9 of the store
    changes: dict[str, tuple[str | None, str | None]] = {
        FieldLabel(label, columns.get(label, "")): (old, new)
        for label, (old, new) in detail["changes"].items()
    }
    return Entry(
        id=row.id,
        at=row.at,
        actor=Actor(row.name, row.user_id, row.origin, row.request),
        event=AuditEvent(
            kind=row.kind,
            table=row.record_table,
            key=row.record_key,
            title=row.title,
            description=detail["words"],
            changes=changes,
            texts={
                key: (old, new) for key, (old, new) in detail.get("texts", {}).items()
            },
        ),
        state=row.state,
    )
