"""The pages of the documentation that are made from the code: what can be decided, by
which rules it is inferred, and the schemas that editors and programs read.

    python docs/build.py
"""

import json
import types
from collections.abc import Callable, Sequence
from dataclasses import MISSING, fields, is_dataclass
from pathlib import Path
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

from lumet.design.decision_schema import (
    DETAIL_EDITS,
    CardDecisions,
    CardPageDecisions,
    Detail,
    FieldDecisions,
    FrontDecisions,
    Key,
    ListDecisions,
    PageDecisions,
    TableDecisions,
    keys_of,
)
from lumet.design.value_types import COLUMNS, ValueType
from lumet.evidence.storage_format_detection import SPELLINGS
from lumet.expressions.conditions import FUNCTIONS
from lumet.inference import (
    cards,
    columns,
    details,
    kinds,
    layouts,
    references,
    relations,
    tables,
    titles,
)
from lumet.inference.name_similarity import likeness
from lumet.kinds import KINDS
from lumet.kit.contract import RIGHTS, SCALES
from lumet.project.surveyfile import FORMAT, Survey

DRAFT = "https://json-schema.org/draft/2020-12/schema"
_MADE = "Made by `python docs/build.py`; change the code instead."
_SECTIONS: tuple[tuple[str, str, type[Any]], ...] = (
    ("", "The table", TableDecisions),
    ("list", "[list]: the page of all records", ListDecisions),
    ("record", "[record]: the page of one record", PageDecisions),
    ("add", "[add]: the form for a new record", PageDecisions),
    ("edit", "[edit]: the form of a record", PageDecisions),
    ("field", "[field.COLUMN]: one column", FieldDecisions),
)
_BY_NAME = (
    ("sections", '"Position" = ["latitude", "longitude"]', "the columns of each section, by name"),
    ("details", 'inspection = { by = "station_id", label = "Visits", edit = "rows" }',
     "the blocks of related records, by their table; `false` for none, a list for several"),
    ("references", 'light = { by = ["station", "light_no"], to = ["station", "no"] }',
     "references over several columns that the database does not declare; `false` for none"),
    ("messages", 'inspection_days = "An inspection ends after it begins."',
     "the messages of check and unique constraints, by the name of the constraint"),
    ("transitions.status", 'finish = { from = ["reported", "planned"], to = "done", fields = ["done_on"] }',
     "the transitions of a choice, by their names"),
    ("actions", 'renumber = { call = "renumber_lights", parameters = { p_station = "{id}" } }',
     "the actions that call a stored procedure or function, by their names"),
)  # fmt: skip
_DETAIL = {
    item.name: item.metadata["meaning"] for item in fields(Detail) if item.metadata
}
_TEXTS = {"type": "array", "items": {"type": "string"}}
_ONE_ACTION: dict[str, Any] = {
    "type": "object",
    "required": ["call"],
    "properties": {
        "call": {"type": "string"},
        "label": {"type": "string"},
        "on": {"enum": ["record", "list"]},
        "right": {"enum": [*RIGHTS]},
        "roles": _TEXTS,
        "question": {"type": "string"},
        "message": {"type": "string"},
        "bulk": {"type": "boolean"},
        "parameters": {"type": "object"},
    },
    "additionalProperties": False,
}
_ONE_TRANSITION: dict[str, Any] = {
    "type": "object",
    "required": ["from", "to"],
    "properties": {
        "label": {"type": "string"},
        "from": _TEXTS,
        "to": {"type": "string"},
        "roles": _TEXTS,
        "where": {"type": "string"},
        "fields": _TEXTS,
    },
    "additionalProperties": False,
}
_COLUMNS = {"type": ["string", "array"], "items": {"type": "string"}}
_ONE_DETAIL: dict[str, Any] = {
    "type": "object",
    "required": ["by"],
    "properties": {
        name: {
            "description": meaning,
            **(
                _COLUMNS
                if name == "by"
                else {"enum": list(DETAIL_EDITS)}
                if name == "edit"
                else {"type": "string"}
            ),
        }
        for name, meaning in _DETAIL.items()
    },
    "additionalProperties": False,
}
_QUESTIONS: tuple[tuple[str, str, Sequence[Callable[..., Any]]], ...] = (
    ("Keys", "The key of a table, where none is declared.", (references.find_keys,)),
    ("References", "References between tables, where none is declared.",
     (likeness, references.find_references)),
    ("Included tables", "The tables of the application.", tables.INCLUDE_RULES),
    ("Singular", "The label of one record.", tables.SINGULAR_RULES),
    ("Plural", "The label of the records.", tables.PLURAL_RULES),
    ("Title", "The name of one record in lookups, lists and headings.", titles.TITLE_RULES),
    ("Group", "The menu group of a table.", tables.GROUP_RULES),
    ("Label", "The label of a column.", columns.LABEL_RULES),
    ("Kind", "How a column is displayed and entered.",
     (columns.kind_of_secret, *kinds.KIND_RULES)),
    ("Dependent lookups", "Lookups that limit the choices of another.", kinds.DEPENDS_ON_RULES),
    ("Unit", "The unit of a number.", columns.UNIT_RULES),
    ("Total", "Totals below lists and detail rows.", details.TOTAL_RULES),
    ("Storage formats", "How values are stored in a column of another type.", kinds.STORAGE_FORMAT_RULES),
    ("Other values", "Choices that accept values that are not listed.", kinds.OTHERS_RULES),
    ("Hidden", "Columns that are not shown.", columns.HIDDEN_RULES),
    ("Required", "Columns that must be entered.", columns.REQUIRED_RULES),
    ("Generated values", "Values of a new record where none is entered.", columns.GENERATED_RULES),
    ("Automatic values", "Stamps that the application writes.", columns.AUTOMATIC_RULES),
    ("Read-only", "Columns that are shown, but not entered.", columns.READ_ONLY_RULES),
    ("List", "The columns of a list, and its order.",
     (tables.columns_of_list, tables.order_of_list)),
    ("Layouts", "The columns of a calendar, a board and a map.",
     (layouts.expand_of_list, layouts.calendar_of_list, layouts.board_of_list, layouts.map_of_list)),
    ("Sections", "The sections of a form and a record.", (tables.sections_of,)),
    ("Related records", "The related records on a record's page.",
     (details.details_of_references, details.relation_label, relations.in_place,
      relations.position_of)),
    ("Many-to-many", "Junction tables, and their pages.",
     (relations.junction_of, tables.pages_of_table)),
    ("Trees", "Hierarchies within a table.", (relations.hierarchy_of,)),
    ("Cards", "The cards of the first page.", (cards.cards_of_front,)),
    ("Soft delete", "The column that marks deleted records.", (tables.soft_delete_of,)),
)  # fmt: skip


