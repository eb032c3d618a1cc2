"""The code of the roles: rights on every table, as exceptions to the usual ones."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from lumet.design.access import RoleDecisions
from lumet.generation.model import Application, TableModel
from lumet.generation.names import FIELD_NAMES, python_names
from lumet.kit.contract import RIGHTS

ALL = "ALL"


@dataclass(frozen=True, slots=True)
class RoleModel:
    """One role as code: its rights everywhere and the tables where they differ, its
    conditions and limits by table, and what else it may."""

    name: str
    label: str
    rights: str
    tables: tuple[tuple[str, str], ...]
    rows: tuple[tuple[str, str], ...]
    changes: tuple[tuple[str, str], ...]
    fields: tuple[tuple[str, str], ...]
    settings: tuple[tuple[str, str], ...]


def build_roles(
    application: Application, models: Sequence[TableModel]
) -> list[RoleModel]:
    """Return the roles with their rights on every table, written as exceptions to what
    each may on most."""
    return [_role(application, role, models) for role in application.access.roles]


def _role(
    application: Application, role: RoleDecisions, models: Sequence[TableModel]
) -> RoleModel:
    groups = {m.name: application.decisions[m.name].group for m in models}
    read = _read_by_queries(application, groups)
    rights = {
        name: _rights_code(
            role.rights_on(name, group)
            if all(
                "view" in role.rights_on(each, groups.get(each, ""))
                for each in read.get(name, ())
            )
            else ()
        )
        for name, group in groups.items()
    }
    general = _rights_code(role.tables.get("*", ()))
    return RoleModel(
        name=repr(role.name),
        label=repr(role.label),
        rights=general,
        tables=tuple(
            (repr(name), code) for name, code in rights.items() if code != general
        ),
        rows=_conditions(application, groups, role.rows_on),
        changes=_conditions(application, groups, role.changes_on),
        fields=tuple(
            (repr(model.name), repr(limits))
            for model in models
            if (limits := _limits(application, role, model.name))
        ),
        settings=tuple(
            (each.attribute, each.takes.code(v)) for each, v in role.settings
        ),
    )


def _read_by_queries(
    application: Application, groups: Mapping[str, str]
) -> dict[str, tuple[str, ...]]:
    """Return the tables of the application that each query reads: who may not look at
    one of them may not look at the query."""
    queries = [t for t in application.database.tables if t.kind == "query"]
    if not queries:
        return {}
    from lumet.expressions.queries import tables_in  # slow to import

    return {
        table.name: tuple(
            name
            for name in tables_in(table.definition, application.database)
            if name in groups
        )
        for table in queries
    }


def _conditions(
    application: Application,
    groups: Mapping[str, str],
    condition_on: Callable[[str, str], str],
) -> tuple[tuple[str, str], ...]:
    found = []
    for name, group in groups.items():
        if text := condition_on(name, group):
            from lumet.expressions.conditions import written_out  # slow to import

            access = application.access
            code = written_out(text, application.dialect, access.attributes)
            found.append((repr(name), repr(code)))
    return tuple(found)


def _limits(application: Application, role: RoleDecisions, name: str) -> dict[str, str]:
    """Return the limits of a role on the columns of a table, by their keys."""
    columns = [column.name for column in application.database.table(name).columns]
    keys = python_names(columns, FIELD_NAMES)
    limits = {keys[column]: role.limit_on(name, column) for column in columns}
    return {key: limit for key, limit in limits.items() if limit}


def _rights_code(rights: Sequence[str]) -> str:
    if set(rights) == set(RIGHTS):
        return ALL
    listed = ", ".join(repr(right) for right in RIGHTS if right in rights)
    return f"frozenset({{{listed}}})" if listed else "frozenset()"
