"""Doing something to several records at once, each by the way of its own form or
page."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..access.denied import AccessDenied, AmbiguousKey, ChangeDenied
from ..accounts.audit_log import MARKED, AuditEvent, recorded
from ..deletion.cascades import beyond_delete
from ..deletion.delete_impact import find_delete_impact
from ..editing.conflict_check import is_same
from ..editing.record_reader import RecordNotFound
from ..editing.record_saver import RecordSaver
from ..editing.transactions import owners_of
from ..forms.fields import LookupField, ValueField
from ..lists.list_request import ListRequest
from ..pages.actions import Action
from ..pages.changes import BULK, ChangeRefused
from ..pages.context import actor
from ..pages.transitions import Transition
from ..queries.lookups import fill_lookups
from ..queries.record import Record, record_plan
from .action_views import Target, carry_out
from .form_context import too_many_records
from .transition_forms import open_transitions

MAX_ROWS = 1_000  # at once


@dataclass(frozen=True, slots=True)
class Affected:
    """One of the records: `before`, the value that a field has until it is changed;
    `why` it cannot be done to it, "" where it can."""

    title: str
    key: str
    why: str = ""
    before: str | None = None
    values: Mapping[str, Any] = field(default_factory=dict)


@dataclass(slots=True)
class BulkResult:
    """The records to which it can be, or was, done; and the others."""

    accepted: list[Affected] = field(default_factory=list)
    refused: list[Affected] = field(default_factory=list)

    @property
    def done(self) -> int:
        """How many records it can be, or was, done to."""
        return len(self.accepted)


def chosen_keys(
    list_request: ListRequest, connection: Connection, rows: Sequence[str], is_all: bool
) -> list[str]:
    """Return the keys of the chosen records, as addresses have them: those in `rows`,
    or all that fit what the list is asked for; at most MAX_ROWS and one."""
    if not is_all:
        return list(dict.fromkeys(rows))[: MAX_ROWS + 1]
    list_request.look(connection)
    page = list_request.plan().read(
        connection, size=MAX_ROWS + 1, bound=list_request.bound
    )
    return [line.key for line in page.lines]


class BulkAction:
    """One act on records of one table: deleting them, setting one field's value, or an
    action of your own."""

    def __init__(
        self,
        list_request: ListRequest,
        secret: str,
        column: str = "",
        text: str = "",
        own: Action | None = None,
    ) -> None:
        self.own = own
        self.list_request = list_request
        self.context = list_request.context
        self.pages, self.reach = list_request.pages, list_request.reach
        self.column, self.text = column, text
        self.saver = RecordSaver(self.context, secret, BULK)
        self._plan = record_plan(self.context)

    @property
    def right(self) -> str:
        """The right that the act needs."""
        if self.own is not None:
            return self.own.right
        return "edit" if self.column else "delete"

    def preview(self, connection: Connection, keys: Sequence[str]) -> BulkResult:
        """Find out what would come of it, without changing anything."""
        tally = BulkResult()
        for segment, key, record in self._records(connection, keys, tally):
            why = self._forbids(connection, key, record)
            self._count(tally, segment, record, why)
        return tally

    def shown_value(self, connection: Connection) -> str:
        """Return the new value of the field as pages show it."""
        form = self.pages.filled({}, MultiDict({self.column: self.text}))
        field_ = form._fields[self.column]
        if not isinstance(field_, ValueField) or field_.errors or field_.data is None:
            return self.text
        if self.column in self.pages.lookups:
            fill_lookups(self.context.on(connection), form, [self.column])
            if isinstance(field_, LookupField):
                titles = {value: title for value, title, _note in field_.options}
                return titles.get(self.text, self.text)
            return self.text
        return field_.show(field_.data, self.list_request.site.language)

    def seen(self, connection: Connection, keys: Sequence[str]) -> dict[str, str]:
        """Return the digests of the records as the preview shows them, by key."""
        found = {}
        for segment in keys:
            try:
                key = self.context.key_values(segment)
            except (ValueError, ArithmeticError):
                continue
            found[segment] = self.saver.conflicts.digest(connection, key)
        return found

    def carry_out(self, keys: Sequence[str], seen: Mapping[str, str]) -> BulkResult:
        """Do it to each record, each in a transaction of its own; not to one that is no
        longer as it was `seen` in the preview."""
        tally = BulkResult()
        for segment in keys:
            try:
                own = self._carry_out_one(segment, seen.get(segment, ""))
            except AmbiguousKey:
                why = too_many_records(self.pages)
                own = BulkResult(refused=[Affected(segment, segment, why)])
            except ChangeRefused as error:
                own = BulkResult(refused=[Affected(segment, segment, error.message)])
            except (DBAPIError, ChangeDenied, AccessDenied, OverflowError):
                why = str(_("The database rejected it."))
                own = BulkResult(refused=[Affected(segment, segment, why)])
            tally.accepted += own.accepted
            tally.refused += own.refused
        return tally

    def _carry_out_one(self, segment: str, seen: str) -> BulkResult:
        tally = BulkResult()
        with (
            recorded(self.list_request.site.log) as recording,
            self.list_request.site.database.writing() as connection,
        ):
            for _s, key, record in self._records(connection, [segment], tally):
                self.reach.lock(connection, self.pages.table, key)
                why = self._forbids(connection, key, record)
                event = None
                if not is_same(seen, self.saver.conflicts.digest(connection, key)):
                    why = str(
                        _("Another user changed this record. Check it and try again.")
                    )
                if not why and self.own is not None:
                    on = Target(key, segment, record)
                    carry_out(self.context, self.own, connection, recording, on)
                    recording.begin()
                elif not why:
                    why, event = self._act(connection, segment, key, record)
                self._count(tally, segment, record, why)
                if event is not None:
                    recording.mean(actor(), event)
                    recording.begin()
        return tally

    def _count(self, tally: BulkResult, segment: str, record: Record, why: str) -> None:
        if why:
            tally.refused.append(Affected(record.title, segment, why))
            return
        fact = record.fact(self.column) if self.column else None
        before = None if fact is None else str(fact.cell.text)
        tally.accepted.append(
            Affected(record.title, segment, before=before, values=record.values)
        )

    def _records(
        self, connection: Connection, keys: Sequence[str], tally: BulkResult
    ) -> Iterator[tuple[str, Mapping[str, Any], Record]]:
        for segment in keys:
            try:
                key = self.context.key_values(segment)
            except (ValueError, ArithmeticError):
                continue
            record = self._plan.read(connection, key)
            if record is None:
                missing = str(_("This record no longer exists."))
                tally.refused.append(Affected("–", segment, missing))
            else:
                yield segment, key, record

    def _forbids(
        self, connection: Connection, key: Mapping[str, Any], record: Record
    ) -> str:
        """Return why it cannot be done to a record, "" where nothing prevents it."""
        table = self.pages.table
        roles = self.reach.reaching(connection, table, key, self.right)
        if not roles:
            return str(_("Your roles do not allow this."))
        if isinstance(self.own, Transition):
            is_open = open_transitions(self.context, connection, key, [self.own])
            return "" if is_open else str(_("Not possible in its present state."))
        if self.own is not None:
            return ""
        if self.column:
            entered = self.pages.enters(self.reach, roles, is_new=False)
            allowed = self.column in entered
            return "" if allowed else str(_("Your roles do not allow this."))
        if self.pages.soft_delete:
            return ""
        found = find_delete_impact(self.context.on(connection), key)
        return str(_("Prevented by: %(words)s", words=found.prevented_by[0].summary)) if (
            found.prevented_by
        ) else ""  # fmt: skip

    def _act(
        self,
        connection: Connection,
        segment: str,
        key: Mapping[str, Any],
        record: Record,
    ) -> tuple[str, AuditEvent | None]:
        name = self.pages.name
        owners = owners_of(self.context.on(connection), record.values)
        if not self.column:
            is_marked = bool(self.pages.soft_delete)
            if not is_marked and beyond_delete(self.context.on(connection), key):
                return str(_("Your roles do not allow this.")), None
            self.saver.changes.remove(connection, key)
            facts = [fact for _name, held in record.sections for fact in held]
            gone = {fact.label: (str(fact.cell.text), None) for fact in facts}
            words = MARKED if is_marked else ""
            told = AuditEvent("delete", name, segment, description=words, changes=gone)
            return "", told.entitled(record.title, owners)
        try:
            seen = self.saver.stored(connection, key).seen
            typed = MultiDict({**seen, self.column: self.text})
            outcome = self.saver.edit(connection, key, typed)
        except RecordNotFound:
            return str(_("The record was not found.")), None
        if not outcome.key:
            said = [str(message) for _label, message, _id in outcome.form.mistakes()]
            return " ".join([*said, *outcome.refused]), None
        if not outcome.changes:
            return "", None
        told = AuditEvent(
            "edit", name, segment, changes=outcome.changes, texts=outcome.texts
        )
        return "", told.entitled(record.title, owners)
