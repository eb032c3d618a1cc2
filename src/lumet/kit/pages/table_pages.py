"""The description of a table's pages."""

import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import partial
from typing import Any, ClassVar
from uuid import UUID

from jinja2 import Template
from sqlalchemy import (
    Column,
    ColumnElement,
    FromClause,
    LargeBinary,
    String,
    Table,
    TypeDecorator,
    UniqueConstraint,
    and_,
    or_,
)
from werkzeug.datastructures import MultiDict

from ..access.reach import Reach
from ..access.roles import Role
from ..contract import EDIT_CELLS, EDIT_PAGE
from ..db.column_types import NoneAs, TextBytes, YesNo, is_decimal, own_type
from ..forms.base import RecordForm
from ..forms.fields import LookupField, OtherField, ValueField, YesNoField
from .actions import Action
from .changes import Change
from .computed_columns import ComputedColumn, computed_fields
from .routine_actions import RoutineAction
from .titles import Title, parse_title
from .transitions import Transition


@dataclass(frozen=True, slots=True)
class Order:
    """One column of an order; `down` puts the largest or latest first."""

    column: str
    down: bool = False


@dataclass(frozen=True, slots=True)
class Section:
    """A named part of the form and of the record's page."""

    name: Any
    fields: Sequence[str]


@dataclass(frozen=True, slots=True)
class PolymorphicReference:
    """A column with the key of a record of one of several tables: `type` is the column
    that says of which, `tables` are its values with the names of their tables. Without
    a `type` they are the beginnings of the column's own texts: "vessel:" of
    `vessel:17`."""

    column: str
    type: str
    tables: Sequence[tuple[str, str]]


@dataclass(frozen=True, slots=True, kw_only=True)
class ListPage:
    """The page of all records, as `[list]` in the decision file describes it."""

    columns: Sequence[str] = ()
    wide_columns: Sequence[str] = ()  # as well, where the window is wide
    # in pixels, by column
    column_widths: Mapping[str, int] = field(default_factory=dict)
    order: Sequence[str] = ()  # "-" before a column: the largest or latest first
    filters: Sequence[str] = ()  # the columns to filter by; none: all
    search: Sequence[str] = ()  # the columns searched; none: title and texts
    layouts: Sequence[str] = ()  # none: all that fit
    parent: str = ""  # the column that refers to the record above: the tree
    expand: str = ""  # the related records that open within a row: TABLE.COLUMN
    calendar: Sequence[str] = ()  # the date, or the first and the last one
    board: str = ""  # the column whose values are the columns of a board
    map: Sequence[str] = ()  # the latitude and the longitude
    edit: str = EDIT_PAGE  # or "cells": its rows are edited in it as well
    unindexed: frozenset[str] = frozenset()  # neither sorted nor filtered by

    @property
    def orders(self) -> tuple[Order, ...]:
        """The order by column and direction."""
        return tuple(
            Order(each.removeprefix("-"), down=each.startswith("-"))
            for each in self.order
        )

    def is_filtered_by(self, key: str) -> bool:
        """Tell whether the list can be filtered by a column."""
        return key not in self.unindexed and (not self.filters or key in self.filters)

    @property
    def is_edited(self) -> bool:
        """Tell whether rows are edited in the list."""
        return self.edit == EDIT_CELLS


@dataclass(frozen=True, slots=True, kw_only=True)
class RecordPage:
    """The page of one record, as `[record]` and `[sections]` describe it; the sections
    are those of the forms too, and so are those that are `folded` until they are
    opened."""

    columns: Sequence[str] = ()  # none: all, in sections
    sections: Sequence[Section] = ()
    folded: Sequence[Any] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class FormPage:
    """A form, as `[add]` and `[edit]` describe it."""

    columns: Sequence[str] = ()  # none: all, in sections


