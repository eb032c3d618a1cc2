"""Deleting a record: what hangs on it is said first."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import (
    ColumnElement,
    Connection,
    FromClause,
    Select,
    and_,
    case,
    func,
    literal,
    select,
    text,
)

from ..reach import UNBOUNDED, Reach
from .listing import WITH, Asked, list_plan
from .model import Reference, TablePages
from .record import Record
from .selection import Cell, Selection
from .site import Site, lower_first, record_home

MOST_COUNTED = 1_000
DEEPEST = 6  # relations that are followed from a record
NAMED = 3  # so many are named, the others counted


@dataclass(frozen=True, slots=True)
class Hanging:
    """The records of one table that refer to the record: how many, and the first."""

    words: str
    named: list[Cell]
    has_more: bool = False


@dataclass(slots=True)
class Consequences:
    """What a delete would do: what forbids it, what goes with it, what loses its
    reference."""

    forbids: list[Hanging] = field(default_factory=list)
    goes: list[Hanging] = field(default_factory=list)
    loses: list[Hanging] = field(default_factory=list)


def consequences(
    site: Site,
    connection: Connection,
    pages: TablePages,
    reach: Reach,
    record: Record,
    key: Mapping[str, Any],
) -> Consequences:
    """Find out what deleting `record`, which has this key, would do."""
    found = Consequences()
    beyond = beyond_delete(site, connection, pages, reach, key)
    for reference in site.registry.incoming[pages.name]:
        hanging = _hanging(site, connection, reference, reach, record)
        if hanging is None:
            continue
        if reference.on_delete == "cascade":
            (found.forbids if beyond else found.goes).append(hanging)
        elif reference.on_delete in ("set null", "set default"):
            found.loses.append(hanging)
        else:
            found.forbids.append(hanging)
    _look_deeper(site, connection, pages, reach, key, found)
    if beyond and not found.forbids:
        found.forbids.append(Hanging(str(_("records you may not delete")), []))
    return found


def _look_deeper(
    site: Site,
    connection: Connection,
    pages: TablePages,
    reach: Reach,
    key: Mapping[str, Any],
    found: Consequences,
) -> None:
    """Add what hangs on the records that go along, at every depth, counted by relation:
    each relation is followed once, so that circles of them end."""
    start = select(*_key_columns(site, pages)).where(
        and_(*[pages.column(name) == value for name, value in key.items()])
    )
    waiting = [
        (site.registry[reference.source], reference, start, 1)
        for reference in site.registry.incoming[pages.name]
        if reference.on_delete == "cascade"
    ]
    passed: set[Reference] = {reference for _pages, reference, _start, _n in waiting}
    while waiting:
        source, reference, chosen, depth = waiting.pop(0)
        held = _referring(source, reference, chosen, _key_columns(site, source))
        for further in site.registry.incoming[source.name]:
            if further in passed:
                continue
            passed.add(further)
            below = site.registry[further.source]
            hanging = _counted(site, connection, below, further, reach, held)
            if hanging is None:
                continue
            if further.on_delete == "cascade":
                found.goes.append(hanging)
                if depth < DEEPEST:
                    waiting.append((below, further, held, depth + 1))
            elif further.on_delete in ("set null", "set default"):
                found.loses.append(hanging)
            else:
                found.forbids.append(hanging)


def _counted(
    site: Site,
    connection: Connection,
    pages: TablePages,
    reference: Reference,
    reach: Reach,
    chosen: Select[Any],
) -> Hanging | None:
    """Return how many records of a table refer to those that `chosen` selects, and some
    of them; None when none does."""

    def count(table: FromClause | None, asking: Reach) -> int:
        inner = _referring(pages, reference, chosen, [literal(1)], table)
        limited = inner.limit(MOST_COUNTED + 1).subquery()
        counted = select(func.count()).select_from(limited)
        return int(UNBOUNDED.run(connection, counted, asking.bound).scalar_one())

    whole = count(None, reach)
    if not whole:
        return None
    name = pages.table.fullname
    seen = 0
    if reach.may("view", name) and not any(
        reach.hides(name, key) for key in reference.columns
    ):
        rows = reach.rows(pages.table)
        seen = whole if rows is pages.table else count(rows, reach)
    if not seen:
        return Hanging(str(_("records you may not see")), [])
    named = _some(site, connection, pages, reference, reach, chosen)
    return Hanging(_words(pages, seen, whole > seen), named, seen > len(named))


def _some(
    site: Site,
    connection: Connection,
    pages: TablePages,
    reference: Reference,
    reach: Reach,
    chosen: Select[Any],
) -> list[Cell]:
    """Return a few of the records within reach that refer to those that `chosen`
    selects."""
    selection = Selection(site.registry, pages, reach, site.language)
    title = selection.title_reader()
    key = selection.key_reader() if pages.key else None
    parents = chosen.subquery()
    pairs = zip(reference.columns, reference.referred, strict=True)
    held = select(literal(1)).select_from(parents)
    held = held.where(
        *[selection.base.c[ours] == parents.c[its] for ours, its in pairs]
    )
    statement = selection.statement().where(held.exists()).limit(NAMED)
    home = record_home(pages.name)
    has_page = key is not None and not pages.for_lookups
    return [
        Cell(title(row) or "–", home + key(row) if has_page and key else "")
        for row in UNBOUNDED.run(connection, statement, reach.bound)
    ]


def _words(pages: TablePages, seen: int, are_more: bool) -> str:
    """Return how many records of a table there are, in words."""
    noun = lower_first(pages.singular if seen == 1 else pages.plural)
    number = f"{seen:,}" if seen <= MOST_COUNTED else _("over %(n)s", n="1,000")
    words = f"{number} {noun}"
    if are_more:
        return str(_("%(words)s, and records you may not see", words=words))
    return words


def beyond_delete(
    site: Site,
    connection: Connection,
    pages: TablePages,
    reach: Reach,
    key: Mapping[str, Any],
) -> bool:
    """Tell whether deleting the record with this key would take records along that the
    user may not delete: at any depth, along references of a table to itself, and, to be
    safe, wherever cascades of several tables come back to where they were."""
    table = pages.table
    start = select(*_key_columns(site, pages)).where(
        and_(*[table.c[name] == value for name, value in key.items()])
    )
    if not _own_cascades(site, pages) and not site.registry.incoming[pages.name]:
        return False
    return _goes_beyond(site, connection, pages, reach, start, ())


def _goes_beyond(
    site: Site,
    connection: Connection,
    pages: TablePages,
    reach: Reach,
    chosen: Select[Any],
    passed: tuple[Reference, ...],
) -> bool:
    """Tell it of the records of one table that `chosen` selects."""
    own = _own_cascades(site, pages)
    if own:
        chosen = _with_descendants(pages, chosen, own)
        if _some_beyond(connection, reach, pages, chosen, pages.key):
            return True
    for reference in site.registry.incoming[pages.name]:
        if reference.on_delete != "cascade" or reference in own:
            continue
        source = site.registry[reference.source]
        held = _referring(source, reference, chosen, _key_columns(site, source))
        if reference in passed:
            first = select(literal(1)).select_from(held.subquery()).limit(1)
            return UNBOUNDED.run(connection, first, reach.bound).first() is not None
        if _some_beyond(connection, reach, source, chosen, reference) or _goes_beyond(
            site, connection, source, reach, held, (*passed, reference)
        ):
            return True
    return False


def _own_cascades(site: Site, pages: TablePages) -> list[Reference]:
    return [
        reference
        for reference in site.registry.incoming[pages.name]
        if reference.on_delete == "cascade" and reference.source == pages.name
    ]


def _key_columns(site: Site, pages: TablePages) -> list[ColumnElement[Any]]:
    """Return the columns that tell records apart, or that others refer to."""
    keys = dict.fromkeys(pages.key)
    for reference in site.registry.incoming[pages.name]:
        keys.update(dict.fromkeys(reference.referred))
    return [pages.column(key) for key in keys] or [literal(1).label("one")]


def _referring(
    source: TablePages,
    reference: Reference,
    chosen: Select[Any],
    columns: Sequence[ColumnElement[Any]],
    table: FromClause | None = None,
) -> Select[Any]:
    """Select `columns` of the records that refer to those that `chosen` selects."""
    referring = source.table if table is None else table
    parents = chosen.subquery()
    pairs = zip(reference.columns, reference.referred, strict=True)
    matches = and_(*[referring.c[ours] == parents.c[its] for ours, its in pairs])
    return select(*columns).select_from(referring.join(parents, matches))


def _with_descendants(
    pages: TablePages, chosen: Select[Any], own: Sequence[Reference]
) -> Select[Any]:
    """Select the records that `chosen` selects and all below them. UNION drops what was
    found before, so that a circle in the data ends."""
    tree = chosen.cte("tree", recursive=True)
    below = [
        select(*[pages.column(column.key) for column in tree.c]).join_from(
            pages.table,
            tree,
            and_(
                *[
                    pages.column(ours) == tree.c[its]
                    for ours, its in zip(
                        reference.columns, reference.referred, strict=True
                    )
                ]
            ),
        )
        for reference in own
    ]
    whole = tree.union(*below)
    return select(*whole.c)


def _some_beyond(
    connection: Connection,
    reach: Reach,
    pages: TablePages,
    chosen: Select[Any],
    by: Reference | tuple[str, ...],
) -> bool:
    """Tell whether the user may not delete some of the records of a table: those that
    refer to what `chosen` selects, or those of the keys that it selects."""
    condition = reach.condition("delete", pages.table.fullname)
    if not condition:
        return False
    not_mine = case((text(f"({condition})"), 1), else_=0) == 0
    table = select(pages.table).where(not_mine).subquery(pages.table.name)
    if isinstance(by, tuple):
        reference = Reference(pages.name, by, pages.name, by, "")
    else:
        reference = by
    found = _referring(pages, reference, chosen, [literal(1)], table).limit(1)
    return UNBOUNDED.run(connection, found, reach.bound).first() is not None


def _hanging(
    site: Site,
    connection: Connection,
    reference: Reference,
    reach: Reach,
    record: Record,
) -> Hanging | None:
    pages = site.registry[reference.source]
    parent = [record.values[key] for key in reference.referred]
    if None in parent:
        return None
    pairs = zip(reference.columns, parent, strict=True)
    matches = and_(*[pages.column(key) == value for key, value in pairs])
    inner = select(literal(1)).where(matches).limit(MOST_COUNTED + 1)
    counted = select(func.count()).select_from(inner.subquery())
    # past the user's reach: the database will count them whoever asks
    count = UNBOUNDED.run(connection, counted).scalar_one()
    if not count:
        return None
    unseen = str(_("records you may not see"))
    if not reach.may("view", pages.table.fullname) or any(
        reach.hides(pages.table.fullname, key) for key in reference.columns
    ):
        return Hanging(unseen, [])
    asked = Asked(deleted=WITH)  # they refer all the same
    plan = list_plan(site, pages, reach, pages.first, reference.columns, asked)
    page = plan.read(connection, size=NAMED, parent=parent)
    seen = plan.count(connection, parent).number
    if not seen:
        return Hanging(unseen, [])
    words = _words(pages, seen, count > min(seen, MOST_COUNTED + 1))
    named = [line.title for line in page.lines]
    return Hanging(words, named, seen > len(named))
