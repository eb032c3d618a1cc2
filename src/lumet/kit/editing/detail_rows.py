"""Rows of a record, entered on its own form: the records of a detail table that belong
to it. They are saved with it in one transaction, all or nothing, each with its own
rights, checks and conflicts."""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection, bindparam, select
from werkzeug.datastructures import MultiDict

from ..access.reach import Reach
from ..access.roles import Role
from ..common.url_keys import encode_key
from ..forms.base import RecordForm
from ..forms.fields import LookupField, ValueField
from ..forms.file_fields import FileField
from ..forms.number_fields import IntegerField
from ..lists.list_query import deferred_cells
from ..pages.context import Site
from ..pages.table_pages import (
    DetailRows,
    Reference,
    RelatedRecords,
    TablePages,
    is_single,
    unique_sets,
)
from ..pages.urls import record_address
from ..queries.lookups import fill_lookups, lookup_plan
from ..queries.select_builder import Cell
from .conflict_check import SEEN
from .record_saver import RecordSaver
from .save_result import SaveResult

MAX_ROWS = 500  # entered on one form; beyond, each has its own
KEY, GONE, SURE = "the-key", "is-gone", "is-sure"  # of a row: no column has a hyphen
BLANK = "__n__"  # the number in the row that a script copies
Typed = MultiDict[str, str]


class DetailRowsRejected(Exception):
    """Some rows cannot be saved; the transaction is not to be kept."""


@dataclass(slots=True)
class DetailRow:
    """One row of the form: its controls' names begin with `name`; `key` is its address,
    "" for a new one; `kept` are values that are shown and not entered."""

    name: str
    key: str
    form: RecordForm
    seen: Mapping[str, str] = field(default_factory=dict)
    conflicts: Mapping[str, str] = field(default_factory=dict)
    refused: list[str] = field(default_factory=list)
    kept: dict[str, str] = field(default_factory=dict)
    made: Mapping[str, Cell] = field(default_factory=dict)  # formulas, borrowed columns
    is_gone: bool = False
    is_asked: bool = False  # whether to remove it with its dependent records
    address: str = ""  # of its own page, "" for none

    def field(self, key: str) -> ValueField | None:
        """Return the control of a column, None for one that is not entered."""
        found = self.form._fields.get(key)
        return found if isinstance(found, ValueField) else None


@dataclass(slots=True)
class RowsTable:
    """The rows of one detail table on a form."""

    label: str
    pages: TablePages
    columns: list[str]
    rows: list[DetailRow]
    blank: DetailRow | None
    may_delete: bool
    number: int
    position: str = ""  # the column by which they can be moved
    is_single: bool = False
    totals: Mapping[str, str] = field(default_factory=dict)  # by column
    made: list[str] = field(default_factory=list)  # what is shown and is no column
    counted: frozenset[str] = frozenset()  # columns that number the rows by themselves

    def heading(self, key: str) -> str:
        """Return the heading of a column; its unit is shown at each value."""
        fields = self.pages.fields
        return str(fields[key].label.text) if key in fields else self.pages.label(key)

    def is_needed(self, key: str) -> bool:
        """Tell whether a column must be entered in each row: not one that counts
        them."""
        rows = [self.blank] if self.blank else self.rows[:1]
        fields = [field for row in rows if (field := row.field(key)) is not None]
        return any(each.required and key not in self.counted for each in fields)

    @property
    def part_id(self) -> str:
        """The identifier of this part of the form."""
        return f"rows-{self.number}"