@dataclass(frozen=True, slots=True)
class RelatedRecords:
    """Related records: those of `table` that refer here by their columns `by`. Their
    label is the table's plural unless one is given."""

    table: str
    by: str | tuple[str, ...]
    label: Any = ""

    @property
    def is_part(self) -> bool:
        """Tell whether they are entered on the form of the record."""
        return False

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns that refer here."""
        return (self.by,) if isinstance(self.by, str) else self.by

    @property
    def slug(self) -> str:
        """How addresses name them: by their table and the columns that refer."""
        return ".".join([self.table, *self.columns])

    @property
    def joined(self) -> tuple[str, ...]:
        """The columns of a junction table that refer to the other side; () for none."""
        return ()


@dataclass(frozen=True, slots=True)
class DetailRows(RelatedRecords):
    """Related records that are rows of the record's form. `position` is their column
    that puts them in order."""

    position: str = ""

    @property
    def is_part(self) -> bool:
        return True


@dataclass(frozen=True, slots=True)
class ManyToMany(RelatedRecords):
    """The records on the other side of a junction table, chosen on the record's form:
    `table` is the junction, `through` its columns that refer to the other side."""

    through: str | tuple[str, ...] = ()

    @property
    def is_part(self) -> bool:
        return True

    @property
    def joined(self) -> tuple[str, ...]:
        return (self.through,) if isinstance(self.through, str) else self.through


@dataclass(frozen=True, slots=True)
class ExternalReference:
    """A reference from a table that the application does not have: its columns `by`
    refer to a record's columns `to`, and the database follows `on_delete`."""

    table: str
    by: tuple[str, ...]
    to: tuple[str, ...]
    on_delete: str = ""
    schema: str | None = None


@dataclass(frozen=True, slots=True)
class DatabaseRule:
    """A rule in SQL that the database evaluates after a record was written; `message`
    is shown at the field `key` where it does not hold."""

    key: str
    sql: str
    message: Any


@dataclass(frozen=True, slots=True)
class Reference:
    """A reference between two tables of the application, by their names in addresses:
    the values of `columns` in `source` are those of `referred` in `target`. The
    database knows nothing of one that is not `enforced`."""

    source: str
    columns: tuple[str, ...]
    target: str
    referred: tuple[str, ...]
    on_delete: str
    enforced: bool = True

    def led_by(self, column: str) -> "Reference":
        """Return the same reference with one of its columns in front."""
        places = sorted(
            range(len(self.columns)), key=lambda n: self.columns[n] != column
        )
        return replace(
            self,
            columns=tuple(self.columns[n] for n in places),
            referred=tuple(self.referred[n] for n in places),
        )


Keys = list[str]  # by another name, since a table's pages have a `list` of their own
Templates = list[str | Template]
Sections = list[tuple[str, list[str]]]


