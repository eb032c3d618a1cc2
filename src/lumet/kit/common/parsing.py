"""Parsing of numbers and dates as people write them."""

import re
from calendar import monthrange
from collections.abc import Sequence
from datetime import MAXYEAR, MINYEAR, date, datetime, time, timedelta
from decimal import Decimal
from functools import cache, lru_cache

from babel import Locale
from babel.dates import get_date_format
from babel.numbers import get_decimal_symbol, get_group_symbol
from flask_babel import gettext as _

_BLANKS = re.compile("[\\s\u00a0\u2009\u202f'’_]")


def read_number(text: str, language: str) -> Decimal:
    """Return the number that `text` is in a language, with or without separators
    between thousands; a point is understood in every language.

    Raises ValueError for what is no number, and Ambiguous for what may be two.
    """
    plain = _BLANKS.sub("", text)
    for mark in (",", "."):
        other = "." if mark == "," else ","
        digits = plain.lstrip("+-")
        grouped = re.fullmatch(rf"\d{{1,3}}(\{mark}\d{{3}})+(\{other}\d*)?", digits)
        if grouped and _means_thousands(digits, mark, other, language):
            return Decimal(plain.replace(mark, "").replace(other, "."))
    if not re.fullmatch(r"[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d{1,4})?", plain):
        raise ValueError(text)
    return Decimal(plain.replace(",", "."))


class Ambiguous(ValueError):
    """A number that may mean two: 1.234 where a point stands between thousands."""


def _means_thousands(digits: str, mark: str, other: str, language: str) -> bool:
    if digits.count(mark) > 1 or other in digits:
        return True
    group, point = get_group_symbol(language), get_decimal_symbol(language)
    if mark == "." and group == "." and point == ",":
        raise Ambiguous(digits)  # a number of another program, or thousands
    return mark == group


_DEGREES = re.compile(
    r"""(?P<front>[A-Z])?\s*(?P<sign>[+-])?
    (?P<degrees>\d{1,3}([.,]\d+)?)
    ((\s*°\s*|\s+)(?P<minutes>\d{1,2}([.,]\d+)?)
     ((\s*['′’]\s*|\s+)(?P<seconds>\d{1,2}([.,]\d+)?)\s*("|″|”|''|′′)?|\s*['′’])?
    |\s*°)?
    \s*(?P<behind>[A-Z])?""",
    re.VERBOSE,
)


def _sum_of_parts(texts: Sequence[str | None]) -> Decimal:
    """Return degrees, minutes and seconds as degrees. Raises ValueError for 60 and
    more, and for a fraction before a finer part."""
    parts = [Decimal((text or "0").replace(",", ".")) for text in texts]
    pairs = zip(parts, texts[1:], strict=False)
    if max(parts[1:]) >= 60 or any(p % 1 and finer is not None for p, finer in pairs):
        raise ValueError(texts)
    return parts[0] + parts[1] / 60 + parts[2] / 3600


def read_degrees(text: str, sides: str) -> Decimal | None:
    """Return the degrees that `text` is, with minutes, seconds and a side: 61° 12.24′
    N, 61 12 14.4 N, 61.204 S; None for a plain number. `sides` are "NS" or "EW".

    Raises ValueError for minutes or seconds of 60 and more, and for another side.
    """
    found = _DEGREES.fullmatch(text.strip().upper())
    if found is None or not (found["minutes"] or "°" in text or _sides_of(found)):
        return None
    side = _sides_of(found)
    if side and (len(side) > 1 or side not in sides or found["sign"]):
        raise ValueError(text)
    value = _sum_of_parts([found[each] for each in ("degrees", "minutes", "seconds")])
    return -value if side == sides[1] or found["sign"] == "-" else value


def _sides_of(found: re.Match[str]) -> str:
    return (found["front"] or "") + (found["behind"] or "")


MAX_DATE_LENGTH = 60  # characters of what may be a date
AHEAD = 20  # years that a year of two digits lies ahead at most
_RELATIVE = re.compile(r"([+-])\s*(\d{1,5})\s*([dwmy]?)")
_PARTS = re.compile(r"\d+|[^\W\d_]+")
_BETWEEN = re.compile(r"[\s.,/\-–]*")


@lru_cache(maxsize=4_000)  # a form with 200 rows reads each of its dates again
def read_date(text: str, language: str, today: date) -> date:
    """Return the date that `text` is: 2026-11-17, 17 Nov 2026, 20261117; short in the
    order of the language, such as 17/11/2026, 17.11.26 or 17.11.; a day of this month;
    today, yesterday, tomorrow; so many days, weeks, months or years from today, such as
    +7, -3 or +2w. Raises ValueError."""
    plain = " ".join(text.split()).casefold()
    if not plain or len(plain) > MAX_DATE_LENGTH:
        raise ValueError(text)
    try:
        return date.fromisoformat(plain)
    except ValueError:
        pass
    words = {"today": 0, "tomorrow": 1, "yesterday": -1}
    words |= {str(_(word)).casefold(): days for word, days in words.items()}
    if plain in words:
        return today + timedelta(days=words[plain])
    relative = _RELATIVE.fullmatch(plain)
    try:
        return (
            _moved(today, relative) if relative else _read_parts(plain, language, today)
        )
    except OverflowError:
        raise ValueError(text) from None


def _moved(today: date, found: re.Match[str]) -> date:
    number = int(found[2]) * (-1 if found[1] == "-" else 1)
    if found[3] in ("", "d"):
        return today + timedelta(days=number)
    if found[3] == "w":
        return today + timedelta(weeks=number)
    months = today.year * 12 + today.month - 1 + number * (12 if found[3] == "y" else 1)
    year, month = divmod(months, 12)
    last = monthrange(year, month + 1)[1] if MINYEAR <= year <= MAXYEAR else 0
    return date(year, month + 1, min(today.day, last))


