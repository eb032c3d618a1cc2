"""The facts about a list that all users of one reach and language share."""

from collections.abc import Sequence
from typing import NamedTuple

from flask_babel import gettext as _

from ..contract import (
    BOARD,
    CALENDAR,
    CARDS,
    CHART,
    GROUPS,
    LAYOUTS,
    MAP,
    TABLE,
    TREE,
)
from ..forms.date_fields import DateField, DateTimeField
from ..forms.fields import ChoiceField, LookupField, YesNoField
from ..forms.number_fields import (
    CodeField,
    DecimalField,
    DegreesField,
    IntegerField,
)
from ..pages.context import lower_first
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..queries.filters import filterable
from ..queries.hierarchy import hierarchy_of

FILTER, VIEWS, COLUMNS, OUT, SORT = "filter", "views", "columns", "out", "sort"
PANELS = (FILTER, VIEWS, COLUMNS, OUT, SORT)  # what opens above the list


class Nouns(NamedTuple):
    """The singular and plural of a table, at the beginning and within a sentence."""

    one: str
    many: str
    one_within: str
    many_within: str


class ListFacts(NamedTuple):
    """The facts about a list that are shared by all users of one reach and language:
    its columns, those that make groups, and what its layouts and panels are
    called."""

    columns: list[str]
    extras: list[str]
    filterable: list[str]
    groups: list[str]
    layouts: dict[str, str]
    panels: dict[str, str]
    nouns: Nouns


def list_facts(context: TableContext) -> ListFacts:
    """Return the facts about the list of a table, gathered when first wanted."""
    key = ("list facts", context.pages.name, context.reach.shape)
    found: ListFacts = context.site.plan(key, lambda: _gather(context))
    return found


def _gather(context: TableContext) -> ListFacts:
    pages = context.pages
    columns = pages.seen_by(context.reach, pages.fields)
    served = [key for key in columns if pages.list.is_filtered_by(key)]
    groups = [key for key in served if _makes_groups(context, key)]
    groups += [key for key in served if is_by_period(pages, key)]
    layouts = {
        TABLE: str(_("Table")),
        CARDS: str(_("Cards")),
        GROUPS: str(_("Groups")),
        CHART: str(_("Chart")),
        TREE: str(_("Tree")),
        CALENDAR: str(_("Calendar")),
        BOARD: str(_("Board")),
        MAP: str(_("Map")),
    }
    return ListFacts(
        columns=columns,
        extras=pages.seen_by(context.reach, pages.extras),
        filterable=filterable(context),
        groups=groups,
        layouts={layout: layouts[layout] for layout in _layouts(context, groups)},
        panels={
            VIEWS: str(_("Views")),
            COLUMNS: str(_("Columns")),
            OUT: str(_("Export")),
        },
        nouns=Nouns(
            str(pages.singular),
            str(pages.plural),
            lower_first(pages.singular),
            lower_first(pages.plural),
        ),
    )


def _makes_groups(context: TableContext, key: str) -> bool:
    """Tell whether a column makes groups by its values: a choice, a yes or no, a lookup
    of a table that the user may see."""
    pages = context.pages
    if not isinstance(pages.fields[key], ChoiceField | LookupField | YesNoField):
        return False
    reference = pages.lookups.get(key)
    return reference is None or context.of(reference.target).may("view")


def _layouts(context: TableContext, groups: Sequence[str]) -> list[str]:
    """Return the layouts: those decided, else what fits the columns."""
    decided = context.pages.list.layouts or LAYOUTS
    fitting = {TABLE, CARDS, *((GROUPS, CHART) if groups else ())}
    if hierarchy_of(context):
        fitting.add(TREE)
    fitting |= _by_columns(context)
    return [layout for layout in decided if layout in fitting] or [TABLE]


def _by_columns(context: TableContext) -> set[str]:
    """Return the layouts for which columns were decided that the user may see."""
    pages = context.pages
    seen = {*pages.seen_by(context.reach, pages.fields)}
    found = set()
    if pages.list.calendar and {*pages.list.calendar} <= seen:
        found.add(CALENDAR)
    if pages.list.board in seen and _makes_groups(context, pages.list.board):
        found.add(BOARD)
    if pages.list.map and {*pages.list.map} <= seen:
        found.add(MAP)
    return found if pages.key else set()


def is_by_period(pages: TablePages, key: str) -> bool:
    """Tell whether a column makes groups by periods: a date."""
    return isinstance(pages.fields[key], DateField | DateTimeField)


def summed_columns(pages: TablePages, columns: Sequence[str]) -> list[str]:
    """Return those of some columns whose sums a group can have: amounts and
    measures."""
    kinds = IntegerField | DecimalField
    return [
        key
        for key in columns
        if isinstance(pages.fields[key], kinds)
        and not isinstance(pages.fields[key], CodeField | DegreesField)
        and key not in pages.key
    ]
