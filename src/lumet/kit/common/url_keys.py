"""Keys of records in addresses: one converter for any key.

Parts are joined by a comma; all but ASCII letters, digits, `-` and `_` is written as
`~XX` (hexadecimal, of UTF-8); an empty part is a lone `~`. So no key can be mistaken
for a word of an address, whatever it holds, and servers have nothing to decode.
"""

import re
from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

_ODD = re.compile(rb"[^A-Za-z0-9_-]")
_ESCAPE = re.compile(rb"~([0-9A-F]{2})")
_WHOLE = re.compile(r"(?:[A-Za-z0-9_-]|~[0-9A-F]{2})+|~")


def encode_key(values: Sequence[Any]) -> str:
    """Write the values of a key as one segment of an address."""
    if len(values) == 1:  # as most are
        return _encode(values[0])
    return ",".join(map(_encode, values))


def clock_text(value: timedelta) -> str:
    """Write a length of time as servers write one, in hours, minutes and seconds."""
    minutes, seconds = divmod(abs(value), timedelta(minutes=1))
    hours, minutes = divmod(minutes, 60)
    rest = f"{seconds.seconds:02}" + (f".{seconds.microseconds:06}" if seconds.microseconds else "")  # fmt: skip
    return f"{'-' if value < timedelta() else ''}{hours:02}:{minutes:02}:{rest}"


def _encode(value: Any) -> str:
    if type(value) is int:
        return str(value)
    if isinstance(value, datetime):
        text = value.isoformat(" ")
    elif isinstance(value, date | time):
        text = value.isoformat()
    elif isinstance(value, bytes):
        text = value.hex()
    elif isinstance(value, timedelta):  # a time of day that may be over a day
        text = clock_text(value)
    else:
        text = str(value)
    if not text:
        return "~"
    raw = _ODD.sub(lambda odd: b"~%02X" % odd[0][0], text.encode("utf-8"))
    return raw.decode("ascii")


def decode_key(
    segment: str, types: Sequence[type], takes_any: bool = False
) -> tuple[Any, ...]:
    """Read a key whose parts are of these Python types; where the database `takes_any`
    value in any column, one that is not of its type is a text.

    Raises ValueError when the segment is no such key, or not spelled as
    `encode_key` spells it (each record has one address).
    """
    parts = segment.split(",")
    if len(parts) != len(types):
        raise ValueError(f"a key of {len(types)} parts was expected")
    values = tuple(
        _decode_any(part, wanted) if takes_any else _decode(part, wanted)
        for part, wanted in zip(parts, types, strict=True)
    )
    if encode_key(values) != segment:
        raise ValueError(f"{segment!r} is not how this key is spelled")
    return values


def _decode_any(part: str, wanted: type) -> Any:
    try:
        return _decode(part, wanted)
    except (ValueError, ArithmeticError):
        if wanted is bytes:
            raise  # a text cannot be bound in the place of bytes
        return _decode(part, str)


def _decode(part: str, wanted: type) -> Any:
    if not _WHOLE.fullmatch(part):
        raise ValueError(f"{part!r} is no part of a key")
    raw = b"" if part == "~" else part.encode("ascii")
    text = _ESCAPE.sub(lambda hexa: bytes([int(hexa[1], 16)]), raw).decode("utf-8")
    if wanted is str:
        return text
    if wanted is bytes:
        return bytes.fromhex(text)
    if wanted in (date, datetime, time):
        return wanted.fromisoformat(text)
    if wanted is bool:
        if text not in ("True", "False"):
            raise ValueError(f"{text!r} is no yes or no")
        return text == "True"
    return Decimal(text) if wanted is Decimal else wanted(text)
