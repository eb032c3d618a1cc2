"""Asking on a terminal for what an address leaves out."""

import sys
from pathlib import Path

import typer

from lumet.facts.refusals import PasswordNeeded
from lumet.project.commands import run_survey
from lumet.project.surveying import SurveyReport, TableChoice


def survey_asking(
    project: Path,
    database: str | None,
    *,
    read_rows: bool = True,
    choice: TableChoice | None = None,
) -> SurveyReport:
    """Survey; where the server wants a password that the address does not have, ask for
    it on a terminal, without showing it."""
    try:
        return run_survey(project, database, read_rows=read_rows, choice=choice)
    except PasswordNeeded:
        if not sys.stdin.isatty():
            raise
    password = typer.prompt("Password", hide_input=True, err=True)
    return run_survey(
        project, database, read_rows=read_rows, password=password, choice=choice
    )
