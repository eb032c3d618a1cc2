"""Building one SELECT: a table's columns, and the titles of what they refer to."""

import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from html import escape as escape_all
from typing import Any, NamedTuple

from flask_babel import lazy_gettext as _
from sqlalchemy import (
    ColumnElement,
    FromClause,
    Row,
    Select,
    and_,
    func,
    select,
    text,
    type_coerce,
)
from sqlalchemy.sql.elements import Grouping
from sqlalchemy.types import NullType

from ..common.url_keys import encode_key
from ..db.column_types import in_order
from ..forms.fields import (
    ChoiceField,
    LinkedField,
    LongTextField,
    SecretField,
    TextField,
    ValueField,
)
from ..forms.file_fields import FileField, uploads
from ..pages import urls
from ..pages.table_context import TableContext
from ..pages.table_pages import Order, Reference, TablePages
from ..pages.titles import DEPTH
from .formulas import formula_type

MAX_CELL_LENGTH = 90  # characters of a text in a list
Path = tuple[str, ...]
Reader = Callable[[Any], Any]  # of a row
Rows = Sequence[Any]
Columns = Sequence[Sequence[Any]]  # the values of some rows, by their place


_ODD = re.compile(r"[&<>\"']")


def escape(text: str) -> str:
    """Write a text as HTML has it; most hold nothing that is to be escaped."""
    return escape_all(text) if _ODD.search(text) else text


class Cell(NamedTuple):
    """One value on a page: its text, where it leads, and its colour. A template writes
    it as it is: a link, a mark with a word, a text, or a dash for nothing."""

    text: str
    address: str = ""
    colour: str = ""
    said: str = ""  # of one without a value: what is read out
    whole: str = ""  # of a long text: all of it
    picture: str = ""  # the address of a picture, whose alternative is the text

    def __html__(self) -> str:
        text, address, colour, said, whole, picture = self
        if picture:
            source, alt = escape(picture), escape(text)
            image = f'<img class="picture" src="{source}" alt="{alt}" loading="lazy">'
            return f'<a href="{escape(address)}">{image}</a>'
        if address:
            return f'<a href="{escape(address)}">{escape(text)}</a>'
        if colour:
            return f'<span class="state {escape(colour)}">{escape(text)}</span>'
        if whole:
            rest = f"<div>{escape(whole)}</div>"
            return f'<details class="whole"><summary>{escape(text)}</summary>{rest}</details>'
        if text or not said:  # an empty text is not nothing
            return escape(text)
        return f'<span class="none" aria-label="{escape(said)}">–</span>'


def _long_cell(text: str) -> Cell:
    if len(text) <= MAX_CELL_LENGTH:
        return Cell(text)
    return Cell(text[:MAX_CELL_LENGTH].rsplit(" ", 1)[0] + " …", whole=text)


@dataclass(frozen=True, slots=True)
class At:
    """A reader of the value at one place of a row; of many rows at once, by column."""

    place: int

    def __call__(self, row: Any, /) -> Any:
        return row[self.place]

    def of(self, rows: Rows, columns: Columns) -> Sequence[Any]:
        """Return the values of all rows, which stand by column in `columns`."""
        return columns[self.place]


@dataclass(frozen=True, slots=True)
class TextAt(At):
    """The same of a text, "" for none."""

    def __call__(self, row: Any, /) -> str:
        value = row[self.place]
        return "" if value is None else str(value)


@dataclass(frozen=True, slots=True)
class TitleAt:
    """A reader of the text of a reference whose title is one text, at a place; `read`
    does what there is to do where that is missing."""

    place: int
    read: Reader

    def __call__(self, row: Any, /) -> Any:
        return row[self.place] or self.read(row)

    def of(self, rows: Rows, columns: Columns) -> Sequence[Any]:
        """Return the texts of all rows."""
        titles = zip(columns[self.place], rows, strict=True)
        return [title or self.read(row) for title, row in titles]


def _nothing(row: Row[Any]) -> str:
    return ""


