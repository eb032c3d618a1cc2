"""Beginning with own code: a module in `custom/` and a test for one table."""

from pathlib import Path

from lumet.design.decision_file import nearest
from lumet.errors import LumetError
from lumet.generation.custom_stubs import custom_stub
from lumet.generation.merge_writer import MANIFEST, Change, apply
from lumet.generation.tables import module_names
from lumet.project.generating import load
from lumet.project.surveyfile import read_survey


def customise(folder: Path, name: str) -> list[str]:
    """Write the first files of own code for a table, by its name or that of its module;
    return their paths. Raises LumetError where there is no such table, where no
    application was generated, and where there is such a file already."""
    application = load(folder, read_survey(folder))
    modules = module_names(application)
    by_module = {module: table for table, module in modules.items()}
    table = name if name in modules else by_module.get(name, "")
    if not table:
        raise LumetError(f'There is no table "{name}". {nearest(name, modules)}')
    if not (folder / MANIFEST).exists():
        raise LumetError("There is no application yet.", "Generate it: lumet generate")
    texts = custom_stub(application, table)
    for path in texts:
        if (folder / path).exists():
            raise LumetError(
                f"{path} is there already. Nothing was written.",
                "Change it, or move it away first.",
            )
    apply(folder, [Change(path, text.encode()) for path, text in texts.items()])
    return [*texts]
