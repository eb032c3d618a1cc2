"""Formatting of values, by language."""

import unicodedata
from datetime import date, datetime, time
from decimal import Decimal, getcontext, localcontext
from functools import lru_cache
from typing import Any

from babel import Locale, UnknownLocaleError
from babel.dates import format_date, format_time
from babel.numbers import format_decimal

USUAL_DIGITS = getcontext().prec - 12  # that Python's own arithmetic does not round
MAX_PRECISE = 100  # digits of a number that is written with care
MAX_DIGITS = 12  # behind the point, of a number without a scale of its own


@lru_cache(maxsize=20_000)
def date_text(value: date, language: str) -> str:
    """Write a date: 17 Nov 2026."""
    return format_date(value, "medium", locale=language)


@lru_cache(maxsize=20_000)
def time_text(value: time, language: str) -> str:
    """Write a time of day: 09:40, with seconds only where there are some."""
    style = "medium" if value.second or value.microsecond else "short"
    return format_time(value, style, locale=language)


def datetime_text(value: datetime, language: str) -> str:
    """Write a moment: 17 Nov 2026, 09:40."""
    day = date_text(value.date(), language)
    return f"{day}, {time_text(value.timetz(), language)}"


@lru_cache(maxsize=20_000)
def number_text(value: float | Decimal, language: str, scale: int | None) -> str:
    """Write a number with its language's separators; `scale` digits behind the point,
    or as many as it has where `scale` is None."""
    if isinstance(value, Decimal | float) and not _is_plain(value):
        return str(value)
    if isinstance(value, Decimal) and len(value.as_tuple().digits) > USUAL_DIGITS:
        with localcontext(prec=MAX_PRECISE):
            return _number_text(value, language, scale)
    return _number_text(value, language, scale)


def _number_text(value: float | Decimal, language: str, scale: int | None) -> str:
    if scale is None:
        exact = Decimal(repr(value)) if isinstance(value, float) else value
        pattern = "#,##0." + "#" * MAX_DIGITS
        return format_decimal(exact, pattern, locale=language)
    pattern = "#,##0" + ("." + "0" * scale if scale else "")
    return format_decimal(value, pattern, locale=language)


def _is_plain(value: Decimal | float) -> bool:
    """Tell whether a number can be written in full: neither infinite nor enormous."""
    exact = Decimal(value)
    return exact.is_finite() and exact.adjusted() < MAX_DIGITS + 8


def plain_text(value: Any) -> str:
    """Write anything else as it is."""
    if isinstance(value, bytes):
        return f"{len(value):,} bytes"
    return str(value)


def without_accents(text: str) -> str:
    """Return a text without the marks that letters carry, as many collations compare."""
    plain = unicodedata.normalize("NFKD", text)
    return "".join(each for each in plain if not unicodedata.combining(each))


def shown_text(value: Any, language: str) -> str:
    """Write a value of which nothing but its type is known. A whole number may be a
    name, and has no separators."""
    if isinstance(value, datetime):
        return datetime_text(value, language)
    if isinstance(value, date):
        return date_text(value, language)
    if isinstance(value, time):
        return time_text(value, language)
    if isinstance(value, Decimal | float):
        scale = -int(value.as_tuple().exponent) if isinstance(value, Decimal) and value.is_finite() else None  # fmt: skip
        return number_text(value, language, scale if scale and scale > 0 else None)
    return plain_text(value)


def is_language(name: str) -> bool:
    """Tell whether dates and numbers can be written in this language."""
    try:
        Locale.parse(name)
    except (ValueError, LookupError, UnknownLocaleError):
        return False
    return True
