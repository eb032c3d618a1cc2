"""The schema of decisions: every key, its type and its meaning.

The dataclasses are the one source: reading, checking and documentation follow them.
"""

from dataclasses import MISSING, dataclass, field
from dataclasses import fields as dataclass_fields
from typing import Any

from lumet.design.value_types import (
    AUTOMATIC,
    CHOICES,
    COLUMN,
    COLUMN_WIDTHS,
    COLUMNS,
    CONDITION,
    DELETION_MARK,
    DEPENDS_ON,
    FOLDER,
    GENERATED_VALUE,
    ICON,
    KIND,
    LOOKUP_COLUMNS,
    NAMES,
    NONE,
    NUMBER,
    ORDER,
    PARENT,
    REFERENCE,
    REFERRED_CONDITION,
    REGEX,
    REQUIRED,
    SCALAR,
    SHOWN_COLUMNS,
    STORAGE_FORMAT,
    TABLES,
    TEXT,
    TIME_ZONE,
    TITLE,
    TOTAL,
    VALUE,
    YES_NO,
    Colours,
    ValueType,
    WordList,
    Words,
)
from lumet.kit.contract import (
    CARD_KINDS,
    COLOURS,
    EDIT_CELLS,
    EDIT_PAGE,
    LAYOUTS,
    NARROW,
    PERIODS,
    UNINDEXED,
    WIDE,
)

TITLE_DEPTH = 2  # references that a title may reach through
PAGE_KINDS = ("list", "add", "edit", "delete")
EDIT_ROWS, EDIT_CHOSEN = "rows", "chosen"
DETAIL_EDITS = (EDIT_ROWS, EDIT_CHOSEN)
LIST_EDITS = (EDIT_PAGE, EDIT_CELLS)
WIDTHS = (NARROW, WIDE)
DOUBTFUL = 0.7  # below, a person should look at an inferred decision


# What a wrong decision would cost, the dearest first: what is entered or stored, what
# can be seen and edited, how pages read.
ENTRIES, PAGES, WORDS = "Entries and stored values", "What is seen and edited", "How pages read"  # fmt: skip
SEVERITIES = (ENTRIES, PAGES, WORDS)
_OF_ENTRIES = frozenset({"kind", "references", "key", "none", "storage_format", "depends_on", "automatic",
                         "generated", "required", "type_column", "type_tables", "default",
                         "choices"})  # fmt: skip
_OF_PAGES = frozenset({"include", "pages", "hidden", "read_only", "soft_delete", "parent", "details"})  # fmt: skip


def severity_of(path: tuple[str, ...]) -> str:
    """Return the cost of a wrong decision, by the path of its key."""
    key = path[0] if path[0] in ("details", "references") else path[-1]
    return ENTRIES if key in _OF_ENTRIES else PAGES if key in _OF_PAGES else WORDS


@dataclass(frozen=True, slots=True)
class Entry:
    """One inferred decision: the path of its key in the table's file, its value, why,
    and how sure that is (from 0 to 1; below `DOUBTFUL` a person should look); `rule` is
    known as long as it is fresh, and not kept."""

    path: tuple[str, ...]
    value: Any
    reason: str = ""
    confidence: float = 1.0
    rule: str = ""

    @property
    def section(self) -> tuple[str, ...]:
        """The section of the key."""
        return self.path[:-1]


def _key(takes: ValueType | None, meaning: str, example: str, default: Any) -> Any:
    metadata = {"takes": takes, "meaning": meaning, "example": example}
    if isinstance(default, dict):
        return field(default_factory=dict, metadata=metadata)
    return field(default=default, metadata=metadata)


