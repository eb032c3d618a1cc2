"""The rows of a list as entries of a calendar, a board or a map: titles with the values
that place them."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from ..forms.fields import ChoiceField
from ..pages.table_context import TableContext
from ..queries.cells import Cell
from ..queries.filters import Filter
from .list_facts import list_facts
from .list_query import ListPlan
from .list_request import ListRequest


@dataclass(frozen=True, slots=True)
class ListEntry:
    """A record by its key and title, with the values of some columns, and the same as
    forms have them, by which a move tells what its user saw. `mark` is the cell of a
    choice that has colours."""

    key: str
    title: str
    address: str
    values: Mapping[str, Any]
    texts: Mapping[str, str]
    mark: Cell | None = None

    @property
    def colour(self) -> str:
        """The colour of the mark, "" for none."""
        return self.mark.colour if self.mark is not None else ""


def narrowed(asked: ListRequest, filters: Iterable[Filter]) -> ListRequest:
    """Return the same request with further filters, whatever users can filter by."""
    made = ListRequest(asked.context, asked.arguments, asked.kept)
    made.filters = [*made.filters, *filters]
    made.among = asked.among
    return made


def read_entries(
    asked: ListRequest, connection: Connection, columns: Sequence[str], most: int
) -> tuple[list[ListEntry], bool]:
    """Return the rows of a list as entries with the values of some columns, in the order
    of the list; whether there are more than `most`."""
    return entries_of(asked.own_plan(), connection, columns, most, asked.bound)


def entries_of(
    plan: ListPlan,
    connection: Connection,
    columns: Sequence[str],
    most: int,
    bound: Mapping[str, Any],
    without: Sequence[str] = (),
) -> tuple[list[ListEntry], bool]:
    """Return the same of a plan to which columns can be added. Titles leave out what is
    in `columns`, since where an entry stands says that, and in `without`."""
    context, pages, selection = plan.context, plan.pages, plan.selection
    title = selection.title_reader([*columns, *without])
    key = selection.key_reader()
    readers = {name: selection.value_reader(name) for name in columns}
    marked = marked_column(context)
    mark = selection.cell_reader(marked, lambda table: "") if marked else None
    statement = plan.all_rows().limit(most + 1)
    rows = context.reach.run(connection, statement, bound).all()
    found = []
    for row in rows[:most]:
        values = {name: read(row) for name, read in readers.items()}
        texts = {
            name: "" if value is None else pages.fields[name].to_text(value)
            for name, value in values.items()
        }
        segment = key(row)
        address = context.urls.record(segment) if segment else ""
        cell = mark(row) if mark is not None else None
        found.append(
            ListEntry(segment, str(title(row)) or "–", address, values, texts, cell)
        )
    return found, len(rows) > most


def marked_column(context: TableContext) -> str:
    """Return the first choice of the list that has colours, "" for none."""
    pages = context.pages
    for key in list_facts(context).columns:
        field = pages.fields[key]
        is_listed = key in pages.list.columns or key == pages.list.board
        if isinstance(field, ChoiceField) and field.colours and is_listed:
            return key
    return ""
