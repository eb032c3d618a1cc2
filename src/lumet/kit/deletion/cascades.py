"""Cascades: the references by which a deletion deletes other records."""

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import (
    ColumnElement,
    FromClause,
    Select,
    and_,
    case,
    literal,
    or_,
    select,
    text,
)

from ..access.reach import UNBOUNDED
from ..pages.table_context import TableContext
from ..pages.table_pages import Reference, TablePages


def beyond_delete(context: TableContext, key: Mapping[str, Any]) -> bool:
    """Tell whether deleting the record with this key would take records along that the
    user may not delete: at any depth, along references of a table to itself, and, to be
    safe, wherever cascades of several tables come back to where they were."""
    pages = context.pages
    table = pages.table
    start = select(*key_columns(context)).where(
        and_(*[table.c[name] == value for name, value in key.items()])
    )
    if not own_cascades(context) and not context.site.registry.incoming[pages.name]:
        return False
    return _goes_beyond(context, start, ())


def _goes_beyond(
    context: TableContext, chosen: Select[Any], passed: tuple[Reference, ...]
) -> bool:
    """Tell it of the records of one table that `chosen` selects."""
    pages = context.pages
    own = own_cascades(context)
    if own:
        chosen = with_descendants(pages, chosen, own)
        if _some_beyond(context, chosen, pages.key):
            return True
    for reference in context.site.registry.incoming[pages.name]:
        if reference.on_delete != "cascade" or reference in own:
            continue
        source = context.site.registry[reference.source]
        held = referring(source, reference, chosen, key_columns(context.about(source)))
        if reference in passed:
            first = select(literal(1)).select_from(held.subquery()).limit(1)
            return (
                UNBOUNDED.run(context.connection, first, context.reach.bound).first()
                is not None
            )
        if _some_beyond(
            context.about(source).on(context.connection), chosen, reference
        ) or _goes_beyond(
            context.about(source).on(context.connection), held, (*passed, reference)
        ):
            return True
    return False


def own_cascades(context: TableContext) -> list[Reference]:
    """Return the references by which records of a table take others of it along."""
    pages = context.pages
    return [
        reference
        for reference in context.site.registry.incoming[pages.name]
        if reference.on_delete == "cascade" and reference.source == pages.name
    ]


def key_columns(context: TableContext) -> list[ColumnElement[Any]]:
    """Return the columns that tell records apart, or that others refer to."""
    pages = context.pages
    keys = dict.fromkeys(pages.key)
    for reference in context.site.registry.incoming[pages.name]:
        keys.update(dict.fromkeys(reference.referred))
    for unshown in pages.external_references:
        keys.update(dict.fromkeys(unshown.to))
    return [pages.column(key) for key in keys] or [literal(1).label("one")]


def referring(
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


def with_descendants(
    pages: TablePages, chosen: Select[Any], own: Sequence[Reference]
) -> Select[Any]:
    """Select the records that `chosen` selects and all below them. UNION drops what was
    found before, so that a circle in the data ends."""
    tree = chosen.cte(recursive=True)  # without a name: one tree may be part of another
    # one recursive term for all references: PostgreSQL takes no second
    refers = or_(
        *[
            and_(
                *[
                    pages.column(ours) == tree.c[its]
                    for ours, its in zip(
                        reference.columns, reference.referred, strict=True
                    )
                ]
            )
            for reference in own
        ]
    )
    columns = [pages.column(column.key) for column in tree.c]
    whole = tree.union(select(*columns).join_from(pages.table, tree, refers))
    return select(*whole.c)


def _some_beyond(
    context: TableContext, chosen: Select[Any], by: Reference | tuple[str, ...]
) -> bool:
    """Tell whether the user may not delete some of the records of a table: those that
    refer to what `chosen` selects, or those of the keys that it selects."""
    pages, reach = context.pages, context.reach
    condition = reach.condition("delete", pages.table.fullname)
    if not condition:
        return False
    not_mine = case((text(f"({condition})"), 1), else_=0) == 0
    table = select(pages.table).where(not_mine).subquery(pages.table.name)
    if isinstance(by, tuple):
        reference = Reference(pages.name, by, pages.name, by, "")
    else:
        reference = by
    found = referring(pages, reference, chosen, [literal(1)], table).limit(1)
    return UNBOUNDED.run(context.connection, found, reach.bound).first() is not None
