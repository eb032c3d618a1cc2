"""The commands, each under the project's lock; heavy modules are imported when they are
used."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from lumet.generation.merge_writer import finish
from lumet.project.project_files import locked

if TYPE_CHECKING:
    from lumet.design.renaming import Renamed
    from lumet.project.generating import GenerationReport
    from lumet.project.identity import OtherDatabase
    from lumet.project.renames import RenameReport
    from lumet.project.surveying import SurveyReport, TableChoice


def run_survey(
    folder: Path,
    database: str | None,
    *,
    read_rows: bool = True,
    password: str | None = None,
    choice: TableChoice | None = None,
    told: Callable[[str], None] = lambda place: None,
    renamed: Sequence[str] = (),
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
            renamed=renamed,
            accept=accept,
        )


def run_renames(
    folder: Path, confirmed: Sequence[Renamed], refused: Sequence[Renamed] = ()
) -> RenameReport:
    """Let the project in `folder` follow renames; see `renames.settle`."""
    from lumet.project.renames import settle

    with locked(folder):
        finish(folder)
        return settle(folder.resolve(), confirmed, refused)


def run_generation(folder: Path) -> GenerationReport:
    """Generate the application of the project in `folder`; see
    `generating.generate`."""
    from lumet.project.generating import generate

    with locked(folder):
        finish(folder)
        return generate(folder.resolve())