def survey_schema() -> dict[str, Any]:
    """Return the JSON Schema of survey.json."""
    definitions: dict[str, Any] = {}
    whole = _object(Survey, definitions)
    whole["properties"] = {"format": {"const": FORMAT}, **whole["properties"]}
    whole["required"] = ["format", *whole["required"]]
    return {
        "$schema": DRAFT,
        "title": "survey.json: what Lumet found in a database, and inferred from it",
        **whole,
        "$defs": dict(sorted(definitions.items())),
    }


def decisions_schema() -> dict[str, Any]:
    """Return the JSON Schema of a table's decision file, for editors."""
    properties = _properties(TableDecisions)
    for name, _, owner in _SECTIONS[1:]:
        each = {
            "type": "object",
            "properties": _properties(owner),
            "additionalProperties": False,
        }
        properties[name] = (
            {"type": "object", "additionalProperties": each}
            if name == "field"
            else each
        )
    listed = {"type": "object", "additionalProperties": COLUMNS.schema}
    properties |= {
        "sections": listed,
        "messages": {"type": "object", "additionalProperties": {"type": "string"}},
        "details": {
            "type": "object",
            "additionalProperties": {
                "oneOf": [
                    {"const": False},
                    _ONE_DETAIL,
                    {"type": "array", "items": _ONE_DETAIL},
                ]
            },
        },
        "references": {"type": "object"},
        "transitions": {
            "type": "object",
            "additionalProperties": {
                "type": "object",
                "additionalProperties": _ONE_TRANSITION,
            },
        },
        "actions": {"type": "object", "additionalProperties": _ONE_ACTION},
    }
    return {
        "$schema": DRAFT,
        "title": "Decisions about one table",
        "type": "object",
        "properties": properties,
        "additionalProperties": False,
    }


def _or_false(takes: ValueType) -> dict[str, Any]:
    schema = dict(takes.schema)
    return {"anyOf": [schema, {"const": False}]} if takes.can_be_emptied else schema