@dataclass(frozen=True, slots=True, kw_only=True)
class FieldDecisions:
    """[field.COLUMN]: how one column is named, shown and entered."""

    label: str = _key(TEXT, "the label shown to users", '"Inspected on"', "")
    kind: str = _key(
        KIND, "how the column is displayed and entered", '"long text"', "text"
    )
    storage_format: str = _key(
        STORAGE_FORMAT,
        "the format of a date, a datetime, or yes and no in a column of another type; of"
        " an amount in cents, or of a percentage that is stored as a fraction",
        '"DD.MM.YYYY"',
        "",
    )
    help: str = _key(TEXT, "a line below the control", '"in nautical miles"', "")
    unit: str = _key(TEXT, "the unit shown after the value", '"nm"', "")
    placeholder: str = _key(
        TEXT, "the placeholder of the empty control", '"such as LT-04"', ""
    )
    width: str = _key(
        Words("width", WIDTHS, "width takes no"),
        'the width of its control, "narrow" or "wide"; by default as usual for its kind',
        '"wide"',
        "",
    )
    time_zone: str = _key(
        TIME_ZONE,
        "the time zone of a datetime that is stored without one; users see it in their own",
        '"UTC"',
        "",
    )
    references: str = _key(
        REFERENCE,
        "the referenced column, where no foreign key is declared",
        '"station.code"',
        "",
    )
    none: str | None = _key(
        NONE,
        "the value that means none, in a reference or a date whose column takes no NULL;"
        ' "" is a text without a character but blanks',
        "0",
        None,
    )
    hidden: bool = _key(YES_NO, "shown nowhere", "true", False)
    required: bool | None = _key(
        REQUIRED,
        "whether a value must be entered; by default where the database takes no NULL. A"
        " text that may stay empty and takes no NULL is stored as an empty text",
        "false",
        None,
    )
    default: str = _key(
        SCALAR,
        "the value with which a new record begins, instead of the database's default",
        '"lit"',
        "",
    )
    minimum: float | None = _key(
        NUMBER, "the lowest number that is accepted", "0", None
    )
    maximum: float | None = _key(
        NUMBER, "the highest number that is accepted", "360", None
    )
    pattern: str = _key(
        REGEX,
        "a regular expression that a text must match as a whole; the message is `message`",
        '"[A-Z]{2}-[0-9]+"',
        "",
    )
    read_only: bool = _key(YES_NO, "shown, but not entered", "true", False)
    choices: dict[str, str] = _key(
        CHOICES,
        "the values of a choice with their labels; a list of values will do",
        '{ ok = "Passed", bad = "Failed" }',
        {},
    )
    other_values: bool = _key(
        YES_NO,
        "whether a choice, or a lookup, accepts other values as well",
        "true",
        False,
    )
    colours: dict[str, str] = _key(
        Colours(COLOURS),
        "the colour and shape of the mark before a choice: green, amber, red or blue",
        '{ ok = "green", bad = "red" }',
        {},
    )
    formula: str = _key(
        VALUE,
        "the value of a field that is no column: one value in SQL, sub-selects too",
        '"(SELECT count(*) FROM light l WHERE l.station_id = station.id)"',
        "",
    )
    lookup_columns: tuple[str, ...] = _key(
        LOOKUP_COLUMNS,
        "of a lookup: columns of the referenced record that are shown beside it",
        '["district_code", "phone"]',
        (),
    )
    depends_on: tuple[str, ...] = _key(
        DEPENDS_ON,
        "of a lookup: the lookups that limit its choices",
        '["station_id"]',
        (),
    )
    type_column: str = _key(
        COLUMN,
        "of a key of one of several tables: the column that says of which",
        '"subject_type"',
        "",
    )
    type_tables: dict[str, str] = _key(
        TABLES,
        "the values of that column, with their tables; without one the beginnings of a"
        " text that holds a table and a key, such as `vessel:17`",
        '{ Station = "station", Vessel = "vessel" }',
        {},
    )
    where: str = _key(
        REFERRED_CONDITION,
        "of a lookup: the records that can be chosen; a condition in SQL over the table"
        " that it refers to",
        '"closed_on IS NULL"',
        "",
    )
    folder: str = _key(
        FOLDER,
        "of a column that names files: the folder, among the uploads, where they are and"
        " new ones go; without one the names stay texts",
        '"station/photos"',
        "",
    )
    editable_key: bool = _key(
        YES_NO,
        "of a key that people enter: whether it can be changed afterwards",
        "true",
        False,
    )
    generated: str = _key(
        GENERATED_VALUE,
        'the value of a new record where none is entered: "max + 1", the next number, or'
        ' "uuid"',
        '"max + 1"',
        "",
    )
    automatic: str = _key(
        AUTOMATIC,
        "the value that the application writes: created at, created by, changed"
        " at or changed by; where no trigger does",
        '"changed by"',
        "",
    )
    rule: str = _key(
        CONDITION,
        "a condition in SQL that every record must satisfy; NULL passes",
        '"ends_on >= starts_on"',
        "",
    )
    message: str = _key(
        TEXT,
        "the message where the rule does not hold, or the pattern does not match",
        '"It ends before it begins."',
        "",
    )
    total: str = _key(
        TOTAL,
        "a total below the list over all matching rows: sum, avg, min or max",
        '"sum"',
        "",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class ListDecisions:
    """[list]: the page of all records."""

    columns: tuple[str, ...] = _key(
        SHOWN_COLUMNS,
        "the columns after the title: its own, its formulas, and those of a record that"
        " it refers to",
        '["inspector_id", "result", "station_id.district_code"]',
        (),
    )
    wide_columns: tuple[str, ...] = _key(
        SHOWN_COLUMNS,
        "the additional columns in wide windows",
        '["remarks", "next_due_on"]',
        (),
    )
    column_widths: dict[str, int] = _key(
        COLUMN_WIDTHS,
        'the widths of columns in pixels, that of the titles as "record-title"',
        "{ record-title = 220, remarks = 300 }",
        {},
    )
    order: tuple[str, ...] = _key(
        ORDER,
        'the initial order; "-" before a column for the latest or largest first',
        '["-inspected_on"]',
        (),
    )
    layouts: tuple[str, ...] = _key(
        WordList("layouts", LAYOUTS, "There is no layout", least=1),
        "the layouts offered: table, cards, groups, chart, tree, calendar, board, map; the"
        " first is the default",
        '["table", "chart"]',
        (),
    )
    filters: tuple[str, ...] = _key(
        COLUMNS,
        "the columns that the list can be filtered by; by default all",
        '["state", "district_code"]',
        (),
    )
    search: tuple[str, ...] = _key(
        COLUMNS,
        "the columns that a search looks in; by default the title and the texts that the"
        " list shows",
        '["name", "code"]',
        (),
    )
    parent: str = _key(
        PARENT,
        "the column that refers to the parent record, for a tree",
        '"parent_id"',
        "",
    )
    expand: str = _key(
        TEXT,
        "the table whose related records open within a row",
        '"inspection_finding"',
        "",
    )
    calendar: tuple[str, ...] = _key(
        COLUMNS,
        "the date by which a calendar has its rows, or the first and the last",
        '["begins_on", "ends_on"]',
        (),
    )
    board: str = _key(
        COLUMN,
        "the choice, lookup or yes/no whose values are the columns of a board",
        '"status"',
        "",
    )
    map: tuple[str, ...] = _key(
        COLUMNS,
        "the latitude and the longitude by which a map has its rows",
        '["latitude", "longitude"]',
        (),
    )
    edit: str = _key(
        Words("edit", LIST_EDITS, "edit takes no"),
        'where its rows are edited: "page", or "cells", in the list as well',
        '"cells"',
        "page",
    )
    unindexed: str = _key(
        Words("unindexed", UNINDEXED, "unindexed takes no"),
        "sorting and filtering by columns without an index, on a table with many"
        ' rows: "limited" in time, or "disabled"',
        '"disabled"',
        "limited",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class PageDecisions:
    """[record], [add], [edit]: one record's page, and the forms."""

    columns: tuple[str, ...] = _key(
        COLUMNS,
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
class Transition:
    """A change of the value of `column` from one of `sources` to `target`, by users
    with one of the `roles`, where the condition `where` holds; `fields` are asked
    for."""

    name: str
    column: str
    sources: tuple[str, ...]
    target: str
    label: str = ""
    roles: tuple[str, ...] = ()
    where: str = ""
    fields: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Argument:
    """The argument for the parameter of this `name`: the value of a `column` of the
    record, an attribute of the `user`, what is asked for in a `field`, or else a
    constant `value`."""

    name: str
    column: str = ""
    user: str = ""
    field: FieldDecisions | None = None
    value: Any = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Action:
    """A button `on` records or the list that calls a stored procedure or function, for
    who has the `right`, and of these, where there are `roles`, for them alone."""

    name: str
    call: str
    arguments: tuple[Argument, ...] = ()
    label: str = ""
    question: str = ""
    message: str = ""
    on: str = "record"
    right: str = "edit"
    roles: tuple[str, ...] = ()
    bulk: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class TableDecisions:
    """The root of a table's file."""

    include: bool = _key(
        YES_NO, "whether the application has this table", "false", True
    )
    singular: str = _key(TEXT, "one record", '"Inspection"', "")
    plural: str = _key(TEXT, "the records", '"Inspections"', "")
    title: str = _key(
        TITLE, "the title of a record; columns in braces", '"{station_id} · {day}"', ""
    )
    pages: tuple[str, ...] = _key(
        WordList("pages", PAGE_KINDS, "There is no kind of page"),
        "the pages of the table: list, add, edit, delete; a record's page always exists",
        '["list", "edit"]',
        PAGE_KINDS,
    )
    folded: tuple[str, ...] = _key(
        NAMES,
        "the sections of the form and the record that are folded until they are opened",
        '["Rarely used"]',
        (),
    )
    subtitle: tuple[str, ...] = _key(
        COLUMNS,
        "the columns below the title where one is chosen, by default the first two of"
        " the list",
        '["district_code", "kind"]',
        (),
    )
    group: str = _key(TEXT, "the group in the menu", '"Field work"', "")
    icon: str = _key(
        ICON, "its icon in the menu, one of the Bootstrap Icons", '"lightbulb"', ""
    )
    where: str = _key(
        CONDITION,
        "the rows that the application shows, in lists, lookups and counts; a"
        " condition in SQL",
        '"archived_at IS NULL"',
        "",
    )
    soft_delete: str = _key(
        DELETION_MARK,
        "the column that marks a record as deleted: it is then hidden, and can be"
        " restored; a date or a datetime, empty for the others, or a yes/no",
        '"deleted_at"',
        "",
    )
    key: tuple[str, ...] = _key(
        COLUMNS,
        "the columns of the key, where no primary key is declared",
        '["code"]',
        (),
    )
    list: ListDecisions = field(default_factory=ListDecisions)
    record: PageDecisions = field(default_factory=PageDecisions)
    add: PageDecisions = field(default_factory=PageDecisions)
    edit: PageDecisions = field(default_factory=PageDecisions)
    sections: dict[str, tuple[str, ...]] = _key(
        None,
        "the fields of the form and the record, by section name",
        '"Position" = ["latitude", "longitude"]',
        {},
    )
    details: dict[str, tuple[Detail, ...]] = _key(
        None,
        "related records, by their table; false for none",
        'inspection = { by = "station_id", label = "Visits" }',
        {},
    )
    references: dict[str, tuple[Refer, ...]] = _key(
        None,
        "references over several columns that are not declared, by the table referred to;"
        " false for none",
        'light = { by = ["station", "light_no"], to = ["station", "no"] }',
        {},
    )
    messages: dict[str, str] = _key(
        None,
        "the messages of check and unique constraints, by the name of the constraint",
        'inspection_days = "An inspection ends after it begins."',
        {},
    )
    transitions: dict[str, tuple[Transition, ...]] = _key(
        None,
        "the transitions of a choice, by its column: no other change of it is accepted;"
        " `from`, `to`, and as wanted `label`, `roles`, `where`, a condition in SQL, and"
        " `fields` to ask for",
        'finish = { from = ["reported", "planned"], to = "done", fields = ["done_on"] }',
        {},
    )
    actions: dict[str, Action] = _key(
        None,
        "actions that call a stored procedure or function: `call`, and as wanted `label`,"
        ' `on`, "record" or "list", `right`, `roles`, `question`, `message`, `bulk` and'
        " `parameters`",
        'renumber = { call = "renumber_lights", parameters = { p_station = "{id}" } }',
        {},
    )
    field: dict[str, FieldDecisions] = field(default_factory=dict)


AMOUNTS = ("sum", "average")  # keys of a card


@dataclass(frozen=True, slots=True, kw_only=True)
class CardDecisions:
    """[cards]: one card of the first page, or of a page of its own."""

    kind: str = _key(
        Words("kind", CARD_KINDS, "There is no kind of card"),
        "number, bars, line, shares, or rows, the first of a list; recent: the records"
        " that the user opened or changed last; views: the saved views; tables",
        '"bars"',
        "",
    )
    table: str = _key(TEXT, "the table, view or query", '"repair"', "")
    filter: str = _key(
        TEXT,
        "its rows: the query of its list, as the address has it behind the ?;"
        " `:user.NAME` is an attribute of the user",
        '"status.is=reported&district_code.is=:user.district"',
        "",
    )
    by: str = _key(
        TEXT,
        "the column of the bars and shares: a choice, a lookup, a yes/no or a date; of a"
        " line the date",
        '"status"',
        "",
    )
    sum: str = _key(
        TEXT, "the column whose sum is shown instead of the number of rows", '"cost_eur"', ""
    )  # fmt: skip
    average: str = _key(
        TEXT, "the column whose average is shown instead; not of shares", '"cost_eur"', ""
    )  # fmt: skip
    every: str = _key(
        Words("every", PERIODS, "A line has a point for every year, month or day, not"),
        "of a line: year, month or day; by default month",
        '"year"',
        "",
    )
    label: str = _key(TEXT, "its label; by default what it shows", '"To repair"', "")
    roles: tuple[str, ...] = _key(
        NAMES, "the roles that have it; by default all that see the table", '["editor"]', ()
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class FrontDecisions:
    """design/front.toml: the first page."""

    inferred: bool = _key(
        YES_NO, "whether it has the inferred cards besides those of your own", "false", True
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class CardPageDecisions:
    """design/pages/NAME.toml: a further page of cards."""

    label: str = _key(TEXT, "its label in the menu", '"Field work"', "")
    group: str = _key(
        TEXT, 'its group in the menu; by default "Pages"', '"Overviews"', ""
    )
    icon: str = _key(ICON, "its icon in the menu", '"speedometer2"', "")
    roles: tuple[str, ...] = _key(
        NAMES, "the roles that have it; by default all", '["keeper"]', ()
    )


@dataclass(frozen=True, slots=True)
class Key:
    """One key of a section, with the kind of TOML value it takes."""

    name: str
    takes: ValueType
    meaning: str
    example: str


def keys_of(owner: type[Any]) -> dict[str, Key]:
    """Return the keys that `owner`, a dataclass of this module, holds directly."""
    return {
        item.name: Key(
            item.name,
            item.metadata["takes"],
            item.metadata["meaning"],
            item.metadata["example"],
        )
        for item in dataclass_fields(owner)
        # what holds others is a section of the table's file, and no key
        if item.metadata.get("takes")
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
