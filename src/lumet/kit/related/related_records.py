"""The blocks of related records beneath a record: those that refer to it, with their
own order, search and pages. The first are read with the record, the others when they
come into view, so that many relations open as fast as two."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

from flask_babel import gettext as _
from sqlalchemy import Connection

from ..lists.list_html import ListRow
from ..lists.list_query import Count, list_plan
from ..lists.list_spec import TITLE, Junction, ListSpec
from ..lists.sorting import Sorting, read_sort
from ..lists.sorting import is_sortable as can_be_sorted
from ..pages import urls
from ..pages.context import lower_first
from ..pages.table_context import TableContext
from ..pages.table_pages import Reference, RelatedRecords, TablePages, is_single
from ..pages.urls import add_address
from ..queries.record import Record
from ..queries.title_search import read_search

BLOCK_ROWS = 8
MAX_COLUMNS = 5
PRINTED_ROWS = 500  # of a block on paper
READ_AT_ONCE = 2  # blocks that come with the record's page
NOTHING: Mapping[str, str] = {}


@dataclass(frozen=True, slots=True)
class Listed:
    """What a block shows: a page of its records, and the addresses of the others."""

    labels: list[tuple[str, bool, str]]  # a column's label, whether a number, its sort
    lines: list[ListRow]
    count: Count
    search: str = ""
    earlier: str = ""
    later: str = ""
    by_title: str = ""
    sorting: Sorting = field(default_factory=lambda: Sorting(()))

    @property
    def is_searchable(self) -> bool:
        """Tell whether there are so many that one searches among them."""
        return bool(self.search or self.earlier or self.later)


@dataclass(frozen=True, slots=True)
class RelatedBlock:
    """Related records: what they are called, where the block is by itself, where to add
    one, with the words for it, or to choose others; `listed` is what it shows, None
    until it is read."""

    label: str
    pages: TablePages
    address: str
    add: str
    add_words: str
    choose: str = ""
    listed: Listed | None = None


@dataclass(frozen=True, slots=True)
class _BlockPlan:
    """What is the same of a block for all records, and for all users with one reach:
    its reference, the table that it shows, `through` a joining one, its words, and
    whether one may be added."""

    related: RelatedRecords
    reference: Reference
    pages: TablePages
    through: Junction
    label: str
    add_words: str
    may_add: bool
    choose: str


class _Planning:
    """Plans the blocks that a user's reach has."""

    def __init__(self, context: TableContext) -> None:
        self.context = context
        self.site, self.reach = context.site, context.reach
        self._pages = context.pages

    def plans(self) -> dict[str, _BlockPlan]:
        """Return the plans of the blocks, by the words in their addresses."""
        return {
            related.slug: self._plan(related)
            for related in self._pages.details
            if is_seen(self.context.about(self.site.registry[related.table]), related)
            and self._is_open(related)
            and not self._is_part(related)
        }

    def _plan(self, related: RelatedRecords) -> _BlockPlan:
        registry = self.site.registry
        reference = registry.reference(self._pages.name, related)
        pages = registry[related.table]
        through: Junction = ()
        choose = ""
        if related.joined:
            through = (reference, registry.other_side(related))
            pages = registry[through[1].target]
            if self._may_choose(related):
                number = self._pages.details.index(related)
                choose = f"{urls.EDIT}#part-chosen-{number}"
        return _BlockPlan(
            related=related,
            reference=reference,
            pages=pages,
            through=through,
            label=str(related.label or pages.plural),
            add_words=str(_("Add %(noun)s", noun=lower_first(pages.singular))),
            may_add=not related.joined
            and may_add_below(self.context.about(pages), reference),
            choose=choose,
        )

    def _is_open(self, related: RelatedRecords) -> bool:
        """Tell whether the user may look at the other side of a table that joins
        two."""
        if not related.joined:
            return True
        joining = self.site.registry[related.table]
        target = self.site.registry[self.site.registry.other_side(related).target]
        return self.reach.may("view", target.table.fullname) and (
            list(related.joined) == joining.seen_by(self.reach, related.joined)
        )

    def _is_part(self, related: RelatedRecords) -> bool:
        """Tell whether a record has one such record at most, shown with its own
        fields."""
        child = self.site.registry[related.table]
        return (
            bool(child.key)
            and is_single(child, related.columns)
            and (not related.joined)
        )

    def _may_choose(self, related: RelatedRecords) -> bool:
        """Tell whether the user may change what a table joins to the record."""
        name = self.site.registry[related.table].table.fullname
        may = self.reach.may("add", name) or self.reach.may("delete", name)
        own = self._pages.table.fullname
        return may and self._pages.offers("edit") and self.reach.may("edit", own)


def block_plans(context: TableContext) -> Mapping[str, _BlockPlan]:
    """Return the blocks of a table's records that are within reach, by the words in
    their addresses."""
    key = ("blocks", context.pages.name, context.reach.shape)
    found: Mapping[str, _BlockPlan]
    found = context.site.plan(key, _Planning(context).plans)
    return found


