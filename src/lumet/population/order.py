"""The order of tables: what is referred to comes before what refers to it."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter

from lumet.facts.model import Reference, Table

Later = set[tuple[str, tuple[str, ...]]]  # references by table and columns


def in_order(tables: Mapping[str, Table]) -> tuple[list[str], Later, dict[str, str]]:
    """Return the tables in the order in which they can be filled; the references that
    wait until all are, since they go around in a circle; and the tables that cannot be
    filled at all, with the reason."""
    later: Later = set()
    never: dict[str, str] = {}
    while True:
        before = {
            name: {
                each.referred_table
                for each in outgoing(table, tables)
                if (name, each.columns) not in later and each.referred_table not in never
            }
            for name, table in tables.items() if name not in never
        }  # fmt: skip
        try:
            return list(TopologicalSorter(before).static_order()), later, never
        except CycleError as error:
            circle: Sequence[str] = error.args[1]
            waiting = next(_can_wait(circle, tables, later), None)
            if waiting is not None:
                later.add(waiting)
            else:
                others = " and ".join(dict.fromkeys(circle))
                never[circle[0]] = f"{others} need a row of each other first"


def outgoing(table: Table, tables: Iterable[str]) -> list[Reference]:
    """Return the references of a table to others among `tables`."""
    there = {*tables}
    return [
        each for each in table.references
        if each.referred_table in there and each.referred_table != table.name
    ]  # fmt: skip


def _can_wait(
    circle: Sequence[str], tables: Mapping[str, Table], later: Later
) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Yield the references of a circle that take NULL, or that nobody enforces."""
    around = {*circle}
    for is_wanted in (_takes_null, _is_free):
        for name in dict.fromkeys(circle):
            for each in outgoing(tables[name], around):
                place = (name, each.columns)
                if place not in later and is_wanted(tables[name], each):
                    yield place


def _takes_null(table: Table, reference: Reference) -> bool:
    return any(table.column(name).nullable for name in reference.columns)


def _is_free(table: Table, reference: Reference) -> bool:
    return not reference.enforced
