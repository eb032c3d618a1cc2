"""Generating: read the survey and the decisions, and write the application."""

import json
import time
from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from lumet.design.access import decide_access
from lumet.design.decision_schema import TableDecisions
from lumet.design.reading import decide
from lumet.design.value_types import TITLE_PART
from lumet.errors import LumetError, Mistake, Mistakes
from lumet.facts.model import Table
from lumet.generation.merge_writer import (
    DRAFTS,
    MANIFEST,
    Change,
    Written,
    apply,
    formatted_before,
    plan_generated,
)
from lumet.generation.model import Application
from lumet.generation.rendering import render
from lumet.project import project_files as files
from lumet.project.access_review import KEPT, in_words
from lumet.project.decision_misfits import find_misfits
from lumet.project.decisions import (
    OwnDecisions,
    read_decisions,
    with_declarations,
    with_glossary,
)
from lumet.project.fingerprint import (
    INPUTS,
    REPORT,
    current_package,
    inputs_of,
    origin_of,
)
from lumet.project.queries import with_queries
from lumet.project.renames import python_rename
from lumet.project.surveyfile import Survey, read_survey, to_entries


@dataclass(frozen=True, slots=True)
class GenerationReport:
    """The result of a generation: tables, views, and the state of each file."""

    folder: Path
    package: str
    name: str
    tables: int
    views: int
    written: Written
    seconds: float = 0.0


def generate(folder: Path) -> GenerationReport:
    """Write the application of the project in `folder`.

    Raises Mistakes, with all of them and nothing written, when a decision is wrong.
    """
    began = time.monotonic()
    files.require_files(folder)
    if (found := _current(folder)) is not None:
        return replace(found, seconds=time.monotonic() - began)
    planned = plan(folder)
    apply(folder, planned.changes)
    return replace(planned.report, seconds=time.monotonic() - began)


def _current(folder: Path) -> GenerationReport | None:
    """Return the report where nothing has changed since the last generation, which is
    seen without reading the survey; else None."""
    package = current_package(folder)
    if package is None:
        return None
    manifest = json.loads((folder / MANIFEST).read_bytes())
    if REPORT not in manifest:
        return None
    written = Written(unchanged=len(manifest["files"]) + 1)
    return GenerationReport(folder, package, **manifest[REPORT], written=written)


@dataclass(frozen=True, slots=True)
class Planned:
    """A generation that is not written yet: the application, the changes of files, and
    the report. `origin` tells the inputs, as the manifest is to keep them."""

    application: Application
    changes: list[Change]
    report: GenerationReport
    origin: Mapping[str, Any]


def plan(folder: Path) -> Planned:
    """Return the generation that `generate` would write. Raises Mistakes when a decision is wrong."""
    survey = read_survey(folder)
    files.require_files(folder)
    application = load(folder, survey)
    rendered = render(application, formatted_before(folder))
    _refuse_foreign_package(folder, application.package)
    included = [name for name, each in application.decisions.items() if each.include]
    views = sum(application.database.table(name).is_view for name in included)
    counts = {"name": application.name, "tables": len(included) - views, "views": views}
    origin = {
        **origin_of(folder, application.package),
        REPORT: counts,
        KEPT: in_words(application),
        INPUTS: inputs_of(folder, survey),
        DRAFTS: rendered.drafts,
    }
    changes, written = plan_generated(folder, rendered.wanted, rendered.once, origin)
    report = GenerationReport(
        folder=folder,
        package=application.package,
        name=application.name,
        tables=len(included) - views,
        views=views,
        written=written,
    )
    return Planned(application, changes, report, origin)


def load(folder: Path, survey: Survey) -> Application:
    """Return the application that the decisions in `folder` describe. Raises
    Mistakes."""
    mistakes: list[Mistake] = []
    settings = files.read_settings(folder, to_entries(survey.settings), mistakes)
    survey = with_queries(folder, with_glossary(folder, survey), mistakes)
    own = read_decisions(folder, survey, mistakes)
    survey, _ = with_declarations(survey, own)
    access = decide_access(to_entries(survey.access), own.access)
    if not access.roles:
        mistakes.append(Mistake(files.ACCESS, 1, "", "No role is left."))
    if mistakes:
        raise Mistakes(tuple(mistakes))
    application = Application(
        name=settings.name,
        package=settings.package,
        dialect=survey.database.dialect,
        database=survey.database,
        decisions={
            name: _without_hidden(
                survey.database.table(name), _decide(survey, name, own)
            )
            for name in survey.tables
        },
        files=files.table_files(survey.database.tables),
        access=access,
        language=settings.language,
        menu=settings.menu,
        renames=tuple(map(python_rename, survey.renames)),
        rows={name: survey.rows(name) for name in survey.tables},
        card_pages=own.card_pages,
    )
    mistakes = find_misfits(folder, application, own, survey)
    if mistakes:
        raise Mistakes(tuple(mistakes))
    if not any(each.include for each in application.decisions.values()):
        raise LumetError(
            "No table is left in the application.",
            "Remove include = false from one of the files in design/tables.",
        )
    return application


def _without_hidden(table: Table, decisions: TableDecisions) -> TableDecisions:
    """Return decisions in which nothing hidden names, orders or describes a record; a
    key may, where nothing else does: it is part of the addresses anyway."""
    hidden = {
        name
        for name, each in decisions.field.items()
        if each.hidden and name not in table.primary_key
    }
    if not hidden:
        return decisions
    lists = decisions.list
    order = tuple(w for w in lists.order if w.removeprefix("-") not in hidden)
    subtitle = tuple(name for name in decisions.subtitle if name not in hidden)
    return replace(
        decisions, list=replace(lists, order=order), subtitle=subtitle,
        title=_title_without(table, decisions, hidden),
    )  # fmt: skip


def _title_without(
    table: Table, decisions: TableDecisions, hidden: Collection[str]
) -> str:
    parts = TITLE_PART.findall(decisions.title)
    if not set(hidden) & set(parts):
        return decisions.title
    kept = [part for part in parts if part not in hidden]
    if kept:
        return " · ".join(f"{{{part}}}" for part in kept)
    key = table.primary_key or tuple(
        column.name for column in table.columns if column.name not in hidden
    )[:1]  # fmt: skip
    listed = ", ".join(f"{{{name}}}" for name in key)
    return f"{decisions.singular} {listed}".strip()


def _decide(survey: Survey, name: str, own: OwnDecisions) -> TableDecisions:
    table = survey.database.table(name)
    return decide(
        table,
        survey.entries(name),
        own.tables[name],
        own.patterns,
        own.sections.get(name, ()),
    )


def _refuse_foreign_package(folder: Path, package: str) -> None:
    """Raise LumetError when a folder of the package's name is there that Lumet did not
    make."""
    target = folder / package
    if target.exists() and any(target.iterdir()) and not (folder / MANIFEST).exists():
        raise LumetError(
            f"{target} already exists and was not generated by Lumet.",
            f'Choose another package in {files.SETTINGS}: package = "…".',
        )
