"""Generating: read the survey and the decisions, and write the application."""

import time
from dataclasses import dataclass
from pathlib import Path

from lumet.design.access import decide_access
from lumet.design.reading import decide
from lumet.design.vocabulary import TableDecisions
from lumet.errors import LumetError, Mistake, Mistakes
from lumet.generation.model import Application
from lumet.generation.rendering import render
from lumet.generation.writing import MANIFEST, Written, write_generated
from lumet.project import folder as files
from lumet.project.decisions import OwnDecisions, read_decisions, with_declarations
from lumet.project.origin import origin_of
from lumet.project.surveyfile import Survey, read_survey, to_entries


@dataclass(frozen=True, slots=True)
class GenerationReport:
    """What was generated: how many tables and views, and what became of each file."""

    folder: Path
    package: str
    name: str
    tables: int
    views: int
    written: Written
    seconds: float


def generate(folder: Path) -> GenerationReport:
    """Write the application of the project in `folder`.

    Raises Mistakes, with all of them and nothing written, when a decision is wrong.
    """
    began = time.monotonic()
    survey = read_survey(folder)
    application = load(folder, survey)
    wanted, once = render(application)
    _refuse_foreign_package(folder, application.package)
    origin = origin_of(folder, application.package)
    written = write_generated(folder, wanted, once, origin)
    included = [name for name, each in application.decisions.items() if each.include]
    kinds = [survey.database.table(name).kind for name in included]
    return GenerationReport(
        folder=folder,
        package=application.package,
        name=application.name,
        tables=kinds.count("table"),
        views=kinds.count("view"),
        written=written,
        seconds=time.monotonic() - began,
    )


def load(folder: Path, survey: Survey) -> Application:
    """Return the application that the decisions in `folder` describe. Raises Mistakes."""
    mistakes: list[Mistake] = []
    settings = files.read_settings(folder, to_entries(survey.settings), mistakes)
    own = read_decisions(folder, survey, mistakes)
    survey, _ = with_declarations(survey, own)
    roles = decide_access(to_entries(survey.access), own.access)
    if not roles:
        mistakes.append(Mistake(files.ACCESS, 1, "", "There is no role left."))
    if mistakes:
        raise Mistakes(tuple(mistakes))
    application = Application(
        name=settings.name,
        package=settings.package,
        dialect=survey.database.dialect,
        database=survey.database,
        decisions={name: _decide(survey, name, own) for name in survey.tables},
        files=files.table_files(list(survey.tables)),
        roles=roles,
        language=settings.language,
    )
    if not any(each.include for each in application.decisions.values()):
        raise LumetError(
            "No table is left in the application.",
            "Take away include = false in one of the files in design/tables.",
        )
    return application


def _decide(survey: Survey, name: str, own: OwnDecisions) -> TableDecisions:
    table = survey.database.table(name)
    return decide(table, survey.entries(name), own.tables[name], own.everywhere)


def _refuse_foreign_package(folder: Path, package: str) -> None:
    """Raise LumetError when a folder of the package's name is there that Lumet did not
    make."""
    target = folder / package
    if target.exists() and any(target.iterdir()) and not (folder / MANIFEST).exists():
        raise LumetError(
            f"{target} is there already, and was not made by Lumet.",
            f'Decide another package in {files.SETTINGS}: package = "…".',
        )
