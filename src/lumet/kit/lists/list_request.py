"""The request of a list: the parsed address, its links, filters and groups."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import (
    Connection,
)
from werkzeug.datastructures import MultiDict

from ..access.reach import Reach
from ..accounts.preferences import COLUMNS, WIDTHS, Preferences, read_widths
from ..common.formatting import number_text
from ..contract import CARDS, FROM, TABLE, TO, TREE
from ..db.keyset import bound_keys
from ..forms.date_fields import DateField, DateTimeField
from ..pages.context import Site
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..queries.filters import (
    ANY,
    MATCH,
    MUST,
    Filter,
    filter_values,
    read_filters,
    shape_of,
)
from ..queries.hierarchy import Hierarchy, hierarchy_of
from ..queries.prefix_search import find_by_prefix
from ..queries.title_search import Search, read_search
from .list_facts import FILTER, PANELS, VIEWS, ListFacts, Nouns, list_facts
from .list_html import Branch, ListRow
from .list_links import ListLinks
from .list_query import PAGE_ROWS, Count, ListPlan, list_plan
from .list_spec import BRANCH, ONLY, TITLE, TOP, WITH, ListSpec
from .sorting import Sorting, is_sortable, read_sort

SIZES = (25, 50, 100, 250)
EVERYWHERE = "everywhere"  # searched in every text, however many rows


@dataclass
class ListRequest:
    """The request of a list: the parts of its address that this user may see."""

    context: TableContext
    arguments: MultiDict[str, str]
    kept: Preferences
    is_on_screen: bool = False  # wide windows show more columns
    search: Search = field(init=False)
    filters: list[Filter] = field(init=False)
    among: Sequence[tuple[Any, ...]] = field(init=False, default=())
    deleted: str = field(init=False)
    under: str = field(init=False)  # the key of the record whose branch it is
    above: dict[str, Any] = field(init=False, default_factory=dict)
    sorting: Sorting = field(init=False)
    columns: tuple[str, ...] | None = field(init=False)
    size: int = field(init=False)
    layout: str = field(init=False)
    panel: str = field(init=False)
    filter_by: str = field(init=False)  # the lookup whose records have controls too
    known: ListFacts = field(init=False)
    links: ListLinks = field(init=False)
    _plan: ListPlan | None = field(init=False)
    must: set[str] = field(init=False)  # columns whose filters hold in any case
    _any_of: int = field(init=False)

    @property
    def site(self) -> Site:
        """The site of the list."""
        return self.context.site

    @property
    def pages(self) -> TablePages:
        """The pages of the list's table."""
        return self.context.pages

    @property
    def reach(self) -> Reach:
        """The reach of the user."""
        return self.context.reach

    def __post_init__(self) -> None:
        given = self.arguments
        self.known = list_facts(self.context)
        self._plan = None
        self.filters = read_filters(self.context, given)
        self.must = {*given.getlist(MUST)} if given.get(MATCH) == ANY else set()
        self.filters.sort(key=lambda each: each.key in self.must)
        # others that are added must hold as well
        alternatives = sum(each.key not in self.must for each in self.filters)
        self._any_of = alternatives if given.get(MATCH) == ANY else 0
        days = {
            each.name: each.texts[0]
            for each in self.filters
            if each.operator in (FROM, TO)
            and isinstance(self.pages.shown_field(each.key), DateField | DateTimeField)
        }
        self.links = ListLinks(self.context.urls.list, given, days)
        self.search = read_search(self.context, given.get("q", ""))
        self.sorting = read_sort(self.context, given.get("sort", ""))
        chosen = given.get("columns") or self._choice(COLUMNS)
        known = self.showable()
        listed = [key for key in (chosen or "").split(",") if key in known]
        self.columns = tuple(dict.fromkeys(listed)) or None
        size = given.get("rows", PAGE_ROWS, type=int)
        self.size = size if size in SIZES else PAGE_ROWS
        deleted = given.get("deleted", "") if self.pages.soft_delete else ""
        self.deleted = deleted if deleted in (WITH, ONLY) else ""
        self.under = given.get("under", "")
        panel = given.get("panel", "")
        self.filter_by = given.get("filter-by", "")
        self.panel = FILTER if self.filter_by else panel if panel in PANELS else ""
        first = next(iter(self.known.layouts))
        wanted = given.get("layout", first)
        self.layout = wanted if wanted in self.known.layouts else first

    def _choice(self, beginning: str) -> str:
        """Return the user's choice of this list, else what was chosen for everybody."""
        name = f"{beginning}{self.pages.name}"
        return self.kept.get(name) or self.site.shared_choice(name)

    @property
    def widths(self) -> dict[str, int]:
        """The widths of columns in pixels, by their keys; of the titles by TITLE."""
        chosen = self._choice(WIDTHS)
        return read_widths(chosen) if chosen else dict(self.pages.list.column_widths)

    @property
    def nouns(self) -> Nouns:
        """The singular and plural of the table."""
        return self.known.nouns

    @property
    def panels(self) -> list[tuple[str, str]]:
        """The panels that open by a button, with their labels."""
        keeps = self.kept.user_id is not None
        return [each for each in self.known.panels.items() if keeps or each[0] != VIEWS]

    def showable(self) -> list[str]:
        """Return the columns, formulas and borrowed columns that the list can show."""
        return self.known.columns + self.known.extras

    def choosable(self) -> list[str]:
        """Return the columns that the list can be filtered by."""
        return self.known.filterable

    def grouping(self) -> list[str]:
        """Return the columns that make groups: choices, lookups, yes and no, and the
        months of dates."""
        return self.known.groups

    @property
    def is_counted(self) -> bool:
        """Tell whether every row is to be counted, however many there are."""
        return "counted" in self.arguments

    @property
    def is_usual(self) -> bool:
        """Tell whether the list is asked for as it is decided, which an index should
        serve: anything else is limited in time."""
        arranged = self.layout not in (TABLE, CARDS, TREE)
        return not (
            self.is_narrowed or self.is_counted or self.sorting.words or arranged
        )

    @property
    def is_plain(self) -> bool:
        """Tell whether the address names nothing but a page of the list."""
        return not (self.links.has_parameters or self.panel)

    @property
    def is_any(self) -> bool:
        """Tell whether one of some filters of the user is enough."""
        return self._any_of > 1

    @property
    def alternatives(self) -> list[Filter]:
        """The filters of which one is enough."""
        return self.filters[: self._any_of] if self.is_any else []

    @property
    def is_narrowed(self) -> bool:
        """Tell whether a search or a filter leaves something out."""
        return bool(self.filters or self.search.is_meant or self.deleted == ONLY)

    @property
    def is_tree(self) -> bool:
        """Tell whether the rows are shown as a tree: not those of a search."""
        return self.layout == TREE and not self.is_narrowed

    @property
    def tree(self) -> Hierarchy | None:
        """The hierarchy of the records."""
        return hierarchy_of(self.context)

    @property
    def bound(self) -> dict[str, Any]:
        """The bound values of the statement."""
        filters = filter_values(self.filters) | self.above
        if self.among:
            return {**filters, "among": bound_keys(self.among)}
        return {**filters, **self.search.bound}

    @property
    def asked(self) -> ListSpec:
        """The specification of the list, beyond its order."""
        search = Search() if self.among else self.search
        columns = self.columns
        if self.is_tree and columns is None and self.tree is not None:
            # where a row stands says what is above it
            said = self.tree.columns
            columns = (
                tuple(key for key in self.pages.list.columns if key not in said) or None
            )
        return ListSpec(
            columns,
            shape_of(self.filters),
            len(search.words),
            bool(self.among),
            self.deleted,
            (BRANCH if self.under else TOP) if self.is_tree else "",
            search.modes,
            search.is_folded,
            self._wide() if columns is None else (),
            self._any_of if self.is_any else 0,
        )

    def _wide(self) -> tuple[str, ...]:
        """Return the columns that only wide windows show: not of an export or a
        print."""
        return tuple(self.pages.list.wide_columns) if self.is_on_screen else ()

    def branch(self, connection: Connection, lines: Sequence[ListRow]) -> Branch | None:
        """Return the branch of the tree that is shown; None without a tree."""
        if not self.is_tree:
            return None
        keys = [
            tuple(self.context.key_values(line.key).values())
            for line in lines
            if line.key
        ]
        tree = self.tree
        openable = tree.openable(connection, self.reach, keys) if tree else set()
        level = max(0, self.arguments.get("level", 0, type=int))
        home = self.address("under")
        address = f"{home}{'&' if '?' in home else '?'}under=*"
        return Branch(level, openable, address, str(_("Open %(title)s", title="*")))

    def look(self, connection: Connection) -> None:
        """On a table with many rows find what the search begins, by the indexes there
        are; where nothing begins so, or everything is wanted, every text is looked
        into."""
        if self.is_tree and self.under:
            self.above = self._above(connection)
        is_meant = self.search.is_meant and EVERYWHERE not in self.arguments
        if is_meant and self.pages.prefix_searchable:
            self.among = find_by_prefix(self.context.on(connection), self.search.text)

    def limit_to(self, keys: Sequence[tuple[Any, ...]]) -> None:
        """Limit the list to the records with these keys; without any, to none."""
        self.among = keys or [(None,) * len(self.pages.key)]

    def _above(self, connection: Connection) -> dict[str, Any]:
        """Return the bound values of a branch: those by which records refer to its
        parent; what no record has, where that is not within reach."""
        tree = self.tree
        assert tree is not None
        nothing = {f"p{n}": None for n in range(len(tree.columns))}
        try:
            key = self.context.key_values(self.under)
        except (ValueError, ArithmeticError):
            return nothing
        found = tree.values_of(connection, self.reach, key)
        if found is None:
            return nothing
        return {f"p{n}": value for n, value in enumerate(found)}

    def plan(self) -> ListPlan:
        """Return the plan of the list, which others use too."""
        if self._plan is None:
            order, asked = self.sorting.order, self.asked
            self._plan = list_plan(self.context, order, asked=asked)
        return self._plan

    def own_plan(self) -> ListPlan:
        """Return a plan of the list to which columns can be added."""
        order, asked = self.sorting.order, self.asked
        return ListPlan(self.context, order, asked=asked, inline=True)

    def count_words(self, count: Count) -> str:
        """Return how many rows there are, in words."""
        number = number_text(count.number, self.site.language, None)
        words = str(_("more than %(n)s", n=number)) if count.is_capped else number
        is_top = self.is_tree and not self.under
        return str(_("%(n)s at the top level", n=words)) if is_top else words

    def address(self, *without: str, **changed: Any) -> str:
        """Return the address of this list, with some parameters left out or changed and
        the position forgotten."""
        return self.links.address(*without, **changed)

    def label(self, key: str) -> str:
        """Return the label of a column of the list."""
        return self.pages.label(key)

    @cached_property
    def sort_links(self) -> dict[str, str]:
        """Return the address that sorts by each column that can be sorted by."""
        if not self.pages.key:
            return {}
        keys = [key for key in self.plan().shown if is_sortable(self.context, key)]
        return {key: self.address(sort=self.sorting.by(key)) for key in [TITLE, *keys]}
