"""Figures: what a card shows of a table, read within a user's reach and a time."""

import logging
from collections.abc import Sequence
from dataclasses import dataclass
from math import inf
from typing import Any
from urllib.parse import parse_qsl

from flask_babel import gettext as _
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..access.reach import Reach
from ..accounts.preferences import Preferences
from ..common.formatting import number_text
from ..contract import BARS, CHART, GROUPS, LINE, NUMBER, ROWS, SHARES
from ..db.errors import classify
from ..pages.cards import Card
from ..pages.context import lower_first
from ..pages.table_context import TableContext
from ..queries.cells import Cell
from .filter_controls import FilterControls
from .group_query import Amount, Group, GroupQuery
from .list_request import ListRequest

log = logging.getLogger(__name__)
SECONDS = 1.0  # for one figure
MOST_BARS = 8
MOST_SHARES = 6
MOST_POINTS = 36  # of a line: the last ones
MOST_ROWS = 6
NOTHING = "–"
OF_USER = ":user."  # begins the name of an attribute in the filter of a card
_GROUPING = ("by", "sum", "average", "every")


@dataclass(frozen=True, slots=True)
class Point:
    """One bar, share or point: its name, its value as a number and in words, and where
    its rows are."""

    name: Cell
    value: float | None  # None for no average
    text: str
    address: str = ""


@dataclass(frozen=True, slots=True)
class Figure:
    """What a card shows: a `number`, or `points`, or `rows` as titles with their
    addresses and what they are sorted by, where that was asked for. `address` is the list
    behind it. `is_late`: it took too long; `is_failed`: the database does not give it."""

    card: Card
    label: str
    address: str
    measure: str = ""
    number: str = ""
    is_zero: bool = False
    points: Sequence[Point] = ()
    rows: Sequence[tuple[str, str, str]] = ()
    more: str = ""  # how many there are besides
    is_late: bool = False
    is_failed: bool = False
    largest: float = 1.0


def figure_query(card: Card, reach: Reach) -> list[tuple[str, str]] | None:
    """Return the parameters of the list behind a card, with the attributes of the user
    in their places; None where the user lacks one."""
    found = []
    for name, value in parse_qsl(card.filter):
        given: str | None = value
        if value.startswith(OF_USER):
            given = reach.attributes.get(value.removeprefix(OF_USER))
        if given is None:
            return None
        found.append((name, given))
    given_by_card = {"by": card.by, "sum": card.sum, "average": card.average}
    if card.kind == LINE:
        given_by_card["every"] = card.every
    return [*found, *((key, text) for key, text in given_by_card.items() if text)]


def read_figure(context: TableContext, card: Card) -> Figure | None:
    """Return the figure of a card, None where the user cannot see all that it is made
    of: what cannot be filtered as decided must not be shown unfiltered."""
    query = figure_query(card, context.reach)
    if query is None or not context.pages.has_list or not context.may("view"):
        return None
    nobody = Preferences(context.site.users.store, None)
    asked = ListRequest(context, MultiDict(query), nobody)
    made = _Reading(card, asked)
    if not made.is_visible(query):
        return None
    with context.site.database.reading(SECONDS) as connection:
        try:
            return made.read(connection)
        except DBAPIError as caught:
            error = caught
            kind = classify(error).kind
            if kind == "lost":
                raise
    is_late = kind == "busy"
    if not is_late:  # one card must not take the others with it
        log.error("figure %s: %s", card.name, error)
    label, address = figure_label(context, card), made.address()
    return Figure(card, label, address, is_late=is_late, is_failed=not is_late)


def figure_label(context: TableContext, card: Card) -> str:
    """Return the label of a card's figure."""
    asked = ListRequest(
        context,
        MultiDict(figure_query(card, context.reach) or []),
        Preferences(context.site.users.store, None),
    )
    with context.site.database.reading() as connection:
        return _Reading(card, asked).label(connection)


