"""What the rows say, in classes: two significant digits, never a person's data."""

from dataclasses import dataclass, field
from math import floor, log10


def two_digits(number: float) -> float:
    """Round to two significant digits, so that a small change changes nothing."""
    if number == 0:
        return 0.0
    shift = 1 - floor(log10(abs(number)))
    return round(number, shift)


@dataclass(frozen=True, slots=True)
class ColumnProfile:
    """One column over the sampled rows.

    `empty` and `distinct` are fractions, the latter of the values that are not empty;
    lengths are in characters. `unique` holds for the sample alone. `values` are the
    most frequent first, and only of columns whose values repeat. `flag`: every value
    is 0 or 1.
    """

    empty: float = 0.0
    distinct: float = 0.0
    unique: bool = False
    longest: int = 0
    mean_length: float = 0.0
    values: tuple[str, ...] = ()
    flag: bool = False


@dataclass(frozen=True, slots=True)
class TableProfile:
    """One table: its rows (estimated above `sampling.EXACT_ROWS`), how many of them
    were read, and its columns by name."""

    rows: int = 0
    sampled: int = 0
    columns: dict[str, ColumnProfile] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Evidence:
    """The profiles by table; `cut` names the tables that an emergency brake cut."""

    tables: dict[str, TableProfile] = field(default_factory=dict)
    cut: tuple[str, ...] = ()

    def table(self, name: str) -> TableProfile:
        """Return the profile of table `name`, an empty one when it was not read."""
        return self.tables.get(name, TableProfile())

    def column(self, table: str, column: str) -> ColumnProfile | None:
        """Return the profile of a column, None when none of its rows was read."""
        profile = self.table(table)
        return profile.columns.get(column) if profile.sampled else None
