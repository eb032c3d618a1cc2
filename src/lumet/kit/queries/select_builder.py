"""Building one SELECT: a table's columns, and the titles of what they refer to."""

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from flask_babel import lazy_gettext as _
from sqlalchemy import (
    ColumnElement,
    Row,
    func,
    text,
    type_coerce,
)
from sqlalchemy.sql.elements import Grouping

from ..common.url_keys import encode_key
from ..forms.fields import (
    ChoiceField,
    LinkedField,
    LongTextField,
    SecretField,
    ValueField,
)
from ..forms.file_fields import FileField, uploads
from ..pages import urls
from ..pages.table_pages import PolymorphicReference, Reference
from .cells import Cell, long_cell
from .formulas import formula_type
from .joined_select import JoinedSelect
from .readers import At, Reader, TextAt, TitleAt


class SelectBuilder(JoinedSelect):
    """The columns and joins of one SELECT over `pages` within `reach`, and readers that
    pick what a page shows from its rows; over `base`, where its rows were selected
    already."""

    def value_reader(self, key: str) -> Reader:
        """Return a reader of the column's Python value; of bytes, only the length."""
        if key in self.pages.in_python:
            return self._python_reader(key)
        if key in self.pages.extras:
            return At(self.extra_place(key))
        if isinstance(self.pages.fields.get(key), SecretField):
            known = self._add(self.base.c[key].is_not(None))
            return lambda row: SecretField.MASK if row[known] else None
        if self.pages.is_binary(key):
            length = self._add(func.length(self.base.c[key]))
            return lambda row: None if row[length] is None else f"{row[length]:,} bytes"
        return At(self.place(self.base, key))

    def plain_reader(self, key: str) -> At:
        """Return a reader of a number as the driver gives it, whose text is the
        same."""
        return At(self.place_raw(self.base.c[key]))

    def key_reader(self, keys: Sequence[str] = ()) -> Reader:
        """Return a reader of the record's key, or of the columns `keys`, as a segment
        of an address: by its values as the database spells them, so that they find the
        record again; "" where a part is NULL, so that nothing does."""
        places = [self.place_raw(self.base.c[key]) for key in keys or self.pages.key]

        def read(row: Row[Any]) -> str:
            values = [row[place] for place in places]
            return "" if None in values else encode_key(values)

        return read

    def keys_reader(
        self, keys: Sequence[str] = ()
    ) -> Callable[[Row[Any]], tuple[Any, ...]]:
        """Return a reader of the values of the record's key, or of the columns `keys`,
        as the database has them."""
        places = [self.place_raw(self.base.c[key]) for key in keys or self.pages.key]
        return lambda row: tuple([row[place] for place in places])

    def cell_reader(self, key: str, address: Callable[[str], str]) -> Reader:
        """Return a reader of the column's `Cell`; `address` makes the beginning of the
        address of a record from its table's name."""
        reference = self.pages.lookups.get(key)
        if reference is not None:
            return self._lookup_cell(key, reference, address)
        field = self.pages.shown_field(key)
        for each in self.pages.polymorphic:
            if each.column == key:
                return self._polymorphic_cell(each, field, address)
        if self.pages.borrows_lookup(key):
            return self._borrowed_cell(key)
        if key in self.pages.in_python:
            return self._python_cell(key, field)
        if key in self.pages.extras:
            return self._made_cell(self.extra_place(key), field)
        if isinstance(field, FileField) and self.pages.key:
            return self._file_cell(key, field, address)
        make, empty = self.cell_maker(field), self.empty
        if self.pages.is_binary(key) or isinstance(field, SecretField):
            value = self.value_reader(key)
            return lambda row: empty if value(row) is None else make(value(row))
        place = self.place(self.base, key)
        return lambda row: empty if row[place] is None else make(row[place])

    def _file_cell(
        self, key: str, field: FileField, address: Callable[[str], str]
    ) -> Reader:
        """Return a reader of a picture, or of a link to a file; of a name alone where
        there is no such file."""
        held, record = self.value_reader(key), self.key_reader()
        home, empty = address(self.pages.name), self.empty
        label = self.pages.label(key)

        def read(row: Row[Any]) -> Cell:
            value = held(row)
            if value is None:
                return empty
            name = field.show(value, "") if field.folder else str(value)
            if field.folder and uploads().find(field.folder, value) is None:
                return Cell(name)
            page = f"{home}{record(row)}"
            whole = f"{page}{urls.FILE}{key}"
            if field.images:
                return Cell(label, whole, picture=f"{page}{urls.PICTURE}{key}")
            return Cell(name, whole)

        return read

    def _made_cell(self, place: int, field: ValueField) -> Reader:
        make, empty = self.cell_maker(field), self.empty
        return lambda row: empty if row[place] is None else make(row[place])

    def _python_reader(self, key: str) -> Reader:
        """Return a reader of a column that your own code works out."""
        needs = self.pages.in_python[key].needs
        places = [(each, self.place(self.base, each)) for each in needs]
        method = getattr(self.pages, key)
        return lambda row: method({name: row[place] for name, place in places})

    def _python_cell(self, key: str, field: ValueField) -> Reader:
        value, make, empty = (
            self._python_reader(key),
            self.cell_maker(field),
            self.empty,
        )

        def read(row: Row[Any]) -> Cell:
            found = value(row)
            return empty if found is None else make(found)

        return read

    def _borrowed_cell(self, key: str) -> Reader:
        """Return a reader of what a referenced record refers to itself: its title."""
        lookup, column = key.split(".", 1)
        target = self.pages.beyond[key]
        further = self.registry[target.lookups[column].target]
        place, empty = self.extra_place(key), self.empty
        unseen = Cell(str(_("not visible")))
        if not self.reach.may("view", further.table.fullname):
            return lambda row: empty if row[place] is None else unseen
        joined = self._joined[(lookup,)]
        title = self._title_through(target, joined, column, (lookup,))

        def read(row: Row[Any]) -> Cell:
            if row[place] is None:
                return empty
            text = str(title(row))
            return Cell(text) if text else unseen

        return read

    def extra_place(self, key: str) -> int:
        """Add a formula or a borrowed column; return its place in the rows."""
        if key in self.pages.computed:
            return self._add(self.formula(key))
        lookup, _, column = key.partition(".")
        reference = self.pages.lookups[lookup]
        joined = self._join(self.base, lookup, reference, (lookup,))
        return self.place(joined, column)

    def formula(self, key: str) -> ColumnElement[Any]:
        """Return the value of a formula over the table's rows: what it reads of other
        tables are those of their rows that are within reach."""
        words = self.reach.as_sql(self.pages.computed[key], self.pages.table.metadata)
        value: Grouping[Any] = Grouping(text(words))
        return type_coerce(value, formula_type(self.pages.extras[key]))

    def cell_maker(self, field: ValueField) -> Callable[[Any], Cell]:
        """Return a function that makes a cell of a field's value."""
        language, show = self.language, field.show
        if isinstance(field, ChoiceField) and field.colours:
            known = {
                value: Cell(str(label), colour=field.colour(value))
                for value, label in field.choices.items()
            }
            return lambda value: (
                known[value] if value in known else Cell(show(value, language))
            )
        if isinstance(field, LinkedField):
            return lambda value: Cell(
                show(value, language), field.address(show(value, language))
            )
        if isinstance(field, LongTextField):
            return lambda value: long_cell(show(value, language))
        return lambda value: Cell(show(value, language))

    def text_reader(self, key: str) -> Reader:
        """Return a reader of a lookup's text, None for nothing: as its cell has it."""
        reference = self.pages.lookups[key]
        target = self.registry[reference.target]
        place, unseen = self.place(self.base, key), str(_("not visible"))
        if not self.reach.may("view", target.table.fullname):
            return lambda row: None if row[place] is None else unseen
        every = self.reach.rows(target.table) is target.table
        title = self._title_through(self.pages, self.base, key, ())
        found = self.place_raw(self._joined[(key,)].c[reference.referred[0]])

        def read(row: Row[Any]) -> str | None:
            if row[place] is None:
                return None
            if row[found] is not None:
                return title(row) or None
            return str(row[place]) if every else unseen

        return TitleAt(title.place, read) if isinstance(title, TextAt) else read

    def _lookup_cell(
        self, key: str, reference: Reference, address: Callable[[str], str]
    ) -> Reader:
        place, empty = self.place(self.base, key), self.empty
        target = self.registry[reference.target]
        if not self.reach.may("view", target.table.fullname):
            hidden = Cell(str(_("not visible")))
            return lambda row: empty if row[place] is None else hidden
        every = self.reach.rows(target.table) is target.table
        left_out = None if every else Cell(str(_("not visible")))
        title = self._title_through(self.pages, self.base, key, ())
        joined = self._joined[(key,)]
        places = [self.place_raw(joined.c[part]) for part in target.key]
        home, has_page = address(target.name), not target.for_lookups

        def read(row: Row[Any]) -> Cell:
            if row[place] is None:
                return empty
            if places and row[places[0]] is not None:
                if has_page:
                    record = encode_key([row[each] for each in places])
                    return Cell(title(row), home + record)
                return Cell(title(row))
            # to nothing that is there, or to what the application leaves out
            return left_out or Cell(str(row[place]))

        return read

    def _polymorphic_cell(
        self,
        reference: PolymorphicReference,
        field: ValueField,
        address: Callable[[str], str],
    ) -> Reader:
        """Return a reader of a link to a record of one of several tables, by the name
        of its table and its key; of the key alone where its type names no table whose
        records may be seen."""
        make, empty = self.cell_maker(field), self.empty
        place = self.place(self.base, reference.column)
        if reference.type and not self.pages.seen_by(self.reach, [reference.type]):
            return lambda row: empty if row[place] is None else make(row[place])
        raw = self.place_raw(self.base.c[reference.column])
        homes = {
            value: (str(target.singular), address(target.name))
            for value, name in reference.tables
            if (target := self.registry[name]) and not target.for_lookups
            if self.reach.may("view", target.table.fullname)
        }

        if not reference.type:
            return _led_cell(homes, place, make, empty)
        said = self.place_raw(self.base.c[reference.type])

        def read(row: Row[Any]) -> Cell:
            if row[place] is None:
                return empty
            key, known = make(row[place]), homes.get(str(row[said]).strip())
            if known is None:
                return key
            return Cell(f"{known[0]} {key.text}", known[1] + encode_key([row[raw]]))

        return read

    def raw_lookup_reader(self, key: str) -> Reader:
        """Return a reader of the key behind a lookup, None where the record that it
        refers to may not be seen."""
        reference = self.pages.lookups[key]
        target = self.registry[reference.target]
        place = self.place(self.base, key)
        if not self.reach.may("view", target.table.fullname):
            return lambda row: None
        if self.reach.rows(target.table) is target.table:
            return At(place)
        joined = self._join(self.base, key, reference, (key,))
        found = self.place_raw(joined.c[reference.referred[0]])
        return lambda row: None if row[found] is None else row[place]

    def used_columns(self) -> set[str]:
        """Return the keys of the columns of the table itself that the SELECT reads."""
        found: set[str] = set()
        waiting: list[Any] = [self.statement()]
        while waiting:
            element = waiting.pop()
            if getattr(element, "table", None) is self.base:
                found.add(element.key)
            elif element is not self.base:
                waiting += element.get_children()
        return found


def _led_cell(
    homes: Mapping[str, tuple[str, str]],
    place: int,
    make: Callable[[Any], Cell],
    empty: Cell,
) -> Reader:
    """Return a reader of a link to the record that a text names: by the beginning of the
    text, which says of which table, and the key behind it."""

    def read(row: Row[Any]) -> Cell:
        if row[place] is None:
            return empty
        text = str(row[place]).strip()
        for lead, (noun, home) in homes.items():
            key = text.removeprefix(lead)
            if key and key != text:
                return Cell(f"{noun} {key}", home + encode_key([key]))
        return make(row[place])

    return read
