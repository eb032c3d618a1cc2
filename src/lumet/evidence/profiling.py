"""From sampled rows to a profile of each column."""

from collections import Counter
from collections.abc import Sequence
from typing import Any

from lumet.evidence.model import ColumnProfile, two_digits
from lumet.facts.model import Column, Table

MOST_VALUES = 24  # more different values than this are no choice
REPEATS = 5  # a value list is kept where values repeat this often on average
LONGEST_VALUE = 40  # characters; longer ones are sentences, not choices
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


def profile_columns(
    table: Table, rows: Sequence[Sequence[Any]]
) -> dict[str, ColumnProfile]:
    """Profile every column of `table`; each of `rows` has the columns in their order."""
    return {
        column.name: _profile(table, column, [row[position] for row in rows])
        for position, column in enumerate(table.columns)
    }


def _profile(table: Table, column: Column, values: Sequence[Any]) -> ColumnProfile:
    filled = [value for value in values if value is not None and value != ""]
    counts = Counter(filled)
    lengths = [len(str(value)) for value in filled if not isinstance(value, bytes)]
    return ColumnProfile(
        empty=two_digits(1 - len(filled) / len(values)) if values else 0.0,
        distinct=two_digits(len(counts) / len(filled)) if filled else 0.0,
        unique=len(filled) > 1 and len(counts) == len(filled),
        longest=int(two_digits(max(lengths, default=0))),
        mean_length=two_digits(sum(lengths) / len(lengths)) if lengths else 0.0,
        values=_value_list(table, column, counts),
        flag=bool(counts) and set(counts) <= {0, 1},
    )


def _value_list(table: Table, column: Column, counts: Counter[Any]) -> tuple[str, ...]:
    """Return the values of a small code column, none of one that may hold a person's
    data: only text that repeats often, in a column that is neither unique, nor a
    reference, nor named like a person's or a contact's."""
    lowered = column.name.casefold()
    if (
        column.type.kind != "text"
        or not counts
        or len(counts) > MOST_VALUES
        or counts.total() < REPEATS * len(counts)
        or table.is_unique((column.name,))
        or table.reference_of(column.name) is not None
        or any(word in lowered for word in _PERSONAL)
        or any(not isinstance(value, str) for value in counts)
        or any(
            len(value) > LONGEST_VALUE or not value.isprintable() for value in counts
        )
    ):
        return ()
    ordered = sorted(counts.items(), key=lambda item: (-item[1], item[0]))
    return tuple(value for value, _ in ordered)
