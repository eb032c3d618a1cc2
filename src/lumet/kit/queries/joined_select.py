"""A selection from a table within reach: its columns, its joins, and the titles and
orders that need them."""

from collections.abc import Callable, Collection, Sequence
from typing import Any

from flask_babel import lazy_gettext as _
from sqlalchemy import (
    ColumnElement,
    FromClause,
    Row,
    Select,
    and_,
    select,
    text,
    type_coerce,
)
from sqlalchemy.types import NullType

from ..access.reach import Reach
from ..db.column_types import in_order
from ..forms.fields import (
    TextField,
)
from ..pages.table_context import TableContext
from ..pages.table_pages import Order, Reference, TablePages, python_type
from ..pages.titles import DEPTH
from .cells import Cell
from .readers import Path, Reader, TextAt, TextOrKey, nothing


def has_key_title(pages: TablePages, reach: Reach) -> bool:
    """Tell whether a record whose title is empty goes by its noun and its key: one of
    numbers; others are no words, or may be empty themselves."""
    is_open = not any(reach.hides(pages.table.fullname, key) for key in pages.key)
    are_numbers = all(python_type(pages.column(key)) is int for key in pages.key)
    return bool(pages.key) and are_numbers and is_open and pages.title_may_be_empty


class JoinedSelect:
    """The columns and joins of one SELECT over the table of `context`, or over `base`,
    where its rows were selected already; its titles and its orders."""

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

    def title_reader(self, without: Sequence[str] = ()) -> Callable[[Row[Any]], str]:
        """Return a reader of the record's title, leaving out what the columns `without`
        say, unless they say all of it."""
        keys = self.pages.parsed_title.keys
        left_out = set(without) if set(keys) - set(without) else set()
        return self._title(self.pages, self.base, (), left_out)

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
            nothing if key in left_out else self._title_part(pages, source, key, path)
            for key in parsed.keys
        ]
        if len(readers) == 1 and parsed.texts == ("", ""):
            return self._or_key(readers[0], pages, source)
        return self._or_key(
            lambda row: parsed.join([read(row) for read in readers]), pages, source
        )

    def _or_key(self, title: Reader, pages: TablePages, source: FromClause) -> Reader:
        """Return a reader of a title, or of the record's key where that is empty."""
        if not has_key_title(pages, self.reach):
            return title
        places = tuple(self.place_raw(source.c[key]) for key in pages.key)
        place = title.place if isinstance(title, TextAt) else 0
        other = TextOrKey(place, str(pages.singular), places)
        if isinstance(title, TextAt):
            return other
        return lambda row: title(row) or other.by_key(row)

    def _title_part(
        self, pages: TablePages, source: FromClause, key: str, path: Path
    ) -> Reader:
        if self.reach.hides(pages.table.fullname, key):
            return nothing
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

    def title_columns(self) -> list[ColumnElement[Any]]:
        """Return the columns that the table's titles end in, those of what it refers to
        included, in their order: those of `title_search.title_pattern`."""
        return self._title_columns(self.pages, self.base, ())

    def _title_columns(
        self, pages: TablePages, source: FromClause, path: Path
    ) -> list[ColumnElement[Any]]:
        found: list[ColumnElement[Any]] = []
        keys = pages.key if has_key_title(pages, self.reach) else ()
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
        return [*found, *[source.c[key] for key in keys]]

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