def _properties(owner: type[Any]) -> dict[str, Any]:
    return {
        name: {"description": key.meaning, **_or_false(key.takes)}
        for name, key in keys_of(owner).items()
    }


def decisions_page() -> str:
    """Return docs/decisions.md: every key, what it takes, its default and an example."""
    lines = [
        "# Decisions",
        "",
        f"<!-- {_MADE} -->",
        "",
        "One file a table, `design/tables/TABLE.toml`. A line that begins with `#~` is inferred and",
        "follows the database; write the key without it to decide yourself. `lumet review TABLE` shows",
        "each decision with its reason. `KEY = false` empties what was inferred: `help = false` shows no help,",
        "`order = false` no order; only where a key takes `true` or `false`, false is its value. Editors that know JSON Schema can check the files against",
        "[decisions.schema.json](decisions.schema.json).",
    ]
    for name, heading, owner in _SECTIONS:
        lines += [
            "",
            f"## {heading}",
            "",
            "| key | takes | default | means |",
            "|---|---|---|---|",
        ]
        lines += [
            _row(key, _default(owner, key.name)) for key in keys_of(owner).values()
        ]
        section = (
            f"[{name}.station_id]" if name == "field" else f"[{name}]" if name else ""
        )
        lines += ["", "```toml", *([section] if section else [])]
        lines += [f"{key.name} = {key.example}" for key in keys_of(owner).values()]
        lines += ["```"]
    lines += ["", "## Sections by name", "", "| section | means |", "|---|---|"]
    lines += [f"| `[{name}]` | {meaning} |" for name, _, meaning in _BY_NAME]
    lines += ["", "```toml"]
    for name, example_line, _ in _BY_NAME:
        lines += [f"[{name}]", example_line]
    lines += [
        "```",
        "",
        "Of a detail:",
        "",
        "| key | means |",
        "|---|---|",
        *(f"| `{name}` | {meaning} |" for name, meaning in _DETAIL.items()),
        "",
        "## Transitions",
        "",
        "Where a choice has transitions, each is a button on the record, for who may edit it: it is shown",
        "while the value is one of `from`, and changes it to `to`. `roles` leaves it to some roles, `where`, a",
        "condition in SQL, to records for which it holds; `fields` are asked for and saved with it, `label` is",
        "the button; without `fields` it is there for selected records too. Any other change of the column is refused, in forms, rows and bulk actions alike. A new",
        "record has a value that no transition leads to, where there is one. The history names transitions.",
        "",
        "```toml",
        "[transitions.status]",
        'plan = { from = ["reported"], to = "planned" }',
        'finish = { from = ["reported", "planned"], to = "done", roles = ["editor"], fields = ["done_on"] }',
        "```",
        "",
        "## Actions",
        "",
        "The survey reads the stored procedures and functions that the user who connects may execute. An action",
        'calls one: it is a button on records, with `on = "list"` above the list, and with `bulk = true` for',
        "selected records. Who has the `right` may use it, by default `edit`; `roles` leaves it to some of",
        "them. `question` is asked before. It runs within a transaction, past the rights on rows and fields, and",
        "is in the activity log; what a procedure commits itself stays.",
        "",
        'A parameter is a column of the record, `"{id}"`, an attribute of the user, `":user.name"`, or a constant.',
        "One that is not named is asked for, with its own name as the label; `label`, `kind`, `help`, `unit`,",
        "`placeholder`, `required`, `choices`, `pattern` and `message` say more about what is asked for.",
        "",
        "Values that come back (of a function, or in parameters) are shown, and so are rows: those of a function,",
        "and on MariaDB those of each `SELECT` in a procedure, at most 1,000 of each. `message` is shown instead",
        "of the values, with `{NAME}` for that of a parameter and `{result}` for that of a function. On PostgreSQL",
        "cursors that come back are not read; functions with a variable number of parameters, or with parameters",
        "of any type, are left out.",
        "",
        "```toml",
        "[actions.renumber]",
        'call = "renumber_lights"',
        'question = "Number the lights of this station anew?"',
        'message = "{p_count} lights have another number."',
        "[actions.renumber.parameters]",
        'p_station = "{id}"',
        'p_by = ":user.name"',
        'p_first = { label = "First number", help = "usually 1" }',
        "```",
        "",
        "## Kinds",
        "",
        "| kind | is | its own keys |",
        "|---|---|---|",
        *(
            f"| `{kind.name}` | {kind.meaning} | {', '.join(f'`{k}`' for k in kind.keys)} |"
            for kind in KINDS
        ),
        "",
        "## Spellings",
        "",
        "For `storage_format`: "
        + ", ".join(f"`{name}`" for name in (*SPELLINGS, *SCALES))
        + ", or two words for yes and",
        "no, such as `Y/N`.",
        "",
        "## Conditions",
        "",
        "`where` is an SQL condition in the dialect of the database: over the table's own columns, with",
        "sub-selects over surveyed tables. It is applied to the table before anything else is, so that",
        "what it leaves out is in no list, lookup, count or related block. The rules of",
        "[access.toml](access.md) are conditions too, and may name the user. Functions, each on the",
        "three servers unless one is named:",
        "",
        "| function | what it gives |",
        "|---|---|",
        *(f"| `{name}` | {told} |" for name, told in FUNCTIONS.items()),
        "",
        "## Values and pages of one's own",
        "",
        "A formula is a field that is no column: one value in SQL over a record's columns, with",
        "sub-selects. It is worked out for the rows of a page alone, and shown in lists, on the",
        "record and in exports; nothing is sorted or filtered by it. `kind` says how it is shown,",
        "by default by its type.",
        "",
        "```toml",
        "[list]",
        'columns = ["result", "open_findings", "station_id.district_code"]',
        "",
        "[field.open_findings]",
        'label = "Open"',
        'formula = "(SELECT count(*) FROM finding f WHERE f.inspection_id = inspection.id)"',
        "```",
        "",
        "A SELECT in `design/queries/NAME.sql` is shown as a view is, under its name, and has a",
        "decision file like any table. Its columns bring their types and references along. What a",
        "formula or a query reads of other tables are those rows, and those fields, that the user",
        "may see; who may not see one of the tables at all sees neither.",
        "",
        "A table that holds the codes of many columns has no value of its own to refer to: write a query",
        "for each kind of code, and let the columns refer to these.",
        "",
        "```sql",
        "-- design/queries/light_colour.sql",
        "SELECT value, label FROM code WHERE kind = 'colour'",
        "```",
        "",
        "```toml",
        "# design/tables/light_colour.toml",
        'key = ["value"]',
        "include = false",
        "",
        "# design/tables/light.toml",
        "[field.colour]",
        'references = "light_colour.value"',
        "```",
        *_cards_section(),
        "",
        "## For all tables at once",
        "",
        "`design/patterns.toml` decides by pattern, and a table's own file wins. A pattern is as in a",
        "shell, on `table.column`, on a column's type (`type:`) or on its comment (`comment:`); what",
        "comes later wins. `[table.PATTERN]` takes `include`, `group` and `pages`; `title`, `subtitle` and,",
        "in `[table.PATTERN.list]`, `columns` and `order`, which hold where a table has the columns; and",
        "`[table.PATTERN.details]` hides related records. A pattern that fits nothing is an error, but not in",
        "a file that `include` in `lumet.toml` names, which several projects may share.",
        "",
        "```toml",
        '[field."*.created_at"]',
        "hidden = true",
        '[field."type:numeric(*,2)"]',
        'kind = "money"',
        '[field."comment:*internal*"]',
        "hidden = true",
        '[table."*_log"]',
        'pages = ["list"]',
        '[table."*".details]',
        '"*_log" = false',
        "```",
        "",
        "`[glossary]`, in the same files, says what words of names stand for in labels, after a look at how",
        "names split at separators and capitals; an empty text leaves the word out. It comes before the",
        "abbreviations that Lumet knows, and holds for the labels of tables, columns, groups and choices.",
        "",
        "```toml",
        "[glossary]",
        'kst = "coast station"',
        'aton = "AtoN"',
        'fld = ""',
        "```",
        "",
    ]
    return "\n".join(lines)


