"""How dates, moments, and yes or no are spelled in columns of other types.

A spelling is named as people write it: "DD.MM.YYYY", "seconds", "Y/N". The application
knows the same names.
"""

import re
from collections import Counter
from collections.abc import Mapping
from datetime import date, datetime, timedelta
from decimal import Decimal
from functools import cache
from itertools import islice
from math import isfinite
from typing import Any

from lumet.kit.contract import DATES, DATETIMES

ENOUGH = 3  # values; fewer show no spelling
LOOKED_AT = 300  # values, spread over all
NEARLY_ALL = 0.95  # of the values that are not empty
PROBES = 20  # different values; where fewer than PROBED of them fit, none is tried
PROBED = 0.8
YES_NO = ("Y/N", "yes/no", "true/false", "T/F", "J/N", "ja/nein", "O/N", "oui/non",
          "S/N", "1/0", "on/off", "X/-")  # fmt: skip
_YES_NO_WORDS = frozenset(
    word for pair in YES_NO for word in pair.casefold().split("/")
)
_YEARS = range(1000, 2200)
_NO_END = 9999  # the year of what lasts until further notice
_ZEROS = re.compile(r"\s*0[0\s./:TZ-]*")
_NINES = re.compile(r"9999[./-]?99[./-]?99|99[./-]?99[./-]?9999|999999")
_NUMERIC = (int, float, Decimal)
_SECONDS = (100_000_000, 4_200_000_000)  # from 1973 to 2103
_JULIAN = (2_305_447, 2_524_959)  # from 1600 to 2200
_NUMBERS: dict[str, tuple[float, float]] = {
    "seconds": _SECONDS,
    "milliseconds": (_SECONDS[0] * 1000, _SECONDS[1] * 1000),
    "julian day": _JULIAN,
}
SPELLINGS = (*DATES, *DATETIMES, *_NUMBERS)


