"""Access decisions in `access.toml`: roles, rights, rules on rows and fields, and the
attributes of users that rules may name."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from fnmatch import fnmatchcase
from typing import Any

from lumet.design.decision_file import Checker, nearest
from lumet.design.decision_schema import Entry
from lumet.design.toml_statements import Path
from lumet.design.value_types import YES_NO, Scope, ValueType
from lumet.expressions.conditions import ATTRIBUTE_TYPES, NAME, check_expression
from lumet.facts.model import Column, Database, Table
from lumet.kit.contract import ANYONE, FIELD_LIMITS, HIDDEN, READ_ONLY, RIGHTS

GROUP_PREFIX = "group:"
_BY_TABLE = ("tables", "rows", "changes")
_SETTING = "setting"


@dataclass(frozen=True, slots=True)
class Setting:
    """What a role may besides its rights on tables: a key with the type of its value,
    the attribute of the kit's `Role`, and its words in a summary, with `{value}` for
    the value."""

    takes: ValueType
    attribute: str
    words: str


def _setting(takes: ValueType, attribute: str, words: str) -> Any:
    """Declare a setting, by default off."""
    return field(default=False, metadata={_SETTING: Setting(takes, attribute, words)})


@dataclass(frozen=True, slots=True)
class RoleDecisions:
    """One role: rights by table, rules on rows by table, limits by column.

    The keys of `tables`, `rows` and `changes` are patterns: a table's name, a shell
    pattern, or `group:` and the name of a menu group; those of `fields` TABLE.COLUMN.
    """

    name: str
    label: str
    manage_users: bool = _setting(YES_NO, "manages_users", "manages users")
    read_audit_log: bool = _setting(YES_NO, "reads_audit_log", "sees the audit log")
    share_views: bool = _setting(YES_NO, "shares_views", "shares views")
    tables: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    rows: Mapping[str, str] = field(default_factory=dict)
    changes: Mapping[str, str] = field(default_factory=dict)
    fields: Mapping[str, str] = field(default_factory=dict)

    @property
    def settings(self) -> tuple[tuple[Setting, Any], ...]:
        """The settings that are on, with their values."""
        found = ((each, getattr(self, key)) for key, each in SETTINGS.items())
        return tuple((each, value) for each, value in found if value)

    def rights_on(self, table: str, group: str) -> tuple[str, ...]:
        """Return the rights on `table`; the nearest pattern decides: its name, then
        the last shell pattern that fits, then its menu group, then `*`."""
        found: tuple[str, ...] = _nearest_of(self.tables, table, group, ())
        return found

    def rows_on(self, table: str, group: str) -> str:
        """Return the condition of the rows within reach; "" for all rows."""
        return str(_nearest_of(self.rows, table, group, ""))

    def changes_on(self, table: str, group: str) -> str:
        """Return the condition of the rows that may be changed, beyond that of those
        within reach; "" for none."""
        return str(_nearest_of(self.changes, table, group, ""))

    def limit_on(self, table: str, column: str) -> str:
        """Return how a column is limited: one of FIELD_LIMITS, or "" for not at all."""
        name = f"{table}.{column}"
        if name in self.fields:
            return self.fields[name]
        fitting = [v for k, v in self.fields.items() if fnmatchcase(name, k)]
        return fitting[-1] if fitting else ""


SETTINGS: Mapping[str, Setting] = {
    each.name: each.metadata[_SETTING]
    for each in fields(RoleDecisions)
    if _SETTING in each.metadata
}
_ROLE_KEYS = ("label", *SETTINGS, *_BY_TABLE, "fields")


def _nearest_of(
    by_pattern: Mapping[str, Any], table: str, group: str, default: Any
) -> Any:
    return by_pattern.get(nearest_pattern(by_pattern, table, group), default)


def nearest_pattern(by_pattern: Mapping[str, Any], table: str, group: str) -> str:
    """Return the pattern that decides about a table: its name, then the last shell
    pattern that fits, then its menu group, then `*`."""
    fitting = [p for p in by_pattern if p != "*" and fnmatchcase(table, p)]
    if table in by_pattern or not fitting:
        group = GROUP_PREFIX + group
        return next((p for p in (table, group) if p in by_pattern), "*")
    return fitting[-1]


@dataclass(frozen=True, slots=True)
class AccessDecisions:
    """The roles, and the types of the users' attributes by name."""

    roles: tuple[RoleDecisions, ...] = ()
    attributes: Mapping[str, str] = field(default_factory=dict)