def _read_parts(plain: str, language: str, today: date) -> date:
    if not all(map(_BETWEEN.fullmatch, _PARTS.split(plain))):
        raise ValueError(plain)
    numbers, month = _numbers_and_month(plain, language)
    found = dict(zip(_parts_order(numbers, month, language), numbers, strict=True))
    if any(len(found[each]) > 2 for each in found if each != "y"):
        raise ValueError(plain)
    year = _year(found["y"], today) if "y" in found else today.year
    return date(year, month or int(found.get("M", today.month)), int(found["d"]))


def _numbers_and_month(plain: str, language: str) -> tuple[list[str], int]:
    """Return the numbers in a date, and the month that it names, 0 for none. Raises
    ValueError for another word than a day's."""
    months, days = _names(language)
    numbers: list[str] = []
    month = 0
    for part in _PARTS.findall(plain):
        if part.isdecimal():
            numbers.append(part)
        elif part in months and not month:
            month = months[part]
        elif part not in days:
            raise ValueError(plain)
    return numbers, month


def _parts_order(numbers: Sequence[str], month: int, language: str) -> list[str]:
    """Return the parts that the numbers of a date are: as the language orders them, a
    year of four digits wherever it is. Raises ValueError for another number of them."""
    order = [each for each in _order(language) if each != "M" or not month]
    if len(numbers) < len(order):
        order.remove("y")
    if len(numbers) == 1 and not month:
        order = ["d"]
    if len(numbers) != len(order):
        raise ValueError(numbers)
    lengths = [len(number) for number in numbers]
    if len(numbers) == 3 and lengths[0] == 4:
        return ["y", "M", "d"]
    if month and len(numbers) == 2 and lengths[0] != lengths[1] and 4 in lengths:
        return ["y", "d"] if lengths[0] == 4 else ["d", "y"]
    return order


def _year(digits: str, today: date) -> int:
    """Return a year, one of two digits as the last that is not far ahead."""
    if len(digits) == 4:
        return int(digits)
    if len(digits) != 2:
        raise ValueError(digits)
    year = today.year // 100 * 100 + int(digits)
    return year - 100 if year > today.year + AHEAD else year


@cache
def _order(language: str) -> tuple[str, ...]:
    """Return in which order a language writes the parts of a date: d, M, y."""
    pattern = get_date_format("short", locale=language).pattern
    return tuple(dict.fromkeys(each for each in pattern if each in "dMy"))


@cache
def _names(language: str) -> tuple[dict[str, int], frozenset[str]]:
    """Return the months by the words for them, those of English too, and the words that
    say nothing: days of the week, and what stands between."""
    months: dict[str, int] = {}
    quiet: set[str] = set()
    for each in ("en", language):
        locale = Locale.parse(each)
        for context in locale.months.values():
            for width, names in context.items():
                if width != "narrow":
                    for number, name in names.items():
                        months |= dict.fromkeys(_PARTS.findall(name.casefold()), number)
        for context in locale.days.values():
            for names in context.values():
                quiet |= {
                    p
                    for name in names.values()
                    for p in _PARTS.findall(name.casefold())
                }
        pattern = get_date_format("medium", locale=each).pattern
        for literal in re.findall(r"'([^']*)'", pattern):
            quiet |= set(_PARTS.findall(literal.casefold()))
    return months, frozenset(quiet - set(months))


_HOUR_POINT = re.compile(r"\d{1,2}\.")  # 09.40, for Python a part of an hour
_TIME = re.compile(
    r"""(?P<hour>\d{1,2})
    ([:.h](?P<minute>\d\d)([:.](?P<second>\d\d)([.,](?P<fraction>\d{1,6}))?)?)?
    \s*(?P<half>[ap])?(?(half)\.?\s?m\.?)""",
    re.VERBOSE | re.IGNORECASE,
)


def read_time(text: str) -> time:
    """Return the time of day that `text` is: 09:40, 9.40, 0940, 9:40 pm. Raises
    ValueError."""
    plain = " ".join(text.split())
    if len(plain) > MAX_DATE_LENGTH:
        raise ValueError(text)
    if not _HOUR_POINT.match(plain):
        try:
            return time.fromisoformat(plain)
        except ValueError:
            pass
    found = _TIME.fullmatch(plain)
    if found is None or not (found["minute"] or found["half"]):
        raise ValueError(text)
    hour = int(found["hour"])
    if found["half"]:
        if not 1 <= hour <= 12:
            raise ValueError(text)
        hour = hour % 12 + 12 * (found["half"].lower() == "p")
    fraction = int((found["fraction"] or "").ljust(6, "0"))
    return time(hour, int(found["minute"] or 0), int(found["second"] or 0), fraction)


def read_datetime(text: str, language: str, now: datetime) -> datetime:
    """Return the date and time that `text` is: as ISO 8601 has it, or a date as
    `read_date` takes it with a time behind it; now. Raises ValueError."""
    plain = " ".join(text.split())
    if len(plain) > MAX_DATE_LENGTH:
        raise ValueError(text)
    if not re.search(r"[T ]\d{1,2}\.\d", plain):
        try:
            return datetime.fromisoformat(plain)
        except ValueError:
            pass
    if plain.casefold() in ("now", str(_("now")).casefold()):
        return now.replace(second=0, microsecond=0)
    words = plain.split(" ")
    for count in (1, 2, 3):  # words of the time, with its half of the day
        day, hour = " ".join(words[:-count]).rstrip(","), " ".join(words[-count:])
        try:
            return datetime.combine(
                read_date(day, language, now.date()), read_time(hour)
            )
        except ValueError:
            continue
    raise ValueError(text)
