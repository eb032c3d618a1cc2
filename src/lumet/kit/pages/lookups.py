"""Choosing a record by its title."""

from collections.abc import Collection, Sequence
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import (
    Connection,
    bindparam,
    case,
    or_,
)

from ..fields import KEPT, LookupField
from ..reach import Reach
from .model import Order, Reference, TablePages, python_type
from .searching import (
    MOST_WORDS,
    escape_like,
    has_words,
    matchers,
    word_values,
    words_of,
)
from .selection import Selection
from .site import Plan, Site

SHORT_LIST = 50  # so many choices are in the page; above, one types to find
FOUND_AT_ONCE = 20
Option = tuple[str, str]


class LookupPlan(Plan):
    """The statements that find records of one table by their titles, built once."""

    def __init__(
        self, site: Site, pages: TablePages, reach: Reach, referred: str
    ) -> None:
        self.reach = reach
        selection = Selection(site.registry, pages, reach, site.language)
        self._title = selection.title_reader()
        self._value = selection.place(selection.base, referred)
        order = [Order(key) for key in pages.parsed_title.keys]
        terms = [term for term, _, _ in selection.order_terms(order)]
        statement = selection.statement()
        self._first = statement.order_by(*terms).limit(bindparam("wanted"))
        postgresql = site.database.engine.dialect.name == "postgresql"
        matches = matchers(terms, postgresql)
        begins = or_(*[like(bindparam("begin"), escape="\\") for like in matches])
        ranked = case((begins, 0), else_=1)
        self._found = [
            statement.where(has_words(matches, count))
            .order_by(ranked, *terms)
            .limit(bindparam("wanted"))
            for count in range(1, MOST_WORDS + 1)
        ]
        column = selection.base.c[referred]
        self._one = statement.where(column == bindparam("value"))
        self._several = statement.where(column.in_(bindparam("values", expanding=True)))

    def first(self, connection: Connection, wanted: int) -> list[Option]:
        """Return the first records by title: value and title."""
        return self._read(connection, self._first, {"wanted": wanted})

    def find(self, connection: Connection, search: str, wanted: int) -> list[Option]:
        """Return the records whose title holds every word, those that begin with the
        search first."""
        words = words_of(search)
        if not words:
            return self.first(connection, wanted)
        values: dict[str, Any] = {"wanted": wanted, "begin": escape_like(search) + "%"}
        values |= word_values(words)
        return self._read(connection, self._found[len(words) - 1], values)

    def one(self, connection: Connection, value: Any) -> Option | None:
        """Return the record that `value` refers to, None when none is within reach."""
        try:
            found = self._read(connection, self._one, {"value": value})
        except OverflowError:  # a number that SQLite cannot hold
            return None
        return found[0] if found else None

    def several(self, connection: Connection, values: Sequence[Any]) -> dict[str, str]:
        """Return the titles of the records that `values` refer to, by value, in one
        statement; those beyond reach are missing."""
        if not values:
            return {}
        try:
            return dict(self._read(connection, self._several, {"values": list(values)}))
        except OverflowError:
            return {}

    def _read(
        self, connection: Connection, statement: Any, values: dict[str, Any]
    ) -> list[Option]:
        rows = self.reach.run(connection, statement, values)
        return [(str(row[self._value]), self._title(row)) for row in rows]


def lookup_plan(site: Site, reference: Reference, reach: Reach) -> LookupPlan:
    """Return the plan that finds what `reference` refers to, built when first wanted."""
    referred = reference.referred[0]
    key = ("lookup", reference.target, referred, reach.shape)
    pages = site.registry[reference.target]
    plan = site.plan(key, lambda: LookupPlan(site, pages, reach, referred))
    assert isinstance(plan, LookupPlan)
    return plan.within(reach)


def fill_lookups(
    site: Site,
    connection: Connection,
    pages: TablePages,
    form: Any,
    reach: Reach,
    entered: Collection[str],
) -> None:
    """Give every lookup of a form its choices and the title of its present value."""
    for key, reference in pages.lookups.items():
        field = form._fields.get(key)
        if not isinstance(field, LookupField) or key not in entered:
            continue
        field.value_type = python_type(pages.column(key))
        target = site.registry[reference.target]
        present = field._value()
        if not reach.may("view", target.table.fullname):
            field.is_kept = bool(present)
            field.options = [(KEPT, str(_("not visible")))] if present else []
            continue
        plan = lookup_plan(site, reference, reach)
        options = plan.first(connection, SHORT_LIST + 1)
        field.more = len(options) > SHORT_LIST
        options = options[:SHORT_LIST]
        if present and all(value != present for value, _title in options):
            found = _present(connection, plan, field, present)
            if found is None and reach.rows(target.table) is not target.table:
                field.is_kept = True
                found = (KEPT, str(_("not visible")))
            options.insert(0, found or (present, present))
        field.options = options


def _present(
    connection: Connection, plan: LookupPlan, field: LookupField, present: str
) -> Option | None:
    try:
        return plan.one(connection, field.value_type(present))
    except (ValueError, ArithmeticError):
        return None