class TablePages:
    """How one table is shown. Generated subclasses say what; this class and the modules
    beside it say how. Your own subclass, in `custom/`, may override any of it."""

    table: ClassVar[Table]
    form: ClassVar[type[RecordForm]]
    singular: ClassVar[Any]
    plural: ClassVar[Any]
    title: ClassVar[str]
    subtitle: ClassVar[Sequence[str]] = ()  # below the title, where one is chosen
    group: ClassVar[Any]
    icon: ClassVar[str] = ""  # in the menu
    list: ClassVar[ListPage] = ListPage()
    record: ClassVar[RecordPage] = RecordPage()
    add: ClassVar[FormPage] = FormPage()
    edit: ClassVar[FormPage] = FormPage()
    details: ClassVar[Sequence[RelatedRecords]] = ()
    has_list: ClassVar[bool] = True
    for_lookups: ClassVar[bool] = False  # chosen by title elsewhere, without own pages
    disabled_pages: ClassVar[frozenset[str]] = frozenset()  # of add, edit, delete
    read_only: ClassVar[frozenset[str]] = frozenset()
    editable_keys: ClassVar[frozenset[str]] = frozenset()
    soft_delete: ClassVar[str] = ""  # the column that marks what is deleted
    totals: ClassVar[Sequence[tuple[str, str]]] = ()  # columns with sum, avg, min, max
    polymorphic: ClassVar[Sequence[PolymorphicReference]] = ()
    lookup_columns: ClassVar[Sequence[str]] = ()  # of referenced records: LOOKUP.COLUMN
    formula_form: ClassVar[type[RecordForm]] = RecordForm
    formulas: ClassVar[Sequence[tuple[str, str]]] = ()  # fields, their values in SQL
    defaults: ClassVar[Sequence[tuple[str, str]]] = ()  # by column, as stored
    generated_values: ClassVar[Sequence[tuple[str, str]]] = ()  # "max + 1" or "uuid"
    automatic_values: ClassVar[Sequence[tuple[str, str]]] = ()  # columns, "created at"…
    database_rules: ClassVar[Sequence[DatabaseRule]] = ()
    computed_columns: ClassVar[Sequence[ComputedColumn]] = ()  # of your own
    actions: ClassVar[Sequence[Action]] = ()  # of your own: buttons
    transitions: ClassVar[Sequence[Transition]] = ()  # of choices, by their names
    routine_actions: ClassVar[Sequence[RoutineAction]] = ()  # buttons, as decided
    messages: ClassVar[Sequence[tuple[str, Any]]] = ()  # by the name of a constraint
    external_references: ClassVar[Sequence[ExternalReference]] = ()
    is_large: ClassVar[bool] = False  # so many rows that searches are bounded
    prefix_searchable: ClassVar[
        Sequence[str]
    ] = ()  # of a large table: served by indexes
    changeable: ClassVar[bool] = True
    is_read_only_source: ClassVar[bool] = False  # a view or a query
    denied_by_database: ClassVar[frozenset[str]] = frozenset()  # of add, edit, delete

    def __init__(self, name: str) -> None:
        self.name = name
        self.key: tuple[str, ...] = tuple(
            key for key, column in self.table.c.items() if column.primary_key
        )
        self.fields: Mapping[str, ValueField] = self.form().value_fields()
        self.computed: dict[str, str] = dict(self.formulas)
        # what is shown and is no column of its own: formulas, and borrowed columns
        self.extras: dict[str, ValueField] = (
            dict(self.formula_form().value_fields()) if self.formulas else {}
        )
        self.in_python = {each.name: each for each in self.computed_columns}
        if self.in_python:
            self.extras |= computed_fields(self.computed_columns)
            shown = (each.name for each in self.computed_columns if each.in_list)
            columns = tuple(dict.fromkeys([*self.list.columns, *shown]))
            vars(self)["list"] = replace(self.list, columns=columns)
        self.beyond: dict[str, TablePages] = {}  # whose borrowed columns are, by key
        self.referenced: dict[str, TablePages] = {}  # what lookups refer to, by column
        self.parsed_title: Title = parse_title(self.title)
        self.lookups: dict[str, Reference] = {}
        self.has_own_templates = False  # in custom/templates/TABLE

    def list_condition(self, rows: FromClause) -> ColumnElement[bool] | None:
        """Yours to override: return a condition of the rows that lists show, such as
        `rows.c.closed_on.is_(None)`; None for all. It is built once for all users of one
        reach: what depends on the user is a rule in access.toml."""
        return None

    def column_keys(self) -> tuple[str, ...]:
        """Return the keys of all columns."""
        return tuple(self.table.c.keys())

    @property
    def title_may_be_empty(self) -> bool:
        """Whether a record may have no title: where nothing in it is sure to say
        something."""
        columns = [(key, self.column(key)) for key in self.parsed_title.keys]
        return all(
            column.nullable or key in self.lookups or isinstance(column.type, String | TextBytes)
            for key, column in columns
        )  # fmt: skip

    @property
    def is_changeable(self) -> bool:
        """Tell whether records can be changed: not those of a view or without a key."""
        return self.changeable and bool(self.key)

    @property
    def entered(self) -> tuple[str, ...]:
        """The keys of the columns that a form enters."""
        return tuple(
            name
            for name, field in self.fields.items()
            if name not in self.read_only and not isinstance(field, OtherField)
        )

    def entered_on(self, is_new: bool) -> tuple[str, ...]:
        """Return the keys of the columns on the form of a new record, or of another."""
        chosen = self.add.columns if is_new else self.edit.columns
        found = tuple(key for key in chosen if key in self.entered) or self.entered
        if is_new:
            return found
        moved = {each.column for each in self.transitions}
        return tuple(
            k
            for k in found
            if k not in moved and (k not in self.key or k in self.editable_keys)
        )

    def enters(self, reach: Reach, roles: Iterable[Role], is_new: bool) -> Keys:
        """Return the keys of the columns that a form offers to a user who has `roles`
        on the record."""
        keys = self.seen_by(reach, self.entered_on(is_new))
        return reach.enterable(roles, self.table.fullname, keys, is_new)

    def placed(self, keys: Sequence[str], chosen: Sequence[str]) -> Sections:
        """Return `keys` by the names of their sections; those `chosen` for a page stand
        in one, in their own order."""
        if chosen:
            return [("", [key for key in chosen if key in keys])]
        found = [
            (str(section.name), [key for key in section.fields if key in keys])
            for section in self.record.sections
        ]
        known = {key for _, held in found for key in held}
        found.append(("", [key for key in keys if key not in known]))
        return [(name, held) for name, held in found if held]

    def folds(self, section: str) -> bool:
        """Tell whether the section of this name is folded until it is opened."""
        return section in map(str, self.record.folded)

    def takes(self, change: str) -> bool:
        """Tell whether the database takes a change: "add", "edit" or "delete"."""
        return self.is_changeable and change not in self.denied_by_database

    def offers(self, change: str) -> bool:
        """Tell whether there is a page for a change: "add", "edit" or "delete"."""
        return self.takes(change) and change not in self.disabled_pages

    def filled(
        self,
        values: Mapping[str, Any],
        typed: MultiDict[str, str] | None = None,
        spare: RecordForm | None = None,
    ) -> RecordForm:
        """Return the form with stored `values`, and with what was typed over them; a
        `spare` form, of which nobody has need any more, is filled anew."""
        if spare is not None:
            form = spare
            form.process(typed, data=dict(values))
        elif self.lookups:
            form = self.form(data=dict(values))
            for key in self.lookups:
                lookup = form._fields.get(key)
                if isinstance(lookup, LookupField):
                    lookup.value_type = value_parser(self.column(key))
            if typed is not None:
                form.process(formdata=typed, data=dict(values))
        else:
            form = self.form(typed, data=dict(values))
        for key, shown in form._fields.items():
            unfit = typed.getlist(f"unfit-{key}") if typed is not None else ()
            if unfit:
                shown.process_errors = [*shown.process_errors, *unfit]
        return form

    def column(self, key: str) -> Column[Any]:
        """Return the column with this key."""
        column: Column[Any] = self.table.c[key]
        return column

    def is_alive(self, rows: FromClause) -> ColumnElement[bool]:
        """Return the condition that records, selected from `rows`, are not marked as
        deleted."""
        mark, shown = rows.c[self.soft_delete], self.fields.get(self.soft_delete)
        if isinstance(shown, YesNoField):
            return or_(mark.is_(None), mark == shown.parse("no"))
        return mark.is_(None)

    def is_key(self, values: Mapping[str, Any]) -> ColumnElement[bool]:
        """Return the condition that a record has these values, by column."""
        return and_(*[self.column(name) == value for name, value in values.items()])

    def is_binary(self, key: str) -> bool:
        """Tell whether the column holds bytes, of which pages show only the length."""
        return isinstance(self.column(key).type, LargeBinary)

    def seen_by(self, reach: Reach, keys: Iterable[str]) -> Keys:
        """Return those of `keys` that are not hidden from the user."""
        name = self.table.fullname
        return [
            key
            for key in keys
            if not reach.hides(name, key.partition(".")[0])
            and (key not in self.extras or self._sees_extra(reach, key))
        ]

    def _sees_extra(self, reach: Reach, key: str) -> bool:
        """Tell whether the user may look at what a formula reads, or at the column that
        is borrowed."""
        if key in self.in_python:
            name, needs = self.table.fullname, self.in_python[key].needs
            return not any(reach.hides(name, each) for each in needs)
        if key in self.beyond:
            target = self.beyond[key]
            column = key.partition(".")[2]
            may = reach.may("view", target.table.fullname)
            return may and bool(target.seen_by(reach, [column]))
        read = re.findall(r"\{([^{}]+)\}", self.computed[key])
        return all(reach.may("view", name) for name in read)

    def shown_field(self, key: str) -> ValueField:
        """Return the field of a column, a formula or a column of a referenced record."""
        if key in self.fields:
            return self.fields[key]
        if key in self.extras:
            return self.extras[key]
        owner, column = self.owner_of(key)
        return owner.fields[column]

    def owner_of(self, key: str) -> tuple["TablePages", str]:
        """Return the pages that have a column, and its key there: LOOKUP.COLUMN is one
        of the record that a lookup refers to."""
        lookup, dot, column = key.partition(".")
        if dot and lookup in self.referenced and key not in self.fields:
            return self.referenced[lookup], column
        return self, key

    def borrows_lookup(self, key: str) -> bool:
        """Tell whether a borrowed column refers to a third table."""
        return key in self.beyond and key.partition(".")[2] in self.beyond[key].lookups

    def is_shown(self, key: str) -> bool:
        """Tell whether there is such a column, formula or borrowed column."""
        return key in self.fields or key in self.extras

    def label(self, key: str) -> str:
        """Return the label of a column."""
        if not self.is_shown(key):
            owner, column = self.owner_of(key)
            if owner is self:
                return key
            return f"{self.label(key.partition('.')[0])} · {owner.label(column)}"
        field = self.shown_field(key)
        label = str(field.label.text) + (f", {field.unit}" if field.unit else "")
        if key in self.beyond:
            lookup = key.partition(".")[0]
            own = {str(field.label.text) for field in self.fields.values()}
            return f"{self.label(lookup)} · {label}" if label in own else label
        return label

    def validate(self, change: Change) -> None:
        """Yours to override: refuse a change with `change.refuse(message, column)`,
        before anything is written."""

    def write(self, change: Change) -> None:
        """Write a change, within the transaction. Yours to override: set
        `change.values`, call `super().write(change)`, write more by
        `change.connection`; an exception undoes all of it."""
        change.carry_out(change)

    def committed(self, change: Change) -> None:
        """Yours to override: called when the database has kept a change. An exception
        is logged, and undoes nothing."""

    def templates(self, name: str) -> Templates:
        """Return the templates of a page, the first that there is: your own for this
        table, and the shared one."""
        return [f"{self.name}/{name}", name] if self.has_own_templates else [name]

    def overrides(self, name: str) -> bool:
        """Tell whether your own class has a method of this name."""
        return getattr(type(self), name) is not getattr(TablePages, name)


