"""Names in the pages of tables that nothing has: a column that is gone, or misspelt.

They are found when the application starts, with file and line, instead of on the first
page that needs them.
"""

import inspect
import re
from collections.abc import Iterator
from pathlib import Path

from ..contract import TITLE_COLUMN
from .registry import Registry
from .table_pages import TablePages
from .titles import columns_in

# attributes of pages that name columns, and whether these may be of other tables too
_PAIRS = ("totals", "defaults", "generated_values", "automatic_values")


def unknown_names(registry: Registry) -> list[str]:
    """Return a line for each name in the pages of a table that is no column, no formula
    and no relation of it: the place and the problem."""
    return [
        f"{_place(pages, attribute, name)}: {problem}"
        for pages in registry.pages.values()
        for attribute, name, problem in _unknown(pages, registry)
    ]


def _unknown(pages: TablePages, registry: Registry) -> Iterator[tuple[str, str, str]]:
    """Yield the attribute, the name and the problem."""
    table = pages.table.fullname
    columns = {*pages.column_keys()}
    for key in pages.fields:
        if key not in columns:
            yield "form", key, f"{pages.form.__name__} has a field {key}, which is no column of {table}."  # fmt: skip
    shown = columns | {*pages.extras}
    for own in pages.computed_columns:
        for name in own.needs:
            if name not in columns:
                yield "computed_columns", name, f"{own.name} needs {name}, which is no column of {table}."  # fmt: skip
    for attribute, name in _named(pages):
        if name not in shown and name.partition(".")[0] not in columns:
            yield attribute, name, f"{attribute} names {name}, which is no column of {table}."  # fmt: skip
    for each in pages.polymorphic:
        for _value, name in each.tables:
            if name not in registry.pages:
                yield "polymorphic", name, f"polymorphic names {name}, which is no table of the application."  # fmt: skip
    slugs = [each.slug for each in pages.details]
    if pages.list.expand and pages.list.expand not in slugs:
        yield "list", pages.list.expand, f"expand names {pages.list.expand}, which is none of the details."  # fmt: skip
    for related in pages.details:
        try:
            registry.reference(pages.name, related)
        except KeyError:
            problem = f"details name {related.slug}, which does not refer to {table}."
            yield "details", related.table, problem


def _named(pages: TablePages) -> Iterator[tuple[str, str]]:
    """Yield the columns that attributes name."""
    for name in columns_in(pages.title):
        yield "title", name
    lists = pages.list
    order = [each.column for each in lists.orders]
    parent = [lists.parent] if lists.parent else []
    sized = [each for each in lists.column_widths if each != TITLE_COLUMN]
    for found in (lists.columns, lists.wide_columns, sized, order, lists.filters, lists.search, parent,
                  lists.calendar, lists.map, [lists.board] if lists.board else []):  # fmt: skip
        for name in found:
            yield "list", name
    for section in pages.record.sections:
        for name in section.fields:
            yield "record", name
    for attribute in ("record", "add", "edit"):
        for name in getattr(pages, attribute).columns:
            yield attribute, name
    for attribute in ("subtitle", "read_only", "editable_keys", "lookup_columns"):
        for name in getattr(pages, attribute):
            yield attribute, name
    for attribute in _PAIRS:
        for name, _value in getattr(pages, attribute):
            yield attribute, name
    for reference in pages.polymorphic:
        yield "polymorphic", reference.column
        if reference.type:
            yield "polymorphic", reference.type
    if pages.soft_delete:
        yield "soft_delete", pages.soft_delete


def _place(pages: TablePages, attribute: str, name: str) -> str:
    """Return the file and the line where an attribute of pages names something."""
    owner = next(
        each for each in type(pages).__mro__ if attribute in vars(each)
    )  # your own subclass, or the generated class
    if attribute == "form":
        owner = pages.form
    path = Path(inspect.getfile(owner))
    lines = path.read_text("utf-8").split("\n")
    found = re.compile(rf"""["'{{]-?{re.escape(name)}["'}}]|^\s+{re.escape(name)} =""")
    start = next(
        (n for n, line in enumerate(lines) if line.startswith(f"class {owner.__name__}(")), 0
    )  # fmt: skip
    line = next((n for n in range(start, len(lines)) if found.search(lines[n])), start)
    return f"{'/'.join(path.parts[-3:])}:{line + 1}"