def find_format(counts: Counter[Any]) -> str:
    """Return how nearly all values spell a date, a moment, or yes and no; "" when they
    do not, or are too few. `counts` has each value that is not empty with its
    number."""
    if counts.total() < ENOUGH:
        return ""
    listed = list(counts.items())
    if not any(_may_spell(value) for value, _ in listed[:PROBES]):
        return ""
    some = Counter(dict(listed[:: max(1, len(listed) // LOOKED_AT)]))
    total = some.total()
    texts = {value: n for value, n in some.items() if isinstance(value, str)}
    if sum(texts.values()) >= NEARLY_ALL * total:
        return _of_texts(texts, total)
    numbers = {value: n for value, n in some.items() if _is_number(value)}
    if sum(numbers.values()) >= NEARLY_ALL * total:
        return _of_numbers(numbers, total)
    return ""


def without_none(counts: Counter[Any]) -> tuple[Counter[Any], str, str]:
    """Return the values that are neither zeros nor nines, the format in which nearly all
    of those spell a date, and what stands for no date, as programs wrote it in columns
    that take no NULL: `0`, `00000000`, `99999999`. The counts as they are where no date
    is spelled, or nothing stands for none."""
    nones = Counter({value: n for value, n in counts.items() if _is_none(value)})
    if nones and len(nones) < len(counts):
        rest = Counter({value: n for value, n in counts.items() if value not in nones})
        found = find_format(rest)
        if found in SPELLINGS:
            none = min(nones, key=lambda value: (-nones[value], str(value)))
            return rest, found, none.strip() if isinstance(none, str) else str(int(none))  # fmt: skip
    return counts, find_format(counts), ""


def _is_none(value: Any) -> bool:
    """Tell whether a value is zeros, or nines that are no day."""
    if isinstance(value, str):
        if value[:1] == "9":
            return _NINES.fullmatch(value.strip()) is not None
        return value[:1] in ("0", " ") and _ZEROS.fullmatch(value) is not None
    return _is_number(value) and value in (0, 99999999, 999999)


def _is_number(value: Any) -> bool:
    """Tell whether a value is a number, and neither infinite nor none: those cannot be
    compared."""
    is_one = isinstance(value, _NUMERIC) and not isinstance(value, bool)
    return is_one and (isinstance(value, int) or isfinite(value))


def _may_spell(value: Any) -> bool:
    """Tell whether a value could be a date, or yes or no, at all."""
    if isinstance(value, str):
        return value[:1].isdigit() or value.casefold() in _YES_NO_WORDS
    return _is_number(value) and value > 1_000_000


def _of_texts(texts: Mapping[str, int], total: int) -> str:
    counts: Counter[str] = Counter()
    for text, number in texts.items():
        counts[text.strip()] += number
    if flags := _flags(counts, total):
        return flags
    dated = sum(n for text, n in counts.items() if text[:1].isdigit())
    if dated < counts.total() and dated < NEARLY_ALL * total:
        return ""
    return _clearest(counts, DATETIMES, total) or _clearest(counts, DATES, total)


def _flags(counts: Counter[str], total: int) -> str:
    """Return the two words for yes and no that nearly all texts are, "" for none."""
    folded: Counter[str] = Counter()
    for text, number in counts.items():
        folded[text.casefold()] += number
    for name in YES_NO:
        words = [folded[word] for word in name.casefold().split("/")]
        if min(words) > 0 and sum(words) >= NEARLY_ALL * total:
            yes, _, no = name.partition("/")
            return f"{_as_written(yes, counts)}/{_as_written(no, counts)}"
    return ""


def _clearest(counts: Counter[str], patterns: Mapping[str, str], total: int) -> str:
    """Return the one format that fits nearly all texts, "" for none or for several: day
    and month can be told apart only where some day is after the 12th."""
    few = Counter(dict(islice(counts.items(), PROBES)))
    found = {
        name: _fitting(counts, pattern, name)
        for name, pattern in patterns.items()
        if _fitting(few, pattern, name) >= PROBED * few.total()
    }
    best = max(found, key=lambda name: found[name], default="")
    is_clear = bool(best) and list(found.values()).count(found[best]) == 1
    return best if is_clear and found[best] >= NEARLY_ALL * total else ""


def _as_written(word: str, counts: Counter[str]) -> str:
    """Return how `word` is written most often."""
    written = {
        text: n for text, n in counts.items() if text.casefold() == word.casefold()
    }
    return min(written, key=lambda text: (-written[text], text))


def _fitting(counts: Counter[str], pattern: str, name: str) -> int:
    """Count the texts that have digits and marks where `name` has them, and are such a
    date."""
    has_shape = _shape(name).fullmatch
    return sum(
        number
        for text, number in counts.items()
        if has_shape(text) and _is_date(text, pattern)
    )


@cache
def _shape(name: str) -> re.Pattern[str]:
    """Return a pattern of the texts that a format of this name could fit: parsing a date
    takes many times as long."""
    digits = re.sub(r"[YMDhms]", r"\\d", re.escape(name))
    return re.compile(digits, re.ASCII)


def _is_date(text: str, pattern: str) -> bool:
    try:
        year = datetime.strptime(text, pattern).year
    except ValueError:
        return False
    return year in _YEARS or year == _NO_END


def _of_numbers(numbers: Mapping[Any, int], total: int) -> str:
    days: Counter[str] = Counter()
    for number, count in numbers.items():
        if number == int(number):
            days[str(int(number))] += count
    if _fitting(days, DATES["YYYYMMDD"], "YYYYMMDD") >= NEARLY_ALL * total:
        return "YYYYMMDD"
    for name, (low, high) in _NUMBERS.items():
        inside = sum(n for number, n in numbers.items() if low <= number <= high)
        if inside >= NEARLY_ALL * total:
            return name
    return ""


def month_of(value: Any, spelling: str) -> str:
    """Return the month of a value that spells a date so, YYYY-MM; of one that does not,
    anything."""
    if spelling not in _NUMBERS:
        text = str(value)
        return "-".join(text[at : at + n] for at, n in ((spelling.find("YYYY"), 4), (spelling.find("MM"), 2)))  # fmt: skip
    if not _is_number(value):
        return ""
    unit = {"seconds": 1, "milliseconds": 1_000}
    days = float(value) / unit[spelling] / 86_400 if spelling in unit else float(value) - 2_440_587.5  # fmt: skip
    return str(date(1970, 1, 1) + timedelta(days=days))[:7] if abs(days) < 100_000 else ""  # fmt: skip
