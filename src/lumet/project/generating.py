"""Generating: read the survey and the decisions, and write the application."""

import json
import time
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from lumet.design.access import decide_access, unenterable
from lumet.design.decision_file import DecisionFile
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
from lumet.project.decisions import OwnDecisions, read_decisions, with_declarations
from lumet.project.fingerprint import (
    INPUTS,
    REPORT,
    current_package,
    inputs_of,
    origin_of,
)
from lumet.project.queries import with_queries
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
    survey = with_queries(folder, survey, mistakes)
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
        rows={name: survey.rows(name) for name in survey.tables},
    )
    decided = {name for name, each in own.tables.items() if ("title",) in each}
    mistakes = [*_circles(folder, application, decided)]
    mistakes += _hidden_titles(folder, application, decided)
    mistakes += _unaddable(folder, application)
    mistakes += _unenterable(folder, application)
    if mistakes:
        raise Mistakes(tuple(mistakes))
    if not any(each.include for each in application.decisions.values()):
        raise LumetError(
            "No table is left in the application.",
            "Remove include = false from one of the files in design/tables.",
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
            f"The title refers to itself: {' → '.join(way)}. Name other columns in one of them.",
        )


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


def _hidden_titles(
    folder: Path, application: Application, decided: Collection[str]
) -> Iterator[Mistake]:
    """Yield a mistake for each decided title that names a column that is
    hidden."""
    for name in decided:
        table = application.database.table(name)
        fields = application.decisions[name].field
        file = DecisionFile(
            application.files[name],
            files.read_text(folder, application.files[name]) or "",
        )
        mine = [s for s in file.scanned if s.path == ("title",) and not s.machine]
        for part in TITLE_PART.findall(mine[0].text) if mine else ():
            shown = fields.get(part)
            if shown is not None and shown.hidden and part not in table.primary_key:
                yield Mistake(
                    file.name,
                    mine[0].line,
                    mine[0].text.strip(),
                    f"The title names {part}, which is hidden: whoever sees a title sees"
                    " it. Name another column, or show this one.",
                )


def _unaddable(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each column that a new record needs and that its form does
    not enter, since a person decided so."""
    for name, decisions in application.decisions.items():
        table = application.database.table(name)
        if not _takes_records(table, decisions):
            continue
        for column in table.columns:
            each = decisions.field[column.name]
            if column.nullable or column.is_filled or each.generated or each.automatic:
                continue
            key = "hidden" if each.hidden else "read_only" if each.read_only else ""
            if key and decisions.soft_delete != column.name:
                yield _unaddable_mistake(folder, application, table, column.name, key)


def _takes_records(table: Table, decisions: TableDecisions) -> bool:
    """Tell whether the application adds records to a table."""
    is_changed = decisions.include and table.is_changeable and bool(table.primary_key)
    return is_changed and "add" in decisions.pages and "add" not in table.denied


def _unaddable_mistake(
    folder: Path, application: Application, table: Table, column: str, key: str
) -> Mistake:
    file = application.files[table.name]
    lines = DecisionFile(file, files.read_text(folder, file) or "").scanned
    found = [s for s in lines if s.path == ("field", column, key)]
    mine = min(found, key=lambda s: s.machine, default=None)
    if mine is None:
        file = files.PATTERNS
    return Mistake(
        file,
        mine.line if mine else 1,
        mine.text.strip() if mine else f"{table.name}.{column}",
        f"{table.name}.{column} takes no NULL and has no default, so no record could be"
        " added. Let it be entered, set generated or automatic for it, or remove"
        ' "add" from pages.',
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
                    f"{role.label} may add to {name}, whose {column.name} is required and which this role cannot enter. Remove the right to add, or the limit.",
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
