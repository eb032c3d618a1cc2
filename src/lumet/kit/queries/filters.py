"""Filters of a list: read from its address, applied in the statement, said in words.

A filter is a parameter COLUMN.OPERATOR=VALUE of the list's address, such as
`result.is=failed`, `cost.from=100`, `inspected_on.within=this-month`, `name.has=ness`. The
column may be a formula, or one of a referenced record, LOOKUP.COLUMN; a day may be relative
to today: `due_on.to=today+7d`. All must hold, or with `match=any` one of them.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any
from uuid import UUID

from flask_babel import gettext as _
from sqlalchemy import (
    ColumnElement,
    FromClause,
    String,
    and_,
    bindparam,
    func,
    not_,
    or_,
    select,
    tuple_,
    type_coerce,
)
from werkzeug.datastructures import MultiDict

from ..common import locale
from ..common.formatting import date_text
from ..common.parsing import read_date
from ..common.url_keys import decode_key
from ..contract import BEGINS, EMPTY, FILLED, FROM, HAS, IS, NOT, TO, WITHIN
from ..db.column_types import NoneAs, in_order, is_plain_text, own_type
from ..db.dialects.base import Server, escape_like
from ..forms.date_fields import DateField, DateTimeField
from ..forms.fields import LookupField, ValueField
from ..forms.operators import OF_PRESENCE
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages, python_type
from .search import is_beyond_ascii, matchers
from .select_builder import SelectBuilder

MAX_VALUES = 50  # of one filter
MAX_VALUE_LENGTH = 1_000  # characters of one; what is longer filters nothing
PRESETS = (
    "today", "yesterday", "tomorrow", "before-today", "after-today",
    "this-week", "last-week", "next-week", "this-month", "last-month", "next-month",
    "this-year", "last-year", "last-7-days", "last-30-days", "last-90-days", "next-7-days", "next-30-days",
)  # fmt: skip
_SPAN = re.compile(r"(last|next)-(\d{1,4})-days")
_RELATIVE = re.compile(r"today(?:([+-])(\d{1,4})([dwmy]))?")  # a day relative to today
_TYPED = re.compile(r"(\w*)\s*(?:([+-]?)\s*(\d{1,4})\s*([dwmy]?))?")  # +7, today + 2 w
_FIRST, _LAST = date(1000, 1, 1), date(9998, 12, 31)  # days that all servers have
MATCH, ANY = "match", "any"  # of an address: one filter is enough
MUST = "must"  # and the columns whose filters hold in any case
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


def filtered_field(pages: TablePages, key: str) -> ValueField | None:
    """Return the field by which a list is filtered, of its own columns, its formulas, or
    those of referenced records; None for what it is not filtered by."""
    if key in pages.fields:
        return pages.fields[key] if pages.list.is_filtered_by(key) else None
    if pages.list.filters or pages.list.unindexed or key in pages.in_python:
        return None
    if key in pages.extras:
        return pages.extras[key]
    owner, column = pages.owner_of(key)
    is_one = owner is not pages and column in owner.fields
    return owner.fields[column] if is_one and owner.list.is_filtered_by(column) else None  # fmt: skip


def filterable(context: TableContext) -> list[str]:
    """Return the columns that the user can filter the list by."""
    pages = context.pages
    keys = pages.seen_by(context.reach, [*pages.fields, *pages.extras])
    return [key for key in keys if filtered_field(pages, key) is not None]


def filterable_beyond(context: TableContext, lookup: str) -> list[str]:
    """Return the columns of the record that a lookup refers to by which the user can
    filter the list, LOOKUP.COLUMN, but for those that the list has as its own."""
    pages, reach = context.pages, context.reach
    owner = pages.referenced.get(lookup)
    may = owner is not None and reach.may("view", owner.table.fullname)
    if owner is None or not may or lookup not in pages.seen_by(reach, [lookup]):
        return []
    keys = [f"{lookup}.{column}" for column in owner.seen_by(reach, owner.fields)]
    return [
        key
        for key in keys
        if key not in pages.extras and filtered_field(pages, key) is not None
    ]


def can_filter(context: TableContext, key: str) -> bool:
    """Tell whether the user can filter the list by a column, a formula, or a column of a
    referenced record."""
    pages = context.pages
    if key in pages.fields or key in pages.extras:
        return key in filterable(context)
    return key in filterable_beyond(context, key.partition(".")[0])


def seen_operators(context: TableContext, key: str) -> tuple[str, ...]:
    """Return the operators that a user can filter a column by: a lookup of records that
    may not be seen tells only whether it is empty."""
    pages = context.pages
    owner, column = pages.owner_of(key)
    reference = owner.lookups.get(column)
    if reference is not None and isinstance(owner.fields[column], LookupField):
        target = context.site.registry[reference.target].table.fullname
        if not context.reach.may("view", target):
            return OF_PRESENCE
    return pages.shown_field(key).operators


def read_filters(context: TableContext, arguments: MultiDict[str, str]) -> list[Filter]:
    """Return the filters that an address asks for; what is no filter of this table, or
    names a column that the user may not see, is left out."""
    pages = context.pages
    found: list[Filter] = []
    if not any("." in name for name in arguments):
        return found
    asked = (name.rpartition(".")[0] for name in arguments)
    beyond = [key for key in asked if "." in key and key not in pages.extras]
    others = [key for key in dict.fromkeys(beyond) if can_filter(context, key)]
    for key in (*filterable(context), *others):
        field = pages.shown_field(key)
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
        text = as_relative(texts[0])
        relative = _relative_day(text, locale.today())
        day = relative or read_date(texts[0], locale.language(), locale.today())
        low, high = _bounds(field, day, day)
        bound = low if operator == FROM else high
        # what is relative to today stays so in views that are saved
        said = text if relative is not None else day.isoformat()
        return Filter(key, operator, (said,), (bound,))
    if operator in (HAS, BEGINS):
        text = escape_like(texts[0].strip())
        value = f"%{text}%" if operator == HAS else f"{text}%"
        return Filter(key, operator, (texts[0],), (value,))
    found: dict[str, Any] = {}
    for text in texts:
        with suppress(ValueError, ArithmeticError):  # of several, those that are some
            if isinstance(field, LookupField):
                found[text] = _referred_value(*pages.owner_of(key), field, text)
                continue
            value = field.filter_value(field.clean(text))
            if getattr(field.flags, "uuid", False):
                value = str(UUID(value))
            if not isinstance(value, int) or abs(value) < 1 << 63:
                found[text] = value
    if not found:
        return None
    return Filter(key, operator, tuple(found), tuple(found.values()))


def day_filter(field: ValueField, key: str, operator: str, day: date) -> Filter:
    """Return the filter of the records from a day on, or up to one."""
    low, high = _bounds(field, day, day)
    return Filter(key, operator, (day.isoformat(),), (low if operator == FROM else high,))  # fmt: skip


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


def as_relative(text: str) -> str:
    """Return a day relative to today as addresses have it, of what people type: `+2w`,
    `today + 7`; a "+" that an address turned into a blank is one. Another text as it
    is."""
    found = _TYPED.fullmatch(text.strip().casefold())
    if found is None:
        return text
    word, sign, number, unit = found.groups("")
    is_today = word in ("today", str(_("today")).casefold())
    if not (is_today or (not word and sign)):
        return text
    return f"today{sign or '+'}{number}{unit or 'd'}" if number else "today"


def _relative_day(text: str, today: date) -> date | None:
    """Return the day that a text means by its distance from today: `today`, `today+7d`,
    `today-2w`, `today+1m`, `today-1y`; None for another text. Raises OverflowError,
    ValueError."""
    found = _RELATIVE.fullmatch(text.strip())
    if found is None:
        return None
    sign, number, unit = found.groups()
    if sign is None:
        return today
    distance = int(f"{sign}{number}")
    if unit in "dw":
        return today + timedelta(days=distance * (7 if unit == "w" else 1))
    months = today.year * 12 + today.month - 1 + distance * (12 if unit == "y" else 1)
    year, month = divmod(months, 12)
    last = (date(year, month + 1, 28) + timedelta(days=4)).replace(day=1)
    return date(year, month + 1, min(today.day, (last - timedelta(days=1)).day))


def _preset(word: str, today: date) -> tuple[date, date]:
    """Return the first and the last day that a preset means. Raises ValueError."""
    nearby = {"today": 0, "yesterday": -1, "tomorrow": 1}
    if word in nearby:
        day = today + timedelta(days=nearby[word])
        return day, day
    if word == "before-today":
        return _FIRST, today - timedelta(days=1)
    if word == "after-today":
        return today + timedelta(days=1), _LAST
    if span := _SPAN.fullmatch(word):
        days = timedelta(days=int(span[2]) - 1)
        return (today - days, today) if span[1] == "last" else (today, today + days)
    which, _dash, unit = word.partition("-")
    steps = {"this": 0, "last": -1, "next": 1}
    if which not in steps:
        raise ValueError(word)
    step = steps[which]
    if unit == "week":
        monday = today + timedelta(days=7 * step - today.weekday())
        return monday, monday + timedelta(days=6)
    if unit == "month":
        year, month = divmod(today.year * 12 + today.month - 1 + step, 12)
        first = date(year, month + 1, 1)
        following = (first + timedelta(days=31)).replace(day=1)
        return first, following - timedelta(days=1)
    if unit == "year":
        return date(today.year + step, 1, 1), date(today.year + step, 12, 31)
    raise ValueError(word)


def preset_words() -> dict[str, str]:
    """Return the presets in words."""
    return {word: preset_text(word) for word in PRESETS}


def preset_text(word: str) -> str:
    """Return a preset in words."""
    if span := _SPAN.fullmatch(word):
        of = {"last": _("the last %(n)s days"), "next": _("the next %(n)s days")}
        return str(of[span[1]]) % {"n": span[2]}
    known = {
        "today": _("today"), "yesterday": _("yesterday"), "tomorrow": _("tomorrow"),
        "before-today": _("before today"), "after-today": _("after today"),
        "this-week": _("this week"), "last-week": _("last week"), "next-week": _("next week"),
        "this-month": _("this month"), "last-month": _("last month"), "next-month": _("next month"),
        "this-year": _("this year"), "last-year": _("last year"), "next-year": _("next year"),
    }  # fmt: skip
    return str(known[word])


def day_text(text: str, language: str) -> str:
    """Return the day of a filter in words, one relative to today as such."""
    found = _RELATIVE.fullmatch(text)
    if found is None:
        return date_text(date.fromisoformat(text), language)
    sign, number, unit = found.groups()
    if sign is None:
        return str(_("today"))
    units = {"d": _("%(n)s days"), "w": _("%(n)s weeks"), "m": _("%(n)s months"), "y": _("%(n)s years")}  # fmt: skip
    distance = str(units[unit]) % {"n": number}
    mark = "+" if sign == "+" else "−"
    return str(_("today %(sign)s %(distance)s", sign=mark, distance=distance))


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
    selection: SelectBuilder, shape: Shape, server: Server, any_of: int = 0
) -> list[ColumnElement[bool]]:
    """Return the conditions of filters of this shape on this server; of the first
    `any_of` one is enough, of which a range is one."""
    found = [
        _of_filter(selection, number, each, server) for number, each in enumerate(shape)
    ]
    if any_of < 2:
        return found
    units: dict[Any, list[ColumnElement[bool]]] = {}
    for number, (key, operator, *_rest) in enumerate(shape[:any_of]):
        unit = key if operator in (FROM, TO) else number
        units.setdefault(unit, []).append(found[number])
    return [or_(*[and_(*unit) for unit in units.values()]), *found[any_of:]]


def _of_filter(
    selection: SelectBuilder,
    number: int,
    each: tuple[str, str, int, bool],
    server: Server,
) -> ColumnElement[bool]:
    """Return the condition of one filter, whose values are bound by its number."""
    key, operator, count, is_folded = each
    pages = selection.pages
    if key not in pages.fields:
        if key in pages.computed:
            value = selection.formula(key)
            return _condition(value, operator, number, count, server, is_folded)
        return _beyond(selection, number, each, server)
    if operator in (IS, NOT) and isinstance(pages.fields[key], LookupField):
        refers = _refers(selection, pages, selection.base, key, number, count)
        if operator == IS:
            return refers
        column = selection.base.c[key]
        return or_(column.is_(None), not_(refers))
    column = selection.base.c[key]
    return _condition(column, operator, number, count, server, is_folded)


def _beyond(
    selection: SelectBuilder,
    number: int,
    each: tuple[str, str, int, bool],
    server: Server,
) -> ColumnElement[bool]:
    """Return the condition of a column of a referenced record: of those within reach.
    Where there is no record, its columns are empty."""
    key, operator, count, is_folded = each
    reference = selection.pages.lookups[key.partition(".")[0]]
    owner, column = selection.pages.owner_of(key)
    rows = selection.reach.rows(owner.table)
    is_negated = operator in (NOT, EMPTY)
    plain = {NOT: IS, EMPTY: FILLED}.get(operator, operator)
    if plain == IS and isinstance(owner.fields[column], LookupField):
        fits = _refers(selection, owner, rows, column, number, count)
    else:
        fits = _condition(rows.c[column], plain, number, count, server, is_folded)
    wanted = select(*[rows.c[name] for name in reference.referred]).where(fits)
    ours = [selection.base.c[name] for name in reference.columns]
    among = ours[0] if len(ours) == 1 else tuple_(*ours)
    found = among.in_(wanted)
    if not is_negated:
        return found
    return or_(*[each.is_(None) for each in ours], not_(found))


def _refers(
    selection: SelectBuilder,
    pages: TablePages,
    base: FromClause,
    key: str,
    number: int,
    count: int,
) -> ColumnElement[bool]:
    """Return the condition that a lookup, of the rows `base`, refers to one of some
    records, of those alone that may be seen: else the rows of a hidden one could be
    counted."""
    reference = pages.lookups[key]
    field = pages.fields[key]
    assert isinstance(field, LookupField)
    columns = reference.columns if field.is_part else reference.columns[:1]
    referred = reference.referred[: len(columns)]
    ours = [base.c[each] for each in columns]
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
        if is_plain_text(column):
            nothing = or_(nothing, func.rtrim(column) == "")
        return nothing if operator == EMPTY else ~nothing
    if operator in (HAS, BEGINS):
        (like,) = matchers([column], server, is_folded)
        word: Any = bindparam(f"s{number}_0", type_=String())
        return like(word, escape="\\")
    if operator in (IS, NOT):
        same = or_(*[column == value for value in bound])
        return same if operator == IS else or_(column.is_(None), not_(same))
    held, is_there = column, []
    if isinstance(column.type, NoneAs):  # compared so that an index serves it
        held, is_there = type_coerce(column, column.type.base), [column.is_not(None)]
    placed = in_order(held)
    limits = [in_order(type_coerce(value, held.type)) for value in bound]
    if operator == WITHIN:
        return and_(placed >= limits[0], placed < limits[1], *is_there)
    if operator == FROM:
        return and_(placed >= limits[0], *is_there)
    is_day = _holds_days(column)
    return and_(placed < limits[0] if is_day else placed <= limits[0], *is_there)


def _holds_days(column: ColumnElement[Any]) -> bool:
    """Tell whether the highest value of a filter is the day behind it."""
    held = own_type(column)
    try:
        made = held.python_type
    except NotImplementedError:
        made = type(held)
    return made in (date, datetime) or type(held).__name__ in ("Date", "DateTime")


def describe_filter(
    pages: TablePages, filter_: Filter, language: str, titles: Mapping[str, str]
) -> str:
    """Return a filter in words, without its column; `titles` are those of the records
    that a lookup may be, by value."""
    field = pages.shown_field(filter_.key)
    if filter_.operator == EMPTY:
        return str(_("is empty"))
    if filter_.operator == FILLED:
        return str(_("is not empty"))
    if filter_.operator == WITHIN:
        return preset_text(filter_.texts[0])
    if filter_.operator == HAS:
        return str(_('contains "%(text)s"', text=filter_.texts[0]))
    if filter_.operator == BEGINS:
        return str(_('begins with "%(text)s"', text=filter_.texts[0]))
    if isinstance(field, LookupField):
        shown = [titles.get(text, str(_("not visible"))) for text in filter_.texts]
    elif isinstance(field, DateField | DateTimeField):
        shown = [day_text(filter_.texts[0], language)]
    else:
        shown = [field.show(value, language) for value in filter_.values]
    if filter_.operator == FROM:
        return str(_("from %(value)s", value=shown[0]))
    if filter_.operator == TO:
        return str(_("up to %(value)s", value=shown[0]))
    words = str(_(" or ")).join(shown)
    return str(_("is not %(value)s", value=words)) if filter_.operator == NOT else words
