"""The commands, each under the project's lock."""

from pathlib import Path

from lumet.generation.writing import finish
from lumet.project.folder import locked
from lumet.project.generating import GenerationReport, generate
from lumet.project.surveying import SurveyReport, survey


def run_survey(
    folder: Path, database: str | None, *, read_rows: bool = True
) -> SurveyReport:
    """Survey into the project in `folder`; see `surveying.survey`."""
    with locked(folder):
        finish(folder)
        return survey(folder.resolve(), database, read_rows=read_rows)


def run_generation(folder: Path) -> GenerationReport:
    """Generate the application of the project in `folder`; see `generating.generate`."""
    with locked(folder):
        finish(folder)
        return generate(folder.resolve())
