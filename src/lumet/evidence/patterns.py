"""Patterns of the texts in a column: those of the kinds, and of numbers and codes."""

import re
from collections.abc import Callable, Iterable
from typing import Any

from lumet.kinds import KINDS
from lumet.kinds.base import matching

ENOUGH = 3  # values; fewer show no pattern
NEARLY_ALL = 0.95  # of the values
LOOKED_AT = 300  # different values, spread over all
MAX_CODE = 20  # characters

_code = re.compile(r"(?=.*[A-Z0-9])[A-Z0-9]+([-_/.][A-Z0-9]+)*")


def _of_kinds(is_ambiguous: bool) -> dict[str, Callable[[str], bool]]:
    return {
        kind.name: kind.pattern.fits
        for kind in KINDS
        if kind.pattern is not None and kind.is_ambiguous == is_ambiguous
    }


# in the order in which they are tried: what fits others' values too comes later
_TESTS: dict[str, Callable[[str], bool]] = {
    **_of_kinds(is_ambiguous=False),
    "uuid": matching(r"\{?[0-9a-f]{8}-([0-9a-f]{4}-){3}[0-9a-f]{12}\}?").fits,
    "percent": matching(r"[+-]?\d+([.,]\d+)?\s?%").fits,
    "currency": matching(
        r"[€$£¥]\s?-?\d[\d.,' ]*|-?\d[\d.,' ]*\s?([€$£¥]|eur|usd|gbp|chf)"
    ).fits,
    **_of_kinds(is_ambiguous=True),
    "number": matching(r"[+-]?\d+(\.\d+)?").fits,
    "code": lambda text: _code.fullmatch(text) is not None and len(text) <= MAX_CODE,
}


def find_pattern(values: Iterable[Any]) -> str:
    """Return the first pattern that nearly all of the different `values` have; "" for
    none, and where they are too few."""
    texts = [value.strip() for value in values if isinstance(value, str)]
    texts = texts[:: max(1, len(texts) // LOOKED_AT)]
    if len(texts) < ENOUGH:
        return ""
    few = texts[:20]
    for name, is_such in _TESTS.items():
        if sum(map(is_such, few)) >= 0.8 * len(few) and (
            sum(map(is_such, texts)) >= NEARLY_ALL * len(texts)
        ):
            return name
    return ""
