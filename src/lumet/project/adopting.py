"""Taking over into the decisions what an administrator arranged in the application: the
columns of lists that are everyone's."""

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lumet.design.rewriting import set_decision
from lumet.errors import CannotRun, LumetError
from lumet.generation.cards import keys_in_addresses
from lumet.generation.merge_writer import MANIFEST, Change, apply
from lumet.generation.tables import module_names
from lumet.kit.contract import TITLE_COLUMN
from lumet.project import project_files as files
from lumet.project.generating import load
from lumet.project.serving import run_command
from lumet.project.surveyfile import read_survey

_COLUMNS, _WIDTHS = ("list", "columns"), ("list", "column_widths")


@dataclass(frozen=True, slots=True)
class Adopted:
    """The decisions about a list that were taken over: its table and file, the columns
    and the widths, empty where none was arranged, and the columns of own code, which no
    decision names."""

    table: str
    file: str
    columns: tuple[str, ...]
    widths: Mapping[str, int]
    left_out: tuple[str, ...] = ()


def adopt(folder: Path) -> list[Adopted]:
    """Write the columns that are everyone's in the application, and their widths, into the
    decision files; then the application has them from there. Raises LumetError where there is no
    application, CannotRun where it does not start."""
    application = load(folder, read_survey(folder))
    if not (folder / MANIFEST).exists():
        raise LumetError("There is no application yet.", "Generate it: lumet generate")
    ran = run_command(folder, application.package, ["columns"])
    try:
        chosen: Mapping[str, Any] = json.loads(ran)
    except ValueError as error:
        raise CannotRun("The application does not tell its columns.", "Generate it: lumet generate") from error  # fmt: skip
    by_module = {module: table for table, module in module_names(application).items()}
    found, changes = [], []
    for module, arranged in chosen.items():
        table = by_module.get(module)
        if table is None:
            continue
        named = {
            key: name for name, key in keys_in_addresses(application, table).items()
        }
        formulas = [n for n, each in application.decisions[table].field.items() if each.formula]  # fmt: skip
        named |= {name: name for name in formulas}
        keys = [key for key in arranged["columns"] if key]
        names = tuple(named[key] for key in keys if key in named)
        left_out = tuple(key for key in keys if key not in named)
        named[TITLE_COLUMN] = TITLE_COLUMN
        widths = {named[k]: n for k, n in arranged["widths"].items() if k in named}
        file = application.files[table]
        text = files.read_text(folder, file) or ""
        if names:
            text = set_decision(text, _COLUMNS, list(names))
        if widths:
            text = set_decision(text, _WIDTHS, widths)
        changes.append(Change(file, text.encode()))
        found.append(Adopted(table, file, names, widths, left_out))
    apply(folder, changes)
    forgotten = [word for module in chosen for word in ("--forget", module)]
    if forgotten:
        run_command(folder, application.package, ["columns", *forgotten])
    return found
