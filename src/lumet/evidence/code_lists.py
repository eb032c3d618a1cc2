"""Tables that hold the codes of many columns: a group, the codes in it, their labels."""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from lumet.facts.model import Column, Table

MOST_ROWS = 2_000  # of a table of codes
MOST_COLUMNS = 10
_WORD = re.compile(r"[A-Z]?[a-z]+|[A-Z]+")
_GROUPS = ("group", "grp", "list", "codelist", "kind", "type", "typ", "domain", "category", "cat", "class",
           "field", "column", "set", "table", "tab", "dictionary")  # fmt: skip
_CODES = ("code", "cd", "value", "val", "key", "id")
_LABELS = ("label", "meaning", "description", "descr", "desc", "text", "txt", "name", "title", "caption")  # fmt: skip


@dataclass(frozen=True, slots=True)
class CodeLists:
    """The codes of a table, with what is in its column `label`, by what is in
    `column`."""

    column: str = ""
    label: str = ""
    codes: dict[str, dict[str, str]] = field(default_factory=dict)


def find_code_lists(table: Table, rows: Sequence[Sequence[Any]]) -> CodeLists:
    """Return the codes of a table that holds those of several columns, none of any
    other: a group, a code that is unique in it, and a short label are there by name,
    and at least two groups have two codes on average. Example: `code (kind, value,
    label)` with `colour`, `W`, `White`."""
    if not 4 <= len(rows) <= MOST_ROWS or len(table.columns) > MOST_COLUMNS:
        return CodeLists()
    places = {column.name: place for place, column in enumerate(table.columns)}
    texts = [c for c in table.columns if c.type.kind == "text"]
    whole = [c for c in table.columns if c.type.kind == "integer" and not c.automatic]
    for group in _named(texts, _GROUPS):
        for code in _named([*texts, *whole], _CODES):
            for label in _named(texts, _LABELS):
                if len({group.name, code.name, label.name}) < 3:
                    continue
                at = (places[group.name], places[code.name], places[label.name])
                if found := _lists(rows, at):
                    return CodeLists(group.name, label.name, found)
    return CodeLists()


def _named(columns: Iterable[Column], words: Sequence[str]) -> list[Column]:
    """Return the columns whose names end in one of some words, by the order of these;
    in a name in one piece the short ones say nothing."""
    found = []
    for column in columns:
        last = _WORD.findall(column.name)[-1:]
        for place, word in enumerate(words):
            is_end = len(word) > 2 and column.name.casefold().endswith(word)
            if is_end or (last and last[0].casefold() == word):
                found.append((place, column))
                break
    return [column for _place, column in sorted(found, key=lambda each: each[0])]


def _lists(
    rows: Sequence[Sequence[Any]], at: tuple[int, int, int]
) -> dict[str, dict[str, str]]:
    """Return the labels of the codes by group, {} where they are no such lists."""
    found: dict[str, dict[str, str]] = {}
    for row in rows:
        group, code, label = (row[place] for place in at)
        if group in (None, "") or code in (None, "") or label in (None, ""):
            return {}
        held = found.setdefault(str(group).strip(), {})
        if str(code).strip() in held:
            return {}
        held[str(code).strip()] = str(label).strip()
    is_grouped = len(found) > 1 and len(rows) >= 2 * len(found)
    return found if is_grouped else {}
