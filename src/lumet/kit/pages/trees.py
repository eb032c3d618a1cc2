"""Records that stand below others of their own table: what is above one of them.

Data may hold a circle already: nothing is followed further than MOST_ABOVE records.
"""

from typing import Any

from sqlalchemy import Connection, FromClause, bindparam, literal, select, type_coerce
from sqlalchemy.types import NullType

from ..addresses import encode_key
from ..reach import UNBOUNDED, Reach
from .lookups import lookup_plan
from .model import Reference, TablePages
from .selection import Cell
from .site import Site, record_home

MOST_ABOVE = 50


def own_reference(pages: TablePages) -> tuple[str, Reference] | None:
    """Return the column by which records of a table stand below others of it, with its
    reference; None where there is none."""
    reference = pages.lookups.get(pages.below)
    if reference is None or len(reference.columns) > 1:
        return None
    return pages.below, reference


def _values_above(
    connection: Connection,
    reach: Reach,
    rows: FromClause,
    reference: Reference,
    start: Any,
) -> list[Any]:
    """Return `start`, what a record refers to, and all above it, the nearest first."""
    below = type_coerce(rows.c[reference.referred[0]], NullType())
    above = type_coerce(rows.c[reference.columns[0]], NullType())
    first = select(above.label("above"), literal(1).label("depth"))
    chain = first.where(below == bindparam("start", type_=NullType())).cte(
        "chain", recursive=True
    )
    following = select(above, chain.c.depth + 1).join_from(
        rows, chain, below == chain.c.above
    )
    chain = chain.union_all(following.where(chain.c.depth < MOST_ABOVE))
    statement = select(chain.c.above).order_by(chain.c.depth)
    found = reach.run(connection, statement, {"start": start}).scalars()
    return list(dict.fromkeys([start, *(each for each in found if each is not None)]))


def path_above(
    site: Site,
    connection: Connection,
    pages: TablePages,
    reach: Reach,
    values: dict[str, Any],
) -> list[Cell]:
    """Return the titles of the records above one with these values, the topmost first,
    as far as they are within reach."""
    own = own_reference(pages)
    if own is None or values.get(own[0]) is None or reach.hides(
        pages.table.fullname, own[0]
    ):  # fmt: skip
        return []
    key, reference = own
    rows = reach.rows(pages.table)
    above = _values_above(connection, reach, rows, reference, values[key])
    titles = lookup_plan(site, reference, reach).several(connection, above)
    is_key = pages.key == reference.referred
    home = record_home(pages.name)
    return [
        Cell(titles[str(each)], home + encode_key([each]) if is_key else "")
        for each in reversed(above)
        if str(each) in titles
    ]


def makes_circle(
    connection: Connection, pages: TablePages, reference: Reference, of: Any, below: Any
) -> bool:
    """Tell whether the record with the value `of` would stand below itself, if it stood
    below the one with the value `below`: past the user's reach, who learns no more."""
    above = _values_above(connection, UNBOUNDED, pages.table, reference, below)
    return of in above
