"""The schema of decisions: every key, its type and its meaning.

The dataclasses are the one source: reading, checking and documentation follow them.
"""

import re
from dataclasses import MISSING, dataclass, field
from dataclasses import fields as dataclass_fields
from typing import Any, Literal, get_args

FieldKind = Literal[
    "text",
    "long text",
    "e-mail",
    "web address",
    "phone",
    "colour",
    "image",
    "file",
    "integer",
    "code",
    "decimal",
    "money",
    "percent",
    "latitude",
    "longitude",
    "yes/no",
    "date",
    "time",
    "datetime",
    "duration",
    "choice",
    "multiple choice",
    "lookup",
    "json",
    "secret",
    "other",
]
Colour = Literal["green", "amber", "red", "blue"]

TITLE_PART = re.compile(r"\{([^{}]+)\}")  # a column in a title
TITLE_DEPTH = 2  # references that a title may reach through
PAGE_KINDS = ("list", "add", "edit", "delete")
EDIT_CELLS, EDIT_ROWS, EDIT_CHOSEN = "cells", "rows", "chosen"
DETAIL_EDITS = (EDIT_ROWS, EDIT_CHOSEN)
TREE = "tree"
FIELD_KINDS: tuple[str, ...] = get_args(FieldKind)
COLOURS: tuple[str, ...] = get_args(Colour)
# words that people know kinds by from databases and programs
KIND_WORDS = {
    "string": "text", "varchar": "text", "char": "text", "textarea": "long text",
    "int": "integer", "number": "decimal", "float": "decimal", "numeric": "decimal",
    "bool": "yes/no", "boolean": "yes/no", "datetime": "datetime", "timestamp": "datetime",
    "enum": "choice", "select": "choice", "foreign key": "lookup", "reference": "lookup",
    "image": "picture", "photo": "picture", "password": "secret", "array": "multiple choice",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Entry:
    """One inferred decision: the path of its key in the table's file, its value, why,
    and how sure that is (from 0 to 1; below `DOUBTFUL` a person should look)."""

    path: tuple[str, ...]
    value: Any
    reason: str = ""
    confidence: float = 1.0

    @property
    def section(self) -> tuple[str, ...]:
        """The section of the key."""
        return self.path[:-1]


AUTOMATIC_VALUES = ("created at", "created by", "changed at", "changed by")
WIDTHS = ("narrow", "wide")
LAYOUTS = ("table", "cards", "groups", "chart", TREE)
LIST_EDITS = ("page", EDIT_CELLS)
GENERATED = ("max + 1", "uuid")
UNINDEXED = ("limited", "disabled")
TOTALS = ("sum", "avg", "min", "max")
DOUBTFUL = 0.7


def _key(meaning: str, example: str, default: Any) -> Any:
    metadata = {"meaning": meaning, "example": example}
    if isinstance(default, dict):
        return field(default_factory=dict, metadata=metadata)
    return field(default=default, metadata=metadata)


@dataclass(frozen=True, slots=True, kw_only=True)
class FieldDecisions:
    """[field.COLUMN]: how one column is named, shown and entered."""

    label: str = _key("the label shown to users", '"Inspected on"', "")
    kind: FieldKind = _key(
        "how the column is displayed and entered", '"long text"', "text"
    )
    storage_format: str = _key(
        "the format of a date, a datetime, or yes and no in a column of another type",
        '"DD.MM.YYYY"',
        "",
    )
    help: str = _key("a line below the control", '"in nautical miles"', "")
    unit: str = _key("the unit shown after the value", '"nm"', "")
    placeholder: str = _key(
        "the placeholder of the empty control", '"such as LT-04"', ""
    )
    width: str = _key(
        'the width of its control, "narrow" or "wide"; by default as usual for its kind',
        '"wide"',
        "",
    )
    time_zone: str = _key(
        "the time zone of a datetime that is stored without one; users see it in their own",
        '"UTC"',
        "",
    )
    references: str = _key(
        "the referenced column, where no foreign key is declared",
        '"station.code"',
        "",
    )
    hidden: bool = _key("shown nowhere", "true", False)
    required: bool | None = _key(
        "whether a value must be entered; by default where the database takes no NULL. A"
        " text that may stay empty and takes no NULL is stored as an empty text",
        "false",
        None,
    )
    read_only: bool = _key("shown, but not entered", "true", False)
    choices: dict[str, str] = _key(
        "the values of a choice with their labels; a list of values will do",
        '{ ok = "Passed", bad = "Failed" }',
        {},
    )
    other_values: bool = _key(
        "whether a choice accepts other values as well", "true", False
    )
    colours: dict[str, str] = _key(
        "the colour and shape of the mark before a choice: green, amber, red or blue",
        '{ ok = "green", bad = "red" }',
        {},
    )
    formula: str = _key(
        "the value of a field that is no column: one value in SQL, sub-selects too",
        '"(SELECT count(*) FROM light l WHERE l.station_id = station.id)"',
        "",
    )
    lookup_columns: tuple[str, ...] = _key(
        "of a lookup: columns of the referenced record that are shown beside it",
        '["district_code", "phone"]',
        (),
    )
    depends_on: tuple[str, ...] = _key(
        "of a lookup: the lookups that limit its choices",
        '["station_id"]',
        (),
    )
    where: str = _key(
        "of a lookup: the records that can be chosen; a condition in SQL over the table"
        " that it refers to",
        '"closed_on IS NULL"',
        "",
    )
    folder: str = _key(
        "of a column that names files: the folder, among the uploads, where they are and"
        " new ones go; without one the names stay texts",
        '"station/photos"',
        "",
    )
    editable_key: bool = _key(
        "of a key that people enter: whether it can be changed afterwards",
        "true",
        False,
    )
    generated: str = _key(
        'the value of a new record where none is entered: "max + 1", the next number, or'
        ' "uuid"',
        '"max + 1"',
        "",
    )
    automatic: str = _key(
        "the value that the application writes: created at, created by, changed"
        " at or changed by; where no trigger does",
        '"changed by"',
        "",
    )
    rule: str = _key(
        "a condition in SQL that every record must satisfy; NULL passes",
        '"ends_on >= starts_on"',
        "",
    )
    message: str = _key(
        "the message where the rule does not hold", '"It ends before it begins."', ""
    )
    total: str = _key(
        "a total below the list over all matching rows: sum, avg, min or max",
        '"sum"',
        "",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class ListDecisions:
    """[list]: the page of all records."""

    columns: tuple[str, ...] = _key(
        "the columns after the title: its own, its formulas, and those of a record that"
        " it refers to",
        '["inspector_id", "result", "station_id.district_code"]',
        (),
    )
    wide_columns: tuple[str, ...] = _key(
        "the additional columns in wide windows",
        '["remarks", "next_due_on"]',
        (),
    )
    order: tuple[str, ...] = _key(
        'the initial order; "-" before a column for the latest or largest first',
        '["-inspected_on"]',
        (),
    )
    layouts: tuple[str, ...] = _key(
        "the layouts offered: table, cards, groups, chart, tree; the first is the default",
        '["table", "chart"]',
        (),
    )
    parent: str = _key(
        "the column that refers to the parent record, for a tree",
        '"parent_id"',
        "",
    )
    edit: str = _key(
        'where its rows are edited: "page", or "cells", in the list as well',
        '"cells"',
        "page",
    )
    unindexed: str = _key(
        "sorting and filtering by columns without an index, on a table with many"
        ' rows: "limited" in time, or "disabled"',
        '"disabled"',
        "limited",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class PageDecisions:
    """[record], [add], [edit]: one record's page, and the forms."""

    columns: tuple[str, ...] = _key(
        "the columns, in order; by default all, in their sections",
        '["name", "district_code"]',
        (),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Detail:
    """One block of related records: those of `table` that refer here `by` columns."""

    table: str
    by: tuple[str, ...] = field(
        metadata={"meaning": "the column that refers here, or several columns"}
    )
    label: str = field(
        default="",
        metadata={"meaning": "the label, by default their plural"},
    )
    edit: str = field(
        default="",
        metadata={
            "meaning": '"rows" to edit them as rows of the form of the record; "chosen" for a'
            " junction table whose other side is chosen"
            " there; by default each has a form of its own"
        },
    )
    position: str = field(
        default="",
        metadata={
            "meaning": "the column with the position of a row, by which rows are moved"
        },
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Refer:
    """A reference over several columns: those in `by` hold the values of the columns
    `to` of `table`."""

    table: str
    by: tuple[str, ...]
    to: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class TableDecisions:
    """The root of a table's file."""

    include: bool = _key("whether the application has this table", "false", True)
    singular: str = _key("one record", '"Inspection"', "")
    plural: str = _key("the records", '"Inspections"', "")
    title: str = _key(
        "the title of a record; columns in braces", '"{station_id} · {day}"', ""
    )
    pages: tuple[str, ...] = _key(
        "the pages of the table: list, add, edit, delete; a record's page always exists",
        '["list", "edit"]',
        PAGE_KINDS,
    )
    subtitle: tuple[str, ...] = _key(
        "the columns below the title where one is chosen, by default the first two of"
        " the list",
        '["district_code", "kind"]',
        (),
    )
    group: str = _key("the group in the menu", '"Field work"', "")
    where: str = _key(
        "the rows that the application shows, in lists, lookups and counts; a"
        " condition in SQL",
        '"archived_at IS NULL"',
        "",
    )
    soft_delete: str = _key(
        "the column that marks a record as deleted: it is then hidden, and can be"
        " restored; a date or a datetime, empty for the others, or a yes/no",
        '"deleted_at"',
        "",
    )
    key: tuple[str, ...] = _key(
        "the columns of the key, where no primary key is declared",
        '["code"]',
        (),
    )
    list: ListDecisions = field(default_factory=ListDecisions)
    record: PageDecisions = field(default_factory=PageDecisions)
    add: PageDecisions = field(default_factory=PageDecisions)
    edit: PageDecisions = field(default_factory=PageDecisions)
    sections: dict[str, tuple[str, ...]] = _key(
        "the fields of the form and the record, by section name",
        '"Position" = ["latitude", "longitude"]',
        {},
    )
    details: dict[str, tuple[Detail, ...]] = _key(
        "related records, by their table; false for none",
        'inspection = { by = "station_id", label = "Visits" }',
        {},
    )
    references: dict[str, tuple[Refer, ...]] = _key(
        "references over several columns that are not declared, by the table referred to;"
        " false for none",
        'light = { by = ["station", "light_no"], to = ["station", "no"] }',
        {},
    )
    field: dict[str, FieldDecisions] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Key:
    """One key of a section, with the kind of TOML value it takes."""

    name: str
    takes: str
    meaning: str
    example: str


_TAKES: dict[str, str] = {
    "label": "text",
    "kind": "kind",
    "help": "text",
    "hidden": "yes/no",
    "read_only": "yes/no",
    "required": "yes/no",
    "choices": "choices",
    "colours": "colours",
    "columns": "columns",
    "wide_columns": "columns",
    "order": "order",
    "include": "yes/no",
    "singular": "text",
    "plural": "text",
    "title": "title",
    "group": "text",
    "key": "columns",
    "pages": "pages",
    "where": "condition",
    "references": "reference",
    "storage_format": "storage_format",
    "other_values": "yes/no",
    "total": "total",
    "formula": "value",
    "editable_key": "yes/no",
    "generated": "generated",
    "rule": "condition",
    "message": "text",
    "lookup_columns": "borrowed",
    "layouts": "layouts",
    "edit": "edit",
    "unindexed": "unindexed",
    "unit": "text",
    "placeholder": "text",
    "width": "width",
    "depends_on": "depends_on",
    "automatic": "automatic",
    "folder": "folder",
    "subtitle": "columns",
    "time_zone": "time_zone",
    "parent": "parent",
    "soft_delete": "mark",
}


def keys_of(owner: type[Any]) -> dict[str, Key]:
    """Return the keys that `owner`, a dataclass of this module, holds directly."""
    return {
        item.name: Key(
            item.name,
            _TAKES[item.name],
            item.metadata["meaning"],
            item.metadata["example"],
        )
        for item in dataclass_fields(owner)
        if item.name in _TAKES
        and item.metadata
        # what holds others is a section of the table's file, and no key
        and not (owner is TableDecisions and item.default_factory is not MISSING)
    }


def _empty(item: Any) -> Any:
    """Return the value of a key that decides nothing."""
    if item.default_factory is not MISSING:
        return item.default_factory()
    return () if isinstance(item.default, tuple) else item.default


# What `KEY = false` means, by key; for a word of a few, the usual one
EMPTY: dict[str, Any] = {
    item.name: _empty(item)
    for owner in (FieldDecisions, ListDecisions, PageDecisions, TableDecisions)
    for item in dataclass_fields(owner)
    if item.metadata
}
