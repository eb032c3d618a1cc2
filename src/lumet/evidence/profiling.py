"""From sampled rows to a profile of each column."""

import re
from collections import Counter
from collections.abc import Sequence
from decimal import Decimal
from math import floor, isfinite, log10
from typing import Any

from lumet.evidence.code_lists import CodeLists, find_code_lists
from lumet.evidence.model import ColumnProfile, TableProfile, two_digits
from lumet.evidence.patterns import find_leads, find_pattern
from lumet.evidence.sketches import TableSketch, find_key, sketch_table
from lumet.evidence.storage_format_detection import SPELLINGS, month_of, without_none
from lumet.facts.model import Column, Table

EXACT_ROWS = 50_000  # up to here rows are counted; above, estimated
_KEY_NAME = re.compile(r"(?i:(^|_)(id|code|cd|no|nr|key|num|number))$|I[dD]$")
MAX_VALUES = 24  # more different values than this are no choice
MAX_CODE = 1_000  # numbers that stand for something; higher ones are measured
REPEATS = 5  # a value list is kept where values repeat this often on average
MAX_VALUE_LENGTH = 40  # characters; longer ones are sentences, not choices
MAX_BYTES = 200  # of a binary value that is looked at; a longer one is no short text
TEXT = "text"  # the pattern of bytes that are texts
LOOKED_AT = 500  # different values whose length and scale are looked at
_SPELLED = frozenset({"text", "integer", "decimal", "float", "date", "datetime", "boolean"})  # fmt: skip
_PERSONAL = (
    "name",
    "mail",
    "phone",
    "tel",
    "mobile",
    "fax",
    "address",
    "street",
    "birth",
    "secret",
    "password",
    "token",
    "iban",
    "contact",
)


def profile_table(
    table: Table, rows: Sequence[Sequence[Any]], total: int
) -> tuple[TableProfile, TableSketch]:
    """Profile a table of `total` rows from those that were read, each with the columns
    in their order; and make its sketch."""
    values = [[row[place] for row in rows] for place in range(len(table.columns))]
    counts = [Counter(each for each in v if each is not None) for v in values]
    blank = [_without_blanks(found) for found in counts]
    columns = {
        column.name: _profile(table, column, len(rows), found, is_blank)
        for column, found, is_blank in zip(table.columns, counts, blank, strict=True)
    }
    is_whole = total == len(rows)
    sketch = sketch_table(table, rows, counts, is_whole)
    single = any(
        p.unique and p.empty == 0 and (place == 0 or _KEY_NAME.search(name))
        for place, (name, p) in enumerate(columns.items())
    )
    key = (
        () if single or table.primary_key or not rows else find_key(table, rows, sketch)
    )
    rounded = total if total <= EXACT_ROWS else int(two_digits(total))
    lists = find_code_lists(table, rows) if is_whole else CodeLists()
    return TableProfile(rounded, len(rows), columns, key, lists), sketch


def _without_blanks(counts: Counter[Any]) -> bool:
    """Remove the texts without a character but blanks, with which programs fill columns
    of a fixed length; return whether there were any."""
    found = [each for each in counts if isinstance(each, str) and not each.strip()]
    for each in found:
        del counts[each]
    return bool(found)