def _cards_section() -> list[str]:
    """Return the section about pages of cards."""

    def keys(owner: type[Any]) -> list[str]:
        head = ["", "| key | takes | default | means |", "|---|---|---|---|"]
        return head + [
            _row(k, _default(owner, k.name)) for k in keys_of(owner).values()
        ]

    return [
        "",
        "## Cards",
        "",
        "`design/front.toml` decides the first page: its cards, in the order of the file, each a line of",
        "`[cards]`. Inferred ones are there too; the same line without `#~` changes one, `NAME = false` removes",
        "it. A figure shows no more than its user may see, is kept for a minute for all users of the same",
        "reach, and may take a second; each leads to the list behind it. A card whose table, column or filter",
        "a user may not see is left out. Users choose and order the cards of a page for themselves.",
        "",
        "```toml",
        "[cards]",
        'to_repair = { kind = "number", table = "repair", filter = "status.is=reported" }',
        'ours = { kind = "rows", table = "repair", filter = "status.is=reported&sort=-reported_on", label = "Latest" }',
        'costs = { kind = "line", table = "repair", by = "done_on", sum = "labour_eur", every = "year" }',
        'results = { kind = "bars", table = "inspection", by = "result" }',
        "station_by_kind = false",
        "```",
        *keys(FrontDecisions),
        "",
        "Of a card:",
        *keys(CardDecisions),
        "",
        "Files in `design/pages` are further pages of the same kind, in the menu: `NAME.toml` is at `/pages/NAME`.",
        *keys(CardPageDecisions),
    ]


