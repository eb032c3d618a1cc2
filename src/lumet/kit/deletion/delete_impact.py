"""The impact of deleting a record: dependent records, which are listed before."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Any, TypeVar

from flask_babel import gettext as _
from sqlalchemy import (
    ColumnElement,
    FromClause,
    Select,
    and_,
    column,
    func,
    literal,
    not_,
    or_,
    select,
    table,
    true,
    tuple_,
)
from sqlalchemy.exc import DBAPIError

from ..access.reach import UNBOUNDED
from ..common.url_keys import encode_key
from ..db.errors import classify
from ..pages import urls
from ..pages.context import lower_first
from ..pages.table_context import TableContext
from ..pages.table_pages import (
    ExternalReference,
    Reference,
    RelatedRecords,
    TablePages,
    is_single,
)
from ..pages.urls import record_address, record_home
from ..queries.cells import Cell
from ..queries.select_builder import SelectBuilder
from .cascades import (
    beyond_delete,
    key_columns,
    own_cascades,
    referring,
    with_descendants,
)

MAX_COUNTED = 1_000
MAX_DEPTH = 6  # relations that are followed from a record
NAMED = 3  # so many are named, the others counted
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class RelatedImpact:
    """The dependent records of one relation: how many, in words, the first
    of them, and where all of them are, "" for nowhere."""

    summary: str
    named: list[Cell] = field(default_factory=list)
    has_more: bool = False
    address: str = ""


@dataclass(slots=True)
class DeleteImpact:
    """The impact of a deletion: records that prevent it, are deleted too, lose their
    reference, what is left referring to nothing, since the database does not know that
    it refers; what there was no time to look at."""

    prevented_by: list[RelatedImpact] = field(default_factory=list)
    deleted_too: list[RelatedImpact] = field(default_factory=list)
    unlinked: list[RelatedImpact] = field(default_factory=list)
    orphaned: list[RelatedImpact] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)

    def under(self, on_delete: str) -> list[RelatedImpact]:
        """Return where that is said which refers by a reference with this rule."""
        if on_delete == "cascade":
            return self.deleted_too
        if on_delete in ("set null", "set default"):
            return self.unlinked
        return self.prevented_by


def find_delete_impact(context: TableContext, key: Mapping[str, Any]) -> DeleteImpact:
    """Find out what deleting the record with this key would do. A statement that takes
    longer than the connection lets it ends the looking at one relation alone."""
    return _ImpactFinder(context, key).all()


@dataclass(frozen=True, slots=True)
class _Step:
    """A relation to look at: the table referred to, the reference, which of its records
    are deleted, and how many relations lie between."""

    above: TablePages
    reference: Reference
    chosen: Select[Any]
    depth: int


Holds = Callable[[FromClause], ColumnElement[bool]]


class _ImpactFinder:
    """Finds the records that depend on one record, for one user."""

    def __init__(self, context: TableContext, key: Mapping[str, Any]) -> None:
        pages = context.pages
        self.context = context
        self.site = context.site
        self.connection = context.connection
        self.pages = pages
        self.reach = context.reach
        self.key = key
        self.found = DeleteImpact()
        self._home = record_address(pages.name, encode_key(tuple(key.values())))
        start = select(*key_columns(context)).where(pages.is_key(key))
        self._going = [(pages, start)]  # what is deleted, by table
        self._steps = list(self._follow(start))

    def all(self) -> DeleteImpact:
        """Look at every relation."""
        for step in self._steps:
            self._look(step)
        for pages, chosen in self._going:
            self._look_unshown(pages, chosen)
        beyond = beyond_delete(self.context.on(self.connection), self.key)
        if beyond and not self.found.prevented_by:
            words = str(_("records you may not delete"))
            self.found.prevented_by.append(RelatedImpact(words))
        return self.found

    def _follow(self, start: Select[Any]) -> Iterator[_Step]:
        """Yield every relation from the record, each once, so that circles of them
        end."""
        waiting = self._from(self.pages, start, 0)
        passed = {step.reference for step in waiting}
        while waiting:
            step = waiting.pop(0)
            yield step
            if step.reference.on_delete != "cascade" or step.depth >= MAX_DEPTH:
                continue
            source = self.site.registry[step.reference.source]
            columns = key_columns(self.context.about(source))
            held = referring(source, step.reference, step.chosen, columns)
            self._going.append((source, held))
            further = self._from(source, held, step.depth + 1)
            waiting += [each for each in further if each.reference not in passed]
            passed |= {each.reference for each in further}

    def _from(self, pages: TablePages, chosen: Select[Any], depth: int) -> list[_Step]:
        own = own_cascades(self.context.about(pages))
        if own:  # all descendants are deleted too, however deep
            chosen = with_descendants(pages, chosen, own)
        return [
            _Step(pages, reference, chosen, depth)
            for reference in self.site.registry.incoming[pages.name]
        ]

    def _holds_of(self, step: _Step) -> Holds:
        """Return the condition, of rows, that they refer by a step, and, where that
        would forbid a delete, that they really do."""
        refers = _holds(step.reference, step.chosen)
        if self.found.under(step.reference.on_delete) is not self.found.prevented_by:
            return refers
        stays = self._stays(step)
        return lambda rows: and_(refers(rows), stays(rows))

    def _stays(self, step: _Step) -> Holds:
        """Return the condition, of rows that refer by a step, that they do not go along
        by another: only then they forbid it. RESTRICT is checked at once, but on
        MariaDB, where it depends on the order of deletion: there the database decides.
        It checks a record's reference to itself, as others do not."""
        source = self.site.registry[step.reference.source]
        is_ordered = self.site.database.server.has_ordered_cascades
        at_end = is_ordered or step.reference.on_delete in ("", "no action")
        others = [
            (each.reference.columns, _holds(each.reference, each.chosen))
            for each in self._steps
            if at_end
            and each.reference.source == source.name
            and each.reference.on_delete == "cascade"
        ]
        is_own = source is self.pages

        def stays(rows: FromClause) -> ColumnElement[bool]:
            kept = [
                or_(*[rows.c[key].is_(None) for key in columns], not_(holds(rows)))
                for columns, holds in others
            ]
            if is_own and not is_ordered:
                own = [rows.c[key] == value for key, value in self.key.items()]
                kept.append(not_(and_(*own)))
            return and_(true(), *kept)

        return stays

    def _within_time(
        self, ask: Callable[[], T], words: str, may_fail: bool = False
    ) -> T | None:
        """Ask the database something, None where that takes too long, or, of what it
        may refuse to show, where it does."""
        try:
            with self.connection.begin_nested():
                return ask()
        except DBAPIError as error:
            kinds = ("busy", "other") if may_fail else ("busy",)
            if classify(error).kind not in kinds:
                raise
            self.found.unknown.append(words)
            return None

    def _look(self, step: _Step) -> None:
        source = self.site.registry[step.reference.source]
        related = _related(step)
        on_delete = step.reference.on_delete
        ask = partial(self._referring, step, related)
        if related is not None and related.joined:
            ask = partial(self._joined, step, related)
            if on_delete == "cascade":
                on_delete = "set null"  # what joins goes, and not what is joined
        hanging = self._within_time(ask, _label(source, related))
        under = self.found.under(on_delete)
        if not step.reference.enforced:
            under = self.found.orphaned
        if hanging is not None and hanging not in under:
            under.append(hanging)

    def _referring(
        self, step: _Step, related: RelatedRecords | None
    ) -> RelatedImpact | None:
        """Return the records that refer to those of a step; None where none does."""
        source = self.site.registry[step.reference.source]
        holds = self._holds_of(step)
        whole = self._count(source.table, holds(source.table))
        if not whole:
            return None
        name = source.table.fullname
        if not self.reach.may("view", name) or any(
            self.reach.hides(name, key) for key in step.reference.columns
        ):
            return RelatedImpact(_unseen())
        rows = self.reach.rows(source.table)
        seen = whole if rows is source.table else self._count(rows, holds(rows))
        if not seen:
            return RelatedImpact(_unseen())
        without = () if step.depth else step.reference.columns
        named = self._named(source, holds, without)
        words = _words(source, related, seen, whole > seen)
        address = self._address(step, related)
        return RelatedImpact(words, named, seen > len(named), address)

    def _joined(self, step: _Step, related: RelatedRecords) -> RelatedImpact | None:
        """Return the records that a table joins to those of a step; None for none."""
        registry = self.site.registry
        joining = registry[step.reference.source]
        far = registry.other_side(related)
        target = registry[far.target]
        joins = self._holds_of(step)
        whole = self._count(joining.table, joins(joining.table))
        if not whole:
            return None
        rows = self.reach.rows(joining.table)
        joined = select(*[rows.c[key] for key in far.columns]).select_from(rows)
        joined = joined.where(joins(rows))
        back = Reference(far.target, far.referred, joining.name, far.columns, "")
        holds = _holds(back, joined)
        names = (joining.table.fullname, target.table.fullname)
        if not all(self.reach.may("view", name) for name in names) or any(
            self.reach.hides(names[0], key) for key in far.columns
        ):
            return RelatedImpact(_unseen())
        ends = self.reach.rows(target.table)
        seen = self._count(ends, holds(ends))
        if not seen:
            return RelatedImpact(_unseen())
        named = self._named(target, holds)
        is_whole = rows is joining.table and ends is target.table
        words = _words(target, related, seen, whole > seen and not is_whole)
        address = self._address(step, related)
        return RelatedImpact(words, named, seen > len(named), address)

    def _address(self, step: _Step, related: RelatedRecords | None) -> str:
        """Return where all records of a relation are listed: beneath the record
        itself."""
        source = self.site.registry[step.reference.source]
        if step.depth or related is None or not source.key:
            return ""
        if is_single(source, related.columns) and not related.joined:
            return ""  # shown with the record
        return f"{self._home}{urls.RELATED}{related.slug}"

    def _count(self, rows: FromClause, holds: ColumnElement[bool]) -> int:
        inner = select(literal(1)).select_from(rows).where(holds)
        limited = inner.limit(MAX_COUNTED + 1).subquery()
        counted = select(func.count()).select_from(limited)
        # past the user's reach: the database will count them whoever asks
        found = UNBOUNDED.run(self.connection, counted, self.reach.bound)
        return int(found.scalar_one())

    def _named(
        self,
        pages: TablePages,
        holds: Holds,
        without: tuple[str, ...] = (),
    ) -> list[Cell]:
        """Return a few of the records within reach, by their titles."""
        selection = SelectBuilder(self.context.about(pages))
        title = selection.title_reader(without=without)
        has_page = bool(pages.key) and not pages.for_lookups
        key = selection.key_reader() if has_page else None
        statement = selection.statement().where(holds(selection.base)).limit(NAMED)
        home = record_home(pages.name)
        return [
            Cell(title(row) or "–", home + key(row) if key is not None else "")
            for row in UNBOUNDED.run(self.connection, statement, self.reach.bound)
        ]

    def _look_unshown(self, pages: TablePages, chosen: Select[Any]) -> None:
        """Look at tables that the application does not have, and its user perhaps may
        not read: only whether there are rows that refer here."""
        words = str(_("records that this application does not show"))
        for each in pages.external_references:
            ask = partial(self._is_held, each, chosen)
            if not self._within_time(ask, words, may_fail=True):
                continue
            under = self.found.under(each.on_delete)
            if all(known.summary != words for known in under):
                under.append(RelatedImpact(words))

    def _is_held(self, unshown: ExternalReference, chosen: Select[Any]) -> bool:
        rows = table(
            unshown.table, *[column(name) for name in unshown.by], schema=unshown.schema
        )
        reference = Reference(unshown.table, unshown.by, "", unshown.to, "")
        held = select(literal(1)).select_from(rows)
        held = held.where(_holds(reference, chosen)(rows)).limit(1)
        return (
            UNBOUNDED.run(self.connection, held, self.reach.bound).first() is not None
        )


