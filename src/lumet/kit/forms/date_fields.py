"""Dates, times of day, moments and durations in forms.

A moment that the database keeps with its zone is shown and entered in the user's; one
without is shown as it is stored, unless it was decided in which zone that is.
"""

import re
from datetime import UTC, date, datetime, time, timedelta
from functools import cache
from typing import Any
from zoneinfo import ZoneInfo

from flask_babel import lazy_gettext as _

from ..common import locale
from ..common.formatting import date_text, datetime_text, plain_text, time_text
from ..common.parsing import read_date, read_datetime, read_time
from .fields import ValueField
from .operators import OF_DATES, OF_NUMBERS, OF_PRESENCE

__all__ = ["DateField", "DateTimeField", "DurationField", "TimeField"]


_named = cache(ZoneInfo)


_READ_BACK: dict[tuple[Any, ...], bool] = {}  # whether a text is read without a loss
MAX_READ_BACK = 20_000


class ClockField(ValueField):
    """The base of date and time fields: people read and write them as their language
    does, in many ways; `to_text` is their form for addresses and comparisons, ISO
    8601."""

    date_kind = ""  # of the control: date, time or datetime

    def written(self, value: Any) -> str:
        """Return the text of the control for a value: as pages show it, where that can
        be read again without a loss, else as ISO 8601."""
        plain, language = self.to_text(value), locale.language()
        try:
            shown = self.show(value, language)
        except (ValueError, OverflowError):
            return plain
        key = (self.date_kind, plain, shown, language, *self._reading_depends_on(value))
        if key not in _READ_BACK:
            if len(_READ_BACK) >= MAX_READ_BACK:
                _READ_BACK.clear()
            _READ_BACK[key] = self._reads_back(shown, plain)
        return shown if _READ_BACK[key] else plain

    def _reads_back(self, shown: str, plain: str) -> bool:
        try:
            return self.to_text(self.parse(shown)) == plain
        except (ValueError, OverflowError):
            return False

    def _reading_depends_on(self, value: Any) -> tuple[Any, ...]:
        """Return the settings of the field that reading a text depends on."""
        return ()

    def plain(self, text: str) -> str:
        try:
            return self.to_text(self.parse(text)) if text else text
        except (ValueError, OverflowError):
            return text

    def is_unchanged(self, text: str) -> bool:
        stored = self.object_data
        return super().is_unchanged(text) or (
            stored is not None and text == self.clean(self.written(stored))
        )

    def _value(self) -> str:
        if self.raw_data:
            text = self.gather(self.raw_data)
            return self.written(self.data) if self._is_plain(text) else text
        return "" if self.data is None else self.written(self.data)

    def _is_plain(self, text: str) -> bool:
        """Tell whether a text is what programs give, such as an address, and was
        read."""
        is_read = self.data is not None and not self.process_errors
        return is_read and self.clean(text) == self.to_text(self.data)


class DateField(ClockField):
    """A date."""

    operators = OF_DATES

    date_kind = "date"

    def parse(self, text: str) -> date:
        try:
            return read_date(text, locale.language(), locale.today())
        except ValueError:
            example = date_text(locale.today(), locale.language())
            raise ValueError(
                _("Enter a date, such as %(example)s.", example=example)
            ) from None

    def to_text(self, value: Any) -> str:
        return value.isoformat() if isinstance(value, date) else super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        if isinstance(value, date):
            return date_text(value, language)
        return plain_text(value)


class TimeField(ClockField):
    """A time of day."""

    operators = OF_NUMBERS

    date_kind = "time"

    def parse(self, text: str) -> time:
        try:
            return read_time(text)
        except ValueError:
            raise ValueError(_("Enter a time, such as 09:40.")) from None

    def to_text(self, value: Any) -> str:
        if isinstance(value, time):
            return value.isoformat("auto" if value.second else "minutes")
        return super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        return (
            time_text(value, language) if isinstance(value, time) else plain_text(value)
        )


