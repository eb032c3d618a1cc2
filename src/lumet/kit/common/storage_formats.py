"""How a database that has no type for them spells dates, moments, and yes or no.

A spelling is named as people write it: "DD.MM.YYYY", "julian day", "Y/N". Values are
written back in it.
"""

from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Float, String, cast, func, type_coerce

from ..contract import DATES, DATETIMES

_EPOCH = datetime(1970, 1, 1)
_JULIAN_EPOCH = 2_440_587.5  # the Julian day of 1 January 1970, 0 h
_DAY = 86_400


class StorageFormat(NamedTuple):
    """Reads a value of the database, and writes one. `read` raises ValueError or
    TypeError for a value that is spelled otherwise."""

    read: Callable[[Any], Any]
    write: Callable[[Any], Any]


def date_format(name: str) -> StorageFormat:
    """Return the spelling of dates called `name`. Raises KeyError for no such one."""
    if name == "julian day":
        return StorageFormat(
            lambda value: _from_julian(value).date(),
            lambda day: _to_julian(datetime(day.year, day.month, day.day)),
        )
    if name not in DATES:
        moments = datetime_format(name)
        return StorageFormat(
            lambda value: moments.read(value).date(),
            lambda day: moments.write(datetime(day.year, day.month, day.day)),
        )
    pattern = DATES[name]
    return StorageFormat(
        lambda value: datetime.strptime(str(value), pattern).date(),
        lambda day: _written(day, pattern),
    )


def datetime_format(name: str) -> StorageFormat:
    """Return the spelling of moments called `name`. Raises KeyError for no such one."""
    if name == "julian day":
        return StorageFormat(_from_julian, _to_julian)
    if name in ("seconds", "milliseconds"):
        unit = 1 if name == "seconds" else 1000
        return StorageFormat(
            lambda value: _EPOCH + timedelta(seconds=_number(value) / unit),
            lambda moment: round((moment - _EPOCH).total_seconds() * unit),
        )
    pattern = {**DATES, **DATETIMES}[name]
    return StorageFormat(
        lambda value: datetime.strptime(str(value), pattern),
        lambda moment: _written(moment, pattern),
    )


def boolean_format(name: str) -> StorageFormat:
    """Return the spelling of yes and no called `name`, such as "Y/N"."""
    yes, _, no = name.partition("/")

    def read(value: Any) -> bool:
        folded = str(value).strip().casefold()
        if folded not in (yes.casefold(), no.casefold()):
            raise ValueError(value)
        return folded == yes.casefold()

    return StorageFormat(read, lambda value: yes if value else no)


def text_in_order(column: ColumnElement[Any], name: str) -> ColumnElement[Any]:
    """Return the sort expression of a column whose text is not in the order of its
    dates."""
    places = [(name.find(part), len(part)) for part in ("YYYY", "MM", "DD")]
    if name not in {**DATES, **DATETIMES} or places[0][0] == 0:
        return column
    text = type_coerce(column, String)
    cuts = [(place + 1, length) for place, length in places] + [(11, len(name))]
    parts = [func.substr(text, *cut, type_=String) for cut in cuts]
    return parts[0] + parts[1] + parts[2] + parts[3]


def period_in_text(
    column: ColumnElement[Any], name: str, unit: str
) -> ColumnElement[Any] | None:
    """Return the year, month or day of a column that is spelled `name`, as YYYY, YYYY-MM
    or YYYY-MM-DD; None where its values count days or seconds."""
    if name not in {**DATES, **DATETIMES}:
        return None
    text = cast(column, String)
    parts = {"year": ("YYYY",), "month": ("YYYY", "MM"), "day": ("YYYY", "MM", "DD")}
    cuts = [
        func.substr(text, name.find(part) + 1, len(part), type_=String)
        for part in parts[unit]
    ]
    found: ColumnElement[Any] = cuts[0]
    for each in cuts[1:]:
        found = found + "-" + each
    return found


def seconds_of(column: ColumnElement[Any], name: str) -> ColumnElement[Any]:
    """Return the seconds since 1970 of a column that counts days or seconds."""
    if name == "julian day":
        return (type_coerce(column, Float) - _JULIAN_EPOCH) * _DAY
    return type_coerce(column, Float) / 1000.0 if name == "milliseconds" else column


def _number(value: Any) -> float:
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() else float(value)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise TypeError(value)
    return value


def _from_julian(value: Any) -> datetime:
    days = _number(value) - _JULIAN_EPOCH
    found = _EPOCH + timedelta(seconds=round(days * _DAY, 3))
    return found.replace(microsecond=found.microsecond // 1000 * 1000)


def _to_julian(moment: datetime) -> float:
    return (moment - _EPOCH).total_seconds() / _DAY + _JULIAN_EPOCH


def _written(value: date, pattern: str) -> str:
    if isinstance(value, datetime) and value.tzinfo is not None:
        value = value.astimezone(UTC)
    # strftime leaves a year before 1000 without its zeros
    return value.strftime(pattern.replace("%Y", f"{value.year:04d}"))
