"""Rows of a record, entered on its own form: the records of a detail table that belong
to it. They are saved with it in one transaction, all or nothing, each with its own
rights, checks and conflicts."""

import re
from collections.abc import Callable, Mapping
from typing import Any

from sqlalchemy import Connection
from werkzeug.datastructures import MultiDict

from ..access.reach import Reach
from ..access.roles import Role
from ..forms.file_fields import FileField
from ..forms.number_fields import IntegerField
from ..pages.context import Site
from ..pages.table_pages import (
    DetailRows,
    Reference,
    RelatedRecords,
    TablePages,
    is_single,
    unique_sets,
)
from .detail_row_forms import DetailRowForms, RowsTable
from .record_saver import RecordSaver
from .rows_result import RowsResult, Typed


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
        self.result = RowsResult()
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
    def order_column(self) -> str:
        """The column that was decided to order the rows, "" for none."""
        return self.related.position if isinstance(self.related, DetailRows) else ""

    def _position(self) -> str:
        """Return the column that puts the rows in order, "" for none that this user may
        change: not one that others refer to."""
        key = self.order_column
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

    def stored(
        self, connection: Connection, values: Mapping[str, Any]
    ) -> RowsTable | None:
        """Return the rows of a stored record; None when they are too many for a
        form."""
        return DetailRowForms(self).stored(connection, values)

    def empty(self, connection: Connection) -> RowsTable:
        """Return the rows of a record that is not there yet."""
        return DetailRowForms(self).empty(connection)

    def again(self, connection: Connection | None, typed: Typed) -> RowsTable:
        """Return the rows as they were typed, with what is wrong with them."""
        return DetailRowForms(self).again(connection, typed)

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

    @property
    def is_single(self) -> bool:
        """Tell whether a record has one such row at most: its reference is unique."""
        return is_single(self.pages, self.reference.columns)

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