def _related(step: _Step) -> RelatedRecords | None:
    """Return the block of related records that a reference makes, None for none."""
    reference = step.reference
    for related in step.above.details:
        if (related.table, related.columns) == (reference.source, reference.columns):
            return related
    return None


def _holds(reference: Reference, chosen: Select[Any]) -> Holds:
    """Return the condition, of rows, that they refer to a record that is chosen."""
    found = chosen.subquery()
    wanted = select(*[found.c[key] for key in reference.referred])

    def holds(rows: FromClause) -> ColumnElement[bool]:
        ours = [rows.c[key] for key in reference.columns]
        return ours[0].in_(wanted) if len(ours) == 1 else tuple_(*ours).in_(wanted)

    return holds


def _unseen() -> str:
    return str(_("records you may not see"))


def _label(pages: TablePages, related: RelatedRecords | None) -> str:
    return str(related.label if related and related.label else pages.plural)


def _words(
    pages: TablePages, related: RelatedRecords | None, seen: int, are_more: bool
) -> str:
    """Return how many records a relation has, in words: "15 voyages from here"."""
    label, plural = _label(pages, related), str(pages.plural)
    noun = label
    if seen == 1 and label.startswith(plural):
        noun = str(pages.singular) + label.removeprefix(plural)
    elif seen == 1 and label.endswith(lower_first(plural)):
        noun = label.removesuffix(lower_first(plural)) + lower_first(pages.singular)
    number = f"{seen:,}" if seen <= MAX_COUNTED else _("more than %(n)s", n="1,000")
    words = f"{number} {lower_first(noun)}"
    if are_more:
        return str(_("%(words)s, and records you may not see", words=words))
    return words
