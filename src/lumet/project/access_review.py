"""The rights in words: every role on every table, and the changes since the
application was generated last."""

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lumet.design.access import RoleDecisions
from lumet.design.decision_schema import EDIT_ROWS
from lumet.facts.dialects import server_of
from lumet.generation.merge_writer import MANIFEST
from lumet.generation.model import Application
from lumet.kit.contract import HIDDEN, RIGHTS
from lumet.project.surveyfile import read_survey

GENERAL = ""  # stands for a table where a right is on none
KEPT = "access"  # what the record of a generation calls the rights it wrote
Summary = dict[
    str, dict[str, list[str]]
]  # by role and table: rights and rules, in words


@dataclass(frozen=True, slots=True)
class AccessReview:
    """The rights in words by role and table; `changes` are what is not generated yet,
    None where nothing was generated before."""

    labels: Mapping[str, str]
    groups: Mapping[str, list[str]]  # the tables by their menu group
    attributes: Mapping[str, str]
    told: Summary = field(default_factory=dict)
    changes: list[tuple[str, str, list[str], list[str]]] | None = None
    open_views: list[tuple[str, str, str]] = field(default_factory=list)
    open_details: list[tuple[str, str, str]] = field(default_factory=list)


def review_access(folder: Path) -> AccessReview:
    """Return the rights by the decisions in `folder`. Raises Mistakes."""
    from lumet.project.generating import load  # which keeps what is told here

    application = load(folder, read_survey(folder))
    told = in_words(application)
    before = _generated(folder)
    groups: dict[str, list[str]] = {}
    for name, decisions in application.decisions.items():
        if decisions.include:
            groups.setdefault(decisions.group or "Tables", []).append(name)
    return AccessReview(
        labels={role.name: role.label for role in application.access.roles},
        groups=dict(sorted(groups.items())),
        attributes=application.access.attributes,
        told=told,
        changes=None if before is None else _changes(before, told),
        open_views=open_views(application),
        open_details=open_details(application),
    )


def open_details(application: Application) -> list[tuple[str, str, str]]:
    """Return roles that see all records of a table which belong to records of another
    of which they see some alone: the role, the table, and the one with the rule. A rule
    does not follow to what refers to its table."""
    found = []
    for name, decisions in application.decisions.items():
        details = [each for several in decisions.details.values() for each in several]
        owned = {each.table for each in details if each.edit == EDIT_ROWS}
        for role in application.access.roles:
            if not role.rows_on(name, decisions.group):
                continue
            for child in sorted(owned):
                group = application.decisions[child].group
                sees = "view" in role.rights_on(child, group)
                if sees and not role.rows_on(child, group):
                    found.append((role.name, child, name))
    return found


def open_views(application: Application) -> list[tuple[str, str, str]]:
    """Return roles with a view that shows all of a table which is limited for them: the
    role, the view and the table. The database does not know the rules."""
    found = []
    views = [t for t in application.database.tables if t.is_view and t.definition]
    for view in views:
        group = application.decisions[view.name].group
        read = _tables_read(application, view.definition)
        for role in application.access.roles:
            if "view" not in role.rights_on(view.name, group):
                continue
            if role.rows_on(view.name, group):
                continue
            found += [
                (role.name, view.name, name)
                for name in read
                if _is_limited(application, role, name)
            ]
    return found


def _tables_read(application: Application, definition: str) -> list[str]:
    import sqlglot  # slow to import
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    by_name = {t.own_name.casefold(): t.name for t in application.database.tables}
    dialect = server_of(application.dialect).sqlglot
    try:
        parsed = sqlglot.parse_one(definition, read=dialect)
    except SqlglotError:
        return []
    named = [node.name.casefold() for node in parsed.find_all(exp.Table)]
    return sorted({by_name[name] for name in named if name in by_name})


def _is_limited(application: Application, role: RoleDecisions, name: str) -> bool:
    group = application.decisions[name].group
    columns = application.database.table(name).columns
    return bool(
        "view" not in role.rights_on(name, group)
        or role.rows_on(name, group)
        or any(role.limit_on(name, column.name) == HIDDEN for column in columns)
    )


def in_words(application: Application) -> Summary:
    """Return the rights of each role on each table, in words."""
    included = {
        name: each.group for name, each in application.decisions.items() if each.include
    }
    found = {}
    for role in application.access.roles:
        held = {GENERAL: [each.words.format(value=v) for each, v in role.settings]}
        for name, group in included.items():
            columns = [c.name for c in application.database.table(name).columns]
            held[name] = _on_table(role, name, group, columns)
        found[role.name] = held
    return found


def _on_table(
    role: RoleDecisions, table: str, group: str, columns: list[str]
) -> list[str]:
    rights = role.rights_on(table, group)
    found = [rights_in_words(rights)]
    if not rights:
        return found
    if rows := role.rows_on(table, group):
        found.append(f"only rows where {rows}")
    if changes := role.changes_on(table, group):
        found.append(f"changes only where {changes}")
    limits: dict[str, list[str]] = {}
    for column in columns:
        if limit := role.limit_on(table, column):
            limits.setdefault(limit, []).append(column)
    return found + [f"{limit}: {', '.join(names)}" for limit, names in limits.items()]


def rights_in_words(rights: tuple[str, ...]) -> str:
    """Return rights on a table in a few words."""
    held = [right for right in RIGHTS if right in rights]
    if len(held) == len(RIGHTS):
        return "everything"
    if len(held) == len(RIGHTS) - 1 and "view" in held:
        missing = next(right for right in RIGHTS if right not in held)
        return f"all but {missing}"
    return ", ".join(held) or "nothing"


def _generated(folder: Path) -> Summary | None:
    """Return the rights that the last generation wrote, None where there is none."""
    try:
        found = json.loads((folder / MANIFEST).read_bytes())[KEPT]
    except (OSError, ValueError, KeyError):
        return None
    return found if isinstance(found, dict) else None


def _changes(
    before: Summary, now: Summary
) -> list[tuple[str, str, list[str], list[str]]]:
    found = []
    for role in dict.fromkeys([*before, *now]):
        was, is_ = before.get(role, {}), now.get(role, {})
        for table in dict.fromkeys([*was, *is_]):
            old, new = was.get(table, []), is_.get(table, [])
            if old != new:
                found.append((role, table, old, new))
    return found


def as_json(found: AccessReview) -> dict[str, Any]:
    """Return the review for programs."""
    return {
        "roles": dict(found.labels),
        "user": dict(found.attributes),
        "rights": found.told,
        "changes": [
            {"role": role, "table": table, "before": old, "now": new}
            for role, table, old, new in found.changes or ()
        ],
        "open views": [
            {"role": role, "view": view, "table": table}
            for role, view, table in found.open_views
        ],
        "open details": [
            {"role": role, "table": child, "of": table}
            for role, child, table in found.open_details
        ],
    }
