"""Filters of a list: read from its address, applied in the statement, said in words.

A filter is a parameter COLUMN.OPERATOR=VALUE of the list's address, such as
`result.is=failed`, `cost.from=100`, `inspected_on.within=this-month`, `name.has=ness`.
"""

from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import (
    ColumnElement,
    String,
    and_,
    bindparam,
    or_,
    select,
    tuple_,
)
from werkzeug.datastructures import MultiDict

from ..common import locale
from ..common.formatting import date_text
from ..common.parsing import read_date
from ..common.url_keys import decode_key
from ..db.column_types import in_order
from ..db.dialects.base import Server, escape_like
from ..forms.date_fields import DateField, DateTimeField
from ..forms.fields import LookupField, ValueField
from ..forms.operators import (
    BEGINS,
    EMPTY,
    FILLED,
    FROM,
    HAS,
    IS,
    OF_PRESENCE,
    TO,
    WITHIN,
)
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages, python_type
from .search import is_beyond_ascii, matchers
from .select_builder import SelectBuilder

MAX_VALUES = 50  # of one filter
MAX_VALUE_LENGTH = 1_000  # characters of one; what is longer filters nothing
PRESETS = (
    "today", "yesterday", "this-week", "last-week", "this-month", "last-month", "this-year",
    "last-year", "last-30-days", "next-30-days",
)  # fmt: skip
Shape = tuple[tuple[str, str, int, bool], ...]


@dataclass(frozen=True, slots=True)
class Filter:
    """One filter: the column, the operator, and the values as in the address."""

    key: str
    operator: str
    texts: tuple[str, ...]
    values: tuple[Any, ...]

    @property
    def name(self) -> str:
        """Its parameter in the address."""
        return f"{self.key}.{self.operator}"


def seen_operators(context: TableContext, key: str) -> tuple[str, ...]:
    """Return the operators that a user can filter a column by: a lookup of records that
    may not be seen tells only whether it is empty."""
    pages = context.pages
    reference = pages.lookups.get(key)
    if reference is not None and isinstance(pages.fields[key], LookupField):
        target = context.site.registry[reference.target].table.fullname
        if not context.reach.may("view", target):
            return OF_PRESENCE
    return pages.fields[key].operators


def read_filters(context: TableContext, arguments: MultiDict[str, str]) -> list[Filter]:
    """Return the filters that an address asks for; what is no filter of this table, or
    names a column that the user may not see, is left out."""
    pages = context.pages
    found: list[Filter] = []
    if not any("." in name for name in arguments):
        return found
    for key in pages.seen_by(context.reach, pages.fields):
        if not pages.list.is_filtered_by(key):
            continue
        field = pages.fields[key]
        for operator in seen_operators(context, key):
            texts = [
                text
                for text in arguments.getlist(f"{key}.{operator}")
                if text.strip() and len(text) <= MAX_VALUE_LENGTH
            ]
            try:
                filter_ = _read(pages, key, field, operator, texts[:MAX_VALUES])
            except (ValueError, ArithmeticError, RecursionError):
                continue
            if filter_ is not None:
                found.append(filter_)
    return found


def _read(
    pages: TablePages, key: str, field: ValueField, operator: str, texts: list[str]
) -> Filter | None:
    if not texts:
        return None
    if operator in (EMPTY, FILLED):
        return Filter(key, operator, ("1",), ())
    if operator == WITHIN:
        first, last = _preset(texts[0], locale.today())
        return Filter(key, WITHIN, (texts[0],), (*_bounds(field, first, last),))
    if operator in (FROM, TO) and isinstance(field, DateField | DateTimeField):
        day = read_date(texts[0], locale.language(), locale.today())
        low, high = _bounds(field, day, day)
        bound = low if operator == FROM else high
        return Filter(key, operator, (day.isoformat(),), (bound,))
    if operator in (HAS, BEGINS):
        text = escape_like(texts[0].strip())
        value = f"%{text}%" if operator == HAS else f"{text}%"
        return Filter(key, operator, (texts[0],), (value,))
    found: dict[str, Any] = {}
    for text in texts:
        with suppress(ValueError, ArithmeticError):  # of several, those that are some
            if isinstance(field, LookupField):
                found[text] = _referred_value(pages, key, field, text)
                continue
            value = field.filter_value(field.clean(text))
            if not isinstance(value, int) or abs(value) < 1 << 63:
                found[text] = value
    if not found:
        return None
    return Filter(key, operator, tuple(found), tuple(found.values()))


