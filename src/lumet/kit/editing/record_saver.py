"""Saving a form: optimistic locking by digests of the values that its user saw, so that
no update is lost; every refusal comes back at its field."""

import hmac
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any
from uuid import UUID, uuid4

from flask_babel import gettext as _
from sqlalchemy import (
    Column,
    Connection,
    Integer,
    bindparam,
    func,
    literal,
    not_,
    select,
    text,
    type_coerce,
)
from sqlalchemy.exc import DBAPIError
from sqlalchemy.types import NullType
from werkzeug.datastructures import MultiDict

from ..access.reach import UNBOUNDED, AccessDenied
from ..accounts.audit_log import Changes
from ..common.url_keys import encode_key
from ..contract import NEW_UUID, NEXT_NUMBER
from ..db.column_types import stored_value
from ..db.errors import classify, not_allowed
from ..forms.base import RecordForm
from ..forms.date_fields import DateField, DateTimeField
from ..forms.fields import LookupField, SecretField, ValueField, YesNoField
from ..forms.file_fields import FileField
from ..pages.context import actor
from ..pages.table_context import TableContext
from ..pages.table_pages import (
    DatabaseRule,
    Reference,
    python_type,
    unique_sets,
)
from ..queries.lookups import lookup_plan
from .record_validation import RecordValidation

TRIES = 5  # at a number that others take at the same time
NOTHING: Mapping[str, Any] = {}
SEEN = "seen-"  # before a field's name: the digest of the value that the user saw
TAKE = "take-"  # before a field's name: "theirs" to take what is in the database


class RuleViolated(Exception):
    """A record was written that breaks a rule; the transaction is not to be kept."""

    def __init__(self, rule: DatabaseRule) -> None:
        super().__init__(str(rule.message))
        self.rule = rule


class RecordNotFound(Exception):
    """The record is not there, or not within reach."""


@dataclass(slots=True)
class SaveResult:
    """The result of a save: the address key of the record when it was saved; else the
    form with its mistakes, and what others changed meanwhile, by field."""

    form: RecordForm
    key: str = ""
    conflicts: dict[str, str] = field(default_factory=dict)
    refused: list[str] = field(default_factory=list)
    seen: dict[str, str] = field(default_factory=dict)
    changes: Changes = field(default_factory=dict)
    texts: Changes = field(default_factory=dict)  # the changes as a form has them
    written: frozenset[str] = frozenset()  # the columns that were entered anew
    replaced: dict[str, Any] = field(default_factory=dict)  # and what was there before
    waits: bool = False  # nothing is wrong with it, and it is written with others


@dataclass(slots=True)
class PendingWrites:
    """Deferred writes, sent in batches: changes of several records, by key, with the
    values by column; new ones, by column too, with what became of each; a form of which
    nobody has need any more."""

    changes: list[tuple[dict[str, Any], dict[Column[Any], Any]]] = field(
        default_factory=list
    )
    additions: list[tuple[SaveResult, dict[Column[Any], Any]]] = field(
        default_factory=list
    )
    spare: RecordForm | None = None


