"""The health of the data: rows that the rules of the application would not let in."""

import re
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from time import monotonic
from typing import Any
from urllib.parse import urlencode

from flask_babel import lazy_gettext as _
from sqlalchemy import (
    ColumnElement,
    FromClause,
    String,
    and_,
    exists,
    func,
    select,
    text,
)
from sqlalchemy.exc import DBAPIError

from ..access.row_reach import QUERY
from ..contract import EMPTY, FROM, IS, TO
from ..db.column_types import storage_format_of
from ..forms.fields import ChoiceField, EmailField, TextField
from ..forms.number_fields import CodeField, IntegerField
from ..pages.table_context import TableContext
from ..pages.table_pages import Reference, unique_sets

SECONDS = 3.0  # for one check of one table
MOST_LINKED = 20  # values in the address of a filtered list
ALIKE = 0.04  # of the rows: where more share a code, it is not meant to be unique
IDENTIFIES = re.compile(
    r"(code|number|num|nr|no|ref|reference|email|login|username|serial)$"
)
CODES = (TextField, CodeField, EmailField, IntegerField)

ORPHANS = _("refers to a record that does not exist")
NO_CHOICE = _("has a value that is none of the choices")
MISSING = _("is required, and empty")
OUT_OF_RANGE = _("is out of its range")
BROKEN_RULE = _("does not keep its rule")
DOUBLE = _("is not unique")


@dataclass(frozen=True, slots=True)
class HealthProblem:
    """What is wrong with how many rows of a table: the label of the column, and the
    filter of the list that shows them, "" for none; None for `rows`: it could not be
    checked in time."""

    label: str
    what: Any
    rows: int | None
    filter: str = ""
    values: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class _Check:
    key: str
    what: Any
    where: ColumnElement[bool]
    operator: str = (
        IS  # of the filter that shows the rows: by all values, or by a bound
    )


class DataHealth:
    """The checks of one table, of the rows within reach."""

    def __init__(self, context: TableContext) -> None:
        self.context, self.pages, self.reach = context, context.pages, context.reach
        self.base: FromClause = self.reach.rows(self.pages.table)

    def problems(self, until: float) -> Iterator[HealthProblem]:
        """Yield the problems. A check that does not begin before `until`, by the
        monotonic clock, is not made."""
        for check in self._checks():
            if monotonic() > until:
                yield self._problem(check, None)
                continue
            try:
                found = self._counted(check)
            except DBAPIError:  # it took too long
                found = self._problem(check, None)
            if found is not None:
                yield found

    def _counted(self, check: _Check) -> HealthProblem | None:
        with self.context.site.database.reading(SECONDS) as connection:
            counted = select(func.count()).select_from(self.base).where(check.where)
            rows = int(self.reach.run(connection, counted).scalar_one())
            if not rows:
                return None
            if check.what is DOUBLE:
                whole = select(func.count()).select_from(self.base)
                if rows > ALIKE * self.reach.run(connection, whole).scalar_one():
                    return None  # they repeat as a matter of course
            if check.operator == EMPTY:
                return self._problem(check, rows, [None])
            column = self.base.c[check.key]
            some = select(column).where(check.where).distinct().limit(MOST_LINKED + 1)
            if check.operator != IS:  # the one that is nearest to what is allowed
                nearest = func.min if check.operator == FROM else func.max
                some = select(nearest(column)).where(check.where)
            values = [row[0] for row in self.reach.run(connection, some)]
        return self._problem(check, rows, values)

    def _problem(
        self, check: _Check, rows: int | None, values: Sequence[Any] = ()
    ) -> HealthProblem:
        pages, key = self.pages, check.key
        field = pages.shown_field(key)
        texts = [field.to_text(each) for each in values if each not in (None, "")]
        wanted = [(f"{key}.{check.operator}", each) for each in texts]
        if not texts and values:
            wanted = [(f"{key}.{EMPTY}", "1")]
        operators = {name.rpartition(".")[2] for name, _value in wanted}
        is_filtered = pages.list.is_filtered_by(key) and pages.has_list
        is_whole = len(values) <= MOST_LINKED and check.what is not BROKEN_RULE  # fmt: skip
        can_link = is_whole and is_filtered and operators <= {*field.operators}
        query = urlencode(wanted) if can_link and wanted else ""
        return HealthProblem(
            str(field.label), check.what, rows, query, tuple(texts[:5])
        )

    def _checks(self) -> Iterator[_Check]:
        if QUERY in self.pages.table.info:
            return
        seen = self.pages.seen_by(self.reach, self.pages.fields)
        for key in seen:
            if key not in self.base.c or key in self.pages.extras:
                continue
            reference = self.pages.lookups.get(key)
            if reference is not None and not reference.enforced:
                yield from self._orphans(key, reference)
            yield from self._values(key)
        for rule in self.pages.database_rules:
            if rule.key in self.base.c:
                yield _Check(rule.key, BROKEN_RULE, text(f"NOT ({rule.sql})"))  # type: ignore[arg-type]
        yield from self._double(seen)

    def _orphans(self, key: str, reference: Reference) -> Iterator[_Check]:
        target = self.context.site.registry[reference.target].table
        is_whole = self.reach.may("view", target.fullname) and not (
            self.reach.condition("view", target.fullname) or target.info.get("where")
        )
        if not is_whole or QUERY in target.info or len(reference.columns) != 1:
            return  # who sees a part of the records cannot tell which there are
        ours = self.base.c[key]
        theirs = self.reach.rows(target).alias("referred")
        there = exists().select_from(theirs).where(theirs.c[reference.referred[0]] == ours)  # fmt: skip
        yield _Check(key, ORPHANS, and_(ours.is_not(None), ~there))

    def _values(self, key: str) -> Iterator[_Check]:
        field, column = self.pages.fields[key], self.base.c[key]
        is_spelled = bool(storage_format_of(column))
        if isinstance(field, ChoiceField) and not field.other_values and not is_spelled:
            known = [*field.by_value]
            other = and_(column.is_not(None), column.not_in(known))
            is_text = isinstance(column.type, String)
            yield _Check(key, NO_CHOICE, and_(other, column != "") if is_text else other)  # fmt: skip
        for each in field.validators:
            flags = getattr(each, "field_flags", {})
            if flags.get("required"):
                server = self.context.site.database.server
                yield _Check(key, MISSING, server.is_empty(column), EMPTY)
            low, high = flags.get("lowest"), flags.get("highest")
            if low is not None and not is_spelled:
                yield _Check(key, OUT_OF_RANGE, column < low, TO)
            if high is not None and not is_spelled:
                yield _Check(key, OUT_OF_RANGE, column > high, FROM)

    def _double(self, seen: Collection[str]) -> Iterator[_Check]:
        """Look for codes and numbers twice, where the database does not see to it."""
        single = {
            columns[0] for columns in unique_sets(self.pages) if len(columns) == 1
        }
        for key in seen:
            is_code = IDENTIFIES.search(key) and type(self.pages.fields[key]) in CODES
            if key in single or key in self.pages.lookups or key not in self.base.c or not is_code:  # fmt: skip
                continue
            column = self.base.c[key]
            twice = select(column).where(column.is_not(None)).group_by(column).having(func.count() > 1)  # fmt: skip
            yield _Check(key, DOUBLE, column.in_(twice))
