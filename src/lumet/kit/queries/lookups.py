"""Lookups: autocomplete of a record by its title."""

from collections.abc import Collection, Mapping, Sequence
from typing import Any, NamedTuple

from flask_babel import gettext as _
from sqlalchemy import Connection, bindparam, false, literal, not_, or_, select
from sqlalchemy.exc import DBAPIError

from ..access.reach import UNBOUNDED
from ..db.dialects.base import escape_like
from ..db.errors import classify
from ..db.keyset import among_keys, bound_keys
from ..forms.fields import KEPT, LongTextField, LookupField, OtherField, SecretField
from ..forms.file_fields import FileField
from ..pages.table_context import Plan, TableContext
from ..pages.table_pages import (
    Order,
    Reference,
    TablePages,
    python_type,
    value_parser,
)
from .readers import Reader
from .search import (
    has_words,
    matchers,
    spellings,
)
from .select_builder import SelectBuilder
from .title_search import ANY, TEXT, Search, is_titled, read_search

SHORT_LIST = 50  # so many choices are in the page; above, one types to find
FOUND_AT_ONCE = 20
MAX_FOUND = 400
SEARCH_SECONDS = 0.3  # for what no index finds
MAX_TELLING = 2  # columns on the second line
NOTHING: Mapping[str, Any] = {}


class Option(NamedTuple):
    """A record to choose: its value, its title, and what else tells it from others."""

    value: str
    title: str
    note: str = ""


class Found(NamedTuple):
    """Some of the records that a search means; whether there are more, and whether time
    was up before all were looked at."""

    options: list[Option]
    more: bool = False
    is_cut: bool = False