def _referred_value(
    pages: TablePages, key: str, field: LookupField, text: str
) -> tuple[Any, ...]:
    """Return the values of the columns by which a lookup refers to a record. Raises
    ValueError for what is none."""
    reference = pages.lookups[key]
    if field.is_part:
        types = [python_type(pages.column(each)) for each in reference.columns]
        values = decode_key(text, types)
    else:
        values = (python_type(pages.column(key))(text),)
    if any(isinstance(each, int) and abs(each) >= 1 << 63 for each in values):
        raise ValueError(text)
    return values


def _bounds(field: ValueField, first: date, last: date) -> tuple[Any, Any]:
    """Return the lowest value, and that behind the highest, of days."""
    behind = last + timedelta(days=1)
    if isinstance(field, DateTimeField):
        days = (datetime.combine(each, time()) for each in (first, behind))
        if field.is_local:
            days = (field.as_stored(d.replace(tzinfo=locale.zone())) for d in days)
        low, high = days
        return low, high
    return first, behind


def _preset(word: str, today: date) -> tuple[date, date]:
    """Return the first and the last day that a preset means. Raises ValueError."""
    if word in ("today", "yesterday"):
        day = today - timedelta(days=word == "yesterday")
        return day, day
    if word == "last-30-days":
        return today - timedelta(days=29), today
    if word == "next-30-days":
        return today, today + timedelta(days=29)
    which, _dash, span = word.partition("-")
    if which not in ("this", "last"):
        raise ValueError(word)
    back = which == "last"
    if span == "week":
        monday = today - timedelta(days=today.weekday() + 7 * back)
        return monday, monday + timedelta(days=6)
    if span == "month":
        first = today.replace(day=1)
        if back:
            first = (first - timedelta(days=1)).replace(day=1)
        following = (first + timedelta(days=31)).replace(day=1)
        return first, following - timedelta(days=1)
    if span == "year":
        year = today.year - back
        return date(year, 1, 1), date(year, 12, 31)
    raise ValueError(word)


def preset_words() -> dict[str, str]:
    """Return the presets in words."""
    words = (_("today"), _("yesterday"), _("this week"), _("last week"), _("this month"),
             _("last month"), _("this year"), _("last year"), _("the last 30 days"),
             _("the next 30 days"))  # fmt: skip
    return dict(zip(PRESETS, words, strict=True))


def shape_of(filters: Iterable[Filter]) -> Shape:
    """Return the shape of the filters: everything but the values."""
    return tuple(
        (s.key, s.operator, len(s.values), any(map(is_beyond_ascii, s.texts)))
        for s in filters
    )


def filter_values(filters: Sequence[Filter]) -> dict[str, Any]:
    """Return the bound values of `conditions`."""
    bound: dict[str, Any] = {}
    for number, filter_ in enumerate(filters):
        for place, value in enumerate(filter_.values):
            if isinstance(value, tuple):  # of a lookup: the columns that it refers by
                bound |= {f"s{number}_{place}_{n}": v for n, v in enumerate(value)}
            else:
                bound[f"s{number}_{place}"] = value
    return bound


def conditions(
    selection: SelectBuilder, shape: Shape, server: Server
) -> list[ColumnElement[bool]]:
    """Return the conditions of filters of this shape on this server."""
    found = []
    for number, (key, operator, count, is_folded) in enumerate(shape):
        field = selection.pages.fields[key]
        if operator == IS and isinstance(field, LookupField):
            found.append(_refers(selection, key, number, count))
            continue
        column = selection.base.c[key]
        found.append(_condition(column, operator, number, count, server, is_folded))
    return found


