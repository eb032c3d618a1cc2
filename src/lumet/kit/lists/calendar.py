"""The rows of a list in a calendar: a month or a week, by a date or from one to another."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from babel import Locale
from babel.dates import format_date
from sqlalchemy import Connection

from ..common import locale
from ..common.formatting import date_text, time_text
from ..contract import FROM, TO
from ..forms.date_fields import DateTimeField
from ..queries.filters import day_filter
from .list_entries import ListEntry, narrowed, read_entries
from .list_request import ListRequest

MONTH, WEEK = "month", "week"
MOST_ENTRIES = 500  # of one page
SHOWN_OF_DAY = 4  # entries of a day in a month; a week shows all


@dataclass(frozen=True, slots=True)
class DayEntry:
    """An entry on one of its days: the time at which it begins there, "" for none;
    whether that is its first and its last day, and whether it is the first of a week on
    which it is, where it has its title."""

    entry: ListEntry
    time: str
    begins: bool
    ends: bool
    is_head: bool = True


@dataclass(frozen=True, slots=True)
class Day:
    """A day of a calendar: its entries, None where one of another day goes past; how
    many there are besides, where all are listed, and how the day is called."""

    date: date
    label: str
    entries: Sequence[DayEntry | None]
    hidden: int
    address: str
    is_within: bool
    is_today: bool


class Calendar:
    """The calendar of one request."""

    def __init__(self, asked: ListRequest) -> None:
        self.asked = asked
        self.columns = tuple(asked.pages.list.calendar)
        self.language = asked.site.language
        self.span = WEEK if asked.arguments.get("span") == WEEK else MONTH
        self.today = locale.today()
        self.at = _day(asked.arguments.get("at", ""), self.today)
        self.first_weekday = Locale.parse(self.language).first_week_day

    @property
    def bounds(self) -> tuple[date, date]:
        """The first and the last day that are shown: whole weeks."""
        first = last = self.at
        if self.span == MONTH:
            first = self.at.replace(day=1)
            last = _next_month(first) - timedelta(days=1)
        first -= timedelta(days=(first.weekday() - self.first_weekday) % 7)
        last += timedelta(days=6 - (last.weekday() - self.first_weekday) % 7)
        return first, last

    @property
    def heading(self) -> str:
        """The month, or the days of the week."""
        if self.span == MONTH:
            return str(format_date(self.at, "LLLL yyyy", locale=self.language))
        first, last = self.bounds
        return f"{date_text(first, self.language)} – {date_text(last, self.language)}"

    @property
    def weekdays(self) -> list[str]:
        """The names of the days of a week."""
        first, _last = self.bounds
        days = [first + timedelta(days=n) for n in range(7)]
        return [str(format_date(day, "EEE", locale=self.language)) for day in days]

    def address(self, **changed: Any) -> str:
        """Return the address of this calendar at another time, or by another span."""
        return self.asked.address(**{"layout": "calendar", **changed})

    @property
    def earlier(self) -> str:
        """The address of the month or week before."""
        if self.span == WEEK:
            return self.address(at=(self.at - timedelta(days=7)).isoformat())
        return self.address(at=(self.at.replace(day=1) - timedelta(days=1)).isoformat()[:7])  # fmt: skip

    @property
    def later(self) -> str:
        """The address of the month or week behind."""
        if self.span == WEEK:
            return self.address(at=(self.at + timedelta(days=7)).isoformat())
        return self.address(at=_next_month(self.at).isoformat()[:7])

    def weeks(self, connection: Connection) -> tuple[list[list[Day]], bool]:
        """Return the weeks with their days, and whether there are more entries than
        MOST_ENTRIES."""
        first, last = self.bounds
        entries, has_more = self._entries(connection, first, last)
        spans = [(entry, *span) for entry in entries if (span := self._days_of(entry))]
        weeks = []
        for number in range((last - first).days // 7 + 1):
            monday = first + timedelta(days=7 * number)
            weeks.append([*self._week(spans, monday)])
        return weeks, has_more

    def _week(
        self, spans: Sequence[tuple[ListEntry, date, date]], start: date
    ) -> Iterator[Day]:
        """Yield the days of a week; an entry of several days has the same place on
        each."""
        end = start + timedelta(days=6)
        found = [each for each in spans if each[1] <= end and each[2] >= start]
        places: list[date] = []  # the last day on which each is taken
        held: dict[date, dict[int, DayEntry]] = {}
        for entry, begins, ends in sorted(found, key=lambda each: each[1] == each[2]):
            day = first = max(begins, start)
            free = [n for n, until in enumerate(places) if until < day]
            place = free[0] if free else len(places)
            places[place : place + 1] = [min(ends, end)]
            while day <= min(ends, end):
                time = self._time(entry) if day == begins else ""
                placed = DayEntry(entry, time, day == begins, day == ends, day == first)
                held.setdefault(day, {})[place] = placed
                day += timedelta(days=1)
        for number in range(7):
            day = start + timedelta(days=number)
            taken = held.get(day, {})
            entries = [taken.get(n) for n in range(max(taken, default=-1) + 1)]
            yield self._day(day, entries)

    def _entries(
        self, connection: Connection, first: date, last: date
    ) -> tuple[list[ListEntry], bool]:
        """Return the entries that are on some of these days."""
        start = self.columns[0]
        field = self.asked.pages.fields[start]
        within = (
            day_filter(field, start, FROM, first),
            day_filter(field, start, TO, last),
        )
        asked = narrowed(self.asked, within)
        found, has_more = read_entries(asked, connection, self.columns, MOST_ENTRIES)
        if len(self.columns) > 1:  # those that began before, and are not over
            end = self.columns[1]
            over = (
                day_filter(field, start, TO, first - timedelta(days=1)),
                day_filter(self.asked.pages.fields[end], end, FROM, first),
            )
            asked = narrowed(self.asked, over)
            before, more = read_entries(asked, connection, self.columns, MOST_ENTRIES)
            found, has_more = [*before, *found], has_more or more
        return sorted(found, key=self._order), has_more

    def _order(self, entry: ListEntry) -> tuple[Any, ...]:
        start = self._local(entry, self.columns[0])
        return start.isoformat() if start else "", entry.title

    def _local(self, entry: ListEntry, column: str) -> date | datetime | None:
        """Return a date of an entry, of a datetime as the clocks of the user show it."""
        value, field = entry.values[column], self.asked.pages.fields[column]
        if isinstance(value, datetime) and isinstance(field, DateTimeField):
            return field.here(value).replace(tzinfo=None)
        return value if isinstance(value, date) else None

    def _days_of(self, entry: ListEntry) -> tuple[date, date] | None:
        """Return the first and the last day of an entry, None for one without."""
        start = self._local(entry, self.columns[0])
        end = self._local(entry, self.columns[1]) if len(self.columns) > 1 else None
        if start is None:
            return None
        return _as_day(start), max(_as_day(end or start), _as_day(start))

    def _time(self, entry: ListEntry) -> str:
        start = self._local(entry, self.columns[0])
        if not isinstance(start, datetime):
            return ""
        return time_text(start.time().replace(second=0, microsecond=0), self.language)

    def _day(self, day: date, entries: Sequence[DayEntry | None]) -> Day:
        shown = len(entries)
        if self.span == MONTH and shown > SHOWN_OF_DAY:
            shown = SHOWN_OF_DAY - 1
        start = self.columns[0]
        bounds = {f"{start}.from": day.isoformat(), f"{start}.to": day.isoformat()}
        if len(self.columns) > 1:  # what began earlier is on that day as well
            address = self.address(span=WEEK, at=day.isoformat())
        else:
            address = self.asked.address("layout", "span", "at", **bounds)
        return Day(
            day,
            str(format_date(day, "full", locale=self.language)),
            entries[:shown],
            sum(each is not None for each in entries[shown:]),
            address,
            self.span == WEEK or day.month == self.at.month,
            day == self.today,
        )


def _as_day(value: date | datetime) -> date:
    return value.date() if isinstance(value, datetime) else value


def _next_month(day: date) -> date:
    return (day.replace(day=1) + timedelta(days=31)).replace(day=1)


def _day(text: str, today: date) -> date:
    """Return the day of an address, YYYY-MM-DD or YYYY-MM; else today."""
    try:
        found = date.fromisoformat(text if len(text) > 7 else f"{text}-01")
    except ValueError:
        return today
    return found if 1 < found.year < 9_999 else today
