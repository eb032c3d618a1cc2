"""The way to a page, in titles: what a record is a row of, its list, what is above
it."""

from collections.abc import Sequence

from ..pages.context import site
from ..pages.table_pages import DetailRows, TablePages
from ..pages.urls import left_list
from ..queries.cells import Cell
from ..queries.record import Record


def breadcrumbs(
    pages: TablePages,
    record: Record | None = None,
    above: Sequence[Cell] = (),
    address: str = "",
) -> list[Cell]:
    """Return the steps to a page of a record, or of its table: of a row that is entered
    with another record that one first; then the list as it was left, the records
    `above`, and, where it has an `address`, the record itself."""
    found = [*_owner(pages, record)] if record is not None else []
    found += [_list(pages), *above]
    if record is not None and address:
        found.append(Cell(record.title, address))
    return found


def _list(pages: TablePages) -> Cell:
    return Cell(str(pages.plural), left_list(pages.name) if pages.has_list else "")


def _owner(pages: TablePages, record: Record) -> list[Cell]:
    registry = site().registry
    for reference in registry.outgoing[pages.name]:
        parent = registry[reference.target]
        owns = any(
            (each.table, each.columns) == (pages.name, reference.columns)
            for each in parent.details
            if isinstance(each, DetailRows)
        )
        if not owns or parent is pages:
            continue
        for key, lookup in pages.lookups.items():
            fact = record.fact(key)
            if (
                {*lookup.columns} == {*reference.columns}
                and fact is not None
                and fact.cell.address
            ):
                return [_list(parent), fact.cell]
    return []