class _Reading:
    """One figure while it is read."""

    def __init__(self, card: Card, asked: ListRequest) -> None:
        self.card, self.asked = card, asked
        self.pages = asked.pages
        self.groups = GroupQuery(asked)
        self.amount = self.groups.amount()
        self.language = asked.site.language

    def is_visible(self, query: Sequence[tuple[str, str]]) -> bool:
        """Tell whether the user may see the columns that the figure is made of."""
        wanted = {name for name, _value in query if "." in name}
        if not wanted <= {each.name for each in self.asked.filters}:
            return False
        by, amount = self.card.by, self.card.sum or self.card.average
        is_grouped = self.card.kind not in (NUMBER, ROWS)
        if is_grouped and by not in self.asked.known.groups:
            return False
        return not amount or amount in self.groups.summed

    def address(self) -> str:
        """Return the address of the list behind the figure, in the layout that is like
        it."""
        if self.card.kind in (NUMBER, ROWS):
            return self.asked.address(*_GROUPING)
        offered = self.asked.known.layouts
        layout = GROUPS if self.card.kind == BARS else CHART
        if layout not in offered:
            return self.asked.address(*_GROUPING)
        shape = {"shape": SHARES} if self.card.kind == SHARES else {}
        return self.asked.address(layout=layout, **shape)

    def label(self, connection: Connection) -> str:
        """Return the label that was decided, else one by what the figure shows."""
        if label := str(self.card.label):
            return label
        nouns, measure = str(self.pages.plural), self.measure
        if self.card.kind in (NUMBER, ROWS):
            words = self._filters(connection)
            named = f"{nouns}: {lower_first(measure)}" if self.amount else nouns
            return f"{named} · {words}" if words else named
        label = lower_first(self.pages.label(self.card.by))
        if self.card.kind == LINE:
            every = {"year": _("year"), "month": _("month"), "day": _("day")}
            label = str(every[self.card.every])
            if self.card.by not in [each.column for each in self.pages.list.orders]:
                of = lower_first(self.pages.label(self.card.by))
                label = str(_("%(period)s of %(label)s", period=label, label=of))
        what = f"{nouns}: {lower_first(measure)}" if self.amount else nouns
        return str(_("%(nouns)s by %(label)s", nouns=what, label=label))

    @property
    def measure(self) -> str:
        """What is counted, summed or averaged."""
        if self.amount is None:
            return str(self.pages.plural)
        return self.groups.amount_label(self.amount)

    def _amount_text(self, amount: Amount, value: Any) -> str:
        """Return an amount as the column's values are shown, with their unit."""
        unit = self.pages.fields[amount.column].unit
        return f"{self.groups.amount_text(amount, value)} {unit}".strip()

    def _filters(self, connection: Connection) -> str:
        return FilterControls(self.asked).in_words(connection)

    def read(self, connection: Connection) -> Figure | None:
        label, address = self.label(connection), self.address()
        if self.card.kind == NUMBER:
            return self._number(connection, label, address)
        if self.card.kind == ROWS:
            return self._rows(connection, label, address)
        most = {LINE: MOST_POINTS, BARS: MOST_BARS}.get(self.card.kind, MOST_SHARES)
        groups, has_more = self.groups.groups(connection, most)
        if self.card.kind == LINE:
            filled = self.groups.without_gaps(groups)
            groups = [each for each in filled if each.is_dated][-MOST_POINTS:]
        points = [self._point(each) for each in groups]
        more = ""
        if has_more and self.card.kind != LINE:
            points, more = self._with_others(connection, points)
        return Figure(
            self.card, label, address, self.measure, points=points, more=more,
            largest=max((abs(each.value or 0) for each in points), default=1.0) or 1.0,
        )  # fmt: skip

    def _number(self, connection: Connection, label: str, address: str) -> Figure:
        value, text = self._total(connection)
        return Figure(self.card, label, address, self.measure, text, not value)

    def _total(self, connection: Connection) -> tuple[float, str]:
        """Return the amount or the number of all rows, and that in words."""
        plan, bound = self.asked.plan(), self.asked.bound
        amount = self.amount
        if amount is None:
            count = plan.count(connection, bound=bound, is_exact=True).number
            return count, number_text(count, self.language, None)
        statement = plan.over_all([amount.of(plan.selection.base)])
        value = self.asked.reach.run(connection, statement, bound).scalar_one()
        if value is None and amount.is_average:
            return 0.0, NOTHING
        return float(value or 0), self._amount_text(amount, value or 0)

    def _rows(self, connection: Connection, label: str, address: str) -> Figure | None:
        if not self.pages.key:
            return None
        sorting = self.asked.sorting
        is_told = bool(sorting.words) and sorting.column in self.asked.showable()
        if is_told:  # why a row is here
            self.asked.columns = (sorting.column,)
        plan, bound = self.asked.plan(), self.asked.bound
        page = plan.read(connection, size=MOST_ROWS, bound=bound)
        count = plan.count(connection, bound=bound)
        rows = [
            (line.title.text, line.title.address, line.cells[0].text if is_told else "")
            for line in page.lines
        ]
        number = self.asked.count_words(count)
        return Figure(self.card, label, address, self.measure, number, not rows, rows=rows)  # fmt: skip

    def _point(self, group: Group) -> Point:
        cell = group.cell
        text = number_text(group.count, self.language, None)
        if self.amount:
            is_none = group.count or self.amount.is_average
            text = group.text or (
                NOTHING if is_none else number_text(0, self.language, None)
            )
        named = cell if cell.text else Cell(str(_("empty")))
        return Point(named, group.value, text, group.address)

    def _with_others(
        self, connection: Connection, points: list[Point]
    ) -> tuple[list[Point], str]:
        """Return the points with what all others come to, where that can be told."""
        others = str(_("Others"))
        if not self.groups.has_parts:
            return points, others
        value, _text = self._total(connection)
        shown = [each.value or 0.0 for each in points]
        rest = value - sum(shown)
        if not 0 < rest < inf or min(shown) < 0:
            return points, others
        text = self._amount_text(self.amount, rest) if self.amount else number_text(int(rest), self.language, None)  # fmt: skip
        return [*points, Point(Cell(others), rest, text)], ""
