"""Generating: read the survey and the decisions, and write the application."""

import time
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from pathlib import Path

from lumet.design.access import decide_access, unenterable
from lumet.design.reading import DecisionFile, decide
from lumet.design.vocabulary import TITLE_PART, TableDecisions
from lumet.errors import LumetError, Mistake, Mistakes
from lumet.generation.model import Application
from lumet.generation.rendering import render
from lumet.generation.writing import MANIFEST, Written, write_generated
from lumet.project import folder as files
from lumet.project.decisions import OwnDecisions, read_decisions, with_declarations
from lumet.project.origin import origin_of
from lumet.project.queries import with_queries
from lumet.project.rights import KEPT, in_words
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
    origin = {**origin_of(folder, application.package), KEPT: in_words(application)}
    written = write_generated(folder, wanted, once, origin)
    included = [name for name, each in application.decisions.items() if each.include]
    views = sum(application.database.table(name).is_view for name in included)
    return GenerationReport(
        folder=folder,
        package=application.package,
        name=application.name,
        tables=len(included) - views,
        views=views,
        written=written,
        seconds=time.monotonic() - began,
    )


def load(folder: Path, survey: Survey) -> Application:
    """Return the application that the decisions in `folder` describe. Raises Mistakes."""
    mistakes: list[Mistake] = []
    settings = files.read_settings(folder, to_entries(survey.settings), mistakes)
    survey = with_queries(folder, survey, mistakes)
    own = read_decisions(folder, survey, mistakes)
    survey, _ = with_declarations(survey, own)
    access = decide_access(to_entries(survey.access), own.access)
    if not access.roles:
        mistakes.append(Mistake(files.ACCESS, 1, "", "There is no role left."))
    if mistakes:
        raise Mistakes(tuple(mistakes))
    application = Application(
        name=settings.name,
        package=settings.package,
        dialect=survey.database.dialect,
        database=survey.database,
        decisions={name: _decide(survey, name, own) for name in survey.tables},
        files=files.table_files(survey.database.tables),
        access=access,
        language=settings.language,
        rows={name: survey.rows(name) for name in survey.tables},
    )
    decided = {name for name, each in own.tables.items() if ("title",) in each}
    mistakes = [*_circles(folder, application, decided)]
    mistakes += _unenterable(folder, application)
    if mistakes:
        raise Mistakes(tuple(mistakes))
    if not any(each.include for each in application.decisions.values()):
        raise LumetError(
            "No table is left in the application.",
            "Take away include = false in one of the files in design/tables.",
        )
    return application


def _circles(
    folder: Path, application: Application, decided: Collection[str]
) -> Iterator[Mistake]:
    """Yield a mistake for each title that comes back to a table on its way, since a
    person decided one of them. What lies too deep is left out of the title."""
    for name, decisions in application.decisions.items():
        way = _wrong_way(application, (name,))
        if not way or not any(each in decided for each in way):
            continue
        file = application.files[name]
        lines = DecisionFile(file, files.read_text(folder, file) or "").scanned
        mine = [s for s in lines if s.path == ("title",)]
        found = min(mine, key=lambda s: s.machine, default=None)
        yield Mistake(
            file,
            found.line if found else 1,
            found.text.strip() if found else decisions.title,
            f"The title goes in a circle: {' → '.join(way)}. Name other columns in one of them.",
        )


def _unenterable(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each role that may add records and cannot enter what they
    need."""
    lines = DecisionFile(files.ACCESS, files.read_text(folder, files.ACCESS) or "")
    for role in application.access.roles:
        for name, decisions in application.decisions.items():
            table = application.database.table(name)
            if not (decisions.include and table.is_changeable):
                continue
            for column in unenterable(role, table, decisions.group):
                path = ("role", role.name, "fields")
                found = [s for s in lines.scanned if s.path[:3] == path]
                yield Mistake(
                    files.ACCESS,
                    found[0].line if found else 1,
                    f"{name}.{column.name}",
                    f"{role.label} may add to {name}, whose {column.name} is needed and "
                    "which this role cannot enter. Take the right to add, or the limit.",
                )


def _wrong_way(application: Application, passed: tuple[str, ...]) -> tuple[str, ...]:
    """Return a way from the last of `passed` through the tables that titles name which
    comes back; () for none."""
    table = application.database.table(passed[-1])
    for column in TITLE_PART.findall(application.decisions[table.name].title):
        reference = table.reference_of(column)
        if reference is None or reference.referred_table not in application.decisions:
            continue
        way = (*passed, reference.referred_table)
        if way[-1] in passed:
            return way
        if wrong := _wrong_way(application, way):
            return wrong
    return ()


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
