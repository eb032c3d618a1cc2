"""Hierarchies: records that refer to a parent in their own table, their ancestors,
which are at the top level, and which have children.

Data may hold a circle already: nothing is followed further than MAX_ABOVE records.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    FromClause,
    and_,
    bindparam,
    func,
    literal,
    not_,
    or_,
    select,
    type_coerce,
)
from sqlalchemy.types import NullType

from ..access.reach import UNBOUNDED, Reach
from ..common.url_keys import encode_key
from ..db.keyset import among_keys, bound_keys
from ..pages.table_context import TableContext
from ..pages.table_pages import Reference, TablePages
from .cells import Cell
from .select_builder import SelectBuilder

MAX_ABOVE = 50
MAX_STRANDED = 10_000  # records among which circles are looked for
Values = tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class Hierarchy:
    """The hierarchy of a table's records: the values of `columns` are
    those of `referred` in the record above."""

    pages: TablePages
    columns: tuple[str, ...]
    referred: tuple[str, ...]

    def is_below(self, rows: FromClause, above: FromClause) -> ColumnElement[bool]:
        """Return the condition that one of `rows` stands right below one of `above`."""
        pairs = zip(self.columns, self.referred, strict=True)
        return and_(*[rows.c[ours] == above.c[its] for ours, its in pairs])

    def is_under(self, rows: FromClause) -> ColumnElement[bool]:
        """Return the condition that one of `rows` stands right below the record whose
        values are bound as `p0`, `p1`…"""
        return and_(
            *[rows.c[key] == bindparam(f"p{n}") for n, key in enumerate(self.columns)]
        )

    def is_top(self, rows: FromClause, reach: Reach) -> ColumnElement[bool]:
        """Return the condition that one of `rows` has no parent within reach."""
        above = reach.rows(self.pages.table).alias("above")
        held = select(literal(1)).select_from(above).where(self.is_below(rows, above))
        empty = [rows.c[key].is_(None) for key in self.columns]
        return or_(*empty, not_(held.exists()))

    def values_of(
        self, connection: Connection, reach: Reach, key: Mapping[str, Any]
    ) -> Values | None:
        """Return the values by which children refer to the record with this key, None
        where that is not within reach."""
        rows = reach.rows(self.pages.table)
        matches = [rows.c[name] == bindparam(f"k_{name}") for name in key]
        held = select(*[rows.c[name] for name in self.referred]).where(*matches)
        bound = {f"k_{name}": value for name, value in key.items()}
        row = reach.run(connection, held, bound).first()
        return tuple(row) if row is not None else None

    def openable(
        self, connection: Connection, reach: Reach, keys: Sequence[Values]
    ) -> set[str]:
        """Return those of some keys, as addresses have them, below whose records others
        stand."""
        if not keys:
            return set()
        pages = self.pages
        base = reach.rows(pages.table)
        below = reach.rows(pages.table).alias("below")
        held = select(literal(1)).select_from(below).where(self.is_below(below, base))
        if pages.soft_delete:
            held = held.where(pages.is_alive(below))
        raw = _raw(base, pages.key)
        statement = select(*raw).select_from(base)
        statement = statement.where(among_keys(base, pages.key, "keys"), held.exists())
        found = reach.run(connection, statement, {"keys": bound_keys(keys)})
        return {encode_key(tuple(row)) for row in found}

    def stranded(self, connection: Connection, reach: Reach) -> int:
        """Return the number of records that are below no record of the top level, since
        the data have circles; 0 where there are more than MAX_STRANDED to look at."""
        pages = self.pages
        rows = reach.rows(pages.table)
        alive = [pages.is_alive(rows)] if pages.soft_delete else []
        whole = select(literal(1)).select_from(rows).where(*alive)
        whole = whole.limit(MAX_STRANDED + 1)
        counted = select(func.count()).select_from(whole.subquery())
        number = int(reach.run(connection, counted).scalar_one())
        if number > MAX_STRANDED:
            return 0
        places = _raw(rows, self.referred)
        first = select(*[each.label(f"v{n}") for n, each in enumerate(places)])
        first = first.select_from(rows).where(*alive, self.is_top(rows, reach))
        reached = first.cte("reached", recursive=True)
        further = select(*_raw(rows, self.referred)).join_from(
            rows, reached, _matches(rows, self.columns, reached)
        )
        reached = reached.union(further.where(*alive))
        known = select(func.count()).select_from(reached)
        return number - int(reach.run(connection, known).scalar_one())

    def above(
        self, connection: Connection, reach: Reach, start: Values
    ) -> list[Values]:
        """Return `start`, what a record refers to, and all above it within reach, the
        nearest first."""
        rows = reach.rows(self.pages.table)
        higher = _raw(rows, self.columns)
        first = select(
            *[each.label(f"v{n}") for n, each in enumerate(higher)],
            literal(1).label("depth"),
        )
        begins = [
            each == bindparam(f"start{n}", type_=NullType())
            for n, each in enumerate(_raw(rows, self.referred))
        ]
        chain = first.select_from(rows).where(*begins).cte("chain", recursive=True)
        following = select(*higher, chain.c.depth + 1).join_from(
            rows, chain, _matches(rows, self.referred, chain)
        )
        chain = chain.union_all(following.where(chain.c.depth < MAX_ABOVE))
        places = [chain.c[f"v{n}"] for n in range(len(self.columns))]
        statement = select(*places).order_by(chain.c.depth)
        bound = {f"start{n}": value for n, value in enumerate(start)}
        found = [tuple(row) for row in reach.run(connection, statement, bound)]
        return list(dict.fromkeys([start, *(each for each in found if None not in each)]))  # fmt: skip


def _raw(rows: FromClause, keys: Sequence[str]) -> list[ColumnElement[Any]]:
    return [type_coerce(rows.c[key], NullType()) for key in keys]


def _matches(
    rows: FromClause, keys: Sequence[str], found: FromClause
) -> ColumnElement[bool]:
    """Return the condition that one of `rows` has, in `keys`, the values found
    before."""
    pairs = enumerate(_raw(rows, keys))
    return and_(*[each == found.c[f"v{n}"] for n, each in pairs])


def hierarchy_by(pages: TablePages, reference: Reference) -> Hierarchy | None:
    """Return the tree that a reference makes; None for one to another table."""
    if reference.target != pages.name:
        return None
    return Hierarchy(pages, reference.columns, reference.referred)


def hierarchy_of(context: TableContext) -> Hierarchy | None:
    """Return the hierarchy of a table's records; None where there is none,
    and where the user does not see by what."""
    pages = context.pages
    reference = pages.lookups.get(pages.list.parent)
    tree = hierarchy_by(pages, reference) if reference is not None else None
    if tree is None or pages.seen_by(context.reach, tree.columns) != [*tree.columns]:
        return None
    return tree


def path_above(context: TableContext, values: Mapping[str, Any]) -> list[Cell]:
    """Return the titles of the records above one with these values, the topmost first,
    as far as they are within reach."""
    reach = context.reach
    tree = hierarchy_of(context)
    start = tuple(values.get(key) for key in tree.columns) if tree else ()
    if tree is None or None in start:
        return []
    above = tree.above(context.connection, reach, start)
    titled = titles_of(context, tree, above)
    return [titled[each] for each in reversed(above) if each in titled]


def titles_of(
    context: TableContext, tree: Hierarchy, values: Sequence[Values]
) -> dict[Values, Cell]:
    """Return the titles of the records below which others stand by these values, as far
    as they are within reach, by the values."""
    pages, reach = tree.pages, context.reach
    own = context.about(pages)

    def build() -> tuple[Any, ...]:
        selection = SelectBuilder(own)
        title, key = selection.title_reader(), selection.key_reader()
        place = selection.keys_reader(tree.referred)
        held = among_keys(selection.base, tree.referred, "values")
        return title, key, place, selection.statement().where(held)

    known = ("tree", pages.name, tree.referred, reach.shape)
    title, key, place, statement = context.site.plan(known, build)
    rows = reach.run(context.connection, statement, {"values": bound_keys(values)})
    return {
        place(row): Cell(title(row) or "–", own.urls.record(key(row))) for row in rows
    }


def makes_cycle(
    connection: Connection, tree: Hierarchy, key: Mapping[str, Any], below: Values
) -> bool:
    """Tell whether the record with this key, which is locked, would be its own
    ancestor, if it stood below the one with the values `below`: past the user's reach,
    who learns no more. What is above is locked as well, so that no two moves make a
    circle together."""
    above = tree.above(connection, UNBOUNDED, below)
    rows = tree.pages.table
    held = select(literal(1)).select_from(rows)
    held = held.where(among_keys(rows, tree.referred, "above")).with_for_update()
    UNBOUNDED.run(connection, held, {"above": bound_keys(above)})
    return tree.values_of(connection, UNBOUNDED, key) in above