class DateTimeField(ClockField):
    """A date and a time of day. `zoned`: the database knows when that is; `zone`: the
    zone in which a column without one is stored."""

    operators = OF_DATES

    date_kind = "datetime"

    def __init__(
        self, *positional: Any, zoned: bool = False, time_zone: str = "", **rest: Any
    ) -> None:
        super().__init__(*positional, **rest)
        self.zoned = zoned
        self.time_zone = time_zone

    def _reading_depends_on(self, value: Any) -> tuple[Any, ...]:
        knows = isinstance(value, datetime) and value.tzinfo is not None
        return knows, self.zoned, self.time_zone, str(locale.zone())

    @property
    def is_local(self) -> bool:
        """Tell whether moments are shown in the zone of the user."""
        return self.zoned or bool(self.time_zone)

    def parse(self, text: str) -> datetime:
        found = self._read(text)
        stored = self.object_data
        knows = isinstance(stored, datetime) and stored.tzinfo is not None
        if not self.is_local and not knows:
            if found.tzinfo is not None:
                raise ValueError(_("Enter it without a time zone; none is stored."))
            return found
        known = found if found.tzinfo is not None else _known(found, locale.zone())
        try:
            return self.as_stored(known)
        except OverflowError:
            raise ValueError(_("This is out of range.")) from None

    def as_stored(self, moment: datetime) -> datetime:
        """Return a moment of any zone as the column keeps it."""
        if self.time_zone:
            return moment.astimezone(_named(self.time_zone)).replace(tzinfo=None)
        return moment

    def _read(self, text: str) -> datetime:
        try:
            return read_datetime(text, locale.language(), locale.now())
        except ValueError:
            example = datetime_text(locale.now(), locale.language())
            raise ValueError(
                _("Enter a date and a time, such as %(example)s.", example=example)
            ) from None

    def here(self, value: datetime) -> datetime:
        """Return a moment as the clocks of the user show it, where that is known."""
        if self.time_zone and value.tzinfo is None:
            value = value.replace(tzinfo=_named(self.time_zone))
        if value.tzinfo is None:
            return value
        try:
            return value.astimezone(locale.zone())
        except OverflowError:
            return value

    def to_text(self, value: Any) -> str:
        if not isinstance(value, datetime):
            return super().to_text(value)
        local = self.here(value)
        if local.tzinfo is not None and not _is_twice(local):
            local = local.replace(tzinfo=None)
        whole = local.second or local.microsecond
        return local.isoformat("T", "auto" if whole else "minutes")

    def show(self, value: Any, language: str) -> str:
        if isinstance(value, datetime):
            return datetime_text(self.here(value).replace(tzinfo=None), language)
        return plain_text(value)


def _known(local: datetime, zone: ZoneInfo) -> datetime:
    """Return when it is that clocks in `zone` show `local`. Raises ValueError when they
    never do, or do so twice: where summer time begins and ends."""
    found = local.replace(tzinfo=zone)
    if found.astimezone(UTC).astimezone(zone).replace(tzinfo=None) != local:
        raise ValueError(_("The clocks skip this time. Enter another."))
    if _is_twice(found):
        first, second = (found.replace(fold=fold).isoformat()[-6:] for fold in (0, 1))
        raise ValueError(
            _(
                "The clocks show this time twice. Add %(first)s or %(second)s to it.",
                first=first,
                second=second,
            )
        )
    return found


def _is_twice(moment: datetime) -> bool:
    """Tell whether clocks show this time twice."""
    offsets = [moment.replace(fold=fold).utcoffset() for fold in (0, 1)]
    earlier, later = offsets
    return earlier is not None and later is not None and earlier > later


_UNITS = "years? mons? months? weeks? days? hours? minutes? mins? seconds? secs?"
_SPOKEN = re.compile(
    rf"""(?=.)
    ([+-]?\d+(\.\d+)?\s*({"|".join(_UNITS.split())})\s*)*
    ([+-]?\d+:\d\d(:\d\d(\.\d{{1,6}})?)?)?""",
    re.VERBOSE | re.IGNORECASE,
)
_ISO = re.compile(
    r"P(?=.)(\d+Y)?(\d+M)?(\d+W)?(\d+D)?(T(?=.)(\d+H)?(\d+M)?(\d+(\.\d{1,6})?S)?)?"
)


class DurationField(ValueField):
    """How long something takes. `clock`: hours and minutes alone, up to
    `MAX_HOURS`."""

    operators = OF_PRESENCE

    MAX_HOURS = 838  # of a TIME on MariaDB

    def __init__(self, *positional: Any, clock: bool = False, **rest: Any) -> None:
        super().__init__(*positional, **rest)
        self.clock = clock

    def parse(self, text: str) -> Any:
        if self.clock:
            return self._parse_clock(text)
        if not (_SPOKEN.fullmatch(text) or _ISO.fullmatch(text.upper())):
            raise ValueError(
                _("Enter a duration, such as 1:30, 2 days 4:00 or 45 minutes.")
            )
        return text

    def _parse_clock(self, text: str) -> str:
        found = re.fullmatch(r"-?(\d{1,3}):([0-5]\d)(:[0-5]\d(\.\d{1,6})?)?", text)
        if found is None or int(found[1]) > self.MAX_HOURS:
            raise ValueError(_("Enter hours and minutes, such as 36:15."))
        return text if found[3] else f"{text}:00"

    def to_text(self, value: Any) -> str:
        if isinstance(value, time):
            return value.isoformat("auto" if value.microsecond else "seconds")
        if isinstance(value, timedelta):
            return str(value)
        return super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        text = self.to_text(value)
        return text.removesuffix(":00") if re.search(r":\d\d:00$", text) else text