class RelatedBlocks:
    """The blocks of one record that are within a user's reach."""

    def __init__(self, context: TableContext, record: Record, home: str) -> None:
        self.context = context
        self.record = record
        self._home = home
        self._sketches = block_plans(context)

    def all(self, connection: Connection) -> list[RelatedBlock]:
        """Return all blocks, the first of them read."""
        return [
            self._block(word, connection if place < READ_AT_ONCE else None)
            for place, word in enumerate(self._sketches)
        ]

    def printed(self, connection: Connection) -> list[RelatedBlock]:
        """Return the blocks that have records, each with up to PRINTED_ROWS of them."""
        found = [
            self._block(word, connection, size=PRINTED_ROWS) for word in self._sketches
        ]
        return [each for each in found if each.listed and each.listed.lines]

    def one(
        self, connection: Connection, word: str, asked: Mapping[str, str]
    ) -> RelatedBlock | None:
        """Return the block with this word in its address, read as it is asked for."""
        if word not in self._sketches:
            return None
        return self._block(word, connection, asked)

    def _block(
        self,
        word: str,
        connection: Connection | None,
        asked: Mapping[str, str] = NOTHING,
        size: int = BLOCK_ROWS,
    ) -> RelatedBlock:
        found = self._sketches[word]
        pages, address = found.pages, f"{self._home}{urls.RELATED}{word}"
        add = ""
        if found.may_add:
            add = add_address(pages.name, _filled(found.reference, self.record))
        listed = None
        if connection is not None:
            listed = self._read(connection, found, address, asked, size)
        choose = f"{self._home}{found.choose}" if found.choose else ""
        return RelatedBlock(
            found.label, pages, address, add, found.add_words, choose, listed
        )

    def _read(
        self,
        connection: Connection,
        sketch: _BlockPlan,
        address: str,
        asked: Mapping[str, str],
        size: int,
    ) -> Listed:
        pages, reference, through = sketch.pages, sketch.reference, sketch.through
        search = read_search(self.context.about(pages), asked.get("q", ""))
        sorting = read_sort(self.context.about(pages), asked.get("sort", ""))
        by = () if through else reference.columns
        shown = [key for key in pages.list.columns if key not in by]
        wanted = ListSpec(
            tuple(shown[:MAX_COLUMNS]) or None,
            words=len(search.words),
            titled=search.modes,
            is_folded=search.is_folded,
        )
        plan = list_plan(self.context.about(pages), sorting.order, by, wanted, through)
        parent = [self.record.values[key] for key in reference.referred]
        bound = search.bound
        word, backward = asked.get("after", ""), False
        if "before" in asked:
            word, backward = asked["before"], True
        try:
            page = plan.read(connection, word, backward, size, parent, bound)
        except ValueError:  # a place in another order
            page = plan.read(connection, size=size, parent=parent, bound=bound)

        def at(**changed: str) -> str:
            kept = {"q": search.text, "sort": ",".join(sorting.words)} | changed
            given = {key: value for key, value in kept.items() if value}
            return f"{address}?{urlencode(given)}" if given else address

        labels = [
            (
                label,
                numeric,
                at(sort=sorting.by(key))
                if can_be_sorted(self.context.about(pages), key)
                else "",
            )
            for key, label, numeric in plan.labels
        ]
        return Listed(
            labels=labels,
            lines=page.lines,
            count=plan.count(connection, parent, bound),
            search=search.text,
            earlier=at(before=page.begin) if page.begin else "",
            later=at(after=page.end) if page.end else "",
            by_title=at(sort=sorting.by(TITLE)),
            sorting=sorting,
        )


def is_seen(context: TableContext, related: RelatedRecords) -> bool:
    """Tell whether the user may know that records of a table refer here."""
    pages, reach = context.pages, context.reach
    return reach.may("view", pages.table.fullname) and list(related.columns) == (
        pages.seen_by(reach, related.columns)
    )


def may_add_below(context: TableContext, reference: Reference) -> bool:
    """Tell whether the user may add a record with its parent filled in."""
    pages, reach = context.pages, context.reach
    if not (pages.offers("add") and reach.may("add", pages.table.fullname)):
        return False
    roles = reach.holding("add", pages.table.fullname)
    return set(reference.columns) <= {*pages.enters(reach, roles, is_new=True)}


def add_below(context: TableContext, reference: Reference, record: Record) -> str:
    """Return the address that adds a record with its parent filled in, "" for none."""
    if not may_add_below(context, reference):
        return ""
    return add_address(context.pages.name, _filled(reference, record))


def _filled(reference: Reference, record: Record) -> dict[str, Any]:
    pairs = zip(reference.columns, reference.referred, strict=True)
    filled = {column: str(record.values[referred]) for column, referred in pairs}
    return {**filled, FIXED: ",".join(reference.columns)}


FIXED = "as-given"  # in the address of a form: the columns whose values stay as given


def fixed_columns(pages: TablePages, given: Mapping[str, str]) -> Sequence[str]:
    """Return the columns that the address of a form for a new record gives for good."""
    named = given.get(FIXED, "").split(",")
    return [key for key in named if key in pages.fields and given.get(key)]
