"""The commands, each under the project's lock; heavy modules are imported when they are
used."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

from lumet.generation.merge_writer import finish
from lumet.project.project_files import locked

if TYPE_CHECKING:
    from lumet.design.renaming import Renamed
    from lumet.project.adopting import Adopted
    from lumet.project.consistency import Check
    from lumet.project.generating import GenerationReport, Planned
    from lumet.project.identity import OtherDatabase
    from lumet.project.previewing import FileChange
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
    is_preview: bool = False,
) -> SurveyReport:
    """Survey into the project in `folder`; see `surveying.survey`."""
    from lumet.project.surveying import survey

    with nullcontext() if is_preview else _writing(folder):
        return survey(
            folder.resolve(),
            database,
            read_rows=read_rows,
            password=password,
            choice=choice,
            told=told,
            renamed=renamed,
            accept=accept,
            is_preview=is_preview,
        )


def run_renames(
    folder: Path, confirmed: Sequence[Renamed], refused: Sequence[Renamed] = ()
) -> RenameReport:
    """Let the project in `folder` follow renames; see `renames.settle`."""
    from lumet.project.renames import settle

    with _writing(folder):
        return settle(folder.resolve(), confirmed, refused)


def run_generation(folder: Path) -> GenerationReport:
    """Generate the application of the project in `folder`; see
    `generating.generate`."""
    from lumet.project.generating import generate

    with _writing(folder):
        return generate(folder.resolve())


def run_customisation(folder: Path, table: str) -> list[str]:
    """Write the first files of own code for a table; see `customising.customise`."""
    from lumet.project.customising import customise

    with _writing(folder):
        return customise(folder.resolve(), table)


def run_adoption(folder: Path) -> list[Adopted]:
    """Take over what was arranged for everyone in the application; see
    `adopting.adopt`."""
    from lumet.project.adopting import adopt

    with _writing(folder):
        return adopt(folder.resolve())


def preview_generation(folder: Path) -> tuple[Planned, list[FileChange]]:
    """Return the generation of the project in `folder` and the changes of files that it
    would write; nothing is written, so that no lock is wanted."""
    from lumet.project import generating, previewing

    planned = generating.plan(folder.resolve())
    return planned, previewing.preview_generation(folder.resolve(), planned)


def run_check(folder: Path, looks_at_database: bool = True) -> Check:
    """Check the project in `folder`; see `consistency.check`."""
    from lumet.project.consistency import check

    return check(folder.resolve(), looks_at_database)


@contextmanager
def _writing(folder: Path) -> Iterator[None]:
    """Let this command alone work on the project; a killed one is finished first."""
    with locked(folder):
        finish(folder)
        yield