def read_access(
    checker: Checker, database: Database, groups: Mapping[str, str]
) -> dict[Path, Any]:
    """Return a person's decisions about access by path, those that hold. `groups` are
    the menu groups of the application's tables."""
    return _AccessReader(checker, database, groups).read()


class _AccessReader:
    """Reads and checks one `access.toml`."""

    def __init__(
        self, checker: Checker, database: Database, groups: Mapping[str, str]
    ) -> None:
        self.checker = checker
        self.database = database
        self.groups = groups
        self.found: dict[Path, Any] = {}
        self.attributes: dict[str, str] = {NAME: "text"}

    def read(self) -> dict[Path, Any]:
        values = self.checker.values
        for key, value in values.items():
            known = key in ("role", "user") and isinstance(value, dict)
            if not known:
                self.checker.known((key,), key, ("role", "user"), "There is no section")
        if isinstance(values.get("user"), dict):
            self._read_attributes(values["user"])
        if isinstance(values.get("role"), dict):
            for role, decisions in values["role"].items():
                self._read_role(role, decisions)
        return self.found

    def _read_attributes(self, declared: Mapping[str, Any]) -> None:
        for name, kind in declared.items():
            path = ("user", name)
            if not name.isidentifier() or not name.isascii() or name == NAME:
                self.checker.wrong(
                    path,
                    f'An attribute needs a name of letters, digits and _, other than "name", not "{name}".',
                )
            elif not isinstance(kind, str):
                self.checker.wrong(path, f'Write {name} = "text", or another type.')
            elif self.checker.known(path, kind, ATTRIBUTE_TYPES, "There is no type"):
                self.found[path] = kind
                self.attributes[name] = kind

    def _read_role(self, role: str, decisions: Any) -> None:
        if decisions is False:
            self.found["role", role] = False
        elif isinstance(decisions, dict):
            for key, value in decisions.items():
                path = ("role", role, key)
                if self.checker.known(path, key, _ROLE_KEYS, "A role has no key"):
                    self._read_key(path, key, value)
        else:
            self.checker.wrong(("role", role), f"Write [role.{role}] above its keys.")

    def _read_key(self, path: Path, key: str, value: Any) -> None:
        if key == "label":
            if self.checker.text(path, value):
                self.found[path] = value
        elif key in SETTINGS:
            self._read_setting(path, key, value)
        elif not isinstance(value, dict):
            self.checker.wrong(path, f"Write [role.{path[1]}.{key}] above its keys.")
        else:
            for pattern, decided in value.items():
                inner = (*path, pattern)
                if key == "tables":
                    self._read_rights(inner, decided)
                elif key == "fields":
                    self._read_limit(inner, decided)
                elif self.checker.text(inner, decided):
                    self._read_condition(inner, decided)

    def _read_setting(self, path: Path, key: str, value: Any) -> None:
        read = SETTINGS[key].takes.read(Scope(self.checker, None, None), path, value)
        if read and path[1] == ANYONE:
            self.checker.wrong(
                path, f"{key} is for people who are signed in, not for {ANYONE}."
            )
        elif read is not None:
            self.found[path] = read

    def _read_rights(self, path: Path, rights: Any) -> None:
        texts = self.checker.texts(path, rights)
        known = [
            self.checker.known(path, each, RIGHTS, "There is no right")
            for each in texts or ()
        ]
        if self._tables_of(path) and texts is not None and all(known):
            self.found[path] = texts

    def _tables_of(self, path: Path) -> list[Table]:
        """Return the tables that the pattern at the end of `path` fits; report none."""
        pattern = path[-1]
        if pattern.startswith(GROUP_PREFIX):
            group = pattern.removeprefix(GROUP_PREFIX)
            known = list(dict.fromkeys(self.groups.values()))
            if not self.checker.known(path, group, known, "There is no menu group"):
                return []
            names = [name for name, each in self.groups.items() if each == group]
        else:
            names = [name for name in self.groups if fnmatchcase(name, pattern)]
            if not names:
                near = nearest(pattern, self.groups)
                self.checker.wrong(
                    path, f'No table fits the pattern "{pattern}". {near}'
                )
        return [self.database.table(name) for name in names]

    def _read_condition(self, path: Path, text: str) -> None:
        attributes = self.attributes if path[1] != ANYONE else None
        tables = self._tables_of(path)
        for table in tables:
            problems = check_expression(text, table, self.database, attributes)
            for problem in problems:
                self.checker.wrong(path, problem)
            if problems:
                return
        if tables:
            self.found[path] = text

    def _read_limit(self, path: Path, limit: Any) -> None:
        pattern = path[-1]
        columns = [
            (table, column)
            for table in self.database.tables
            if table.name in self.groups
            for column in table.columns
            if fnmatchcase(f"{table.name}.{column.name}", pattern)
        ]
        if not columns:
            self.checker.wrong(path, self._no_column(pattern))
        elif not isinstance(limit, str):
            self.checker.wrong(path, f'Write "{pattern}" = "{FIELD_LIMITS[0]}".')
        elif self.checker.known(path, limit, FIELD_LIMITS, "There is no limit"):
            keys = [t.name for t, c in columns if c.name in t.primary_key]
            if limit == HIDDEN and keys:
                self.checker.wrong(
                    path,
                    f"The key of {keys[0]} cannot be hidden: it is part of the addresses "
                    "of its records.",
                )
            else:
                self.found[path] = limit

    def _no_column(self, pattern: str) -> str:
        table, dot, _ = pattern.rpartition(".")
        if not dot:
            return f'Write TABLE.COLUMN, as in "station.{pattern}".'
        if table in self.groups:
            names = [f"{table}.{c.name}" for c in self.database.table(table).columns]
            return f'No column fits "{pattern}". {nearest(pattern, names)}'
        return f'No column fits "{pattern}". {nearest(table, self.groups)}'


