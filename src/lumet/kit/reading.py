"""Reading what people type: numbers and dates in the ways that they are written."""

import re
from datetime import date, datetime
from decimal import Decimal

from babel.dates import parse_date
from babel.numbers import get_decimal_symbol, get_group_symbol

_BLANKS = re.compile("[\\s\u00a0\u2009\u202f'’_]")
_DAY_FORMATS = ("%d %b %Y", "%d %B %Y", "%b %d, %Y", "%B %d, %Y", "%Y%m%d")


def read_number(text: str, language: str) -> Decimal:
    """Return the number that `text` is in a language, with or without separators between
    thousands; a point is understood in every language.

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


def read_degrees(text: str, sides: str) -> Decimal | None:
    """Return the degrees that `text` is, with minutes, seconds and a side: 61° 12.24′ N,
    61 12 14.4 N, 61.204 S; None for a plain number. `sides` are "NS" or "EW".

    Raises ValueError for minutes or seconds of 60 and more, and for another side.
    """
    found = _DEGREES.fullmatch(text.strip().upper())
    if found is None or not (found["minutes"] or "°" in text or _sides_of(found)):
        return None
    side = _sides_of(found)
    if len(side) > 1 or (side and side not in sides) or (side and found["sign"]):
        raise ValueError(text)
    parts = [
        Decimal((found[name] or "0").replace(",", "."))
        for name in ("degrees", "minutes", "seconds")
    ]
    if max(parts[1:]) >= 60 or any(
        part % 1 and finer is not None
        for part, finer in zip(
            parts, (found["minutes"], found["seconds"]), strict=False
        )
    ):
        raise ValueError(text)
    value = parts[0] + parts[1] / 60 + parts[2] / 3600
    return -value if side == sides[1] or found["sign"] == "-" else value


def _sides_of(found: re.Match[str]) -> str:
    return (found["front"] or "") + (found["behind"] or "")


def read_date(text: str, language: str) -> date:
    """Return the date that `text` is: 2026-11-17, 17 Nov 2026, 20261117, or short as
    the language writes it, such as 17/11/2026 or 17.11.26. Raises ValueError."""
    plain = " ".join(text.replace(",", ", ").split()).replace(" ,", ",")
    try:
        return date.fromisoformat(plain)
    except ValueError:
        pass
    for pattern in _DAY_FORMATS:
        try:
            return datetime.strptime(plain.title(), pattern).date()
        except ValueError:
            continue
    if not re.fullmatch(r"\d{1,4}([./-])\d{1,2}\1\d{2,4}", plain):
        raise ValueError(text)
    try:
        found: date = parse_date(plain, locale=language, format="short")
    except (ValueError, IndexError, KeyError) as error:
        raise ValueError(text) from error
    return found