def _profile(
    table: Table, column: Column, total: int, counts: Counter[Any], blank: bool
) -> ColumnProfile:
    spelling = none = ""
    if column.type.kind in _SPELLED:
        counts, spelling, none = without_none(counts)
    filled = counts.total()
    step = max(1, len(counts) // LOOKED_AT)
    some = list(counts.items())[::step]
    lengths = [(len(str(v)), n) for v, n in some if not isinstance(v, bytes)]
    looked = sum(number for _, number in lengths)
    mean = sum(length * number for length, number in lengths) / looked if looked else 0
    is_text = column.type.kind in ("text", "json", "binary")
    return ColumnProfile(
        empty=two_digits(1 - filled / total) if total else 0.0,
        distinct=two_digits(len(counts) / filled) if filled else 0.0,
        unique=filled > 1 and len(counts) == filled,
        longest=int(two_digits(_longest(counts))),
        mean_length=two_digits(mean),
        values=_value_list(table, column, counts),
        flag=bool(counts) and set(counts) <= {0, 1},
        constant=len(counts) == 1,
        blank=blank,
        spelling=spelling,
        none=none,
        pattern=_pattern(column, counts) if is_text else "",
        leads=()
        if column.type.kind != "text" or _is_private(table, column)
        else find_leads(counts),
        **_numbers(column, counts),
        most=two_digits(max(counts.values()) / filled) if filled else 0.0,
        months=_months(column, spelling, counts),
    )


def _months(column: Column, spelling: str, counts: Counter[Any]) -> int:
    """Return the number of different months of dates, to two digits."""
    if spelling in SPELLINGS:
        months = {month_of(value, spelling) for value in counts}
    elif column.type.kind in ("date", "datetime"):
        months = {str(value)[:7] for value in counts}  # dates, or texts on SQLite
    else:
        return 0
    return int(two_digits(len(months)))


def _pattern(column: Column, counts: Counter[Any]) -> str:
    """Return the pattern of nearly all texts; of bytes, whether they are short
    texts."""
    if column.type.kind != "binary":
        return find_pattern(counts)
    held = [value for value in counts if isinstance(value, bytes)]
    is_text = bool(held) and len(held) == len(counts) and all(map(_is_text, held))
    return TEXT if is_text else ""


def _is_text(value: bytes) -> bool:
    try:
        return len(value) < MAX_BYTES and value.decode().isprintable()
    except UnicodeDecodeError:
        return False


def _longest(counts: Counter[Any]) -> int:
    return max((len(value) for value in counts if isinstance(value, str)), default=0)


def _numbers(column: Column, counts: Counter[Any]) -> dict[str, Any]:
    """Return the magnitude, the scale and the sign of the numbers in a column."""
    if column.type.kind not in ("integer", "decimal", "float"):
        return {}
    numbers: list[Any] = [v for v in counts if isinstance(v, int | float | Decimal)]
    finite = [number for number in numbers if isfinite(number)]
    is_negative = any(number < 0 for number in finite)
    largest = max((abs(number) for number in finite), default=0)
    if not 0 < largest < 10**18:
        return {}
    if column.type.kind == "integer":
        finite = [number for number in finite if isinstance(number, float)] or [0]
    scales = [_scale(number) for number in finite[:: max(1, len(finite) // LOOKED_AT)]]
    return {
        "magnitude": 10 ** (floor(log10(largest)) + 1),
        "scale": max(scales),
        "negative": is_negative,
    }


def _scale(number: Any) -> int:
    """Return how many digits a number has behind the point."""
    exponent = Decimal(repr(number) if isinstance(number, float) else number)
    found = exponent.normalize().as_tuple().exponent
    return max(0, -found) if isinstance(found, int) else 0


def _value_list(table: Table, column: Column, counts: Counter[Any]) -> tuple[str, ...]:
    """Return the values of a small code column, none of one that may hold a person's
    data: only text that repeats often, or small whole numbers, in a column that is
    neither unique, nor a reference, nor named like a person's or a contact's."""
    if _may_be_personal(table, column):
        return ()
    if not counts or len(counts) > MAX_VALUES or counts.total() < REPEATS * len(counts):
        return ()
    is_text = column.type.kind == "text" and all(map(_is_short, counts))
    if not is_text and not (
        column.type.kind == "integer" and all(map(_is_small, counts))
    ):
        return ()
    often = [item for item in counts.items() if item[1] >= REPEATS]
    ordered = sorted(often, key=lambda item: (-item[1], item[0]))
    return tuple(str(value) for value, _ in ordered) if len(ordered) > 1 else ()


def _is_small(value: Any) -> bool:
    return type(value) is int and abs(value) < MAX_CODE


def _is_private(table: Table, column: Column) -> bool:
    """Tell whether a column is named like a person's, or refers to a record."""
    is_reference = table.reference_of(column.name) is not None
    return is_reference or any(word in column.name.casefold() for word in _PERSONAL)


def _may_be_personal(table: Table, column: Column) -> bool:
    """Tell whether a column may tell of a person: unique values, references, and names
    of persons and contacts."""
    return table.is_unique((column.name,)) or _is_private(table, column)


def _is_short(value: Any) -> bool:
    is_text = isinstance(value, str)
    return is_text and len(value) <= MAX_VALUE_LENGTH and value.isprintable()
