"""Comparison of two surveys of a database: additions, removals, changes."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Literal, TypeVar

from lumet.facts.model import WRITINGS, Check, Column, Database, Table

Kind = Literal["added", "dropped", "left out", "retyped", "changed", "renamed"]
What = Literal[
    "table",
    "column",
    "key",
    "reference",
    "unique",
    "check",
    "exclusion",
    "trigger",
    "definition",
    "rights",
    "routine",
]

_T = TypeVar("_T")
RENAMED = 0.6  # as sure as this, what went and what came may be the same


@dataclass(frozen=True, slots=True)
class Difference:
    """One difference. `name` is the column's, or the columns joined by " + ", "" for a
    table; `confidence` tells how sure a renaming is."""

    kind: Kind
    what: What
    table: str
    name: str = ""
    before: str = ""
    after: str = ""
    confidence: float = 1.0


def compare(
    before: Database, after: Database, catalogue: Collection[str] = ()
) -> tuple[Difference, ...]:
    """Return the differences between two databases, in the order of the tables' names.
    A table that is still in the `catalogue` is left out, not dropped.

    A table or column that went and one that came are called renamed, with a confidence,
    when place, type and name are alike enough; a person has to say so.
    """
    gone = [t for t in before.tables if t.name not in after.by_name]
    new = [t for t in after.tables if t.name not in before.by_name]
    found = [Difference("left out", "table", t.name) for t in gone if t.name in catalogue]  # fmt: skip
    gone = [table for table in gone if table.name not in catalogue]
    for old, fresh, sure in _pairs(gone, new, _table_likeness):
        gone.remove(old)
        new.remove(fresh)
        found.append(_renamed("table", fresh.name, "", old.name, fresh.name, sure))
        found += _compare_tables(old, fresh)
    found += [Difference("dropped", "table", table.name) for table in gone]
    found += [Difference("added", "table", table.name) for table in new]
    for table in after.tables:
        if table.name in before.by_name:
            found += _compare_tables(before.table(table.name), table)
    found += _compare_routines(before, after)
    found.sort(key=lambda each: each.table)
    return tuple(found)


def _compare_routines(before: Database, after: Database) -> list[Difference]:
    old, new = before.routine_by_name, after.routine_by_name
    found = [Difference("added", "routine", name) for name in new if name not in old]
    found += [Difference("dropped", "routine", name) for name in old if name not in new]
    found += [
        Difference("changed", "routine", name)
        for name, each in new.items()
        if old.get(name, each) != each
    ]
    return found


def _renamed(
    what: What, table: str, name: str, before: str, after: str, sure: float
) -> Difference:
    return Difference("renamed", what, table, name, before, after, round(sure, 2))


def _compare_tables(before: Table, after: Table) -> list[Difference]:
    name = after.name
    gone = [c for c in before.columns if not after.has_column(c.name)]
    new = [c for c in after.columns if not before.has_column(c.name)]
    found: list[Difference] = []

    def likeness(old: Column, fresh: Column) -> float:
        near = before.columns.index(old) == after.columns.index(fresh)
        return _column_likeness(old, fresh, near)

    for old, fresh, sure in _pairs(gone, new, likeness):
        gone.remove(old)
        new.remove(fresh)
        found.append(_renamed("column", name, fresh.name, old.name, fresh.name, sure))
    found += [Difference("added", "column", name, c.name, after=_told(c)) for c in new]
    found += [Difference("dropped", "column", name, c.name, _told(c)) for c in gone]
    for column in after.columns:
        if before.has_column(column.name):
            found += _compare_columns(name, before.column(column.name), column)
    if before.primary_key != after.primary_key:
        old_key, new_key = _joined(before.primary_key), _joined(after.primary_key)
        found.append(Difference("changed", "key", name, new_key, old_key, new_key))
    found += _compare_sets("reference", name, _references(before), _references(after))
    found += _compare_sets("unique", name, _uniques(before), _uniques(after))
    found += _compare_sets("check", name, _texts(before.checks), _texts(after.checks))
    exclusions = (_texts(before.exclusions), _texts(after.exclusions))
    found += _compare_sets("exclusion", name, *exclusions)
    triggers = (dict.fromkeys(before.triggers, ""), dict.fromkeys(after.triggers, ""))
    found += _compare_sets("trigger", name, *triggers)
    if before.definition != after.definition:
        found.append(Difference("changed", "definition", name))
    if before.denied != after.denied:
        rights = (_rights(before), _rights(after))
        found.append(Difference("changed", "rights", name, "", *rights))
    return found


def _compare_columns(table: str, before: Column, after: Column) -> list[Difference]:
    if before.type != after.type:
        old, new = before.type.native, after.type.native
        return [Difference("retyped", "column", table, after.name, old, new)]
    if before != after:
        old, new = _told(before), _told(after)
        return [Difference("changed", "column", table, after.name, old, new)]
    return []


def _told(column: Column) -> str:
    parts = [column.type.native or "no type"]
    parts.append("may be empty" if column.nullable else "needed")
    if column.default is not None:
        parts.append(f"default {column.default.text}")
    if column.generated:
        parts.append("computed")
    return ", ".join(parts)


def _joined(columns: Sequence[str]) -> str:
    return " + ".join(columns)


def _references(table: Table) -> dict[str, str]:
    return {
        f"{_joined(r.columns)} → {r.referred_table}": r.on_delete or "no rule"
        for r in table.references
    }


def _uniques(table: Table) -> dict[str, str]:
    return {_joined(unique.columns): "" for unique in table.uniques}


def _texts(checks: Sequence[Check]) -> dict[str, str]:
    return {check.text: "" for check in checks}


def _rights(table: Table) -> str:
    return ", ".join(each for each in WRITINGS if each not in table.denied)


def _compare_sets(
    what: What, table: str, before: dict[str, str], after: dict[str, str]
) -> list[Difference]:
    found = [Difference("added", what, table, n) for n in after if n not in before]
    found += [Difference("dropped", what, table, n) for n in before if n not in after]
    found += [
        Difference("changed", what, table, name, before[name], rule)
        for name, rule in after.items()
        if before.get(name, rule) != rule
    ]
    return found


def _column_likeness(old: Column, fresh: Column, is_in_place: bool) -> float:
    if old.type.kind != fresh.type.kind:
        return 0.0
    same = old.type == fresh.type
    name = SequenceMatcher(None, old.name.lower(), fresh.name.lower()).ratio()
    return 0.2 + 0.2 * same + 0.3 * is_in_place + 0.3 * name


def _table_likeness(old: Table, fresh: Table) -> float:
    ours = {(c.name, c.type.kind) for c in old.columns}
    theirs = {(c.name, c.type.kind) for c in fresh.columns}
    same = len(ours & theirs)
    # a column that has another name too counts half, where it stands at the same place
    pairs = zip(old.columns, fresh.columns, strict=False)
    moved = sum(a.type == b.type and a.name != b.name and (a.name, a.type.kind) not in theirs for a, b in pairs)  # fmt: skip
    most = max(len(ours), len(theirs), 1)
    shared = min(1.0, (same + moved / 2) / most)
    name = SequenceMatcher(None, old.name.lower(), fresh.name.lower()).ratio()
    return 0.75 * shared + 0.25 * name if shared > 0.5 else 0.0


def _pairs(
    gone: Sequence[_T], new: Sequence[_T], likeness: Callable[[_T, _T], float]
) -> list[tuple[_T, _T, float]]:
    """Pair removed with added names, the most similar first, each at most once."""
    scored = [
        (likeness(old, fresh), place, other)
        for place, old in enumerate(gone)
        for other, fresh in enumerate(new)
    ]
    taken_old: set[int] = set()
    taken_new: set[int] = set()
    pairs = []
    for sure, place, other in sorted(scored, key=lambda s: (-s[0], s[1], s[2])):
        if sure >= RENAMED and place not in taken_old and other not in taken_new:
            taken_old.add(place)
            taken_new.add(other)
            pairs.append((gone[place], new[other], sure))
    return pairs
