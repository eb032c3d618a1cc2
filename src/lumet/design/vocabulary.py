"""The vocabulary of decisions: every key there is, its type and what it means.

The dataclasses are the one source: reading, checking and documentation follow them.
"""

from dataclasses import dataclass, field
from dataclasses import fields as dataclass_fields
from typing import Any, Literal, get_args

FieldKind = Literal[
    "text",
    "long text",
    "integer",
    "code",
    "decimal",
    "yes/no",
    "date",
    "time",
    "moment",
    "choice",
    "lookup",
    "json",
    "other",
]
Tone = Literal["good", "warn", "bad", "calm"]

FIELD_KINDS: tuple[str, ...] = get_args(FieldKind)
TONES: tuple[str, ...] = get_args(Tone)


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
        """The heading that the key stands under."""
        return self.path[:-1]


DOUBTFUL = 0.7


def _key(meaning: str, example: str, default: Any) -> Any:
    metadata = {"meaning": meaning, "example": example}
    if isinstance(default, dict):
        return field(default_factory=dict, metadata=metadata)
    return field(default=default, metadata=metadata)


@dataclass(frozen=True, slots=True, kw_only=True)
class FieldDecisions:
    """[field.COLUMN]: how one column is named, shown and entered."""

    label: str = _key("what people call it", '"Inspected on"', "")
    kind: FieldKind = _key("how it is shown and entered", '"long text"', "text")
    help: str = _key("a line below the control", '"in nautical miles"', "")
    references: str = _key(
        "what the column refers to, where no reference is declared",
        '"station.code"',
        "",
    )
    hidden: bool = _key("shown nowhere", "true", False)
    read_only: bool = _key("shown, never entered", "true", False)
    choices: dict[str, str] = _key(
        "the values of a choice with their labels; a list of values will do",
        '{ ok = "Passed", bad = "Failed" }',
        {},
    )
    tones: dict[str, str] = _key(
        "the mark before a choice: good, warn, bad or calm",
        '{ ok = "good", bad = "bad" }',
        {},
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class ListDecisions:
    """[list]: the page of all records."""

    columns: tuple[str, ...] = _key(
        "the columns after the title", '["inspector_id", "result"]', ()
    )
    order: tuple[str, ...] = _key(
        'the order at first; "-" before a column for the latest or largest first',
        '["-inspected_on"]',
        (),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Detail:
    """One block of related records: those of `table` that refer here `by` columns."""

    table: str
    by: tuple[str, ...]
    label: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class TableDecisions:
    """The root of a table's file."""

    include: bool = _key("whether the application has this table", "false", True)
    singular: str = _key("one record", '"Inspection"', "")
    plural: str = _key("the records", '"Inspections"', "")
    title: str = _key(
        "how one record is named; columns in braces", '"{station_id} · {day}"', ""
    )
    group: str = _key("where it stands in the menu", '"Field work"', "")
    key: tuple[str, ...] = _key(
        "the columns that tell one record from another, where no key is declared",
        '["code"]',
        (),
    )
    list: ListDecisions = field(default_factory=ListDecisions)
    sections: dict[str, tuple[str, ...]] = _key(
        "the fields of the form and the record, by section name",
        '"Position" = ["latitude", "longitude"]',
        {},
    )
    details: dict[str, tuple[Detail, ...]] = _key(
        "blocks of related records, by their table; false for none",
        'inspection = { by = "station_id", label = "Visits" }',
        {},
    )
    field: dict[str, FieldDecisions] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Key:
    """One key that may stand in a section, with the kind of TOML value it takes."""

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
    "choices": "choices",
    "tones": "tones",
    "columns": "columns",
    "order": "order",
    "include": "yes/no",
    "singular": "text",
    "plural": "text",
    "title": "title",
    "group": "text",
    "key": "columns",
    "references": "reference",
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
    }
