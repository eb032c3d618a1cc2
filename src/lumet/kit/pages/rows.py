"""Rows of a record, entered on its own form: the records of a detail table that belong to
it. They are saved with it in one transaction, all or nothing, each by the way of its own
form: with its rights, its checks and its conflicts."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection, bindparam, func, select
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..accounts.log import Deed, Recording
from ..addresses import encode_key
from ..fields import LookupField, ValueField
from ..files import FileField
from ..forms import RecordForm
from ..measures import IntegerField
from ..reach import UNBOUNDED, LeavesReach, OutOfReach, Reach
from ..refusals import is_passing, meaning
from .deleting import beyond_delete
from .lookups import fill_lookups, lookup_plan
from .model import Reference, Related, TablePages
from .record import record_plan
from .saving import SEEN, Broken, Gone, Outcome, Saver, unique_sets
from .site import Site, actor, key_values

MOST_ROWS = 200  # entered on one form; beyond, each has its own
KEY, GONE = "the-key", "is-gone"  # of a row: no column's key has a hyphen
BLANK = "__n__"  # stands for a number in the row that a script copies
Typed = MultiDict[str, str]


class RowsRefused(Exception):
    """Some rows cannot be saved; the transaction is not to be kept."""


@dataclass(slots=True)
class Row:
    """One row of the form: its controls' names begin with `name`; `key` is its address,
    "" for a new one; `kept` are values that are shown and not entered."""

    name: str
    key: str
    form: RecordForm
    seen: Mapping[str, str] = field(default_factory=dict)
    conflicts: Mapping[str, str] = field(default_factory=dict)
    refused: list[str] = field(default_factory=list)
    kept: dict[str, str] = field(default_factory=dict)
    is_gone: bool = False

    def field(self, key: str) -> ValueField | None:
        """Return the control of a column, None for one that is not entered."""
        found = self.form._fields.get(key)
        return found if isinstance(found, ValueField) else None


@dataclass(slots=True)
class Rows:
    """The rows of one detail table on a form."""

    label: str
    pages: TablePages
    columns: list[str]
    rows: list[Row]
    blank: Row | None
    may_delete: bool
    number: int


@dataclass(frozen=True, slots=True)
class _Turn:
    """One save: its transaction, what its rows belong to, what it writes down."""

    connection: Connection
    belongs: Mapping[str, Any]
    recording: Recording


class RowsEditor:
    """Reads and saves the rows of one detail table of a record."""

    def __init__(
        self, parent: TablePages, related: Related, number: int, saver: Saver
    ) -> None:
        self.site: Site = saver.site
        self.pages = saver.pages
        self.saver = saver
        self.reach: Reach = saver.reach
        self.number = number
        self.related = related
        self.reference: Reference = self.site.registry.reference(parent.name, related)
        self.new = list(saver.entered)
        name = self.pages.table.fullname
        belongs = set(self.reference.columns) <= set(self.new)
        self.may_add = (
            belongs and self.pages.takes("add") and self.reach.may("add", name)
        )
        self.may_edit = self.pages.takes("edit") and self.reach.may("edit", name)
        self.may_delete = self.pages.takes("delete") and self.reach.may("delete", name)
        roles = self.reach.holding("edit", name)
        edited = self.pages.enters(self.reach, roles, is_new=False)
        named = {*self.new, *edited, *self.pages.key} - {*self.reference.columns}
        self.columns = [
            key
            for key in self.pages.seen_by(self.reach, self.pages.fields)
            if key in named and not isinstance(self.pages.fields[key], FileField)
        ]
        self.failed: dict[str, Outcome] = {}
        self.messages: dict[str, str] = {}
        self._keys: set[str] = set()  # of the rows that there are

    def parent_values(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """Return the columns by which rows belong to a record with these values."""
        pairs = zip(self.reference.columns, self.reference.referred, strict=True)
        return {ours: values[theirs] for ours, theirs in pairs}

    def stored(self, connection: Connection, values: Mapping[str, Any]) -> Rows | None:
        """Return the rows of a stored record; None when they are too many for a form."""
        rows = self.reach.rows(self.pages.table)
        belongs = self.parent_values(values)
        matches = [rows.c[key] == bindparam(f"p_{key}") for key in belongs]
        order = [rows.c[key] for key in self.pages.key]
        wanted = dict.fromkeys([*self.pages.key, *self.columns])
        statement = select(*[rows.c[key] for key in wanted]).where(*matches)
        statement = statement.order_by(*order).limit(MOST_ROWS + 1)
        bound = {f"p_{key}": value for key, value in belongs.items()}
        found = self.reach.run(connection, statement, bound).all()
        if len(found) > MOST_ROWS:
            return None
        held = [dict(zip(wanted, each, strict=True)) for each in found]
        made = [
            self._stored_row(connection, number, each)
            for number, each in enumerate(held)
        ]
        self._name_kept(connection, made, held)
        return self._rows(connection, made)

    def _name_kept(
        self, connection: Connection, made: list[Row], held: list[dict[str, Any]]
    ) -> None:
        """Show what is kept of references by title."""
        for key, reference in self.pages.lookups.items():
            kept = [
                each[key]
                for each, row in zip(held, made, strict=True)
                if key in row.kept
            ]
            target = self.site.registry[reference.target].table.fullname
            if not kept or not self.reach.may("view", target):
                continue
            plan = lookup_plan(self.site, reference, self.reach)
            titles = plan.several(connection, kept)
            for each, row in zip(held, made, strict=True):
                if key in row.kept:
                    unseen = str(_("not visible"))
                    row.kept[key] = titles.get(str(each[key]), unseen)

    def _stored_row(
        self, connection: Connection, number: int, held: Mapping[str, Any]
    ) -> Row:
        key = {name: held[name] for name in self.pages.key}
        form = self.pages.filled(held)
        form.is_new = False
        roles = self.reach.reaching(connection, self.pages.table, key, "edit")
        entered = self.pages.enters(self.reach, roles, is_new=False)
        entered = [name for name in entered if name in self.columns and self.may_edit]
        seen = self.saver.digests(key, held, entered)
        kept = {
            name: str(self.pages.fields[name].show(held[name], self.site.language))
            for name in self.columns
            if name not in entered and held[name] is not None
        }
        self._leave(form, entered)
        segment = encode_key(tuple(key.values()))
        return Row(self._name(number), segment, form, seen, kept=kept)

    def empty(self, connection: Connection) -> Rows:
        """Return the rows of a record that is not there yet."""
        return self._rows(connection, [])

    def again(self, connection: Connection | None, typed: Typed) -> Rows:
        """Return the rows as they were typed, with what is wrong with them."""
        made, held = [], []
        for number, (index, own) in enumerate(self._typed(typed).items()):
            outcome = self.failed.get(index)
            form = outcome.form if outcome else self.pages.filled({}, own)
            key = own.get(KEY, "")
            if not key and not outcome and self._is_blank(own):
                continue
            seen = {k: v for k, v in own.items() if k.startswith(SEEN)}
            entered = [k for k in self.columns if k in own or (not key)]
            self._leave(form, entered)
            row = Row(self._name(number), key, form, seen, is_gone=GONE in own)
            if outcome is not None:
                row.conflicts = outcome.conflicts
                row.seen = outcome.seen or seen
                row.refused = [str(each) for each in outcome.refused]
            if index in self.messages:
                row.refused = [*row.refused, self.messages[index]]
            made.append(row)
            held.append(self._keep_key(row, entered))
        if connection is not None:
            self._name_kept(connection, made, held)
        return self._rows(connection, made)

    def _keep_key(self, row: Row, entered: list[str]) -> dict[str, Any]:
        """Show what is not entered of a row's key, and return the key's values."""
        try:
            key = key_values(self.site, self.pages, row.key) if row.key else {}
        except (ValueError, ArithmeticError):
            return {}
        for name, value in key.items():
            if name in self.columns and name not in entered:
                shown = self.pages.fields[name]
                row.kept[name] = str(shown.show(value, self.site.language))
        return key

    def _rows(self, connection: Connection | None, rows: list[Row]) -> Rows:
        blank = None
        if self.may_add:
            if not self._is_single:
                blank = Row(self._name(BLANK), "", self._blank_form())
            if not (self._is_single and rows):
                rows = [*rows, Row(self._name(len(rows)), "", self._blank_form())]
        for row in [*rows, *([blank] if blank else [])]:
            self._name_fields(row)
        if connection is not None:
            self._fill(connection, rows, blank)
        label = str(self.related.label or self.pages.plural)
        return Rows(
            label, self.pages, self.columns, rows, blank, self.may_delete, self.number
        )

    @property
    def _is_single(self) -> bool:
        """Tell whether a record has one such row at most: its reference is unique."""
        held = {*self.reference.columns}
        return any(set(columns) <= held for columns in unique_sets(self.pages))

    def _blank_form(self) -> RecordForm:
        form = self.saver.blank({})
        self._leave(form, self.columns)
        for key, each in form.value_fields().items():
            if key in self.pages.key and self._is_number(key):
                each.placeholder = _("next")
        return form

    def _fill(self, connection: Connection, rows: list[Row], blank: Row | None) -> None:
        """Give the lookups of all rows their choices: read once, where they are the same
        for all of them."""
        shared: dict[str, LookupField] = {}
        for row in [*([blank] if blank else []), *rows]:
            for key in self.pages.lookups:
                lookup = row.form._fields.get(key)
                if not isinstance(lookup, LookupField):
                    continue
                known = shared.get(key)
                value = lookup._value()
                if known is not None and not known.follows and (
                    not value or any(value == each[0] for each in known.options)
                ):  # fmt: skip
                    lookup.options, lookup.more = known.options, known.more
                    continue
                fill_lookups(
                    self.site, connection, self.pages, row.form, self.reach, [key]
                )
                if not value:
                    shared[key] = lookup

    def _name(self, number: int | str) -> str:
        return f"rows-{self.number}-{number}-"

    def _leave(self, form: RecordForm, entered: list[str]) -> None:
        for key in set(form._fields) - set(entered):
            del form._fields[key]

    def _name_fields(self, row: Row) -> None:
        for key, each in row.form._fields.items():
            if isinstance(each, ValueField):
                each.name = row.name + key
                each.spoken = self.pages.label(key)

    def _typed(self, typed: Typed) -> dict[str, Typed]:
        """Return what was typed by row: by the word that stands for it."""
        mine = re.compile(rf"rows-{self.number}-(\d+)-(.+)")
        found: dict[str, Typed] = {}
        for name, texts in typed.lists():
            if match := mine.fullmatch(name):
                row: Typed = found.setdefault(match[1], MultiDict())
                row.setlist(match[2], texts)
        return found

    def _is_blank(self, own: Typed) -> bool:
        """Tell whether a new row holds no more than one that nobody touched."""
        empty = self.saver.blank({}).value_fields()
        for key in self.columns:
            shown = self.pages.fields[key]
            text = shown.clean(shown.gather(own.getlist(key)))
            if text and text != shown.clean(empty[key]._value()):
                return False
        return True

    def save(
        self,
        connection: Connection,
        values: Mapping[str, Any],
        typed: Typed,
        recording: Recording,
    ) -> None:
        """Save the rows of the record with these values: those taken away at first, then
        those changed, then the new ones. Raises RowsRefused when one cannot be saved."""
        self.failed.clear()
        self.messages.clear()
        belongs = self.parent_values(values)
        turn = _Turn(connection, belongs, recording)
        self._keys = self._held(connection, belongs)
        rows = self._typed(typed)
        gone = {n: own for n, own in rows.items() if own.get(KEY) and GONE in own}
        kept = {n: own for n, own in rows.items() if own.get(KEY) and n not in gone}
        new = {n: own for n, own in rows.items() if not own.get(KEY)}
        turns = ((gone, self._delete), (kept, self._change), (new, self._add))
        for meant, act in turns:
            for index, own in meant.items():
                try:
                    act(turn, index, own)
                except DBAPIError as error:
                    if is_passing(error) or meaning(error).kind in ("busy", "lost"):
                        raise
                    outcome = Outcome(self.pages.filled({}, own))
                    self.saver.refuse(outcome, error)
                    self.failed[index] = outcome
                    raise RowsRefused from error
                except (Gone, OutOfReach, LeavesReach, ValueError):
                    text = _("This row cannot be changed any more.")
                    self.messages[index] = str(text)
                except Broken as broken:
                    self.messages[index] = str(broken.rule.message)
        if self.failed or self.messages:
            raise RowsRefused

    def _held(self, connection: Connection, belongs: Mapping[str, Any]) -> set[str]:
        """Return the keys of the record's rows, as addresses have them."""
        rows = self.reach.rows(self.pages.table)
        matches = [rows.c[name] == bindparam(f"p_{name}") for name in belongs]
        statement = select(*[rows.c[name] for name in self.pages.key]).where(*matches)
        bound = {f"p_{name}": value for name, value in belongs.items()}
        found = self.reach.run(connection, statement, bound)
        return {encode_key(tuple(row)) for row in found}

    def _key_of(self, own: Typed) -> dict[str, Any]:
        """Return the key of a row of this record. Raises Gone for one of another."""
        if own[KEY] not in self._keys:
            raise Gone
        return key_values(self.site, self.pages, own[KEY])

    def _delete(self, turn: _Turn, index: str, own: Typed) -> None:
        key = self._key_of(own)
        self.reach.lock(turn.connection, self.pages.table, key)
        now = self.saver.stored(turn.connection, key).seen if self.may_edit else {}
        if any(own.get(name, text) != text for name, text in now.items()):
            self.messages[index] = str(_("Somebody changed this row meanwhile."))
            return
        if beyond_delete(self.site, turn.connection, self.pages, self.reach, key):
            raise OutOfReach("delete")
        title = self._title(turn.connection, key)
        if not self.reach.delete(turn.connection, self.pages.table, key):
            raise Gone
        turn.recording.mean(actor(), Deed("delete", self.pages.name, own[KEY], title))

    def _change(self, turn: _Turn, index: str, own: Typed) -> None:
        if not self.may_edit or not self._is_touched(own):
            return
        key = self._key_of(own)
        outcome = self.saver.edit(turn.connection, key, own)
        if not outcome.key:
            self.failed[index] = outcome
        elif outcome.changes:
            title = self._title(turn.connection, key)
            told = Deed("edit", self.pages.name, own[KEY], title,
                        changes=outcome.changes, texts=outcome.texts)  # fmt: skip
            turn.recording.mean(actor(), told)

    def _is_touched(self, own: Typed) -> bool:
        """Tell whether anything in a stored row is not as its user saw it."""
        key = key_values(self.site, self.pages, own[KEY])
        return any(
            not self.saver.is_seen(key, name, own)
            for name in self.columns
            if name in own
        )

    def _add(self, turn: _Turn, index: str, own: Typed) -> None:
        if not self.may_add or self._is_blank(own) or GONE in own:
            return
        whole: Typed = MultiDict(own)
        for key, value in turn.belongs.items():
            whole.setlist(key, [self.pages.fields[key].to_text(value)])
        for key in self.pages.key:
            if key in self.columns and not whole.get(key) and self._is_number(key):
                whole.setlist(
                    key, [str(self._next(turn.connection, key, turn.belongs))]
                )
        outcome = self.saver.add(turn.connection, whole)
        if not outcome.key:
            self.failed[index] = outcome
            return
        made = key_values(self.site, self.pages, outcome.key)
        title = self._title(turn.connection, made)
        told = Deed("add", self.pages.name, outcome.key, title, changes=outcome.changes)
        turn.recording.mean(actor(), told)

    def _is_number(self, key: str) -> bool:
        return key not in self.pages.lookups and isinstance(
            self.pages.fields[key], IntegerField
        )

    def _next(
        self, connection: Connection, key: str, belongs: Mapping[str, Any]
    ) -> int:
        """Return the next number of a row within its record, which is locked."""
        column = self.pages.column(key)
        matches = [self.pages.column(name) == value for name, value in belongs.items()]
        largest = select(func.max(column)).where(*matches)
        return int(UNBOUNDED.run(connection, largest).scalar() or 0) + 1

    def _title(self, connection: Connection, key: Mapping[str, Any]) -> str:
        plan = record_plan(self.site, self.pages, self.reach)
        found = plan.read(connection, key)
        return found.title if found else ""
