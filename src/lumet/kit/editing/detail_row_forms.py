"""The rows of a detail table as forms: as they are stored, and as they were typed."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from flask_babel import gettext as _
from sqlalchemy import Connection, bindparam, select

from ..access.roles import Role
from ..common.url_keys import encode_key
from ..forms.base import RecordForm
from ..forms.fields import LookupField, ValueField
from ..lists.deferred_cells import deferred_cells
from ..pages.table_pages import (
    TablePages,
)
from ..pages.urls import record_address
from ..queries.cells import Cell
from ..queries.lookups import fill_lookups, lookup_plan
from .conflict_check import SEEN
from .rows_result import GONE, KEY, MAX_ROWS, Typed

if TYPE_CHECKING:
    from .detail_rows import DetailRowsEditor

BLANK = "__n__"  # the number in the row that a script copies


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


class DetailRowForms:
    """Makes the forms of the rows of one editor."""

    def __init__(self, editor: "DetailRowsEditor") -> None:
        self.editor = editor
        self.context, self.site = editor.context, editor.site
        self.pages, self.reach, self.saver = editor.pages, editor.reach, editor.saver
        self.columns, self.made, self.number = (
            editor.columns,
            editor.made,
            editor.number,
        )

    def stored(
        self, connection: Connection, values: Mapping[str, Any]
    ) -> RowsTable | None:
        """Return the rows of a stored record; None when they are too many for a
        form."""
        rows = self.reach.rows(self.pages.table)
        belongs = self.editor.parent_values(values)
        matches = [rows.c[key] == bindparam(f"p_{key}") for key in belongs]
        if self.pages.soft_delete:
            matches.append(self.pages.is_alive(rows))
        first = [self.editor.order_column] if self.editor.order_column else []
        order = [rows.c[key] for key in dict.fromkeys([*first, *self.pages.key])]
        wanted = dict.fromkeys([*self.pages.key, *self.columns])
        statement = select(*[rows.c[key] for key in wanted]).where(*matches)
        statement = statement.order_by(*order).limit(MAX_ROWS + 1)
        bound = {f"p_{key}": value for key, value in belongs.items()}
        found = self.reach.run(connection, statement, bound).all()
        if len(found) > MAX_ROWS:
            return None
        held = [dict(zip(wanted, each, strict=True)) for each in found]
        roles = self.editor.roles_of(connection, belongs)
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
        """Show the stored references by title."""
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
        entered = (
            self.editor.entered_by(roles(tuple(key.values())))
            if self.editor.may_edit
            else []
        )
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

    @property
    def _has_pages(self) -> bool:
        """Tell whether a row has a page of its own to go to."""
        return not self.pages.for_lookups and bool(self.pages.details)

    def empty(self, connection: Connection) -> RowsTable:
        """Return the rows of a record that is not there yet."""
        return self._rows(connection, [])

    def again(self, connection: Connection | None, typed: Typed) -> RowsTable:
        """Return the rows as they were typed, with what is wrong with them."""
        made, held = [], []
        for number, (index, own) in enumerate(self.editor.typed(typed).items()):
            outcome = self.editor.result.failed.get(index)
            form = outcome.form if outcome else self.pages.filled({}, own)
            key = own.get(KEY, "")
            if not key and not outcome and self.editor.is_blank(own):
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
            if index in self.editor.result.messages:
                row.refused = [*row.refused, self.editor.result.messages[index]]
            if index in self.editor.result.asked:
                row.refused = [*row.refused, self.editor.result.asked[index]]
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
        if self.editor.may_add:
            if not self.editor.is_single:
                blank = DetailRow(self._name(BLANK), "", self._blank_form())
            if not (self.editor.is_single and rows):
                rows = [*rows, DetailRow(self._name(len(rows)), "", self._blank_form())]
        for row in [*rows, *([blank] if blank else [])]:
            self._name_fields(row)
        if connection is not None:
            self._fill(connection, rows, blank)
        return RowsTable(
            self.editor.label,
            self.pages,
            self.columns,
            rows,
            blank,
            self.editor.may_delete,
            self.number,
            self.editor.position,
            self.editor.is_single,
            {key: how for key, how in self.pages.totals if key in self.columns},
            self.made,
            frozenset(key for key in self.columns if self.editor.counts(key)),
        )

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
                if not row.key and self.editor.counts(key):
                    each.placeholder = _("next")