class LookupPlan(Plan):
    """The statements that find records of one table by their titles, built once.

    `referred` is the column whose values are chosen, or several, whose values are one
    word as in an address; `given` are columns whose values are known, `where` is a
    condition of those that can be chosen at all.
    """

    def __init__(
        self,
        context: TableContext,
        referred: str | tuple[str, ...],
        given: Sequence[str] = (),
        where: str = "",
        with_deleted: bool = True,
    ) -> None:
        super().__init__(context)
        pages = context.pages
        self.is_long = pages.is_large and not given
        selection = SelectBuilder(context, where)
        self._title = selection.title_reader()
        if isinstance(referred, str):
            place = selection.place(selection.base, referred)
            self._value: Reader = lambda row: row[place]
        else:
            self._value = selection.key_reader(referred)
        self._notes = [
            selection.cell_reader(key, lambda table: "")
            for key in telling_columns(context)
        ]
        order = [Order(key) for key in pages.parsed_title.keys]
        terms = [term for term, _, _ in selection.order_terms(order)]
        statement = selection.statement()
        if pages.soft_delete and not with_deleted:
            statement = statement.where(pages.is_alive(selection.base))
        if isinstance(referred, str) and pages.column(referred).nullable:
            # what has no value there cannot be referred to
            statement = statement.where(selection.base.c[referred].is_not(None))
        for key in given:
            matches = selection.base.c[key] == bindparam(f"given_{key}")
            statement = statement.where(matches)
        self._first = statement.order_by(*terms).limit(bindparam("wanted"))
        self._server = context.site.database.server
        self._pages, self._selection = pages, selection
        self._all, self._terms = statement, terms
        self._finding: dict[tuple[Any, ...], list[Any]] = {}
        first = pages.seen_by(context.reach, _indexed_first(pages))
        self._served = [selection.base.c[k] for k in first if k not in pages.lookups]
        # a title that begins with another's is found through that
        leading = [k for k in first if k in pages.lookups and self._leads_on(k)]
        self._through = leading[0] if leading else ""
        self.is_served = bool(self._served or self._through)
        if isinstance(referred, str):
            column = selection.base.c[referred]
            self._one = statement.where(column == bindparam("value"))
            held: Any = column.in_(bindparam("values", expanding=True))
        else:
            held = among_keys(selection.base, referred, "values")
        self._several = statement.where(held)

    def first(
        self, connection: Connection, wanted: int, given: Mapping[str, Any] = NOTHING
    ) -> list[Option]:
        """Return the first records by title; none of many, which would all have to be
        put in order for it."""
        if self.is_long:
            return []
        return self._read(connection, self._first, {"wanted": wanted, **_bound(given)})

    def find(
        self, search: str, given: Mapping[str, Any] = NOTHING, skip: int = 0
    ) -> Found:
        """Return FOUND_AT_ONCE of the records whose title holds every word, behind the
        first `skip`: at first those that begin with the search, then the others, as far
        as SEARCH_SECONDS last."""
        asked = read_search(self.context, search)
        wanted = min(skip, MAX_FOUND) + FOUND_AT_ONCE + 1
        bound = {"wanted": wanted, **_bound(given)}
        database = self.context.site.database
        if not asked.is_meant:
            if self.is_long:
                return Found([], more=True)
            with database.reading() as connection:
                return _cut_out(self._read(connection, self._first, bound), skip)
        bound |= {"begin": escape_like(asked.text) + "%", **asked.bound}
        spelled = spellings(asked.text)
        bound |= self._server.prefix_values(spelled)
        found: list[Option] = []
        *titled, begins, holds = self._statements(asked, len(spelled))
        timed: list[tuple[Any, float | None]] = [(s, SEARCH_SECONDS) for s in titled]
        if self._through:
            bound["through"] = self._referring(search)
        if not self._through or bound["through"]:
            usual = None if self.is_served else SEARCH_SECONDS
            timed.append((begins, usual))
        is_cut = False
        for statement, seconds in (*timed, (holds, SEARCH_SECONDS)):
            try:
                with database.reading(seconds) as connection:
                    known = {option.value for option in found}
                    more = self._read(connection, statement, bound)
                    found += [each for each in more if each.value not in known]
            except DBAPIError as error:
                if classify(error).kind != "busy":
                    raise
                is_cut = True
                if statement not in titled:
                    break
            if len(found) >= wanted:
                break
        return _cut_out(found, skip)._replace(is_cut=is_cut)

    def _leads_on(self, key: str) -> bool:
        """Tell whether the reference that titles begin with can be searched: its table
        is visible, and its own titles begin with no reference."""
        target = self.context.of(self._pages.lookups[key].target)
        further = [k for k in _indexed_first(target.pages) if k in target.pages.lookups]
        return not further and target.may("view")

    def _referring(self, search: str) -> list[Any]:
        """Return the values by which rows refer to records whose titles a search
        means."""
        parse = python_type(self._pages.column(self._through))
        plan = lookup_plan(self.context, self._pages.lookups[self._through])
        return [parse(option.value) for option in plan.find(search).options]

    def _statements(self, search: Search, spelled: int) -> list[Any]:
        """Return the statements that find what a search means: what it is the whole
        title of, what begins so, and what holds its words; built when first wanted."""
        key = (len(search.words), search.modes, search.is_folded, spelled)
        if key not in self._finding:
            self._finding[key] = self._build(search, spelled)
        return self._finding[key]

    def _build(self, search: Search, spelled: int) -> list[Any]:
        likes = matchers(self._terms, self._server, search.is_folded)
        begins: Any = or_(*[like(bindparam("begin"), escape="\\") for like in likes])
        found = []
        if search.modes and not self._is_begun(search):
            held = self._selection.title_columns()
            is_one = is_titled(held, search.modes, self._server, search.is_folded)
            found.append(self._all.where(is_one))
        if self._served:
            begins = or_(*[self._server.begins_with(c, spelled) for c in self._served])
        if self._through:
            column = self._selection.base.c[self._through]
            begins = column.in_(bindparam("through", expanding=True))
        found.append(self._all.where(begins).order_by(*self._terms))
        # what an index finds is what is spelled so, and not all that begins so
        others = [] if self.is_served else [not_(begins)]
        words = has_words(likes, len(search.words)) if search.words else false()
        holds = self._all.where(words, *others)
        # on many rows an order would want all of them before the first is known
        found.append(holds if self._pages.is_large else holds.order_by(*self._terms))
        return [each.limit(bindparam("wanted")) for each in found]

    def _is_begun(self, search: Search) -> bool:
        """Tell whether the index finds whole titles as well: those of one text."""
        is_one = self._pages.parsed_title.texts == ("", "")
        return bool(self._served) and is_one and {*search.modes} <= {TEXT, ANY}

    def one(
        self, connection: Connection, value: Any, given: Mapping[str, Any] = NOTHING
    ) -> Option | None:
        """Return the record that `value` refers to, None when none is within reach."""
        try:
            bound = {"value": value, **_bound(given)}
            found = self._read(connection, self._one, bound)
        except OverflowError:  # a number that SQLite cannot hold
            return None
        return found[0] if found else None

    def several(self, connection: Connection, values: Sequence[Any]) -> dict[str, str]:
        """Return the titles of the records that `values` refer to, by value, in one
        statement; those beyond reach are missing."""
        if not values:
            return {}
        try:
            found = self._read(connection, self._several, {"values": list(values)})
        except OverflowError:
            return {}
        titles = {option.value: option.title for option in found}
        # a reference may be spelled otherwise than the key, as its server compares them
        compared = {self._server.as_compared(o.value): o.title for o in found}
        for value in map(str, values):
            if (
                value not in titles
                and (title := compared.get(self._server.as_compared(value))) is not None
            ):
                titles[value] = title
        return titles

    def of_keys(
        self, connection: Connection, keys: Sequence[tuple[Any, ...]]
    ) -> list[Option]:
        """Return the records that have these values in the columns referred to, of
        which there are several; those beyond reach are missing."""
        if not keys:
            return []
        bound = {"values": bound_keys(keys)}
        return self._read(connection, self._several, bound)

    def _read(
        self, connection: Connection, statement: Any, values: dict[str, Any]
    ) -> list[Option]:
        rows = self.reach.run(connection, statement, values)
        return [self._option(row) for row in rows]

    def _option(self, row: Any) -> Option:
        title = self._title(row)
        notes = [str(read(row).text) for read in self._notes]
        note = " · ".join(each for each in notes if each and each not in title)
        return Option(str(self._value(row)), title, note)