class RecordSaver:
    """Reads and writes the records of one table through its form."""

    def __init__(self, context: TableContext, secret: str) -> None:
        pages, reach = context.pages, context.reach
        self.context = context
        self.site = context.site
        self.pages = pages
        self.reach = reach
        self.checks = RecordValidation(context)
        self._secret = secret.encode()
        self._labels: dict[str, str] = {}
        self._titles: dict[tuple[Reference, Any], str] = {}
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
                text = self._offered(key)
                field_ = form._fields[key]
                if isinstance(field_, LookupField):
                    field_.is_offered = text is not None
            if text is not None:
                form._fields[key].raw_data = [text]
        return form

    def _offered(self, key: str) -> str | None:
        """Return the default of a column as its control shows it; None for none, and
        for one that its own field would refuse: that the database fills in by
        itself."""
        column, field_ = self.pages.column(key), self.pages.fields[key]
        default = _literal_default(column.server_default)
        if default is None:
            return None
        value = stored_value(column, default)
        known = value is not None
        text = field_.to_text(value) if known else field_.from_default(default)
        try:
            if text:
                field_.parse(field_.clean(text))
        except (ValueError, ArithmeticError):
            return None
        return text

    def _is_cleared(self, key: str, typed: MultiDict[str, str]) -> bool:
        """Tell whether the default of a column was offered and cleared."""
        is_there = key in typed and bool(self.pages.column(key).nullable)
        return is_there and self._offered(key) is not None

    def like(self, connection: Connection, key: Mapping[str, Any]) -> dict[str, str]:
        """Return the initial values of a copy of the record, as texts by
        column: not what must be its own. Nothing, for a record beyond reach."""
        alone = {columns[0] for columns in unique_sets(self.pages) if len(columns) == 1}
        try:
            values = self._read(connection, key)
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
        self._admit(connection, key)
        values = self._read(connection, key)
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
            or self._is_cleared(key, typed)
        }
        self.pages.before_save(connection, written, is_new=True)
        outcome = SaveResult(form, written=frozenset(written))
        changes = {name: (None, value) for name, value in written.items()}
        outcome.changes = self._told(connection, changes)
        if later is not None:
            outcome.waits, later.spare = True, form
            filled = {**written, **self._uuids(written)}
            later.additions.append((outcome, self._by_column(filled)))
            return outcome
        made = self._insert(connection, written)
        self._check_held(connection, dict(zip(self.pages.key, made, strict=True)))
        outcome.key = self._address_key(connection, made)
        return outcome

    def _address_key(self, connection: Connection, key: Sequence[Any]) -> str:
        """Return the key of a record as addresses have it: as the database spells what
        was written."""
        columns = [self.pages.column(name) for name in self.pages.key]
        if all(isinstance(column.type, Integer) for column in columns):
            return encode_key(key)
        spelled = select(*[type_coerce(column, NullType()) for column in columns])
        held = dict(zip(self.pages.key, key, strict=True))
        row = UNBOUNDED.run(connection, spelled.where(self.pages.is_key(held))).first()
        return encode_key(key if row is None else tuple(row))

    def add_all(self, connection: Connection, later: PendingWrites) -> None:
        """Write the new records that waited, those of the same columns at once, and
        give each its key."""
        grouped: dict[tuple[Column[Any], ...], list[tuple[SaveResult, Any]]] = {}
        for outcome, values in later.additions:
            grouped.setdefault(tuple(values), []).append((outcome, values))
        stamps = self._by_column(self._stamps(is_new=True))
        for each in grouped.values():
            rows = [values for _outcome, values in each]
            made = self.reach.insert_all(connection, self.pages.table, rows, stamps)
            for (outcome, _values), key in zip(each, made, strict=True):
                outcome.key = self._address_key(connection, key)

    def _uuids(self, written: Mapping[str, Any]) -> dict[str, Any]:
        """Return new UUIDs for the columns that get one where nothing was entered."""
        return {
            key: self._uuid(key)
            for key, how in self.pages.generated_values
            if how == NEW_UUID and written.get(key) is None
        }

    def _insert(
        self, connection: Connection, written: dict[str, Any]
    ) -> tuple[Any, ...]:
        """Add a record with what makes itself filled in; another try for a number that
        somebody else took meanwhile. Returns the key."""
        numbered = [
            key for key, how in self.pages.generated_values if how == NEXT_NUMBER
        ]
        numbered = [key for key in numbered if written.get(key) is None]
        made = {**self._stamps(is_new=True), **self._uuids(written)}
        for tried in range(TRIES if numbered else 1):
            for key in numbered:
                made[key] = self._next_number(connection, key)
            columns = self._by_column(written)
            place = connection.begin_nested() if numbered else None
            try:
                found = self.reach.insert(
                    connection, self.pages.table, columns, self._by_column(made)
                )
            except DBAPIError as error:
                if (
                    place is None
                    or classify(error).kind != "unique"
                    or tried == TRIES - 1
                ):
                    raise
                place.rollback()
            else:
                if place is not None:
                    place.commit()
                return found
        raise AssertionError

    def _by_column(self, values: Mapping[str, Any]) -> dict[Column[Any], Any]:
        return {self.pages.column(key): value for key, value in values.items()}

    def stamped(self) -> dict[Column[Any], Any]:
        """Return the automatic values of a change."""
        return self._by_column(self._stamps(is_new=False))

    def _stamps(self, is_new: bool) -> dict[str, Any]:
        """Return the automatic values: user and time, where that
        was decided."""
        found: dict[str, Any] = {}
        for key, how in self.pages.automatic_values:
            what, _blank, which = how.partition(" ")
            if what == "changed" or is_new:
                found[key] = self._moment(key) if which == "at" else actor().name
        return found

    def _moment(self, key: str) -> Any:
        """Return the present moment as the column keeps it: by the clock that its
        defaults follow too, the database's, unless its zone or spelling was decided."""
        shown = self.pages.fields.get(key)
        if isinstance(shown, DateTimeField) and shown.time_zone:
            return shown.as_stored(datetime.now(UTC))
        if getattr(self.pages.column(key).type, "storage_format", ""):
            today = datetime.now(UTC).replace(tzinfo=None, microsecond=0)
            return today.date() if isinstance(shown, DateField) else today
        if isinstance(shown, DateField):
            return func.current_date()
        return func.current_timestamp()

    def _uuid(self, key: str) -> Any:
        made = uuid4()
        column = self.pages.column(key)
        return made if python_type(column) is UUID else str(made)

    def _next_number(self, connection: Connection, key: str) -> int:
        """Return the number behind the largest, whose record is locked: past the reach
        of the user, who learns no more than how many there were."""
        column = self.pages.column(key)
        server = self.site.database.server
        lock = server.lock_numbers(f"{self.pages.table.fullname}.{key}")
        if lock is not None:
            UNBOUNDED.run(connection, lock)
        largest = select(column).where(column.is_not(None)).order_by(column.desc())
        found = UNBOUNDED.run(connection, largest.limit(1).with_for_update()).scalar()
        return int(found or 0) + 1

    def edit(
        self, connection: Connection, key: Mapping[str, Any], typed: MultiDict[str, str]
    ) -> SaveResult:
        """Save what was typed into the record with this key, unless something is wrong
        or somebody changed the same field since the user saw it.

        Raises RecordNotFound when there is no such record within reach, AccessDenied
        when it may be seen but not changed.
        """
        self.reach.lock(connection, self.pages.table, key)
        self._admit(connection, key)
        return self.change(connection, key, self._read(connection, key), typed)

    def change(
        self,
        connection: Connection,
        key: Mapping[str, Any],
        values: Mapping[str, Any],
        typed: MultiDict[str, str],
        later: PendingWrites | None = None,
        *,
        seen: Mapping[str, Any] | None = None,
    ) -> SaveResult:
        """Save what was typed into the fields `entered` of the record with this key,
        which is locked and holds `values`: as `edit` does, who finds them out. What is
        to be written is added to `later`, where that is given, and not written yet.
        Where the key has just changed, `seen` is the one that the user saw."""
        seen = key if seen is None else seen
        mine, conflicts = self._compare(seen, values, typed)
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
        if changed:
            self.pages.before_save(connection, changed, is_new=False)
            written = self._by_column(changed)
            if later is not None:
                later.changes.append((dict(key), written))
                later.spare = form
            else:
                table, stamped = self.pages.table, self.stamped()
                self.reach.update(connection, table, key, written, stamped)
                now = {**key, **{k: changed[k] for k in key if k in changed}}
                self._check_held(connection, now)
            outcome.changes = self._told(
                connection,
                {name: (values.get(name), value) for name, value in changed.items()},
            )
            outcome.texts = self._texts(values, changed)
            outcome.written = frozenset(changed)
            outcome.replaced = {
                name: values[name] for name in changed if name in values
            }
        now_key = [changed.get(name, key[name]) for name in self.pages.key]
        if set(changed) & set(self.pages.key) and later is None:
            outcome.key = self._address_key(connection, now_key)
        else:
            outcome.key = encode_key(now_key)
        return outcome

    def remove(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Delete the record with this key, or, where that was decided, mark it as
        deleted; tell whether there was one. Raises AccessDenied when the user may
        not."""
        table, mark = self.pages.table, self.pages.soft_delete
        if not mark:
            return self.reach.delete(connection, table, key)
        shown = self.pages.fields.get(mark)
        is_yes_no = isinstance(shown, YesNoField)
        value = shown.parse("yes") if is_yes_no and shown else self._moment(mark)
        written = {self.pages.column(mark): value, **self.stamped()}
        return self.reach.mark(connection, table, key, written)

    def restore(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Take the mark of a deleted record away; as `remove`."""
        mark = self.pages.soft_delete
        shown = self.pages.fields.get(mark)
        is_yes_no = isinstance(shown, YesNoField)
        value = shown.parse("no") if is_yes_no and shown else None
        written = {self.pages.column(mark): value, **self.stamped()}
        return self.reach.mark(connection, self.pages.table, key, written)

    def is_removed(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Tell whether the record with this key is marked as deleted."""
        if not self.pages.soft_delete:
            return False
        marked = select(literal(1)).where(self.pages.is_key(key))
        marked = marked.where(not_(self.pages.is_alive(self.pages.table)))
        return UNBOUNDED.run(connection, marked).first() is not None

    def digest(self, connection: Connection, key: Mapping[str, Any]) -> str:
        """Return a keyed digest of all that the record with this key holds, past the
        user's reach; "" when there is none."""
        statement = select(*self.pages.table.c).where(self.pages.is_key(key))
        row = UNBOUNDED.run(connection, statement).first()
        if row is None:
            return ""
        return self._digest(key, "", "\0".join(map(repr, row)))

    def is_held(self, connection: Connection, key: str, value: Any) -> bool:
        """Tell whether any record has this value."""
        held = select(literal(1)).where(self.pages.is_key({key: value})).limit(1)
        return UNBOUNDED.run(connection, held).first() is not None

    def _check_held(self, connection: Connection, key: Mapping[str, Any]) -> None:
        """Let the database work out the rules that a form cannot. Raises RuleViolated,
        at which the transaction ends."""
        for rule in self.pages.database_rules:
            table = self.pages.table
            breaks = select(literal(1)).select_from(table).where(self.pages.is_key(key))
            breaks = breaks.where(text(f"NOT ({rule.sql})"))
            if UNBOUNDED.run(connection, breaks).first():
                raise RuleViolated(rule)

    def _admit(self, connection: Connection, key: Mapping[str, Any]) -> None:
        """Find out which fields of the record with this key the user may enter."""
        table = self.pages.table
        roles = self.reach.reaching(connection, table, key, "edit")
        self.entered = self.pages.enters(self.reach, roles, is_new=False)
        if not roles:
            self._read(connection, key)  # what cannot be seen is not there
            raise AccessDenied(f"edit {table.fullname}")

    def _told(
        self, connection: Connection, changes: Mapping[str, tuple[Any, Any]]
    ) -> dict[str, tuple[str | None, str | None]]:
        """Return changes by label and in words, as the activity log keeps them."""

        def told(name: str, value: Any) -> str | None:
            if value is None:
                return None
            reference = self.pages.lookups.get(name)
            if (
                reference is not None
                and len(reference.columns) == 1
                and self._may_choose(reference)
            ):
                return self._title(connection, reference, value)
            field_ = self.pages.fields.get(name)
            if field_ is None:
                return str(value)
            return str(field_.show(value, self.site.default_language))

        return {
            self._label(name): (told(name, before), told(name, after))
            for name, (before, after) in changes.items()
        }

    def _title(self, connection: Connection, reference: Reference, value: Any) -> str:
        """Return the title of what is referred to: asked once, however many rows do."""
        place = (reference, value)
        if place not in self._titles:
            plan = lookup_plan(self.context, reference)
            found = plan.one(connection, value)
            self._titles[place] = found.title if found is not None else str(value)
        return self._titles[place]

    def _label(self, name: str) -> str:
        """Return the label of a column: translated once, however many rows are told
        of."""
        if name not in self._labels:
            self._labels[name] = self.pages.label(name)
        return self._labels[name]

    def _texts(
        self, before: Mapping[str, Any], changed: Mapping[str, Any]
    ) -> dict[str, tuple[str | None, str | None]]:
        """Return changes as a form has them, so that they can be put back: without what
        is secret, and without files, which are gone."""
        fields = self.pages.fields
        return {
            name: (
                fields[name].to_text(before.get(name)),
                fields[name].to_text(value),
            )
            for name, value in changed.items()
            if name in fields and not isinstance(fields[name], SecretField | FileField)
        }

    def put_back(self, outcome: SaveResult, texts: Changes) -> None:
        """Fill earlier values into the form of a record: into those fields that the
        user may enter."""
        for name in self.entered:
            if name in texts:
                outcome.form._fields[name].raw_data = [texts[name][0] or ""]

    def _may_choose(self, reference: Reference) -> bool:
        target = self.site.registry[reference.target]
        return self.reach.may("view", target.table.fullname)

    def _read(self, connection: Connection, key: Mapping[str, Any]) -> dict[str, Any]:
        rows = self.reach.rows(self.pages.table)
        columns = [rows.c[name] for name in self.entered]
        matches = [rows.c[name] == bindparam(f"k_{name}") for name in self.pages.key]
        statement = select(literal(1), *columns).where(*matches)
        bound = {f"k_{name}": value for name, value in key.items()}
        row = self.reach.run(connection, statement, bound).first()
        if row is None:
            raise RecordNotFound
        return dict(zip(self.entered, row[1:], strict=True))

    def _digest(self, key: Mapping[str, Any], name: str, text: str) -> str:
        """Return a keyed digest of a field's text, so that a page can carry what the
        user saw without telling it, and nobody can make one up."""
        place = encode_key(tuple(key.values()))
        message = f"{self.pages.name}\0{place}\0{name}\0{text}".encode()
        return hmac.digest(self._secret, message, "sha256").hex()[:32]

    def _digests(
        self, key: Mapping[str, Any], values: Mapping[str, Any]
    ) -> dict[str, str]:
        return self.digests(key, values, self.entered)

    def is_seen(
        self, key: Mapping[str, Any], name: str, typed: MultiDict[str, str]
    ) -> bool:
        """Tell whether the input of a field equals the value that its user saw."""
        shown = self.pages.fields[name]
        text = shown.plain(shown.clean(shown.gather(typed.getlist(name))))
        return is_same(typed.get(SEEN + name, ""), self._digest(key, name, text))

    def digests(
        self,
        key: Mapping[str, Any],
        values: Mapping[str, Any],
        entered: Iterable[str],
    ) -> dict[str, str]:
        """Return the digests of what is seen in the fields `entered`, by their names in
        the form."""
        fields = self.pages.fields
        traces = {name: fields[name].trace(values[name]) for name in entered}
        return {
            SEEN + name: self._digest(key, name, text) for name, text in traces.items()
        }

    def _text(self, name: str, value: Any) -> str:
        shown = self.pages.fields[name]
        return shown.clean(shown.to_text(value))

    def _compare(
        self,
        key: Mapping[str, Any],
        values: Mapping[str, Any],
        typed: MultiDict[str, str],
    ) -> tuple[MultiDict[str, str], dict[str, str]]:
        """Return the user's value of each field, and the value in the database where
        somebody else wanted something different."""
        mine = MultiDict(typed)
        conflicts: dict[str, str] = {}
        for name in self.entered:
            now = self._text(name, values[name])
            if name not in typed or typed.get(TAKE + name) == "theirs":
                mine[name] = now
                continue
            field_ = self.pages.fields[name]
            mine[name] = text = field_.clean(field_.gather(typed.getlist(name)))
            seen = typed.get(SEEN + name, "")
            trace = field_.trace(values[name])
            if text == now or is_same(seen, self._digest(key, name, trace)):
                continue
            if is_same(seen, self._digest(key, name, text)):
                mine[name] = now  # not touched by this user, changed by another
            else:
                conflicts[name] = self._shown(field_, values[name])
        return mine, conflicts

    def _shown(self, field_: Any, value: Any) -> str:
        if value is None:
            return "–"
        return str(field_.show(value, self.site.language))

    def refuse(self, outcome: SaveResult, error: DBAPIError) -> None:
        """Put what the database refused at the field that it names, else at the top."""
        told = classify(error)
        by_name = {column.name: key for key, column in self.pages.table.c.items()}
        keys = [by_name[name] for name in told.columns if name in by_name]
        keys = [key for key in keys if key in outcome.form._fields]
        if told.kind == "unique" and keys:
            outcome.form.add_error(keys[-1], self.checks.clash_message(tuple(keys)))
        elif told.kind == "needed" and keys:
            outcome.form.add_error(keys[0], _("Enter a value."))
        elif told.kind == "range" and keys:
            outcome.form.add_error(
                keys[0], _("The database does not accept this value.")
            )
        elif told.kind == "unique":
            outcome.refused.append(_("Another record already has these values."))
        elif told.kind == "reference":
            outcome.refused.append(
                _("A record that this one refers to no longer exists, or another "
                  "record refers to a value that you changed.")
            )  # fmt: skip
        else:
            outcome.refused.append(not_allowed(told))


def is_same(sent: str, digest: str) -> bool:
    """Tell whether a digest that came with a form is this one."""
    return hmac.compare_digest(sent.encode("utf-8", "replace"), digest.encode())


def _literal_default(default: Any) -> str | None:
    argument = getattr(default, "arg", None)
    return argument if isinstance(argument, str) else None
