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
from sqlalchemy import ColumnElement, String, and_, bindparam, or_
from werkzeug.datastructures import MultiDict

from .. import here
from ..columns import in_order
from ..fields import (
    ChoiceField,
    JsonField,
    LookupField,
    OtherField,
    SecretField,
    SeveralField,
    ValueField,
    YesNoField,
)
from ..files import FileField
from ..formats import date_text
from ..measures import DecimalField, IntegerField
from ..reach import Reach
from ..times import DateField, DurationField, MomentField, TimeField
from .model import TablePages, python_type
from .searching import escape_like, matchers
from .selection import Selection

IS, FROM, TO, WITHIN = "is", "from", "to", "within"
HAS, BEGINS, EMPTY, FILLED = "has", "begins", "empty", "filled"
MOST_VALUES = 50  # of one filter
PRESETS = (
    "today", "yesterday", "this-week", "last-week", "this-month", "last-month", "this-year",
    "last-year", "last-30-days", "next-30-days",
)  # fmt: skip
Shape = tuple[tuple[str, str, int], ...]


@dataclass(frozen=True, slots=True)
class Sift:
    """One filter: the column, the operator, and the values as they stand in the address."""

    key: str
    operator: str
    texts: tuple[str, ...]
    values: tuple[Any, ...]

    @property
    def name(self) -> str:
        """The parameter that stands for it."""
        return f"{self.key}.{self.operator}"


def operators(field: ValueField) -> tuple[str, ...]:
    """Return the operators that a column of this kind can be filtered by."""
    if isinstance(
        field,
        OtherField | JsonField | SecretField | SeveralField | DurationField | FileField,
    ):
        return (EMPTY, FILLED)
    if isinstance(field, LookupField) and field.is_part:
        return (EMPTY, FILLED)
    if isinstance(field, LookupField | YesNoField) or (
        isinstance(field, ChoiceField) and not field.others
    ):
        return (IS, EMPTY, FILLED)
    if isinstance(field, DateField | MomentField):
        return (FROM, TO, WITHIN, EMPTY, FILLED)
    if isinstance(field, IntegerField | DecimalField | TimeField):
        return (FROM, TO, EMPTY, FILLED)
    return (HAS, BEGINS, IS, EMPTY, FILLED)


def read_sifts(
    pages: TablePages, reach: Reach, arguments: MultiDict[str, str]
) -> list[Sift]:
    """Return the filters that an address asks for; what is no filter of this table, or
    names a column that the user may not see, is left out."""
    found: list[Sift] = []
    if not any("." in name for name in arguments):
        return found
    for key in pages.seen_by(reach, pages.fields):
        if key in pages.unserved:
            continue
        field = pages.fields[key]
        for operator in operators(field):
            texts = [t for t in arguments.getlist(f"{key}.{operator}") if t.strip()]
            try:
                sift = _read(pages, key, field, operator, texts[:MOST_VALUES])
            except (ValueError, ArithmeticError):
                continue
            if sift is not None:
                found.append(sift)
    return found


def _read(
    pages: TablePages, key: str, field: ValueField, operator: str, texts: list[str]
) -> Sift | None:
    if not texts:
        return None
    if operator in (EMPTY, FILLED):
        return Sift(key, operator, ("1",), ())
    if operator == WITHIN:
        first, last = _preset(texts[0], date.today())
        return Sift(key, WITHIN, (texts[0],), (*_bounds(field, first, last),))
    if operator in (FROM, TO) and isinstance(field, DateField | MomentField):
        day = date.fromisoformat(texts[0])
        low, high = _bounds(field, day, day)
        return Sift(key, operator, (texts[0],), (low if operator == FROM else high,))
    if operator in (HAS, BEGINS):
        text = escape_like(texts[0].strip())
        value = f"%{text}%" if operator == HAS else f"{text}%"
        return Sift(key, operator, (texts[0],), (value,))
    parse = python_type(pages.column(key)) if isinstance(field, LookupField) else None
    found = {}
    for text in texts:
        with suppress(ValueError, ArithmeticError):  # of several, those that are some
            value = parse(text) if parse else field.parse(field.clean(text))
            if not isinstance(value, int) or abs(value) < 1 << 63:
                found[text] = value
    if not found:
        return None
    return Sift(key, operator, tuple(found), tuple(found.values()))


def _bounds(field: ValueField, first: date, last: date) -> tuple[Any, Any]:
    """Return the lowest value, and that behind the highest, of days."""
    behind = last + timedelta(days=1)
    if isinstance(field, MomentField):
        days = (datetime.combine(each, time()) for each in (first, behind))
        if field.is_local:
            days = (field.as_stored(d.replace(tzinfo=here.zone())) for d in days)
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


def shape_of(sifts: Iterable[Sift]) -> Shape:
    """Return what the statement depends on, all but the values."""
    return tuple((sift.key, sift.operator, len(sift.values)) for sift in sifts)


def sift_values(sifts: Sequence[Sift]) -> dict[str, Any]:
    """Return what the conditions of `conditions` bind."""
    return {
        f"s{number}_{place}": value
        for number, sift in enumerate(sifts)
        for place, value in enumerate(sift.values)
    }


def conditions(
    selection: Selection, shape: Shape, postgresql: bool
) -> list[ColumnElement[bool]]:
    """Return the conditions of filters of this shape."""
    return [
        _condition(selection.base.c[key], operator, number, count, postgresql)
        for number, (key, operator, count) in enumerate(shape)
    ]


def _condition(
    column: ColumnElement[Any], operator: str, number: int, count: int, postgresql: bool
) -> ColumnElement[bool]:
    bound = [bindparam(f"s{number}_{n}", type_=column.type) for n in range(count)]
    if operator in (EMPTY, FILLED):
        nothing: ColumnElement[bool] = column.is_(None)
        if isinstance(column.type, String) and type(column.type) is String:
            nothing = or_(nothing, column == "")
        return nothing if operator == EMPTY else ~nothing
    if operator in (HAS, BEGINS):
        (like,) = matchers([column], postgresql)
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
    return made in (date, datetime) or type(column.type).__name__ in ("Date", "Moment")


def in_words(
    pages: TablePages, sift: Sift, language: str, titles: Mapping[str, str]
) -> str:
    """Return a filter in words, without its column; `titles` are those of the records
    that a lookup may be, by value."""
    field = pages.fields[sift.key]
    if sift.operator == EMPTY:
        return str(_("is empty"))
    if sift.operator == FILLED:
        return str(_("is filled in"))
    if sift.operator == WITHIN:
        return preset_words()[sift.texts[0]]
    if sift.operator == HAS:
        return str(_('contains "%(text)s"', text=sift.texts[0]))
    if sift.operator == BEGINS:
        return str(_('begins with "%(text)s"', text=sift.texts[0]))
    if isinstance(field, LookupField):
        shown = [titles.get(text, str(_("not visible"))) for text in sift.texts]
    elif isinstance(field, DateField | MomentField):
        shown = [date_text(date.fromisoformat(sift.texts[0]), language)]
    else:
        shown = [field.show(value, language) for value in sift.values]
    if sift.operator == FROM:
        return str(_("from %(value)s", value=shown[0]))
    if sift.operator == TO:
        return str(_("up to %(value)s", value=shown[0]))
    return str(_(" or ")).join(shown)
