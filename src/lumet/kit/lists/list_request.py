"""The request of a list: the parsed address, its links, filters and groups."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal
from typing import Any, NamedTuple
from urllib.parse import parse_qsl, quote_plus, urlencode

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
from werkzeug.datastructures import MultiDict

from ..access.reach import Reach
from ..accounts.preferences import Preferences
from ..common.formatting import date_text, number_text
from ..contract import CARDS, CHART, GROUPS, TABLE, TREE
from ..db.keyset import bound_keys
from ..forms.date_fields import DateField, DateTimeField
from ..forms.fields import ChoiceField, LookupField, ValueField, YesNoField
from ..forms.number_fields import CodeField, DecimalField, IntegerField
from ..forms.operators import FROM, IS, TO
from ..pages import urls
from ..pages.context import Site, lower_first
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..pages.urls import list_address
from ..queries.filters import (
    Filter,
    describe_filter,
    filter_values,
    read_filters,
    seen_operators,
    shape_of,
)
from ..queries.hierarchy import Hierarchy, hierarchy_of, titles_of
from ..queries.lookups import SHORT_LIST, lookup_plan
from ..queries.prefix_search import find_by_prefix
from ..queries.select_builder import Cell
from ..queries.title_search import Search, read_search
from .list_html import Branch, ListRow
from .list_query import (
    BRANCH,
    ONLY,
    PAGE_ROWS,
    TITLE,
    TOP,
    WITH,
    Count,
    ListPlan,
    ListSpec,
    Sorting,
    is_sortable,
    list_plan,
    read_sort,
)

SIZES = (25, 50, 100, 250)
MAX_GROUPS = 200
FILTER, VIEWS, COLUMNS, OUT, SORT = "filter", "views", "columns", "out", "sort"
PANELS = (FILTER, VIEWS, COLUMNS, OUT, SORT)  # what opens above the list
EVERYWHERE = "everywhere"  # searched in every text, however many rows
_POSITION = (
    "after",
    "before",
    "last",
    "n",
    "skip",
    "panel",
    "counted",
    "as-piece",
    "level",
)  # not what one sees


class Nouns(NamedTuple):
    """The singular and plural of a table, at the beginning and within a sentence."""

    one: str
    many: str
    one_within: str
    many_within: str


class Known(NamedTuple):
    """The facts about a list that are shared by all users of one reach and language:
    its columns, those that make groups, and what its layouts and panels are
    called."""

    columns: list[str]
    served: list[str]
    extras: list[str]
    groups: list[str]
    layouts: dict[str, str]
    panels: dict[str, str]
    nouns: Nouns


@dataclass(frozen=True, slots=True)
class ActiveFilter:
    """A filter in words, and the address of the list without it."""

    label: str
    description: str
    without: str


@dataclass(frozen=True, slots=True)
class Control:
    """The filter of a column: its operators, its present texts by operator,
    and the choices that there are."""

    key: str
    label: str
    kind: ValueField
    operators: tuple[str, ...]
    texts: Mapping[str, tuple[str, ...]]
    options: Sequence[tuple[str, str]] = ()
    is_day: bool = False
    shown: Mapping[str, str] = field(default_factory=dict)  # texts as people read them
    choices: str = ""  # the address that finds more of them, where there are more


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


@dataclass(slots=True)
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
    known: Known = field(init=False)
    _home: str = field(init=False)
    _words: list[tuple[str, str]] = field(init=False)
    _plan: ListPlan | None = field(init=False)

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
        self._home = list_address(self.pages.name)
        self._words = [
            (key, urlencode([(key, value)], safe=",.~"))
            for key, values in given.lists()
            for value in values
            if value and key not in _POSITION
        ]
        key = ("list of", self.pages.name, self.reach.shape)
        self.known = self.site.plan(key, self._learn)
        self._plan = None
        self.filters = read_filters(self.context, given)
        self._settle_days()
        self.search = read_search(self.context, given.get("q", ""))
        self.sorting = read_sort(self.context, given.get("sort", ""))
        chosen = given.get("columns") or self.kept.get(f"columns {self.pages.name}")
        known = self.showable()
        listed = [key for key in (chosen or "").split(",") if key in known]
        self.columns = tuple(dict.fromkeys(listed)) or None
        size = given.get("rows", PAGE_ROWS, type=int)
        self.size = size if size in SIZES else PAGE_ROWS
        deleted = given.get("deleted", "") if self.pages.soft_delete else ""
        self.deleted = deleted if deleted in (WITH, ONLY) else ""
        self.under = given.get("under", "")
        panel = given.get("panel", "")
        self.panel = panel if panel in PANELS else ""
        first = next(iter(self.known.layouts))
        wanted = given.get("layout", first)
        self.layout = wanted if wanted in self.known.layouts else first

    def _settle_days(self) -> None:
        """Write days in addresses as everybody's programs do, however they were typed:
        a view that is shared must mean the same in another language."""
        typed = {
            filter_.name: filter_.texts[0]
            for filter_ in self.filters
            if filter_.operator in (FROM, TO)
            and isinstance(self.pages.fields[filter_.key], DateField | DateTimeField)
        }
        self._words = [
            (key, urlencode([(key, typed[key])], safe=",.~") if key in typed else text)
            for key, text in self._words
        ]

    def _learn(self) -> Known:
        pages = self.pages
        columns = pages.seen_by(self.reach, pages.fields)
        served = [key for key in columns if key not in pages.list.unindexed]
        kinds = ChoiceField | LookupField | YesNoField
        groups = [
            key
            for key in served
            if isinstance(pages.fields[key], kinds)
            and (key not in pages.lookups or self._sees(key))
        ]
        groups += [key for key in served if self.is_by_month(key)]
        layouts = {
            TABLE: str(_("Table")),
            CARDS: str(_("Cards")),
            GROUPS: str(_("Groups")),
            CHART: str(_("Chart")),
            TREE: str(_("Tree")),
        }
        return Known(
            columns=columns,
            served=served,
            extras=pages.seen_by(self.reach, pages.extras),
            groups=groups,
            layouts={layout: layouts[layout] for layout in self._layouts(groups)},
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

    def _sees(self, key: str) -> bool:
        """Tell whether the user may look at what a lookup refers to."""
        target = self.site.registry[self.pages.lookups[key].target]
        return self.reach.may("view", target.table.fullname)

    def _layouts(self, groups: Sequence[str]) -> list[str]:
        """Return the layouts: those decided, else what fits the columns."""
        decided = self.pages.list.layouts or (TABLE, CARDS, GROUPS, CHART, TREE)
        fitting = {TABLE, CARDS, *((GROUPS, CHART) if groups else ())}
        if hierarchy_of(self.context):
            fitting.add(TREE)
        return [layout for layout in decided if layout in fitting] or [TABLE]

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
        return self.known.columns

    def grouping(self) -> list[str]:
        """Return the columns that make groups: choices, lookups, yes and no, and the
        months of dates."""
        return self.known.groups

    def is_by_month(self, key: str) -> bool:
        """Tell whether a column makes groups by its months: a date that the database
        itself keeps as one."""
        column = self.pages.column(key)
        is_day = isinstance(self.pages.fields[key], DateField | DateTimeField)
        return is_day and not getattr(column.type, "storage_format", "")

    def summed(self) -> list[str]:
        """Return the columns whose sums a group can have: amounts and measures."""
        kinds = IntegerField | DecimalField
        return [
            key
            for key in self.choosable()
            if isinstance(self.pages.fields[key], kinds)
            and not isinstance(self.pages.fields[key], CodeField)
            and key not in self.pages.key
        ]

    def sum_of(self) -> str:
        """Return the column whose sums are wanted, "" for counts."""
        wanted = self.arguments.get("sum", "")
        return wanted if wanted in self.summed() else ""

    @property
    def is_counted(self) -> bool:
        """Tell whether every row is to be counted, however many there are."""
        return "counted" in self.arguments

    @property
    def is_usual(self) -> bool:
        """Tell whether the list is asked for as it is decided, which an index should
        serve: anything else is limited in time."""
        arranged = self.layout in (GROUPS, CHART)
        return not (
            self.is_narrowed or self.is_counted or self.sorting.words or arranged
        )

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

    def address(self, *without: str, **changed: Any) -> str:
        """Return the address of this list, with some parameters left out or changed and
        the position forgotten."""
        dropped = {*without, *changed}
        words = [text for key, text in self._words if key not in dropped]
        words += [
            f"{key}={quote_plus(str(value), safe=',.~')}"
            for key, value in changed.items()
            if value != ""
        ]
        return f"{self._home}?{'&'.join(words)}" if words else self._home

    def open_part(self, query: str) -> str:
        """Return the part of a list's query that this user may see: no
        filter by a hidden column, or by records of a table out of reach."""
        columns = set(self.showable())
        found = []
        for name, value in parse_qsl(query):
            key, dot, operator = name.rpartition(".")
            if dot and (
                key not in self.known.columns or operator not in self._operators(key)
            ):
                continue
            kept = value
            if name in ("sort", "columns", "by", "sum"):
                words = [
                    w
                    for w in value.split(",")
                    if w.removeprefix("-") in {*columns, TITLE}
                ]
                kept = ",".join(words)
            if kept:
                found.append((name, kept))
        return urlencode(found, safe=",.~")

    def _operators(self, key: str) -> tuple[str, ...]:
        return seen_operators(self.context, key)

    def hidden(self, *left_out: str) -> list[tuple[str, str]]:
        """Return the parameters that a form of the list sends along unseen."""
        return [
            (key, value)
            for key, values in self.arguments.lists()
            for value in values
            if value and key not in (*_POSITION, *left_out)
        ]

    def filtered_hidden(self) -> list[tuple[str, str]]:
        """Return the same for the form of the filters, which has its own for these."""
        own = {
            f"{key}.{operator}"
            for key in self.choosable()
            for operator in self.pages.fields[key].operators
        }
        own.add("deleted")
        return [(key, value) for key, value in self.hidden() if key not in own]

    def active_filters(self, connection: Connection) -> list[ActiveFilter]:
        """Return the search and the filters in words, each with the address
        without it."""
        found = []
        if self.search.is_meant:
            words = f"“{self.search.text}”"
            found.append(ActiveFilter(str(_("Search")), words, self.address("q")))
        for filter_ in self.filters:
            titles = self._titles_of(connection, filter_)
            words = describe_filter(self.pages, filter_, self.site.language, titles)
            without = self.address(filter_.name)
            found.append(ActiveFilter(self.pages.label(filter_.key), words, without))
        if self.deleted:
            shown = {WITH: _("Include deleted"), ONLY: _("Only deleted")}[self.deleted]
            without = self.address("deleted")
            found.append(ActiveFilter(str(_("Deleted records")), str(shown), without))
        if self.is_tree and self.under:
            label = self.pages.label(self.pages.list.parent)
            words = self._words_above(connection)
            found.append(ActiveFilter(label, words, self.address("under")))
        return found

    def _words_above(self, connection: Connection) -> str:
        """Return the title of the record whose branch it is."""
        tree, above = self.tree, tuple(self.above.values())
        if tree is None or not above or None in above:
            return "–"
        titled = titles_of(self.context.on(connection), tree, [above])
        return next(iter(titled.values()), Cell("–")).text

    def _titles(
        self, connection: Connection, key: str, values: Sequence[Any]
    ) -> dict[str, str]:
        """Return the titles of what a lookup refers to, by value."""
        reference = self.pages.lookups.get(key)
        if reference is None:
            return {}
        target = self.site.registry[reference.target]
        if not self.reach.may("view", target.table.fullname):
            return {}
        plan = lookup_plan(self.context, reference)
        return plan.several(connection, values)

    def _titles_of(self, connection: Connection, filter_: Filter) -> dict[str, str]:
        shown = self.pages.fields[filter_.key]
        if filter_.operator != IS or not isinstance(shown, LookupField):
            return {}
        if not shown.is_part:
            values = [first for first, *_rest in filter_.values]
            return self._titles(connection, filter_.key, values)
        reference = self.pages.lookups[filter_.key]
        plan = lookup_plan(self.context, reference, is_whole=True)
        return {o.value: o.title for o in plan.of_keys(connection, filter_.values)}

    def controls(self, connection: Connection) -> list[Control]:
        """Return the filter controls of the columns."""
        return [self._control(connection, key) for key in self.known.served]

    def _control(self, connection: Connection, key: str) -> Control:
        shown = self.pages.fields[key]
        texts = {s.operator: s.texts for s in self.filters if s.key == key}
        options: list[tuple[str, str]] = []
        choices = ""
        reference = self.pages.lookups.get(key)
        if reference is not None:
            target = self.site.registry[reference.target]
            if self.reach.may("view", target.table.fullname):
                is_whole = isinstance(shown, LookupField) and shown.is_part
                plan = lookup_plan(self.context, reference, is_whole=is_whole)
                first = plan.first(connection, SHORT_LIST + 1)
                options = [(option.value, option.title) for option in first]
                if len(options) > SHORT_LIST and not is_whole:
                    choices = f"{list_address(self.pages.name)}{urls.CHOICES}{key}"
                known = {value for value, _title in options}
                titles = [
                    each
                    for s in self.filters
                    if s.key == key
                    for each in self._titles_of(connection, s).items()
                ]
                options += [each for each in titles if each[0] not in known]
        elif isinstance(shown, YesNoField):
            options = [("yes", str(_("Yes"))), ("no", str(_("No")))]
        elif isinstance(shown, ChoiceField) and not shown.other_values:
            options = [(v, str(label)) for v, label in shown.choices.items()]
        is_day = isinstance(shown, DateField | DateTimeField)
        language = self.site.language
        days = {
            operator: date_text(date.fromisoformat(found[0]), language)
            for operator, found in texts.items()
            if is_day and operator in (FROM, TO)
        }
        return Control(
            key=key,
            label=self.pages.label(key),
            kind=shown,
            operators=seen_operators(self.context, key),
            texts=texts,
            options=options,
            is_day=is_day,
            shown=days,
            choices=choices,
        )

    def loosening(self, connection: Connection) -> list[ActiveFilter]:
        """Return, for a list without rows, the filters without which there are some."""
        found = []
        for mark, filters, search in self._each_less(connection):
            asked = ListSpec(
                self.columns,
                shape_of(filters),
                len(search.words),
                deleted=self.deleted,
                titled=search.modes,
                is_folded=search.is_folded,
            )
            plan = list_plan(self.context, (), asked=asked)
            bound = {**filter_values(filters), **search.bound}
            if plan.count(connection, bound=bound).number:
                found.append(mark)
        return found

    def _each_less(
        self, connection: Connection
    ) -> Iterable[tuple[ActiveFilter, list[Filter], Search]]:
        active_filters, is_searched = (
            self.active_filters(connection),
            self.search.is_meant,
        )
        if is_searched:
            yield active_filters[0], self.filters, Search()
        for place, filter_ in enumerate(self.filters):
            rest = [each for each in self.filters if each is not filter_]
            yield active_filters[place + is_searched], rest, self.search

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
        row = self.reach.run(connection, plan.over_all(functions), self.bound).one()
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

    def group_by(self) -> str:
        """Return the column that makes the groups."""
        wanted, offered = self.arguments.get("by", ""), self.grouping()
        shown = [
            key for key in (self.columns or self.pages.list.columns) if key in offered
        ]
        return wanted if wanted in offered else (shown or offered)[0]

    def groups(self, connection: Connection) -> tuple[list[Group], bool]:
        """Return the groups of the rows that fit, the largest first, months in their
        order, and whether there are more than MAX_GROUPS."""
        key, summed = self.group_by(), self.sum_of()
        plan = self.plan()
        base = plan.selection.base
        by_month = self.is_by_month(key)
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
        rows: Sequence[Any] = self.reach.run(connection, statement, self.bound).all()
        shown = rows[:MAX_GROUPS]
        values = [row[0] for row in shown if row[0] is not None]
        titles = self._titles(connection, key, values)
        found = [self._group(key, titles, *row) for row in shown]
        if by_month:
            found.reverse()
        return found, len(rows) > MAX_GROUPS

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
            return Cell(""), self.address(*left_out, **{f"{key}.empty": "1"})
        if self.is_by_month(key):
            try:
                first = date.fromisoformat(f"{value}-01")
            except ValueError:  # MariaDB's days of zeros are in no month
                return Cell(str(value)), ""
            last = (first + timedelta(days=31)).replace(day=1) - timedelta(days=1)
            bounds = {f"{key}.from": first.isoformat(), f"{key}.to": last.isoformat()}
            within = f"{key}.within"
            return Cell(str(value)), self.address(*left_out, within, **bounds)
        text = value if key in self.pages.lookups else shown.to_text(value)
        address = self.address(*left_out, **{f"{key}.is": text})
        if key not in self.pages.lookups:
            colour = shown.colour(value) if isinstance(shown, ChoiceField) else ""
            return Cell(shown.show(value, self.site.language), colour=colour), address
        title = titles.get(str(value))
        if title is None:
            return Cell(str(_("not visible"))), ""
        return Cell(title), address

    def count_words(self, count: Count) -> str:
        """Return how many rows there are, in words."""
        number = number_text(count.number, self.site.language, None)
        words = str(_("more than %(n)s", n=number)) if count.is_capped else number
        is_top = self.is_tree and not self.under
        return str(_("%(n)s at the top level", n=words)) if is_top else words

    def label(self, key: str) -> str:
        """Return the label of a column of the list."""
        return self.pages.label(key)

    def sort_links(self) -> dict[str, str]:
        """Return the address that sorts by each column that can be sorted by."""
        if not self.pages.key:
            return {}
        keys = [key for key in self.plan().shown if is_sortable(self.context, key)]
        return {key: self.address(sort=self.sorting.by(key)) for key in [TITLE, *keys]}
