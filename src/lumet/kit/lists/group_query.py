"""The groups of a list, and its totals."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Context, Decimal, getcontext
from itertools import islice
from math import isfinite
from typing import Any, NamedTuple, cast

from flask_babel import gettext as _
from sqlalchemy import (
    ColumnElement,
    Connection,
    and_,
    case,
    func,
    literal_column,
    null,
    select,
)

from ..common.formatting import number_text
from ..common.periods import NO_END, days_of, periods_between
from ..contract import AVERAGE, BARS, LINE, MAX_GROUPS, MONTH, PERIODS, SHARES, SUM
from ..db.column_types import is_plain_text, storage_format_of, without_none
from ..forms.fields import ChoiceField, YesNoField
from ..forms.number_fields import DecimalField, NumberField
from ..queries.cells import Cell
from ..queries.lookups import titles_by_value
from .list_facts import is_by_period, summed_columns
from .list_query import (
    Count,
    ListPlan,
)
from .list_request import ListRequest

MAX_PARTS = 5_000  # pairs of values, of groups that are made of parts
MOST_SERIES = 7
DIGITS = 2  # behind the point, of an average of whole numbers
_MEASURED = Context(prec=6)  # an average of measured numbers
_OF_GROUPS = ("layout", "by", "sum", "average", "every", "and", "stack", "shape")


@dataclass(frozen=True, slots=True)
class Group:
    """One group of a list: the common value of its rows, their count or amount, and
    where they are."""

    cell: Cell
    count: int
    address: str
    value: float | None = 0.0  # what a chart draws, None for nothing: no average
    text: str = ""  # the amount in words, where one is wanted
    common: Any = None  # what the rows have in common, as the database has it
    is_hidden: bool = False  # records of a lookup that may not be seen
    where: dict[str, str] | None = None  # the filters of its rows
    second: float | None = 0.0  # another amount
    second_text: str = ""

    @property
    def is_dated(self) -> bool:
        """Whether what the rows have in common is a period, and not that of no end."""
        try:
            return bool(days_of(str(self.common))) and not self.has_no_end
        except ValueError:
            return False

    @property
    def has_no_end(self) -> bool:
        """Whether the rows last until further notice: until the year 9999, say."""
        return str(self.common).startswith((NO_END, "infinity"))


class Amount(NamedTuple):
    """What a group has besides its number of rows: a total of a column, a word of
    TOTALS."""

    column: str
    total: str = SUM

    @property
    def is_average(self) -> bool:
        """Whether amounts of groups cannot be added up."""
        return self.total == AVERAGE

    def of(self, base: Any) -> ColumnElement[Any]:
        """Return the expression of the amount; a value that stands for none is none."""
        held = without_none(base.c[self.column])
        return cast("ColumnElement[Any]", getattr(func, self.total)(held))


class Series(NamedTuple):
    """A part of all groups: its name, and for each group its amount, that in words, and
    where its rows are."""

    name: Cell
    amounts: Sequence[float]
    texts: Sequence[str]
    addresses: Sequence[str]


class _Grouping(NamedTuple):
    """By what rows are grouped: an expression, the mark of hidden records, and what
    GROUP BY names, nothing for the expression itself."""

    column: ColumnElement[Any]
    hidden: ColumnElement[Any]
    parts: Sequence[Any]


class Total(NamedTuple):
    """A total of a column, and its name where that is not the sum."""

    text: str
    word: str


class GroupQuery:
    """The groups of the rows of one request, and the totals over all of them."""

    def __init__(self, list_request: ListRequest) -> None:
        self.list_request = list_request
        self.context = list_request.context
        self.site, self.pages = list_request.site, list_request.pages
        self.reach = list_request.reach

    @property
    def summed(self) -> list[str]:
        """The columns whose sums and averages a group can have."""
        return summed_columns(self.pages, self.list_request.known.columns)

    def is_by_period(self, key: str) -> bool:
        """Tell whether a column makes groups by periods."""
        return is_by_period(self.pages, key)

    @property
    def period(self) -> str:
        """The period that makes the groups of a date."""
        wanted = self.list_request.arguments.get("every", MONTH)
        return wanted if wanted in PERIODS else MONTH

    def totals(
        self, connection: Connection, plan: ListPlan, count: Count
    ) -> list[Total | None]:
        """Return the totals of the shown columns over all rows that match, None for
        none; none at all where there are more than MAX_COUNTED."""
        decided = dict(self.pages.totals)
        wanted = [key for key in plan.shown if key in decided]
        if not wanted or count.is_capped or not count.number:
            return []
        base = plan.selection.base
        functions = [Amount(key, decided[key]).of(base) for key in wanted]
        row = self.reach.run(
            connection, plan.over_all(functions), self.list_request.bound
        ).one()
        words = {"avg": _("average"), "min": _("lowest"), "max": _("highest")}
        found = {
            key: Total(
                self.amount_text(Amount(key, decided[key]), value),
                str(words.get(decided[key], "")),
            )
            for key, value in zip(wanted, row, strict=True)
            if value is not None
        }
        return [found.get(key) for key in plan.shown]

    def amount_label(self, amount: Amount) -> str:
        """Return the name of an amount: the column's, of an average with that word."""
        label = str(self.pages.fields[amount.column].label.text)
        return (
            str(_("%(label)s (average)", label=label)) if amount.is_average else label
        )

    def amount_text(self, amount: Amount, value: Any) -> str:
        """Return a total as the column's own values are shown; SQLite sums decimals as
        floating numbers, whose last digits mean nothing."""
        shown = self.pages.fields[amount.column]
        scale = shown.scale if isinstance(shown, DecimalField) else 0
        is_inexact = isinstance(value, float | Decimal)
        if is_inexact and amount.is_average and isinstance(shown, NumberField):
            exact, language = Decimal(str(value)), self.site.language
            if scale is None:
                return number_text(_MEASURED.create_decimal(exact), language, None)
            digits = max(scale, DIGITS)
            rounded = _rounded(exact, digits)
            return number_text(rounded, language, digits if scale else None)
        if is_inexact and isinstance(shown, DecimalField):
            value = _rounded(Decimal(str(value)), 6 if scale is None else scale)
        return str(shown.show(value, self.site.language))

    def groups(
        self, connection: Connection, most: int = MAX_GROUPS
    ) -> tuple[list[Group], bool]:
        """Return the groups of the rows that fit, the largest first, periods in their
        order and of these the last, and whether there are more than `most`."""
        key, wanted, second = self.group_by(), self.amount(), self.second_amount()
        plan = self.list_request.plan()
        base = plan.selection.base
        grouping = self._grouping(base, key)
        counted = func.count().label("rows_in_group")
        amount = wanted.of(base) if wanted else counted
        also = second.of(base) if second else literal_column("0")
        statement = plan.over_all(
            [
                grouping.column.label("made_by"),
                counted,
                amount.label("amount"),
                grouping.hidden.label("is_hidden"),
                also.label("second"),
            ]
        )
        is_by_time = is_by_period(self.pages, key)
        order: list[ColumnElement[Any]] = [literal_column("1").desc()]
        if not is_by_time:  # PostgreSQL has what is NULL first
            last = [case((amount.is_(None), 1), else_=0)] if wanted else []
            order = [*last, literal_column("3").desc()]
        parts = grouping.parts or [literal_column("1")]
        statement = statement.group_by(*parts).order_by(*order)
        statement = statement.limit(most + 1)
        rows: Sequence[Any] = self.reach.run(
            connection, statement, self.list_request.bound
        ).all()
        shown = rows[:most]
        titles = self._titles(connection, key, [row[0] for row in shown])
        found = [self._group(key, titles, *row) for row in shown]
        if is_by_time:
            found.reverse()
        return found, len(rows) > most

    def without_gaps(
        self, groups: Sequence[Group], most: int = MAX_GROUPS
    ) -> Sequence[Group]:
        """Return the groups with the empty periods between them, unchanged above `most`
        groups. The group without a date comes first, that without an end last."""
        known = {str(g.common): g for g in groups if g.where and g.is_dated}
        try:
            between = periods_between(min(known), max(known))
            periods = [*islice(between, most + 1)]
        except ValueError:  # none at all
            return groups
        if len(periods) > most:
            return groups
        others = [each for each in groups if str(each.common) not in known]
        last = [each for each in others if each.has_no_end]
        others = [each for each in others if not each.has_no_end]
        amount = self.amount()
        nothing = None if amount and amount.is_average else 0.0
        filled = [
            known.get(p) or Group(Cell(p), 0, "", nothing, common=p, second=nothing)
            for p in periods
        ]
        return [*others, *filled, *last]

    def series(self, connection: Connection, groups: Sequence[Group]) -> list[Series]:
        """Return the parts of the groups by a second column: the largest MOST_SERIES
        values of it, in their own order, with their amounts in each group, and all others
        as one. None without such a column."""
        key, second, wanted = self.group_by(), self.stacked_by(), self.amount()
        if not second or not groups:
            return []
        plan = self.list_request.plan()
        base = plan.selection.base
        ours, theirs = self._grouping(base, key), self._grouping(base, second)
        amount = wanted.of(base) if wanted else func.count()
        columns: list[ColumnElement[Any]] = [
            ours.column.label("made_by"),
            ours.hidden.label("is_hidden"),
            theirs.column.label("part"),
            theirs.hidden.label("part_hidden"),
            amount.label("amount"),
        ]
        parts = [
            *(ours.parts or [literal_column("1")]),
            *(theirs.parts or [literal_column("3")]),
        ]
        statement = plan.over_all(columns).group_by(*parts)
        statement = statement.order_by(literal_column("5").desc()).limit(MAX_PARTS)
        rows: Sequence[Any] = self.reach.run(
            connection, statement, self.list_request.bound
        ).all()
        known = {(g.common, g.is_hidden): n for n, g in enumerate(groups)}
        totals: dict[tuple[Any, bool], dict[int, float]] = {}
        for value, hidden, part, part_hidden, number in rows:
            place = known.get((value, bool(hidden)))
            if place is not None:
                held = totals.setdefault((part, bool(part_hidden)), {})
                held[place] = held.get(place, 0.0) + (_drawn(number) or 0.0)
        ranked = sorted(totals, key=lambda each: -sum(totals[each].values()))
        titles = self._titles(connection, second, [part for part, _hidden in ranked])
        found = [
            self._series(groups, key, second, titles, part, totals[part])
            for part in self._in_own_order(second, ranked[:MOST_SERIES])
        ]
        if rest := ranked[MOST_SERIES:]:
            amounts = [sum(totals[each].get(n, 0.0) for each in rest) for n in range(len(groups))]  # fmt: skip
            texts = [self._amount_of(value) for value in amounts]
            found.append(Series(Cell(str(_("Others"))), amounts, texts, [""] * len(groups)))  # fmt: skip
        return found

    def _in_own_order(
        self, key: str, parts: Sequence[tuple[Any, bool]]
    ) -> list[tuple[Any, bool]]:
        """Return the parts in the order that their values have: of choices, numbers and
        periods; others as they are, the largest first."""
        shown = self.pages.fields[key]
        if isinstance(shown, ChoiceField):
            places = {value: n for n, value in enumerate(shown.choices)}
            return sorted(parts, key=lambda each: places.get(each[0], len(places)))
        if isinstance(shown, NumberField) or self.is_by_period(key):
            return sorted(parts, key=lambda each: (each[0] is None, each[0] or 0))
        return [*parts]

    def _series(
        self,
        groups: Sequence[Group],
        key: str,
        second: str,
        titles: Mapping[str, str],
        part: tuple[Any, bool],
        held: Mapping[int, float],
    ) -> Series:
        value, is_hidden = part
        name, where = Cell(str(_("not visible"))), None
        if not is_hidden:
            name, where = self._made_by(second, titles, value)
        amounts = [held.get(n, 0.0) for n in range(len(groups))]
        addresses = [
            self._address(where | group.where)
            if where is not None and group.where is not None
            else ""
            for group in groups
        ]
        named = name if name.text else Cell(str(_("empty")))
        return Series(named, amounts, [self._amount_of(v) for v in amounts], addresses)

    def _amount_of(self, value: float) -> str:
        if not value:
            return ""
        if amount := self.amount():
            return self.amount_text(amount, value)
        return number_text(int(value), self.site.language, None)

    def _titles(
        self, connection: Connection, key: str, values: Sequence[Any]
    ) -> Mapping[str, str]:
        held = [value for value in values if value is not None]
        return titles_by_value(self.context.on(connection), key, held)

    def _grouping(self, base: Any, key: str) -> _Grouping:
        """Return by what rows are grouped for a column."""
        column = without_none(base.c[key])
        field = self.pages.fields[key]
        if isinstance(field, ChoiceField) and "" not in field.by_value:
            column = self._without_blanks(column)
        if is_by_period(self.pages, key):
            spelled = storage_format_of(column)
            column = self.site.database.server.period(column, self.period, spelled)
        if key in self.pages.lookups and self._has_hidden(key):
            column, hidden = self._without_hidden(key, column)
            return _Grouping(column, hidden, [column, hidden])
        return _Grouping(column, literal_column("0"), [])

    def amount(self) -> Amount | None:
        """Return the amount that is wanted, None for the number of rows."""
        for name, total in (("average", AVERAGE), ("sum", SUM)):
            column = self.list_request.arguments.get(name, "")
            if column in self.summed:
                return Amount(column, total)
        return None

    def _without_blanks(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        """Return the expression of a choice in which a text of blanks is NULL: both are
        empty."""
        if not is_plain_text(column):
            return column
        return case((func.rtrim(column) == "", null()), else_=column)

    def second_amount(self) -> Amount | None:
        """Return the second amount, None for none: an average beside an average."""
        wanted, first = self.list_request.arguments.get("and", ""), self.amount()
        if wanted not in self.summed or (first and wanted == first.column):
            return None
        return Amount(wanted, first.total if first else SUM)

    def stacked_by(self) -> str:
        """Return the column by which the groups are made of parts, "" for none, as where
        their amounts are no parts of a whole."""
        wanted = self.list_request.arguments.get("stack", "")
        is_good = wanted in self.list_request.known.groups and self.has_parts
        return wanted if is_good and wanted != self.group_by() else ""

    @property
    def has_parts(self) -> bool:
        """Whether the amounts can be added up, and drawn as shares and parts."""
        amount = self.amount()
        return not (amount and amount.is_average)

    @property
    def shape(self) -> str:
        """How a chart is drawn: as bars, as a line, or as shares; by time as a line,
        where nothing else is asked for."""
        wanted = self.list_request.arguments.get("shape", "")
        usual = LINE if self.is_by_period(self.group_by()) else BARS
        if wanted not in (BARS, LINE, SHARES):
            return usual if not self.stacked_by() else BARS
        is_one = self.has_parts and not (self.stacked_by() or self.second_amount())
        return wanted if wanted != SHARES or is_one else usual

    def group_by(self) -> str:
        """Return the column that makes the groups: where none is asked for, the state
        of a board, else a column of the list, rather one of few values."""
        wanted = self.list_request.arguments.get("by", "")
        offered = self.list_request.known.groups
        if wanted in offered:
            return wanted
        listed = self.list_request.columns or self.pages.list.columns
        shown = [key for key in listed if key in offered] or [*offered]
        usual = [self.pages.list.board, *filter(self._has_few, shown), *shown]
        return next(key for key in usual if key in offered)

    def _has_few(self, key: str) -> bool:
        """Tell whether a column should have few values: it is a choice, or refers to a
        table that is not large and refers to no other, as those of codes do."""
        if isinstance(self.pages.fields[key], ChoiceField | YesNoField):
            return True
        reference = self.pages.lookups.get(key)
        target = self.site.registry[reference.target] if reference else None
        return target is not None and not target.lookups and not target.is_large

    def _has_hidden(self, key: str) -> bool:
        """Tell whether a lookup may refer to records that the user does not see."""
        target = self.site.registry[self.pages.lookups[key].target].table
        return self.reach.rows(target) is not target

    def _without_hidden(self, key: str, column: ColumnElement[Any]) -> Any:
        """Return the grouping expression of a lookup, and the mark of its hidden
        records, which make one group without keys and numbers."""
        reference = self.pages.lookups[key]
        rows = self.reach.rows(self.site.registry[reference.target].table)
        seen = column.in_(select(rows.c[reference.referred[0]]))
        is_hidden = case((and_(column.is_not(None), ~seen), 1), else_=0)
        return case((seen, column)), is_hidden

    def _group(
        self,
        key: str,
        titles: Mapping[str, str],
        value: Any,
        number: int,
        amount: Any,
        is_hidden: int,
        second: Any,
    ) -> Group:
        first, also = self.amount(), self.second_amount()
        text = ""
        if first and amount is not None:
            text = self.amount_text(first, amount)
        cell, where = Cell(str(_("not visible"))), None
        if not is_hidden:
            cell, where = self._made_by(key, titles, value)
        return Group(
            cell,
            number,
            self._address(where) if where is not None else "",
            self._drawn(amount),
            text,
            value,
            bool(is_hidden),
            where,
            self._drawn(second),
            self.amount_text(also, second) if also and second is not None else "",
        )

    def _drawn(self, amount: Any) -> float | None:
        return None if amount is None and not self.has_parts else _drawn(amount)

    def _address(self, where: Mapping[str, str]) -> str:
        """Return the address of the rows with these filters."""
        dropped = [f"{name.rpartition('.')[0]}.within" for name in where if name.endswith((".from", ".to"))]  # fmt: skip
        return self.list_request.links.address(*_OF_GROUPS, *dropped, **where)

    def _made_by(
        self, key: str, titles: Mapping[str, str], value: Any
    ) -> tuple[Cell, dict[str, str] | None]:
        """Return the common value of a group, and the filters of its rows, None where
        they cannot be filtered."""
        shown = self.pages.fields[key]
        if value is None:
            return Cell(""), {f"{key}.empty": "1"}
        if self.is_by_period(key):
            try:
                first, last = days_of(str(value))
            except ValueError:  # MariaDB's days of zeros are in no month
                return Cell(str(value)), None
            bounds = {f"{key}.from": first.isoformat(), f"{key}.to": last.isoformat()}
            return Cell(str(value)), bounds
        text = value if key in self.pages.lookups else shown.to_text(value)
        where = {f"{key}.is": str(text)}
        if key not in self.pages.lookups:
            colour = shown.colour(value) if isinstance(shown, ChoiceField) else ""
            return Cell(shown.show(value, self.site.language), colour=colour), where
        title = titles.get(str(value))
        if title is None:
            return Cell(str(_("not visible"))), None
        return Cell(title), where


def _drawn(amount: Any) -> float | None:
    """Return a number as a chart draws it; none of one without an end."""
    number = float(amount or 0)
    return number if isfinite(number) else None


def _rounded(value: Decimal, digits: int) -> Decimal:
    """Return a number with so many digits behind the point; as it is where it is
    infinite, or so large that it has no digits there."""
    is_plain = value.is_finite() and value.adjusted() + digits < getcontext().prec
    return round(value, digits) if is_plain else value