def _indexed_first(pages: TablePages) -> list[str]:
    """Return the column that titles begin with, where a search can use its index."""
    return [
        key for key in pages.parsed_title.keys[:1] if key in pages.prefix_searchable
    ]


def _bound(given: Mapping[str, Any]) -> dict[str, Any]:
    return {f"given_{key}": value for key, value in given.items()}


def _cut_out(found: list[Option], skip: int) -> Found:
    behind = found[skip:]
    more = len(behind) > FOUND_AT_ONCE and skip < MAX_FOUND
    return Found(behind[:FOUND_AT_ONCE], more)


def telling_columns(context: TableContext) -> list[str]:
    """Return the columns below a title where a record is chosen: those that
    were decided, else the first of its list."""
    pages, reach = context.pages, context.reach
    if pages.subtitle:
        return pages.seen_by(reach, pages.subtitle)
    dull = LongTextField | OtherField | SecretField | FileField
    keys = [
        key
        for key in pages.seen_by(reach, pages.list.columns)
        if key in pages.fields and not isinstance(pages.fields[key], dull)
        if key not in pages.parsed_title.keys
    ]
    return keys[:MAX_TELLING]


def lookup_plan(
    context: TableContext,
    reference: Reference,
    given: Sequence[str] = (),
    where: str = "",
    *,
    is_whole: bool = False,
    with_deleted: bool = True,
) -> LookupPlan:
    """Return the plan that finds what `reference` refers to, built when first wanted:
    by the first of its columns, or, as a `whole`, by all of them; `with_deleted`: also
    what is marked as deleted."""
    referred = reference.referred if is_whole else reference.referred[0]
    target = context.of(reference.target)
    left_out = bool(target.pages.soft_delete) and not with_deleted

    def build(bare: TableContext) -> LookupPlan:
        return LookupPlan(bare, referred, given, where, with_deleted)

    key = (referred, tuple(given), where, left_out)
    return target.plan(LookupPlan, *key, build=build)