def _refers(
    selection: SelectBuilder, key: str, number: int, count: int
) -> ColumnElement[bool]:
    """Return the condition that a lookup refers to one of some records, of those alone
    that may be seen: else the rows of a hidden one could be counted."""
    reference = selection.pages.lookups[key]
    field = selection.pages.fields[key]
    assert isinstance(field, LookupField)
    columns = reference.columns if field.is_part else reference.columns[:1]
    referred = reference.referred[: len(columns)]
    ours = [selection.base.c[each] for each in columns]
    chosen = []
    for value in range(count):
        values = [
            bindparam(f"s{number}_{value}_{n}", type_=each.type)
            for n, each in enumerate(ours)
        ]
        chosen.append(and_(*[a == b for a, b in zip(ours, values, strict=True)]))
    target = selection.registry[reference.target].table
    rows = selection.reach.rows(target)
    if rows is target:
        return or_(*chosen)
    wanted = select(*[rows.c[each] for each in referred])
    among = ours[0] if len(ours) == 1 else tuple_(*ours)
    return and_(or_(*chosen), among.in_(wanted))


def _condition(
    column: ColumnElement[Any],
    operator: str,
    number: int,
    count: int,
    server: Server,
    is_folded: bool,
) -> ColumnElement[bool]:
    bound = [bindparam(f"s{number}_{n}", type_=column.type) for n in range(count)]
    if operator in (EMPTY, FILLED):
        nothing: ColumnElement[bool] = server.is_empty(column)
        if isinstance(column.type, String) and type(column.type) is String:
            nothing = or_(nothing, column == "")
        return nothing if operator == EMPTY else ~nothing
    if operator in (HAS, BEGINS):
        (like,) = matchers([column], server, is_folded)
        word: Any = bindparam(f"s{number}_0", type_=String())
        return like(word, escape="\\")
    if operator == IS:
        return or_(*[column == value for value in bound])
    placed = in_order(column)
    limits = [in_order(value) for value in bound]
    if operator == WITHIN:
        return and_(placed >= limits[0], placed < limits[1])
    if operator == FROM:
        return placed >= limits[0]
    is_day = _holds_days(column)
    return placed < limits[0] if is_day else placed <= limits[0]


def _holds_days(column: ColumnElement[Any]) -> bool:
    """Tell whether the highest value of a filter is the day behind it."""
    try:
        made = column.type.python_type
    except NotImplementedError:
        made = type(column.type)
    return made in (date, datetime) or type(column.type).__name__ in (
        "Date",
        "DateTime",
    )


def describe_filter(
    pages: TablePages, filter_: Filter, language: str, titles: Mapping[str, str]
) -> str:
    """Return a filter in words, without its column; `titles` are those of the records
    that a lookup may be, by value."""
    field = pages.fields[filter_.key]
    if filter_.operator == EMPTY:
        return str(_("is empty"))
    if filter_.operator == FILLED:
        return str(_("is not empty"))
    if filter_.operator == WITHIN:
        return preset_words()[filter_.texts[0]]
    if filter_.operator == HAS:
        return str(_('contains "%(text)s"', text=filter_.texts[0]))
    if filter_.operator == BEGINS:
        return str(_('begins with "%(text)s"', text=filter_.texts[0]))
    if isinstance(field, LookupField):
        shown = [titles.get(text, str(_("not visible"))) for text in filter_.texts]
    elif isinstance(field, DateField | DateTimeField):
        shown = [date_text(date.fromisoformat(filter_.texts[0]), language)]
    else:
        shown = [field.show(value, language) for value in filter_.values]
    if filter_.operator == FROM:
        return str(_("from %(value)s", value=shown[0]))
    if filter_.operator == TO:
        return str(_("up to %(value)s", value=shown[0]))
    return str(_(" or ")).join(shown)
