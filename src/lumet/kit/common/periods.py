"""Years, months and days, as the groups of dates have them: 2026, 2026-11, 2026-11-29."""

from calendar import monthrange
from collections.abc import Iterator
from datetime import date, timedelta

NO_END = "9999"  # the year of what lasts until further notice
_LENGTHS = {4: "-01-01", 7: "-01", 10: ""}


def days_of(period: str) -> tuple[date, date]:
    """Return the first and the last day of a period. Raises ValueError for what is
    none."""
    if len(period) not in _LENGTHS:
        raise ValueError(period)
    first = date.fromisoformat(period + _LENGTHS[len(period)])
    if len(period) == 4:
        return first, first.replace(month=12, day=31)
    if len(period) == 7:
        return first, first.replace(day=monthrange(first.year, first.month)[1])
    return first, first


def _next(first: date, length: int) -> date:
    """Return the first day behind the period that begins with `first`."""
    if length == 4:
        return first.replace(year=first.year + 1)
    if length == 7:
        return (first + timedelta(days=31)).replace(day=1)
    return first + timedelta(days=1)


def periods_between(first: str, last: str) -> Iterator[str]:
    """Yield all periods from `first` to `last`, both of one length. Raises ValueError
    for what is none."""
    day, end = days_of(first)[0], days_of(last)[0]
    while day < end:
        yield day.isoformat()[: len(first)]
        day = _next(day, len(first))
    if day == end:  # there is no day behind the last that Python knows
        yield last