def titles_by_value(
    context: TableContext, key: str, values: Sequence[Any]
) -> dict[str, str]:
    """Return the titles of the records that a column refers to, by value; none of a
    table that the user may not see."""
    reference = context.pages.lookups.get(key)
    if reference is None or not context.of(reference.target).may("view"):
        return {}
    return lookup_plan(context, reference).several(context.connection, values)


class Lookup:
    """One lookup of a form: what it may choose, given what the form holds."""

    def __init__(self, context: TableContext, key: str, form: Any) -> None:
        pages = context.pages
        self.context = context
        self.reach = context.reach
        self.reference = pages.lookups[key]
        self.target = context.site.registry[self.reference.target]
        field = pages.fields[key]
        assert isinstance(field, LookupField)
        self.field = field
        self.given = {
            theirs: value
            for ours, theirs in field.depends_on
            if (value := _value_in(form, ours)) is not None
        }

    @property
    def is_open(self) -> bool:
        """Tell whether the user may look at the table at all."""
        return self.reach.may("view", self.target.table.fullname)

    @property
    def plan(self) -> LookupPlan:
        """Those that can be chosen."""
        return lookup_plan(
            self.context,
            self.reference,
            tuple(self.given),
            self.field.where,
            with_deleted=False,
        )

    @property
    def whole_plan(self) -> LookupPlan:
        """All of them, for the title of a present value."""
        given = tuple(self.told)
        return lookup_plan(self.context, self.reference, given)

    def is_taken(self, connection: Connection, value: Any) -> bool:
        """Tell whether any record belongs to a value, within the user's reach or past
        it: that one can be chosen, or it cannot."""
        rows = self.target.table
        wanted = select(literal(1)).where(rows.c[self.reference.referred[0]] == value)
        for column, given in self.told.items():
            wanted = wanted.where(rows.c[column] == given)
        try:
            return UNBOUNDED.run(connection, wanted.limit(1)).first() is not None
        except OverflowError:  # a number that SQLite cannot hold
            return False

    @property
    def told(self) -> dict[str, Any]:
        """What must be known beside the value to tell the record."""
        return self.given if len(self.reference.columns) > 1 else {}


def _value_in(form: Any, key: str) -> Any:
    """Return the value of a field as far as it is known: typed, stored, or given."""
    field = form._fields.get(key) if form is not None else None
    if field is None or field.errors:
        return None
    text = field._value()
    if field.data is not None or not text or text == KEPT:
        return field.data
    try:
        return field.parse(field.clean(text))
    except (ValueError, ArithmeticError):
        return None


def fill_lookups(context: TableContext, form: Any, entered: Collection[str]) -> None:
    """Give every lookup of a form its choices and the title of its present value."""
    for key in context.pages.lookups:
        field = form._fields.get(key)
        if not isinstance(field, LookupField) or key not in entered:
            continue
        field.value_type = value_parser(context.pages.column(key))
        present = field._value()
        lookup = Lookup(context, key, form)
        if not lookup.is_open:
            field.is_kept = bool(present)
            hidden = Option(KEPT, str(_("not visible")))
            field.options = [hidden] if present else []
            continue
        options = lookup.plan.first(context.connection, SHORT_LIST + 1, lookup.given)
        field.more = len(options) > SHORT_LIST or lookup.plan.is_long
        options = options[:SHORT_LIST]
        if present and all(option.value != present for option in options):
            found = _present(context.connection, lookup, field, present)
            if found is None and field.is_offered:
                field.raw_data = None  # a default that refers to nothing
            else:
                found = found or Option(present, present)
                # the same record, where the server takes its key for the same
                options = [each for each in options if each.value != found.value]
                options.insert(
                    0, found._replace(value=present) if not field.is_kept else found
                )
        field.options = options


def _present(
    connection: Connection, lookup: Lookup, field: LookupField, present: str
) -> Option | None:
    """Return the option of a value that is not among those to choose, None for one that
    refers to nothing."""
    found = None
    try:
        value = field.value_type(present)
        found = lookup.whole_plan.one(connection, value, lookup.told)
    except (ValueError, ArithmeticError):
        pass
    target = lookup.target.table
    if found is None and lookup.reach.rows(target) is not target:
        field.is_kept = True
        return Option(KEPT, str(_("not visible")))
    return found
