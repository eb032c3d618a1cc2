"""The modules of the tables."""

from collections.abc import Iterable, Mapping
from types import CodeType

from lumet.generation.assignments import PAGES, assignments
from lumet.generation.columns import column_code, table_code
from lumet.generation.fields import choices_name, field_code, formula_field_code
from lumet.generation.model import Application, Assignment, TableModel, TableSource
from lumet.generation.names import (
    FIELD_NAMES,
    MODULE_NAMES,
    class_name,
    exports,
    python_names,
)
from lumet.kinds import KIND_OF

_PACKAGES: Mapping[str, frozenset[str]] = {
    "sqlalchemy": frozenset(
        {"BigInteger", "Column", "FetchedValue", "Float", "ForeignKey",
         "ForeignKeyConstraint", "Integer", "LargeBinary", "String", "Table", "Text",
         "TextClause", "TypedColumns", "UniqueConstraint"}
    ),
    "types": exports("db/column_types.py"),
    "forms": exports("forms/__init__.py"),
    "pages": exports("pages/__init__.py"),
}  # fmt: skip


def build_tables(application: Application) -> list[TableModel]:
    """Return the modules of all tables that the application has, by module name."""
    modules = module_names(application)
    included = [each for each in application.database.tables if each.name in modules]
    keys = {
        table.name: python_names([c.name for c in table.columns], FIELD_NAMES)
        for table in included
    }
    sources = [TableSource(application, table, modules, keys) for table in included]
    return sorted(map(_model, sources), key=lambda model: model.module)


def module_names(application: Application) -> dict[str, str]:
    """Return the name of the module of each table that the application has."""
    wanted = _wanted(application)
    names = [each.name for each in application.database.tables if each.name in wanted]
    return python_names(names, MODULE_NAMES)


def _wanted(application: Application) -> set[str]:
    """Return the tables that are included, and those they refer to."""
    names = {name for name, each in application.decisions.items() if each.include}
    waiting = sorted(names)
    while waiting:
        for reference in application.database.table(waiting.pop()).references:
            referred = reference.referred_table
            if referred in application.decisions and referred not in names:
                names.add(referred)
                waiting.append(referred)
    return names


def _model(source: TableSource) -> TableModel:
    table, decisions = source.table, source.decisions
    module = source.modules[table.name]
    named = class_name(module)
    columns = [column_code(source, column) for column in table.columns]
    table_arguments = table_code(source)
    fields = [field_code(source, column) for column in source.shown]
    formulas = [formula_field_code(source, name) for name in source.formulas]
    rules = _rules(source)
    attributes = [
        Assignment("table, form", f"{module}_table, {named}Form"),
        *(
            Assignment(each.name, each.code.replace("{class_name}", named))
            if each.name == "formula_form"
            else each
            for each in assignments(PAGES, source)
        ),
    ]
    code = [*columns, f"f(x{table_arguments})", *fields, *formulas, *rules,
            *(f"x = {each.code}" for each in attributes)]  # fmt: skip
    mentioned = _mentioned(code) | {"Table", "TypedColumns", "RecordForm", "TablePages"}
    return TableModel(
        name=table.name,
        plural=repr(decisions.plural or table.name),
        file=source.application.files[table.name],
        module=module,
        class_name=named,
        has_list=all(each.name != "has_list" for each in attributes),
        imports={
            package: tuple(sorted(mentioned & names, key=_import_order))
            for package, names in _PACKAGES.items()
        },
        table=f"{table.own_name!r}, metadata, {named}Columns{table_arguments}",
        columns=tuple(columns),
        choices=tuple(
            Assignment(choices_name(source, column), repr(each.choices))
            for column in source.shown
            for each in (source.field(column),)
            if KIND_OF[each.kind].has_choices(each)
        ),
        rules=tuple(rules),
        fields=tuple(fields),
        formula_fields=tuple(formulas),
        attributes=tuple(attributes),
    )


def _rules(source: TableSource) -> list[str]:
    if not (
        source.table.checks or any(e.rule for e in source.decisions.field.values())
    ):
        return []
    from lumet.generation.form_rules import form_rules  # slow to import

    return form_rules(source)


def _mentioned(code: Iterable[str]) -> set[str]:
    """Return the names that the statements in `code` mention, as Python compiles
    them: walking through the tree of 1,000 modules takes seconds."""
    found: set[str] = set()
    waiting = [compile("\n".join(code), "<table>", "exec", dont_inherit=True)]
    while waiting:
        compiled = waiting.pop()
        found.update(compiled.co_names)
        waiting += [c for c in compiled.co_consts if isinstance(c, CodeType)]
    return found


def _import_order(name: str) -> tuple[bool, str]:
    return (name[:1].islower(), name)
