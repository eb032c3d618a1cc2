"""One record: its fields in sections."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, bindparam

from ..pages.table_context import Plan, TableContext
from ..pages.urls import record_home
from .cells import Cell
from .select_builder import SelectBuilder


@dataclass(frozen=True, slots=True)
class Fact:
    """One field of a record as its page shows it."""

    key: str
    label: str
    cell: Cell
    is_long: bool
    unit: str = ""


@dataclass(frozen=True, slots=True)
class Record:
    """One record, its values by column among them."""

    title: str
    sections: list[tuple[str, list[Fact]]]
    values: Mapping[str, Any]

    def fact(self, key: str) -> Fact | None:
        """Return a field by its column, None for one that is not shown."""
        facts = (fact for _name, held in self.sections for fact in held)
        return next((fact for fact in facts if fact.key == key), None)


class RecordPlan(Plan):
    """The statement and the readers of one record's page, built once."""

    def __init__(self, context: TableContext) -> None:
        super().__init__(context)
        pages, reach = context.pages, context.reach
        self.pages = pages
        selection = SelectBuilder(context)
        self._title = selection.title_reader()
        self._cells = {
            key: selection.cell_reader(key, record_home)
            for key in pages.seen_by(reach, [*pages.fields, *pages.extras])
        }
        self._values = {key: selection.value_reader(key) for key in pages.column_keys()}
        matches = [selection.base.c[key] == bindparam(f"k_{key}") for key in pages.key]
        self._statement = selection.statement().where(*matches)

    def read(self, connection: Connection, key: Mapping[str, Any]) -> Record | None:
        """Read the record with this key, None when none is within reach."""
        bound = {f"k_{name}": value for name, value in key.items()}
        row = self.reach.run(connection, self._statement, bound).first()
        if row is None:
            return None
        sections = [
            (name, [self._fact(row, key) for key in keys])
            for name, keys in self.pages.placed(
                list(self._cells), self.pages.record.columns
            )
        ]
        values = {key: read(row) for key, read in self._values.items()}
        return Record(self._title(row) or str(self.pages.singular), sections, values)

    def _fact(self, row: Any, key: str) -> Fact:
        field = self.pages.shown_field(key)
        cell, label = self._cells[key](row), self.pages.label(key)
        label = label.removesuffix(f", {field.unit}") if field.unit else label
        return Fact(key, label, cell, field.wide, field.unit if cell.text else "")


def titles_where(context: TableContext, values: Mapping[str, Any]) -> dict[str, str]:
    """Return the titles of the records within reach that hold `values`, by column: by
    their keys in addresses."""
    pages, reach = context.pages, context.reach

    def build() -> tuple[Any, ...]:
        selection = SelectBuilder(context)
        title, key = selection.title_reader(), selection.key_reader()
        matches = [selection.base.c[name] == bindparam(f"k_{name}") for name in values]
        return title, key, selection.statement().where(*matches)

    place = ("titles", pages.name, tuple(values), reach.shape)
    title, key, statement = context.site.plan(place, build)
    bound = {f"k_{name}": value for name, value in values.items()}
    rows = reach.run(context.connection, statement, bound)
    return {key(row): title(row) or str(pages.singular) for row in rows}


def record_plan(context: TableContext) -> RecordPlan:
    """Return the plan of a table's record page, built when it is first wanted."""
    return context.plan(RecordPlan)
