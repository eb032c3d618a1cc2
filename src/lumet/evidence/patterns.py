"""Patterns of the texts in a column: addresses, colours, files, codes."""

import json
import re
from collections.abc import Callable, Iterable
from typing import Any, Literal, get_args

Pattern = Literal[
    "e-mail", "web address", "colour", "uuid", "image", "file", "json", "phone", "percent",
    "currency", "number", "code",
]  # fmt: skip
ENOUGH = 3  # values; fewer show no pattern
NEARLY_ALL = 0.95  # of the values
LOOKED_AT = 300  # different values, spread over all

_PHONE_DIGITS = 6


def _matches(pattern: str) -> Callable[[str], bool]:
    compiled = re.compile(pattern, re.IGNORECASE)
    return lambda text: compiled.fullmatch(text) is not None


def _is_json(text: str) -> bool:
    if text[:1] not in "{[" or text[-1:] not in "}]":
        return False
    try:
        json.loads(text)
    except ValueError:
        return False
    return True


_phone = _matches(r"\+?\(?\d[\d\s()./-]+(\s?(x|ext\.?)\s?\d+)?")


def _is_phone(text: str) -> bool:
    digits = sum(character.isdigit() for character in text)
    spaced = text.startswith(("+", "0", "(")) or re.search(r"\d[\s/-]\d", text)
    return _PHONE_DIGITS <= digits <= 17 and bool(spaced) and _phone(text)


_code = re.compile(r"(?=.*[A-Z0-9])[A-Z0-9]+([-_/.][A-Z0-9]+)*")
_TESTS: dict[Pattern, Callable[[str], bool]] = {
    "e-mail": _matches(r"[^@\s<>]+@[^@\s<>]+\.[^@\s<>]{2,}"),
    "web address": _matches(r"(https?://|www\.)\S+"),
    "colour": _matches(r"#([0-9a-f]{3}|[0-9a-f]{6}|[0-9a-f]{8})"),
    "uuid": _matches(r"\{?[0-9a-f]{8}-([0-9a-f]{4}-){3}[0-9a-f]{12}\}?"),
    "image": _matches(r"[^\n<>|]*\.(png|jpe?g|gif|webp|svg|bmp|tiff?|avif)"),
    "file": _matches(
        r"[^\n<>|]*[\w)]\.(pdf|docx?|xlsx?|pptx?|od[tsp]|csv|txt|rtf|zip|7z|gz|xml|dwg|mp[34])"
    ),
    "json": _is_json,
    "percent": _matches(r"[+-]?\d+([.,]\d+)?\s?%"),
    "currency": _matches(
        r"[€$£¥]\s?-?\d[\d.,' ]*|-?\d[\d.,' ]*\s?([€$£¥]|eur|usd|gbp|chf)"
    ),
    "phone": _is_phone,
    "number": _matches(r"[+-]?\d+(\.\d+)?"),
    "code": lambda text: _code.fullmatch(text) is not None and len(text) <= 20,
}
assert set(_TESTS) == set(get_args(Pattern))


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
