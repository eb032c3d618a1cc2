"""The groups of a list, and its totals."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Any, NamedTuple

from flask_babel import gettext as _
from sqlalchemy import (
    ColumnElement,
    Connection,
    and_,
    case,
    func,
    literal_column,
    select,
)

from ..forms.fields import ChoiceField, ValueField
from ..forms.number_fields import DecimalField
from ..queries.cells import Cell
from ..queries.lookups import titles_by_value
from .list_facts import is_by_month, summed_columns
from .list_query import (
    Count,
    ListPlan,
)
from .list_request import ListRequest

MAX_GROUPS = 200


@dataclass(frozen=True, slots=True)
class Group:
    """One group of a list: the common value of its rows, their count or sum, and where
    they are."""

    cell: Cell
    count: int
    address: str
    value: float = 0.0  # what a chart draws
    text: str = ""  # the sum in words, where one is wanted


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
        """The columns whose sums a group can have."""
        return summed_columns(self.pages, self.list_request.known.columns)

    def is_by_month(self, key: str) -> bool:
        """Tell whether a column makes groups by its months."""
        return is_by_month(self.pages, key)

    def totals(
        self, connection: Connection, plan: ListPlan, count: Count
    ) -> list[Total | None]:
        """Return the totals of the shown columns over all rows that match, None for
        none; none at all where there are more than MAX_COUNTED."""
        decided = dict(self.pages.totals)
        wanted = [key for key in plan.shown if key in decided]
        if not wanted or count.is_capped or not count.number:
            return []
        functions = [
            getattr(func, decided[key])(plan.selection.base.c[key]) for key in wanted
        ]
        row = self.reach.run(
            connection, plan.over_all(functions), self.list_request.bound
        ).one()
        words = {"avg": _("average"), "min": _("lowest"), "max": _("highest")}
        found = {
            key: Total(
                self._total(self.pages.fields[key], value),
                str(words.get(decided[key], "")),
            )
            for key, value in zip(wanted, row, strict=True)
            if value is not None
        }
        return [found.get(key) for key in plan.shown]

    def _total(self, shown: ValueField, value: Any) -> str:
        """Return a total as the column's own values are shown; SQLite sums decimals as
        floating numbers, whose last digits mean nothing."""
        if isinstance(value, float | Decimal) and isinstance(shown, DecimalField):
            digits = 6 if shown.scale is None else shown.scale
            value = round(Decimal(str(value)), digits)
        return str(shown.show(value, self.site.language))

    def groups(self, connection: Connection) -> tuple[list[Group], bool]:
        """Return the groups of the rows that fit, the largest first, months in their
        order, and whether there are more than MAX_GROUPS."""
        key, summed = self.group_by(), self.sum_of()
        plan = self.list_request.plan()
        base = plan.selection.base
        by_month = is_by_month(self.pages, key)
        column = (
            self.site.database.server.month(base.c[key]) if by_month else base.c[key]
        )
        grouped: list[Any] = [literal_column("1")]
        hidden: ColumnElement[Any] = literal_column("0")
        if key in self.pages.lookups and self._has_hidden(key):
            column, hidden = self._without_hidden(key, column)
            grouped = [column, hidden]
        counted = func.count().label("rows_in_group")
        amount = func.sum(base.c[summed]) if summed else counted
        wanted = amount.label("amount")
        statement = plan.over_all(
            [column.label("made_by"), counted, wanted, hidden.label("is_hidden")]
        )
        place = "1" if by_month else "3"
        order: ColumnElement[Any] = literal_column(place).desc()
        statement = statement.group_by(*grouped).order_by(order)
        statement = statement.limit(MAX_GROUPS + 1)
        rows: Sequence[Any] = self.reach.run(
            connection, statement, self.list_request.bound
        ).all()
        shown = rows[:MAX_GROUPS]
        values = [row[0] for row in shown if row[0] is not None]
        titles = titles_by_value(self.context.on(connection), key, values)
        found = [self._group(key, titles, *row) for row in shown]
        if by_month:
            found.reverse()
        return found, len(rows) > MAX_GROUPS

    def group_by(self) -> str:
        """Return the column that makes the groups."""
        wanted, offered = (
            self.list_request.arguments.get("by", ""),
            self.list_request.known.groups,
        )
        shown = [
            key
            for key in (self.list_request.columns or self.pages.list.columns)
            if key in offered
        ]
        return wanted if wanted in offered else (shown or offered)[0]

    def sum_of(self) -> str:
        """Return the column whose sums are wanted, "" for counts."""
        wanted = self.list_request.arguments.get("sum", "")
        return wanted if wanted in self.summed else ""

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
    ) -> Group:
        summed = self.sum_of()
        text = ""
        if summed and amount is not None:
            text = self._total(self.pages.fields[summed], amount)
        cell, address = Cell(str(_("not visible"))), ""
        if not is_hidden:
            cell, address = self._made_by(key, titles, value)
        return Group(cell, number, address, float(amount or 0), text)

    def _made_by(
        self, key: str, titles: Mapping[str, str], value: Any
    ) -> tuple[Cell, str]:
        """Return the common value of a group, and the address of its rows."""
        left_out = ("layout", "by", "sum")
        shown = self.pages.fields[key]
        if value is None:
            return Cell(""), self.list_request.links.address(
                *left_out, **{f"{key}.empty": "1"}
            )
        if self.is_by_month(key):
            try:
                first = date.fromisoformat(f"{value}-01")
            except ValueError:  # MariaDB's days of zeros are in no month
                return Cell(str(value)), ""
            last = (first + timedelta(days=31)).replace(day=1) - timedelta(days=1)
            bounds = {f"{key}.from": first.isoformat(), f"{key}.to": last.isoformat()}
            within = f"{key}.within"
            return Cell(str(value)), self.list_request.links.address(
                *left_out, within, **bounds
            )
        text = value if key in self.pages.lookups else shown.to_text(value)
        address = self.list_request.links.address(*left_out, **{f"{key}.is": text})
        if key not in self.pages.lookups:
            colour = shown.colour(value) if isinstance(shown, ChoiceField) else ""
            return Cell(shown.show(value, self.site.language), colour=colour), address
        title = titles.get(str(value))
        if title is None:
            return Cell(str(_("not visible"))), ""
        return Cell(title), address
