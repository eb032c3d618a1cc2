"""The commands, each under the project's lock; heavy modules are imported when they are
used."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from lumet.generation.merge_writer import finish
from lumet.project.project_files import locked

if TYPE_CHECKING:
    from lumet.facts.comparing import Difference
    from lumet.project.generating import GenerationReport
    from lumet.project.identity import OtherDatabase
    from lumet.project.surveying import SurveyReport, TableChoice


def run_survey(
    folder: Path,
    database: str | None,
    *,
    read_rows: bool = True,
    password: str | None = None,
    choice: TableChoice | None = None,
    told: Callable[[str], None] = lambda place: None,
    confirm: Callable[[Difference], bool] = lambda renaming: False,
    accept: Callable[[OtherDatabase], bool] = lambda other: False,
) -> SurveyReport:
    """Survey into the project in `folder`; see `surveying.survey`."""
    from lumet.project.surveying import survey

    with locked(folder):
        finish(folder)
        return survey(
            folder.resolve(),
            database,
            read_rows=read_rows,
            password=password,
            choice=choice,
            told=told,
            confirm=confirm,
            accept=accept,
        )


def run_generation(folder: Path) -> GenerationReport:
    """Generate the application of the project in `folder`; see
    `generating.generate`."""
    from lumet.project.generating import generate

    with locked(folder):
        finish(folder)
        return generate(folder.resolve())
