"""First files of a person's own code for one table: a module in `custom/`, and a test."""

from lumet.facts.model import Column
from lumet.generation.model import Application
from lumet.generation.names import FIELD_NAMES, class_name, python_names
from lumet.generation.rendering import fill, formatted
from lumet.generation.tables import module_names

_LINE = 88  # characters
_VALUES = {"integer": "1", "decimal": "1", "float": "1.5", "boolean": "True"}


def custom_stub(application: Application, table: str) -> dict[str, str]:
    """Return the texts by path: of `custom/TABLE.py`, from the columns of the table,
    and of its test."""
    module = module_names(application)[table]
    facts, decisions = application.database.table(table), application.decisions[table]
    names = python_names([c.name for c in facts.columns], FIELD_NAMES)
    shown = [c for c in facts.columns if not decisions.field[c.name].hidden]
    plain = [c for c in shown if c.name not in facts.primary_key] or [*facts.columns]
    example = next((c for c in plain if c.type.kind == "text"), plain[0])
    values = {
        "package": application.package,
        "module": module,
        "class_name": class_name(module),
        "noun": " ".join((decisions.plural or table).split()).replace('"', "'").lower(),
        "columns": _wrapped([names[c.name] for c in shown]),
        "example": names[example.name],
        "value": _value(example),
    }
    package = application.package
    return formatted(
        {
            f"{package}/custom/{module}.py": fill("custom_table.py", **values),
            f"tests/test_{module}.py": fill("custom_test.py", **values),
        }
    )


def _value(column: Column) -> str:
    return _VALUES.get(column.type.kind, '"…"')


def _wrapped(names: list[str]) -> str:
    """Return the names with commas between, in lines that are not too long."""
    lines = [""]
    for name in names:
        if lines[-1] and len(lines[-1]) + len(name) + 2 > _LINE:
            lines.append("")
        lines[-1] += f", {name}" if lines[-1] else name
    return ",\n".join(lines)
