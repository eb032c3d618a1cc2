"""Saving a form: optimistic locking by digests of the values that its user saw, so that
no update is lost; every refusal comes back at its field."""

from collections.abc import Mapping, Sequence
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import (
    Column,
    Connection,
)
from werkzeug.datastructures import MultiDict

from ..accounts.audit_log import Changes
from ..common.url_keys import encode_key
from ..forms.base import RecordForm
from ..forms.fields import LookupField, ValueField
from ..pages.changes import FORM, CodeFailed
from ..pages.table_context import TableContext
from ..pages.table_pages import (
    unique_sets,
)
from .change_texts import ChangeTexts
from .conflict_check import SEEN, ConflictCheck
from .record_changes import RecordChanges
from .record_reader import RecordNotFound, RecordReader
from .record_validation import RecordValidation
from .record_writer import RecordWriter
from .save_result import PendingWrites, SaveResult

NOTHING: Mapping[str, Any] = {}


class RecordSaver:
    """Reads and writes the records of one table through its form."""

    def __init__(self, context: TableContext, secret: str, source: str = FORM) -> None:
        pages, reach = context.pages, context.reach
        self.context = context
        self.site = context.site
        self.pages = pages
        self.reach = reach
        self.checks = RecordValidation(context)
        self.reader = RecordReader(context)
        self.conflicts = ConflictCheck(context, secret)
        self.writer = RecordWriter(context)
        self._texts = ChangeTexts(context)
        self.changes = RecordChanges(context, self.writer, source)
        self.own = self.changes.own
        adding = reach.holding("add", pages.table.fullname)
        self._added = pages.enters(reach, adding, is_new=True)
        self.entered = list(self._added)  # by the form that is read or saved

    def blank(self, given: Mapping[str, str]) -> RecordForm:
        """Return the form for a new record, with `given` texts filled in."""
        self.entered = list(self._added)
        form = self.pages.filled({})
        for key in self.entered:
            text = given.get(key)
            if text is None:
                text = self.reader.offered(key)
                field_ = form._fields[key]
                if isinstance(field_, LookupField):
                    field_.is_offered = text is not None
            if text is not None:
                form._fields[key].raw_data = [text]
        return form

    def like(self, connection: Connection, key: Mapping[str, Any]) -> dict[str, str]:
        """Return the initial values of a copy of the record, as texts by
        column: not what must be its own. Nothing, for a record beyond reach."""
        alone = {columns[0] for columns in unique_sets(self.pages) if len(columns) == 1}
        try:
            values = self.reader.read(connection, key, self.entered)
        except RecordNotFound:
            return {}
        return {
            name: self.pages.fields[name].to_text(value)
            for name, value in values.items()
            if value is not None and name not in alone and name not in self.pages.key
        }

    def stored(self, connection: Connection, key: Mapping[str, Any]) -> SaveResult:
        """Return the form of the record with this key, and what the user sees of it.

        Raises RecordNotFound when there is no such record within reach, AccessDenied
        when it may be seen but not changed.
        """
        self.entered = self.reader.admit(connection, key)
        values = self.reader.read(connection, key, self.entered)
        form = self.pages.filled(values)
        form.is_new = False
        return SaveResult(form, seen=self._digests(key, values))

    def add(
        self,
        connection: Connection,
        typed: MultiDict[str, str],
        given: Mapping[str, Any] = NOTHING,
        later: PendingWrites | None = None,
    ) -> SaveResult:
        """Add a record from what was typed, unless something is wrong with it; the
        values `given` are not typed, but those of records that it refers to. What is to
        be written is added to `later`, where that is given, and not written yet; nor is
        it looked up then whether others have what must be unique."""
        self.entered = list(self._added)
        form = self.pages.filled({}, typed, later.spare if later else None)
        for key, value in given.items():
            field_ = form._fields[key]
            assert isinstance(field_, ValueField)
            field_.give(value)
        alone = later is None
        if not self.checks.is_valid(connection, form, self.entered, {}, None, alone):
            if later is not None:
                later.spare = None  # it is shown again
            return SaveResult(form)
        values = {key: form._fields[key].data for key in self.entered}
        written = {
            key: value
            for key, value in values.items()
            if value is not None
            or self.pages.column(key).server_default is None
            or self.reader.is_cleared(key, typed)
        }
        change = self.changes.add(connection, written)
        outcome = SaveResult(form)
        if not self.own.is_admitted(change, outcome):
            if later is not None:
                later.spare = None  # it is shown again
            return outcome
        if later is not None:
            outcome.waits, later.spare = True, form
            written = change.values
            filled = {**written, **self.writer.generated.uuids(written)}
            later.additions.append((outcome, self.writer.by_column(filled)))
        else:
            self.own.write(change)
            if not change.key:
                raise CodeFailed(_("The application's own code added no record."))
            outcome.key = self.writer.address_key(connection, [*change.key.values()])
        changes = {name: (None, value) for name, value in change.values.items()}
        outcome.written = frozenset(change.values)
        outcome.changes = self._texts.in_words(connection, changes)
        outcome.change = change
        return outcome

    def add_all(self, connection: Connection, later: PendingWrites) -> None:
        """Write the new records that waited, those of the same columns at once, and
        give each its key."""
        grouped: dict[tuple[Column[Any], ...], list[tuple[SaveResult, Any]]] = {}
        for outcome, values in later.additions:
            grouped.setdefault(tuple(values), []).append((outcome, values))
        stamps = self.writer.by_column(self.writer.generated.automatic(is_new=True))
        for each in grouped.values():
            rows = [values for _outcome, values in each]
            made = self.reach.insert_all(connection, self.pages.table, rows, stamps)
            for (outcome, _values), key in zip(each, made, strict=True):
                outcome.key = self.writer.address_key(connection, key)
                if outcome.change is not None:
                    outcome.change.key = dict(zip(self.pages.key, key, strict=True))
                    self.own.follow(outcome.change)

    def edit(
        self, connection: Connection, key: Mapping[str, Any], typed: MultiDict[str, str]
    ) -> SaveResult:
        """Save what was typed into the record with this key, unless something is wrong
        or somebody changed the same field since the user saw it.

        Raises RecordNotFound when there is no such record within reach, AccessDenied
        when it may be seen but not changed.
        """
        self.reach.lock(connection, self.pages.table, key)
        self.entered = self.reader.admit(connection, key)
        return self.change(
            connection, key, self.reader.read(connection, key, self.entered), typed
        )

    def change(
        self,
        connection: Connection,
        key: Mapping[str, Any],
        values: Mapping[str, Any],
        typed: MultiDict[str, str],
        later: PendingWrites | None = None,
        *,
        entered: Sequence[str] | None = None,
        seen: Mapping[str, Any] | None = None,
        also: Mapping[str, Any] = NOTHING,
    ) -> SaveResult:
        """Save what was typed into the fields `entered` of the record with this key,
        which is locked and holds `values`: as `edit` does, who finds them out. What is
        to be written is added to `later`, where that is given, and not written yet.
        Where the key has just changed, `seen` is the one that the user saw; `also` is
        what a transition sets."""
        if entered is not None:
            self.entered = list(entered)
        seen = key if seen is None else seen
        mine, conflicts = self.conflicts.compare(seen, values, typed, self.entered)
        spare = later.spare if later is not None else None
        form = self.pages.filled(values, mine, spare)
        form.is_new = False
        outcome = SaveResult(form, conflicts=conflicts)
        is_valid = self.checks.is_valid(connection, form, self.entered, values, key)
        if not is_valid or conflicts:
            outcome.seen = self._digests(seen, values)
            if later is not None:
                later.spare = None  # it is shown again
            return outcome
        changed = {
            name: form._fields[name].data
            for name in self.entered
            if form._fields[name].data is not values[name]
        }
        if changed or also:
            change = self.changes.edit(connection, key, changed, also)
            if not self.own.is_admitted(change, outcome):
                outcome.seen = self._digests(seen, values)
                if later is not None:
                    later.spare = None
                return outcome
            if later is not None:
                written = self.writer.by_column(change.values)
                later.changes.append((dict(key), written))
                later.spare = form
                self.own.follow(change)
            else:
                self.own.write(change)
            changed = change.values
            self._describe(connection, outcome, {**change.before, **values}, changed)
        now_key = [changed.get(name, key[name]) for name in self.pages.key]
        if set(changed) & set(self.pages.key) and later is None:
            outcome.key = self.writer.address_key(connection, now_key)
        else:
            outcome.key = encode_key(now_key)
        return outcome

    def set_values(
        self, connection: Connection, key: Mapping[str, Any], values: Mapping[str, Any]
    ) -> SaveResult:
        """Change columns of a record for own code; see `RecordChanges.set_values`."""
        before = self.own.stored(connection, key)
        change = self.changes.set_values(connection, key, values)
        outcome = SaveResult(self.pages.filled({}))
        self._describe(connection, outcome, before, change.values)
        return outcome

    def _describe(
        self,
        connection: Connection,
        outcome: SaveResult,
        values: Mapping[str, Any],
        changed: Mapping[str, Any],
    ) -> None:
        """Describe in the result what was changed."""
        pairs = {name: (values.get(name), value) for name, value in changed.items()}
        outcome.changes = self._texts.in_words(connection, pairs)
        outcome.texts = self._texts.in_form(values, changed)
        outcome.written = frozenset(changed)
        outcome.replaced = {name: values[name] for name in changed if name in values}

    def unsaved(self, seen: Mapping[str, str]) -> SaveResult:
        """Return the form of a stored record without the database: with the fields that
        it had, by the digests of what its user saw."""
        outcome = SaveResult(self.blank({}), seen=dict(seen))
        outcome.form.is_new = False
        shown = self.pages.seen_by(self.reach, self.pages.entered_on(is_new=False))
        self.entered = [key for key in shown if SEEN + key in seen]
        return outcome

    def put_back(self, outcome: SaveResult, texts: Changes) -> None:
        """Fill earlier values into the form of a record: into those fields that the
        user may enter."""
        for name in self.entered:
            if name in texts:
                outcome.form._fields[name].raw_data = [texts[name][0] or ""]

    def _digests(
        self, key: Mapping[str, Any], values: Mapping[str, Any]
    ) -> dict[str, str]:
        return self.conflicts.digests(key, values, self.entered)