def python_type(column: Column[Any]) -> type:
    """Return the Python type that a column's values have in addresses: text where it is
    not known, and where the database may hold what Python has no value for."""
    made = column.type
    if isinstance(made, NoneAs):
        made = made.base
    if isinstance(made, YesNo) and not made.storage_format:
        return bool
    if isinstance(made, TypeDecorator):
        return str
    try:
        return made.python_type
    except NotImplementedError:
        return str


MOST_DIGITS = 1_000  # of an exact number that a server takes as such


def value_parser(column: Column[Any]) -> Callable[[str], Any]:
    """Return the reader of a column's values in addresses and forms. It raises ValueError
    or InvalidOperation for what is none: PostgreSQL would end the transaction over it."""
    if str(getattr(own_type(column), "native", "")).lower() == "uuid":
        return partial(_checked, UUID)
    if is_decimal(column):
        return partial(_checked, _number)
    return python_type(column)


def _number(text: str) -> Decimal:
    found = Decimal(text)
    if not found.is_finite() or abs(found.adjusted()) > MOST_DIGITS:
        raise ValueError(text)
    return found


def _checked(read: Callable[[str], Any], text: str) -> str:
    read(text)
    return text


def unique_sets(pages: TablePages) -> list[tuple[str, ...]]:
    """Return the columns that no two records may share: of the key, and of each unique
    constraint."""
    found = [
        tuple(column.key for column in constraint.columns)
        for constraint in pages.table.constraints
        if isinstance(constraint, UniqueConstraint)
    ]
    return sorted({*found, pages.key} - {()})


def unique_name(pages: TablePages, columns: Collection[str]) -> str:
    """Return the name of the unique constraint over `columns`, "" for one that the
    application has no message for."""
    named = (
        str(constraint.name or "")
        for constraint in pages.table.constraints
        if isinstance(constraint, UniqueConstraint)
        and {column.key for column in constraint.columns} == set(columns)
    )
    return next(named, "")


def is_single(pages: TablePages, columns: Collection[str]) -> bool:
    """Tell whether no two records of a table have the same values in `columns`."""
    return any(set(each) <= set(columns) for each in unique_sets(pages))
