"""The layouts of a list that need columns of some kinds: calendar, board and map."""

from collections.abc import Iterator

from lumet.design.decision_schema import TableDecisions
from lumet.facts.model import Table

CALENDAR_KINDS = ("date", "datetime")
BOARD_KINDS = ("choice", "yes/no")


def unfit_layouts(table: Table, decisions: TableDecisions) -> Iterator[tuple[str, str]]:
    """Yield the keys of `[list]` whose columns cannot be laid out so, with the
    problem."""
    lists, field = decisions.list, decisions.field
    if lists.expand and not decisions.details.get(lists.expand):
        yield (
            "expand",
            f"{lists.expand} is none of the related records of {table.name}.",
        )
    for key in ("calendar", "board", "map"):
        value = getattr(lists, key)
        named = (value,) if isinstance(value, str) else value
        hidden = [name for name in named if name and field[name].hidden]
        if hidden:
            yield key, f"{table.name}.{hidden[0]} is hidden."
    if lists.calendar:
        dates = [field[c].kind in CALENDAR_KINDS for c in lists.calendar]
        if not all(dates) or len(dates) > 2:
            yield "calendar", "A calendar takes a date, or two of them: the first and the last day."  # fmt: skip
    if lists.board:
        is_lookup = table.reference_of(lists.board) is not None
        if not is_lookup and field[lists.board].kind not in BOARD_KINDS:
            yield "board", f"A board takes a choice, a lookup or a yes/no, and {lists.board} is none."  # fmt: skip
    if lists.map:
        kinds = tuple(field[name].kind for name in lists.map)
        if kinds != ("latitude", "longitude"):
            yield "map", "A map takes two columns: one of kind latitude, one of kind longitude."  # fmt: skip