class DetailRowsEditor:
    """Reads the rows of one detail table of a record, and what was typed there."""

    def __init__(
        self,
        parent: TablePages,
        related: RelatedRecords,
        number: int,
        saver: RecordSaver,
    ) -> None:
        self.context = saver.context
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
        chosen = {*self.pages.list.columns, *self.pages.edit.columns}
        extras = self.pages.seen_by(self.reach, self.pages.extras)
        self.made = [key for key in extras if key in chosen]
        self.position = self._position()
        self.failed: dict[str, SaveResult] = {}
        self.messages: dict[str, str] = {}
        self.asked: dict[str, str] = {}  # messages for rows with dependent records
        self._entered: dict[tuple[str, ...], list[str]] = {}  # by roles
        self._untouched: dict[str, str] = {}

    @property
    def is_open(self) -> bool:
        """Tell whether the user may change anything here."""
        return self.may_add or self.may_edit or self.may_delete

    @property
    def label(self) -> str:
        """The label of the rows."""
        noun = self.pages.singular if self.is_single else self.pages.plural
        return str(self.related.label or noun)

    @property
    def _has_pages(self) -> bool:
        """Tell whether a row has a page of its own to go to."""
        return not self.pages.for_lookups and bool(self.pages.details)

    def _order_column(self) -> str:
        """Return the column that was decided to order the rows, "" for none."""
        return self.related.position if isinstance(self.related, DetailRows) else ""

    def _position(self) -> str:
        """Return the column that puts the rows in order, "" for none that this user may
        change: not one that others refer to."""
        key = self._order_column()
        referred = {
            name
            for each in self.site.registry.incoming[self.pages.name]
            for name in each.referred
        }
        known = key in self.columns and key not in self.pages.read_only
        if not known or not self.may_edit or key in referred:
            return ""
        name = self.pages.table.fullname
        roles = self.reach.holding("edit", name)
        return key if self.reach.enterable(roles, name, [key], is_new=False) else ""

    @property
    def moves_apart(self) -> bool:
        """Tell whether positions are unique within a record."""
        sets = unique_sets(self.pages)
        return bool(self.position) and any(self.position in each for each in sets)

    @property
    def moves_keys(self) -> bool:
        """Tell whether moving rows gives them other keys: what was the first one may be
        another by now."""
        return bool(self.position) and self.position in self.pages.key

    def entered_by(
        self, roles: tuple[Role, ...], with_parent: bool = False
    ) -> list[str]:
        """Return the columns that a user who has `roles` on a row may change there;
        `with_parent`: those by which it belongs to its record too."""
        named = tuple(role.name for role in roles)
        if named not in self._entered:
            found = self.pages.enters(self.reach, roles, is_new=False)
            if self.position and self.position not in found:
                found.append(self.position)
            self._entered[named] = found if roles else []
        held = {*self.columns, *(self.reference.columns if with_parent else ())}
        return [key for key in self._entered[named] if key in held]

    def roles_of(
        self, connection: Connection, belongs: Mapping[str, Any]
    ) -> Callable[[tuple[Any, ...]], tuple[Role, ...]]:
        """Return a function from a row's key to the roles that may change it."""
        table = self.pages.table
        each = self.reach.reaching_each(
            connection, table, self.pages.is_key(belongs), "edit"
        )
        if each is None:
            holding = self.reach.holding("edit", table.fullname)
            return lambda key: holding
        return lambda key: each.get(key, ())

    def parent_values(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """Return the columns by which rows belong to a record with these values."""
        pairs = zip(self.reference.columns, self.reference.referred, strict=True)
        return {ours: values[theirs] for ours, theirs in pairs}

    def stored(
        self, connection: Connection, values: Mapping[str, Any]
    ) -> RowsTable | None:
        """Return the rows of a stored record; None when they are too many for a
        form."""
        rows = self.reach.rows(self.pages.table)
        belongs = self.parent_values(values)
        matches = [rows.c[key] == bindparam(f"p_{key}") for key in belongs]
        if self.pages.soft_delete:
            matches.append(self.pages.is_alive(rows))
        first = [self._order_column()] if self._order_column() else []
        order = [rows.c[key] for key in dict.fromkeys([*first, *self.pages.key])]
        wanted = dict.fromkeys([*self.pages.key, *self.columns])
        statement = select(*[rows.c[key] for key in wanted]).where(*matches)
        statement = statement.order_by(*order).limit(MAX_ROWS + 1)
        bound = {f"p_{key}": value for key, value in belongs.items()}
        found = self.reach.run(connection, statement, bound).all()
        if len(found) > MAX_ROWS:
            return None
        held = [dict(zip(wanted, each, strict=True)) for each in found]
        roles = self.roles_of(connection, belongs)
        made = [
            self._stored_row(number, each, roles) for number, each in enumerate(held)
        ]
        self._name_kept(connection, made, held)
        self._make(connection, made, held)
        return self._rows(connection, made)

    def _make(
        self, connection: Connection, made: list[DetailRow], held: list[dict[str, Any]]
    ) -> None:
        """Show what formulas make of the stored rows, as the database has them, and
        what they borrow of the records that they refer to."""
        if not self.made:
            return
        plan = deferred_cells(self.context, self.made)
        keys = [tuple(each.get(name) for name in self.pages.key) for each in held]
        cells = plan.cells(connection, [key for key in keys if None not in key])
        for row, key in zip(made, keys, strict=True):
            row.made = cells.get(key, {})

    def _name_kept(
        self, connection: Connection, made: list[DetailRow], held: list[dict[str, Any]]
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
            plan = lookup_plan(self.context, reference)
            titles = plan.several(connection, kept)
            for each, row in zip(held, made, strict=True):
                if key in row.kept:
                    unseen = str(_("not visible"))
                    row.kept[key] = titles.get(str(each[key]), unseen)

    def _stored_row(
        self,
        number: int,
        held: Mapping[str, Any],
        roles: Callable[[tuple[Any, ...]], tuple[Role, ...]],
    ) -> DetailRow:
        key = {name: held[name] for name in self.pages.key}
        form = self.pages.filled(held)
        form.is_new = False
        entered = self.entered_by(roles(tuple(key.values()))) if self.may_edit else []
        seen = self.saver.conflicts.digests(key, held, entered)
        kept = {
            name: self._shown(name, held[name])
            for name in self.columns
            if name not in entered and held[name] is not None
        }
        self._leave(form, entered)
        segment = encode_key(tuple(key.values()))
        row = DetailRow(self._name(number), segment, form, seen, kept=kept)
        row.address = self._address(segment)
        return row

    def _address(self, segment: str) -> str:
        """Return where a row is by itself, "" for one without pages or not there
        yet."""
        if not segment or not self._has_pages:
            return ""
        return record_address(self.pages.name, segment)

    def empty(self, connection: Connection) -> RowsTable:
        """Return the rows of a record that is not there yet."""
        return self._rows(connection, [])

    def again(self, connection: Connection | None, typed: Typed) -> RowsTable:
        """Return the rows as they were typed, with what is wrong with them."""
        made, held = [], []
        for number, (index, own) in enumerate(self.typed(typed).items()):
            outcome = self.failed.get(index)
            form = outcome.form if outcome else self.pages.filled({}, own)
            key = own.get(KEY, "")
            if not key and not outcome and self.is_blank(own):
                continue
            seen = {k: v for k, v in own.items() if k.startswith(SEEN)}
            entered = [k for k in self.columns if k in own or (not key)]
            self._leave(form, entered)
            row = DetailRow(self._name(number), key, form, seen, is_gone=GONE in own)
            row.address = self._address(key)
            if outcome is not None:
                row.conflicts = outcome.conflicts
                row.seen = outcome.seen or seen
                row.refused = [str(each) for each in outcome.refused]
            if index in self.messages:
                row.refused = [*row.refused, self.messages[index]]
            if index in self.asked:
                row.refused = [*row.refused, self.asked[index]]
                row.is_asked = True
            made.append(row)
            held.append(self._keep_key(row, entered))
        if connection is not None:
            self._name_kept(connection, made, held)
            self._make(connection, made, held)
        return self._rows(connection, made)

    def _keep_key(self, row: DetailRow, entered: list[str]) -> dict[str, Any]:
        """Show what is not entered of a row's key, and return the key's values."""
        try:
            key = self.context.key_values(row.key) if row.key else {}
        except (ValueError, ArithmeticError):
            return {}
        for name, value in key.items():
            if name in self.columns and name not in entered:
                row.kept[name] = self._shown(name, value)
        return key

    def _shown(self, name: str, value: Any) -> str:
        """Return a value that is not entered, with its unit."""
        field_ = self.pages.fields[name]
        text = str(field_.show(value, self.site.language))
        return f"{text}\N{NO-BREAK SPACE}{field_.unit}" if field_.unit else text

    def _rows(self, connection: Connection | None, rows: list[DetailRow]) -> RowsTable:
        blank = None
        if self.may_add:
            if not self.is_single:
                blank = DetailRow(self._name(BLANK), "", self._blank_form())
            if not (self.is_single and rows):
                rows = [*rows, DetailRow(self._name(len(rows)), "", self._blank_form())]
        for row in [*rows, *([blank] if blank else [])]:
            self._name_fields(row)
        if connection is not None:
            self._fill(connection, rows, blank)
        return RowsTable(
            self.label,
            self.pages,
            self.columns,
            rows,
            blank,
            self.may_delete,
            self.number,
            self.position,
            self.is_single,
            {key: how for key, how in self.pages.totals if key in self.columns},
            self.made,
            frozenset(key for key in self.columns if self.counts(key)),
        )

    @property
    def is_single(self) -> bool:
        """Tell whether a record has one such row at most: its reference is unique."""
        return is_single(self.pages, self.reference.columns)

    def _blank_form(self) -> RecordForm:
        form = self.saver.blank({})
        self._leave(form, self.columns)
        return form

    def _fill(
        self, connection: Connection, rows: list[DetailRow], blank: DetailRow | None
    ) -> None:
        """Give the lookups of all rows their choices: read once, where they are the
        same for all of them."""
        shared: dict[str, LookupField] = {}
        for row in [*([blank] if blank else []), *rows]:
            for key in self.pages.lookups:
                lookup = row.form._fields.get(key)
                if not isinstance(lookup, LookupField):
                    continue
                known = shared.get(key)
                value = lookup._value()
                if known is not None and not known.depends_on and (
                    not value or any(value == each[0] for each in known.options)
                ):  # fmt: skip
                    lookup.options, lookup.more = known.options, known.more
                    continue
                fill_lookups(self.context.on(connection), row.form, [key])
                if not value:
                    shared[key] = lookup

    def _name(self, number: int | str) -> str:
        return f"rows-{self.number}-{number}-"

    def _leave(self, form: RecordForm, entered: list[str]) -> None:
        for key in set(form._fields) - set(entered):
            del form._fields[key]

    def _name_fields(self, row: DetailRow) -> None:
        for key, each in row.form._fields.items():
            if isinstance(each, ValueField):
                each.name = row.name + key
                each.spoken = self.pages.label(key)
                if not row.key and self.counts(key):
                    each.placeholder = _("next")

    def typed(self, typed: Typed) -> dict[str, Typed]:
        """Return the input by row, by the key of the row."""
        mine = re.compile(rf"rows-{self.number}-(\d+)-(.+)")
        found: dict[str, Typed] = {}
        for name, texts in typed.lists():
            if match := mine.fullmatch(name):
                row: Typed = found.setdefault(match[1], MultiDict())
                row.setlist(match[2], texts)
        return found

    def is_blank(self, own: Typed) -> bool:
        """Tell whether a new row holds no more than one that nobody touched."""
        fields = self.pages.fields
        if not self._untouched:
            empty = self.saver.blank({}).value_fields()
            self._untouched = {
                k: fields[k].clean(empty[k]._value()) for k in self.columns
            }
        texts = {
            key: fields[key].clean(fields[key].gather(own.getlist(key)))
            for key in self.columns
        }
        return all(
            not text or text == self._untouched[key] for key, text in texts.items()
        )

    def counts(self, key: str) -> bool:
        """Tell whether a column counts the rows of a record: its place in their order,
        or a number that is the rest of a key which begins with the record's own."""
        is_rest = key in self.pages.key and set(self.reference.columns) < set(
            self.pages.key
        )
        return (
            (is_rest or key == self.position)
            and key in self.columns
            and key not in self.pages.lookups
            and isinstance(self.pages.fields[key], IntegerField)
        )
