"""The rows of a list on a board: a column for each value of a choice or a reference."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection
from werkzeug.datastructures import MultiDict

from ..common.formatting import number_text
from ..forms.fields import ChoiceField, LookupField, YesNoField
from ..pages.table_pages import TablePages
from ..queries.cells import Cell
from ..queries.lookups import lookup_plan
from .group_query import GroupQuery
from .list_entries import ListEntry, read_entries
from .list_request import ListRequest

MOST_COLUMNS = 12
MOST_CARDS = 20  # of a column


@dataclass(frozen=True, slots=True)
class BoardColumn:
    """A column of a board: its value as forms have it, its name, the number of its
    records and their sum in words, the first of them, and where all are listed."""

    value: str
    name: Cell
    count: int
    number: str
    sum: str
    entries: Sequence[ListEntry]
    address: str

    @property
    def hidden(self) -> int:
        """How many records it has besides those that are shown."""
        return max(0, self.count - len(self.entries))


def board_sum(pages: TablePages, seen: Sequence[str]) -> str:
    """Return the column whose sums a board shows: the first that has one below the
    list, "" for none."""
    return next((key for key, total in pages.totals if total == "sum" and key in seen), "")  # fmt: skip


class Board:
    """The board of one request."""

    def __init__(self, asked: ListRequest) -> None:
        self.asked = asked
        self.key = asked.pages.list.board
        self.field = asked.pages.fields[self.key]
        self.summed = board_sum(asked.pages, asked.known.columns)

    def columns(self, connection: Connection) -> tuple[list[BoardColumn], bool]:
        """Return the columns, and whether there are more values than MOST_COLUMNS."""
        by = {"by": self.key, "sum": self.summed}
        grouped = GroupQuery(self._asked(by))
        groups, has_more = grouped.groups(connection, MOST_COLUMNS)
        held = {self._text(group.common): group for group in groups}
        found = []
        for value, name in self._values(connection, held).items():
            group = held.get(value)
            count = group.count if group is not None else 0
            text = (group.text if group is not None else "") if self.summed else ""
            parameter = {f"{self.key}.is": value} if value else {f"{self.key}.empty": "1"}  # fmt: skip
            asked = self._asked(parameter)
            entries = self._entries(asked, connection) if count else []
            number = number_text(count, self.asked.site.language, None)
            address = asked.address("layout")
            found.append(BoardColumn(value, name, count, number, text, entries, address))  # fmt: skip
        return found, has_more

    def _entries(self, asked: ListRequest, connection: Connection) -> list[ListEntry]:
        shown = [self.key]
        entries, _more = read_entries(asked, connection, shown, MOST_CARDS)
        return entries

    def _asked(self, changed: Mapping[str, str]) -> ListRequest:
        """Return the request of the list with other parameters."""
        dropped = {"sum", "average", "by"}
        if any(name.startswith(f"{self.key}.") for name in changed):
            dropped |= {f"{self.key}.is", f"{self.key}.empty"}
        kept = [(k, v) for k, v in self.asked.arguments.items(multi=True) if k not in dropped]  # fmt: skip
        arguments = MultiDict([*kept, *((k, v) for k, v in changed.items() if v)])
        made = ListRequest(self.asked.context, arguments, self.asked.kept)
        made.among = self.asked.among
        return made

    def _text(self, value: Any) -> str:
        return "" if value is None else self.field.to_text(value)

    def _values(
        self, connection: Connection, held: Mapping[str, Any]
    ) -> dict[str, Cell]:
        """Return the values of the columns with their names: all that a record can be
        moved to, and those that some have."""
        wanted = self._filtered()
        found = {
            value: name
            for value, name in self._offered(connection).items()
            if not wanted or value in wanted
        }
        for value, group in held.items():
            if value not in found and group.address:
                found[value] = group.cell if value else Cell(str(_("None")))
        return dict([*found.items()][:MOST_COLUMNS])

    def _filtered(self) -> set[str]:
        """Return the values that the list is filtered by, none where it is not."""
        return {t for f in self.asked.filters if f.name == f"{self.key}.is" for t in f.texts}  # fmt: skip

    def _offered(self, connection: Connection) -> dict[str, Cell]:
        field = self.field
        if isinstance(field, ChoiceField):
            return {
                field.to_text(value): Cell(str(label), colour=field.colour(value))
                for value, label in field.choices.items()
            }
        if isinstance(field, YesNoField):
            language = self.asked.site.language
            return {field.to_text(v): Cell(field.show(v, language)) for v in (True, False)}  # fmt: skip
        if isinstance(field, LookupField):
            reference = self.asked.pages.lookups[self.key]
            plan = lookup_plan(self.asked.context, reference, with_deleted=False)
            options = plan.first(connection, MOST_COLUMNS + 1)
            if len(options) <= MOST_COLUMNS:
                return {option.value: Cell(option.title) for option in options}
        return {}
