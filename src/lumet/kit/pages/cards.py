"""Pages of cards: the first page, and others for roles."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ..contract import MONTH, RECENT, TABLES, VIEWS


@dataclass(frozen=True, slots=True, kw_only=True)
class Card:
    """A card: a number, bars, a line, shares or the first rows of a table's list; or
    what the user opened last, the saved views, or the tables.

    `filter` is the query of the list behind it, as in its address; `:user.NAME` in it is
    an attribute of the user. `by` is the column of the groups, `sum` or `average` the one
    of which that is shown instead of the number of rows, `every` the period of a line.
    Without `roles` it is for all who see the table.
    """

    name: str
    kind: str
    label: Any = ""
    table: str = ""
    filter: str = ""
    by: str = ""
    sum: str = ""
    average: str = ""
    every: str = MONTH
    roles: Sequence[str] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class CardPage:
    """A page of cards; the first page has no name. `group` is its place in the menu;
    without `roles` it is for all who are signed in."""

    name: str = ""
    label: Any = ""
    group: Any = ""
    icon: str = ""
    roles: Sequence[str] = ()
    cards: Sequence[Card] = ()


FIRST_PAGE = CardPage(
    cards=tuple(Card(name=kind, kind=kind) for kind in (RECENT, VIEWS, TABLES))
)
"""The first page where none was decided."""
