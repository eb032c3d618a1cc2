"""Profiles of tables and columns: two significant digits, never personal data."""

from dataclasses import dataclass, field
from math import floor, log10

from lumet.evidence.code_lists import CodeLists


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
    most frequent first, and only of columns whose values repeat; `leads` the few words
    that nearly all texts begin with, each with the mark behind it: "vessel:". `flag`: every value is
    0 or 1; `constant`: there is but one different value. `spelling` is how nearly all
    values spell a date, a moment, or yes and no (see `evidence.spellings`), `pattern`
    what nearly all texts look like (see `evidence.patterns`). Of numbers, `magnitude`
    is the power of ten that none reaches, `scale` the most digits behind the point,
    `negative` whether some are below zero. `most` is the fraction of the values that
    are not empty which the most frequent one makes, `months` the number of different
    months of dates. `none`: a value that stands for no date.
    """

    empty: float = 0.0
    distinct: float = 0.0
    unique: bool = False
    longest: int = 0
    mean_length: float = 0.0
    values: tuple[str, ...] = ()
    flag: bool = False
    constant: bool = False
    blank: bool = False  # some texts are empty or blank, and not NULL
    spelling: str = ""
    pattern: str = ""
    leads: tuple[str, ...] = ()
    magnitude: int = 0
    scale: int = 0
    negative: bool = False
    most: float = 0.0
    months: int = 0
    none: str = ""


@dataclass(frozen=True, slots=True)
class TableProfile:
    """One table: its rows (estimated above `sampling.EXACT_ROWS`), how many of them
    were read, and its columns by name. `key`: the first columns that together are
    unique in the rows that were read, where no single one is. `code_lists`: the codes
    of many columns, where the table holds such."""

    rows: int = 0
    sampled: int = 0
    columns: dict[str, ColumnProfile] = field(default_factory=dict)
    key: tuple[str, ...] = ()
    code_lists: CodeLists = field(default_factory=CodeLists)


@dataclass(frozen=True, slots=True)
class Containment:
    """That the values of some columns are (nearly) all in a key of another table.

    `found` of the `checked` different values were there; 0 of 0 where there is none.
    `orphans` is the fraction of the rows without a partner. `reach` tells how far whole
    numbers reach into the key's, from 0 to 1. `none` is the value that stands for no
    record where a column takes no NULL, as a text, "" where there is no such one; its
    rows have no partner, and are no orphans.
    """

    table: str
    columns: tuple[str, ...]
    referred_table: str
    referred_columns: tuple[str, ...]
    checked: int = 0
    found: int = 0
    orphans: float = 0.0
    reach: float = 0.0
    none: str = ""

    @property
    def end(self) -> tuple[str, tuple[str, ...]]:
        """The table and columns referred to."""
        return self.referred_table, self.referred_columns


@dataclass(frozen=True, slots=True)
class Agreement:
    """That a lookup leads to a record which refers to the same as another column of the
    row: in `agreed` of the `checked` rows that have both."""

    table: str
    column: str
    followed: str
    checked: int = 0
    agreed: int = 0

    @property
    def expected(self) -> float:
        """The fraction of further rows that will agree, by the rule of succession."""
        return (self.agreed + 1) / (self.checked + 2)


@dataclass(frozen=True, slots=True)
class Evidence:
    """The profiles by table, and whose values are whose; `cut` names the tables that an
    emergency brake cut, `repeated` those whose rows share what was to be their key.
    `unanalysed` are tables of which the server has no statistics, `unread` views that
    were not read since their functions would run with a superuser's rights; neither is
    kept, since both change without the database."""

    tables: dict[str, TableProfile] = field(default_factory=dict)
    cut: tuple[str, ...] = ()
    contained: tuple[Containment, ...] = ()
    repeated: tuple[str, ...] = ()
    agreements: tuple[Agreement, ...] = ()
    unanalysed: tuple[str, ...] = ()
    unread: tuple[str, ...] = ()

    def agreement(self, table: str, column: str, followed: str) -> Agreement | None:
        """Return how far a lookup agrees with a column, None where nobody looked."""
        for each in self.agreements:
            if (each.table, each.column, each.followed) == (table, column, followed):
                return each
        return None

    def table(self, name: str) -> TableProfile:
        """Return the profile of table `name`, an empty one when it was not read."""
        return self.tables.get(name, TableProfile())

    def column(self, table: str, column: str) -> ColumnProfile | None:
        """Return the profile of a column, None when none of its rows was read."""
        profile = self.table(table)
        return profile.columns.get(column) if profile.sampled else None