class SelectBuilder:
    """The columns and joins of one SELECT over `pages` within `reach`, and readers that
    pick what a page shows from its rows; over `base`, where its rows were selected
    already."""

    def __init__(
        self, context: TableContext, where: str = "", base: FromClause | None = None
    ) -> None:
        pages, reach = context.pages, context.reach
        self.registry = context.site.registry
        self.pages = pages
        self.reach = reach
        self.language = context.site.language
        self.base = reach.rows(pages.table) if base is None else base
        if where:  # inside, where no other table's column has the same name
            inner = select(*self.base.c).where(text(f"({where})"))
            self.base = inner.subquery(pages.table.name)
        self.empty = Cell("", said=str(_("empty")))
        self.source: FromClause = self.base
        self.columns: list[ColumnElement[Any]] = []
        self._joined: dict[Path, FromClause] = {}
        self._raw: dict[ColumnElement[Any], int] = {}
        self._places: dict[tuple[FromClause, str], int] = {}

    def statement(self) -> Select[Any]:
        """Return the SELECT."""
        return select(*self.columns).select_from(self.source)

    def place(self, source: FromClause, key: str) -> int:
        """Add a column, unless it is there; return its place in the rows."""
        if (source, key) not in self._places:
            self._places[source, key] = self._add(source.c[key])
        return self._places[source, key]

    def _add(self, expression: ColumnElement[Any]) -> int:
        self.columns.append(expression.label(f"c{len(self.columns)}"))
        return len(self.columns) - 1

    def place_raw(self, expression: ColumnElement[Any]) -> int:
        """Add an expression whose value is read as the driver gives it."""
        if expression not in self._raw:
            self._raw[expression] = self._add(type_coerce(expression, NullType()))
        return self._raw[expression]

    def value_reader(self, key: str) -> Reader:
        """Return a reader of the column's Python value; of bytes, only the length."""
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

    def title_reader(self, without: Sequence[str] = ()) -> Callable[[Row[Any]], str]:
        """Return a reader of the record's title, leaving out what the columns `without`
        say, unless they say all of it."""
        keys = self.pages.parsed_title.keys
        left_out = set(without) if set(keys) - set(without) else set()
        return self._title(self.pages, self.base, (), left_out)

    def cell_reader(self, key: str, address: Callable[[str], str]) -> Reader:
        """Return a reader of the column's `Cell`; `address` makes the beginning of the
        address of a record from its table's name."""
        reference = self.pages.lookups.get(key)
        if reference is not None:
            return self._lookup_cell(key, reference, address)
        field = self.pages.shown_field(key)
        if self.pages.borrows_lookup(key):
            return self._borrowed_cell(key)
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
            return lambda value: _long_cell(show(value, language))
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

    def _title(
        self,
        pages: TablePages,
        source: FromClause,
        path: Path,
        left_out: Collection[str] = (),
    ) -> Reader:
        parsed = pages.parsed_title
        deep = {
            key for key in parsed.keys if key in pages.lookups and len(path) >= DEPTH
        }
        if deep < set(parsed.keys):  # what lies too deep would be a bare number
            left_out = {*left_out, *deep}
        readers: list[Reader] = [
            _nothing if key in left_out else self._title_part(pages, source, key, path)
            for key in parsed.keys
        ]
        if len(readers) == 1 and parsed.texts == ("", ""):
            return readers[0]
        return lambda row: parsed.join([read(row) for read in readers])

    def _title_part(
        self, pages: TablePages, source: FromClause, key: str, path: Path
    ) -> Reader:
        if self.reach.hides(pages.table.fullname, key):
            return _nothing
        reference = pages.lookups.get(key)
        if reference is not None and len(path) < DEPTH:
            target = self.registry[reference.target]
            if not self.reach.may("view", target.table.fullname):
                return lambda row: ""
            return self._title_through(pages, source, key, path)
        place = self.place(source, key)
        field = pages.fields.get(key)
        language = self.language
        if type(field) is TextField:
            return TextAt(place)

        def read(row: Row[Any]) -> str:
            value = row[place]
            if value is None:
                return ""
            return field.show(value, language) if field is not None else str(value)

        return read

    def _title_through(
        self, pages: TablePages, source: FromClause, key: str, path: Path
    ) -> Reader:
        reference = pages.lookups[key]
        target = self.registry[reference.target]
        deeper = (*path, key)
        joined = self._join(source, key, reference, deeper)
        return self._title(target, joined, deeper)

    def _join(
        self, source: FromClause, key: str, reference: Reference, path: Path
    ) -> FromClause:
        if path not in self._joined:
            target = self.registry[reference.target]
            joined = self.reach.rows(target.table).alias()
            self._joined[path] = joined
            pairs = zip(reference.columns, reference.referred, strict=True)
            matches = [joined.c[theirs] == source.c[ours] for ours, theirs in pairs]
            self.source = self.source.outerjoin(joined, and_(*matches))
        return self._joined[path]

    def order_terms(
        self, order: Sequence[Order]
    ) -> list[tuple[ColumnElement[Any], bool, bool]]:
        """Return the expressions to sort by: each with whether it goes down and whether
        it may be NULL. A lookup is sorted by the parts of its record's title."""
        terms: list[tuple[ColumnElement[Any], bool, bool]] = []
        for item in order:
            for expression, nullable in self._sorted_by(
                self.pages, self.base, item.column, (), False
            ):
                terms.append((expression, item.down, nullable))
        return terms

    def _sorted_by(
        self, pages: TablePages, source: FromClause, key: str, path: Path, outer: bool
    ) -> list[tuple[ColumnElement[Any], bool]]:
        lookup, dot, rest = key.partition(".")
        if dot and pages is self.pages:
            borrowed = pages.lookups[lookup]
            joined = self._join(source, lookup, borrowed, (lookup,))
            target = self.registry[borrowed.target]
            return self._sorted_by(target, joined, rest, (lookup,), True)
        reference = pages.lookups.get(key)
        nullable = outer or bool(pages.column(key).nullable)
        if reference is None or len(path) >= DEPTH:
            return [(in_order(source.c[key]), nullable)]
        target = self.registry[reference.target]
        if not self.reach.may("view", target.table.fullname):
            return []  # the order of hidden keys would tell them
        deeper = (*path, key)
        joined = self._join(source, key, reference, deeper)
        return [
            term
            for part in target.parsed_title.keys
            for term in self._sorted_by(target, joined, part, deeper, True)
        ]

    def title_columns(self) -> list[ColumnElement[Any]]:
        """Return the columns that the table's titles end in, those of what it refers to
        included, in their order: those of `title_search.title_pattern`."""
        return self._title_columns(self.pages, self.base, ())

    def _title_columns(
        self, pages: TablePages, source: FromClause, path: Path
    ) -> list[ColumnElement[Any]]:
        found: list[ColumnElement[Any]] = []
        for key in pages.parsed_title.keys:
            reference = pages.lookups.get(key)
            if self.reach.hides(pages.table.fullname, key):
                continue
            if reference is None or len(path) >= DEPTH:
                found.append(source.c[key])
                continue
            target = self.registry[reference.target]
            if self.reach.may("view", target.table.fullname):
                deeper = (*path, key)
                joined = self._join(source, key, reference, deeper)
                found += self._title_columns(target, joined, deeper)
        return found

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
