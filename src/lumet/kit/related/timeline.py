"""The timeline of a record: its own dates, and what refers to it, or is joined to it by
another table, by the dates of that."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, time
from typing import Any

from sqlalchemy import Connection

from ..common.formatting import date_text, time_text
from ..forms.date_fields import DateField, DateTimeField
from ..lists.list_entries import ListEntry, entries_of
from ..lists.list_facts import is_by_period
from ..lists.list_query import ListPlan
from ..pages.table_context import TableContext
from ..pages.table_pages import Order, TablePages
from ..queries.cells import Cell
from ..queries.record import Record
from .related_records import block_plans

MOST_OF_BLOCK = 200  # of one relation: the latest


@dataclass(frozen=True, slots=True)
class Event:
    """Something on a day: the day and the time in words, what it is, its title with its
    address, "" for the record's own, and its mark."""

    at: datetime
    day: str
    time: str
    label: str
    title: str = ""
    address: str = ""
    mark: Cell | None = None


def date_of(context: TableContext) -> str:
    """Return the column by which the records of a table have their day: that of its
    calendar, else of its order; "" for none that the user may see."""
    pages = context.pages
    wanted = [
        *pages.list.calendar[:1],
        *(each.column for each in pages.list.orders[:1]),
    ]
    seen = pages.seen_by(context.reach, pages.fields)
    return next((key for key in wanted if key in seen and is_by_period(pages, key)), "")


def dated_relations(context: TableContext) -> Mapping[str, str]:
    """Return the relations whose records have a day, by their words in addresses, with
    the columns of that."""
    found = {
        word: date_of(context.about(plan.pages))
        for word, plan in block_plans(context).items()
    }
    return {word: column for word, column in found.items() if column}


class Timeline:
    """The timeline of one record."""

    def __init__(self, context: TableContext, record: Record) -> None:
        self.context, self.record = context, record
        self.language = context.site.language
        self.has_more = False

    def events(self, connection: Connection) -> list[tuple[int, list[Event]]]:
        """Return the events by year, the latest first."""
        found = [*self._own()]
        plans = block_plans(self.context)
        for word, column in dated_relations(self.context).items():
            plan = plans[word]
            about = self.context.about(plan.pages)
            by = () if plan.through else plan.reference.columns
            order = [Order(column, down=True)]
            listed = ListPlan(about, order, by, inline=True, through=plan.through)
            values = [self.record.values[key] for key in plan.reference.referred]
            bound = {f"p{n}": value for n, value in enumerate(values)}
            entries, more = entries_of(listed, connection, [column], MOST_OF_BLOCK, bound, by)  # fmt: skip
            self.has_more |= more
            found += [*self._of_entries(plan.pages, column, by, entries)]
        found.sort(key=lambda event: event.at, reverse=True)
        years: dict[int, list[Event]] = {}
        for event in found:
            years.setdefault(event.at.year, []).append(event)
        return [*years.items()]

    def _own(self) -> Iterator[Event]:
        """Yield the dates of the record itself."""
        for _name, facts in self.record.sections:
            for fact in facts:
                field = self.context.pages.fields.get(fact.key)
                value = self.record.values.get(fact.key)
                if isinstance(field, DateField | DateTimeField):
                    yield from self._event(field, value, fact.label)

    def _of_entries(
        self,
        pages: TablePages,
        column: str,
        by: Sequence[str],
        entries: Sequence[ListEntry],
    ) -> Iterator[Event]:
        label = str(pages.singular)
        says_nothing = {*pages.parsed_title.keys} <= {column, *by}
        for entry in entries:
            field, value = pages.fields[column], entry.values[column]
            told = replace(entry, title=label) if says_nothing else entry
            yield from self._event(field, value, "" if says_nothing else label, told)

    def _event(
        self, field: Any, value: Any, label: str, entry: ListEntry | None = None
    ) -> Iterator[Event]:
        if isinstance(value, datetime) and isinstance(field, DateTimeField):
            at = field.here(value).replace(tzinfo=None)
            clock = time_text(at.time().replace(second=0, microsecond=0), self.language)
        elif isinstance(value, date):
            at, clock = datetime.combine(value, time()), ""
        else:
            return
        day = date_text(at.date(), self.language)
        if entry is None:
            yield Event(at, day, clock, label)
        else:
            mark = entry.mark if entry.colour else None
            yield Event(at, day, clock, label, entry.title, entry.address, mark)
