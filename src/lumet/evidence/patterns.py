"""Patterns of the texts in a column: those of the kinds, and of numbers and codes."""

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from lumet.kinds import KINDS
from lumet.kinds.base import matching

ENOUGH = 3  # values; fewer show no pattern
NEARLY_ALL = 0.95  # of the values
LOOKED_AT = 300  # different values, spread over all
MAX_CODE = 20  # characters
MAX_LEADS = 12  # different words that texts begin with
_lead = re.compile(r"([A-Za-z_][\w.]{1,40}[:/#|])[A-Za-z0-9_-]{1,40}")

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
    "hash": matching(r"(?=.*[a-f])(?=.*\d)[0-9a-f]{32,128}").fits,
    "percent": matching(r"[+-]?\d+([.,]\d+)?\s?%").fits,
    "currency": matching(
        r"[€$£¥]\s?-?\d[\d.,' ]*|-?\d[\d.,' ]*\s?([€$£¥]|eur|usd|gbp|chf)"
    ).fits,
    **_of_kinds(is_ambiguous=True),
    "number": matching(r"[+-]?\d+(\.\d+)?").fits,
    "code": lambda text: _code.fullmatch(text) is not None and len(text) <= MAX_CODE,
}


def find_leads(counts: Mapping[Any, int]) -> tuple[str, ...]:
    """Return the few words that nearly all texts begin with, each with the mark between
    it and a number or a code: "vessel:" of `vessel:17`; () for none, and where one of
    them is too rare to be no person's."""
    texts = {t.strip(): n for t, n in counts.items() if isinstance(t, str)}
    if len(texts) < ENOUGH:
        return ()
    first = [*texts][:20]
    if sum(_lead.fullmatch(t) is not None for t in first) < 0.8 * len(first):
        return ()
    found: Counter[str] = Counter()
    for text, number in texts.items():
        if led := _lead.fullmatch(text):
            found[led[1]] += number
    often = [lead for lead, number in found.items() if number >= ENOUGH]
    is_whole = sum(found[lead] for lead in often) >= NEARLY_ALL * sum(texts.values())
    return tuple(sorted(often)) if is_whole and len(often) <= MAX_LEADS else ()


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