def decide_access(
    inferred: Iterable[Entry], own: Mapping[Path, Any]
) -> AccessDecisions:
    """Put a person's decisions about access over the inferred ones."""
    values: dict[Path, Any] = {entry.path: entry.value for entry in inferred}
    values.update(own)
    dropped = {path[1] for path, value in own.items() if len(path) == 2 and not value}
    roles = {
        path[1]: None for path in values if path[0] == "role" and path[1] not in dropped
    }
    attributes = {path[1]: kind for path, kind in values.items() if path[0] == "user"}
    return AccessDecisions(
        tuple(_role(role, values) for role in roles), {NAME: "text", **attributes}
    )


def _role(role: str, values: Mapping[Path, Any]) -> RoleDecisions:
    def part(key: str) -> dict[str, Any]:
        return {
            path[3]: value
            for path, value in values.items()
            if path[:3] == ("role", role, key) and len(path) == 4
        }

    settings = {key: values.get(("role", role, key), False) for key in SETTINGS}
    return RoleDecisions(
        name=role,
        label=values.get(("role", role, "label"), role.capitalize()),
        **settings,
        tables={pattern: tuple(rights) for pattern, rights in part("tables").items()},
        rows=part("rows"),
        changes=part("changes"),
        fields=part("fields"),
    )


def unenterable(role: RoleDecisions, table: Table, group: str) -> Sequence[Column]:
    """Return the columns that a new record needs and that this role, which may add to
    `table`, cannot enter."""
    if "add" not in role.rights_on(table.name, group):
        return ()
    return [
        column
        for column in table.columns
        if not (column.nullable or column.automatic or column.generated)
        and column.default is None
        and role.limit_on(table.name, column.name) in (HIDDEN, READ_ONLY)
    ]