def _row(key: Key, default: str) -> str:
    return f"| `{key.name}` | {key.takes.name} | {default} | {key.meaning} |"


def _default(owner: type[Any], name: str) -> str:
    default = next(item.default for item in fields(owner) if item.name == name)
    if default is MISSING or default in ("", (), None):
        return "inferred"
    return f"`{json.dumps(default)}`"


def extending_page() -> str:
    """Return docs/extending.md: the guide that each application holds."""
    text = (Path(__file__).parents[1] / "src/lumet/kit/EXTENDING.md").read_text("utf-8")
    heading, rest = text.split("\n", 1)
    return f"{heading}\n\n<!-- {_MADE} -->\n{rest}"


def rules_page() -> str:
    """Return docs/rules.md: every question with its rules, in the order they are tried."""
    lines = [
        "# Inference rules",
        "",
        f"<!-- {_MADE} -->",
        "",
        "Every question has a list of rules; the first that answers wins. Each is a small function",
        "that looks at the catalogue and at what the rows showed, and says why. The same database gives",
        "the same answers.",
    ]
    for heading, meaning, rules in _QUESTIONS:
        lines += ["", f"## {heading}", "", meaning, ""]
        for number, rule in enumerate(rules, 1):
            name = rule.__name__.replace("_", " ")
            told = " ".join((rule.__doc__ or "").split())
            lines.append(f"{number}. *{name}*: {told}")
    return "\n".join(lines) + "\n"


def _object(owner: Any, definitions: dict[str, Any]) -> dict[str, Any]:
    hints = get_type_hints(owner)
    required = [
        item.name
        for item in fields(owner)
        if item.default is MISSING and item.default_factory is MISSING
    ]
    first = (owner.__doc__ or "").split("\n\n")[0]
    return {
        "type": "object",
        "description": " ".join(first.split()),
        "properties": {
            item.name: _type(hints[item.name], definitions)
            for item in fields(owner)
            if item.metadata.get("kept", True)
        },
        "required": required,
        "additionalProperties": False,
    }


def _type(hint: Any, definitions: dict[str, Any]) -> dict[str, Any]:
    plain = {str: "string", bool: "boolean", int: "integer", float: "number"}
    origin, arguments = get_origin(hint), get_args(hint)
    if hint in plain:
        return {"type": plain[hint]}
    if origin is Literal:
        return {"enum": list(arguments)}
    if origin is tuple:
        return {"type": "array", "items": _type(arguments[0], definitions)}
    if origin is dict:
        return {
            "type": "object",
            "additionalProperties": _type(arguments[1], definitions),
        }
    if origin in (Union, types.UnionType):
        return {"anyOf": [_type(each, definitions) for each in arguments]}
    if hint is type(None):
        return {"type": "null"}
    if is_dataclass(hint):
        name = hint.__name__  # type: ignore[union-attr]
        if name not in definitions:
            definitions[name] = {}
            definitions[name] = _object(hint, definitions)
        return {"$ref": f"#/$defs/{name}"}
    return {}  # anything


def documents() -> dict[str, str]:
    """Return the text of each page by its name in docs."""
    return {
        "decisions.md": decisions_page(),
        "decisions.schema.json": json.dumps(decisions_schema(), indent=1) + "\n",
        "extending.md": extending_page(),
        "rules.md": rules_page(),
        "survey.schema.json": json.dumps(survey_schema(), indent=1) + "\n",
    }


if __name__ == "__main__":
    for page, text in documents().items():
        (Path(__file__).parent / page).write_text(text, encoding="utf-8")
