"""Deleting a record: what hangs on it is said first."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection, and_, delete, func, literal, select

from ..reach import UNBOUNDED, Reach
from .listing import list_plan
from .model import Reference, TablePages
from .record import Record
from .selection import Cell
from .site import Site, lower_first

MOST_COUNTED = 1_000
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
    site: Site, connection: Connection, pages: TablePages, reach: Reach, record: Record
) -> Consequences:
    """Find out what deleting `record` would do."""
    found = Consequences()
    for reference in site.registry.incoming[pages.name]:
        hanging = _hanging(site, connection, reference, reach, record)
        if hanging is None:
            continue
        if reference.on_delete == "cascade":
            may = _may_cascade(site, reference.source, reach, set())
            (found.goes if may else found.forbids).append(hanging)
        elif reference.on_delete in ("set null", "set default"):
            found.loses.append(hanging)
        else:
            found.forbids.append(hanging)
    return found


def _may_cascade(site: Site, name: str, reach: Reach, seen: set[str]) -> bool:
    """Tell whether the user may delete all that a cascade into table `name` reaches."""
    if name in seen:
        return True
    seen.add(name)
    return reach.may("delete", site.registry[name].table.fullname) and all(
        _may_cascade(site, reference.source, reach, seen)
        for reference in site.registry.incoming[name]
        if reference.on_delete == "cascade"
    )


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
    if not reach.may("view", pages.table.fullname):
        return Hanging(_("records you may not see"), [])
    plan = list_plan(site, pages, reach, pages.first, reference.columns)
    page = plan.read(connection, size=NAMED, parent=parent)
    noun = lower_first(pages.singular if count == 1 else pages.plural)
    number = f"{count:,}" if count <= MOST_COUNTED else _("over %(n)s", n="1,000")
    named = [line.title for line in page.lines]
    return Hanging(f"{number} {noun}", named, count > len(named))


def delete_record(
    connection: Connection, pages: TablePages, reach: Reach, key: Mapping[str, Any]
) -> bool:
    """Delete the record with this key; tell whether there was one."""
    matches = and_(*[pages.column(name) == value for name, value in key.items()])
    result = reach.run(connection, delete(pages.table).where(matches))
    return result.rowcount > 0
