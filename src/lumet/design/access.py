"""Roles and their rights, as decided in `access.toml`."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any

from lumet.design.reading import Checker, nearest
from lumet.design.statements import Path
from lumet.design.vocabulary import Entry

RIGHTS = ("view", "add", "edit", "delete", "export")
GROUP_PREFIX = "group:"
_ROLE_KEYS = ("label", "accounts", "tables")


@dataclass(frozen=True, slots=True)
class RoleDecisions:
    """One role. `tables` maps patterns to rights: a table's name, a shell pattern, or
    `group:` and the name of a menu group."""

    name: str
    label: str
    accounts: bool
    tables: dict[str, tuple[str, ...]]

    def rights_on(self, table: str, group: str) -> tuple[str, ...]:
        """Return the rights on `table`; the nearest pattern decides: its name, then
        the last shell pattern that fits, then its menu group, then `*`."""
        if table in self.tables:
            return self.tables[table]
        fitting = [
            rights
            for pattern, rights in self.tables.items()
            if pattern != "*" and fnmatchcase(table, pattern)
        ]
        if fitting:
            return fitting[-1]
        general = self.tables.get("*", ())
        return self.tables.get(GROUP_PREFIX + group, general)


def read_access(
    checker: Checker, tables: Iterable[str], groups: Iterable[str]
) -> dict[Path, Any]:
    """Return a person's decisions about roles by path, those that hold."""
    names, group_names = list(tables), list(groups)
    found: dict[Path, Any] = {}
    for key, value in checker.values.items():
        if key != "role" or not isinstance(value, dict):
            checker.known((key,), key, ("role",), "There is no section")
            continue
        for role, decisions in value.items():
            if decisions is False:
                found["role", role] = False
            elif isinstance(decisions, dict):
                _read_role(checker, role, decisions, found)
            else:
                checker.wrong(("role", role), f"Write [role.{role}] above its keys.")
    for path in [path for path in found if path[2:3] == ("tables",)]:
        _check_pattern(checker, path, names, group_names)
    return found


def _read_role(
    checker: Checker, role: str, decisions: dict[str, Any], found: dict[Path, Any]
) -> None:
    for key, value in decisions.items():
        path = ("role", role, key)
        if not checker.known(path, key, _ROLE_KEYS, "A role has no key"):
            continue
        if (key == "label" and checker.text(path, value)) or (
            key == "accounts" and isinstance(value, bool)
        ):
            found[path] = value
        elif key == "accounts":
            checker.wrong(path, "accounts takes true or false.")
        elif key == "tables" and isinstance(value, dict):
            for pattern, rights in value.items():
                inner = (*path, pattern)
                texts = checker.texts(inner, rights)
                known = [
                    checker.known(inner, each, RIGHTS, "There is no right")
                    for each in texts or ()
                ]
                if texts is not None and all(known):
                    found[inner] = texts
        elif key == "tables":
            checker.wrong(path, f"Write [role.{role}.tables] above its keys.")


def _check_pattern(
    checker: Checker, path: Path, tables: list[str], groups: list[str]
) -> None:
    pattern = path[-1]
    if pattern.startswith(GROUP_PREFIX):
        group = pattern.removeprefix(GROUP_PREFIX)
        checker.known(path, group, groups, "There is no menu group")
    elif not any(fnmatchcase(table, pattern) for table in tables):
        near = nearest(pattern, tables)
        checker.wrong(path, f'No table fits the pattern "{pattern}". {near}')


def decide_access(
    inferred: Iterable[Entry], own: Mapping[Path, Any]
) -> tuple[RoleDecisions, ...]:
    """Put a person's decisions about roles over the inferred ones."""
    values: dict[Path, Any] = {entry.path: entry.value for entry in inferred}
    values.update(own)
    dropped = {path[1] for path, value in own.items() if len(path) == 2 and not value}
    roles = {path[1]: None for path in values if path[1] not in dropped}
    return tuple(
        RoleDecisions(
            name=role,
            label=values.get(("role", role, "label"), role.capitalize()),
            accounts=values.get(("role", role, "accounts"), False),
            tables={
                path[3]: tuple(rights)
                for path, rights in values.items()
                if path[:3] == ("role", role, "tables") and len(path) == 4
            },
        )
        for role in roles
    )
