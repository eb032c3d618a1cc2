"""Prompts for a missing password, or for the whole address."""

import getpass
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import typer
from rich.console import Console

from lumet.cli.output import show_renames, show_survey
from lumet.cli.visible import escape, visible
from lumet.design.renaming import Renamed
from lumet.errors import CannotRun
from lumet.facts.connecting import (
    Address,
    parse_address,
    server_address,
)
from lumet.facts.connection_errors import PasswordNeeded, saying_why
from lumet.facts.dialects import SERVERS, server_of
from lumet.facts.server_listing import other_databases, schemas_with_tables, table_names
from lumet.project.commands import run_renames, run_survey
from lumet.project.identity import OtherDatabase
from lumet.project.renames import RenameReport
from lumet.project.surveyfile import Question
from lumet.project.surveying import (
    SurveyReport,
    TableChoice,
    known_address,
)

MAX_LISTED = 40  # names in one list


def survey_asking(
    project: Path,
    database: str | None,
    *,
    read_rows: bool = True,
    choice: TableChoice | None = None,
    takes_other: bool = False,
    renamed: Sequence[str] = (),
    is_preview: bool = False,
) -> SurveyReport:
    """Survey; on a terminal, ask for the address where none is known, for a password
    that the server wants, without showing it, and whether another database than before
    is meant, unless the project `takes_other`."""
    password = None
    if database is None and sys.stdin.isatty() and not known_address(project):
        database, choice = _ask_for_all(choice or TableChoice())
    try:
        with _progress() as told:
            return run_survey(
                project,
                database,
                read_rows=read_rows,
                choice=choice,
                told=told,
                renamed=renamed,
                is_preview=is_preview,
                accept=lambda other: takes_other or told.accept(other),
            )
    except PasswordNeeded:
        if not sys.stdin.isatty():
            raise
    password = _ask("Password", hide_input=True)
    with _progress() as told:
        return run_survey(
            project,
            database,
            read_rows=read_rows,
            password=password,
            choice=choice,
            told=told,
            renamed=renamed,
            is_preview=is_preview,
            accept=lambda other: takes_other or told.accept(other),
        )


def survey_showing(
    project: Path, database: str | None, *, is_alone: bool = True, **rest: Any
) -> None:
    """Survey as `survey_asking` does, show the result, and ask on a terminal which
    tables and columns were renamed."""
    report = survey_asking(project, database, **rest)
    is_asking = sys.stdin.isatty()
    show_survey(report, is_alone, is_asking)
    followed = _ask_renames(project, report.questions) if is_asking else None
    if followed is not None:
        show_renames(followed)


def _ask_renames(project: Path, questions: Sequence[Question]) -> RenameReport | None:
    """Ask which tables and columns were renamed, and let the project follow; a question
    without an answer stays open."""
    if not questions:
        return None
    answers: dict[str, list[Renamed]] = {"y": [], "n": []}
    _say("")
    for each in questions:
        renamed = Renamed(each.table, each.old, each.new)
        question = f"  ? {renamed}   renamed? (y, n, Enter: ask again)"
        found = _ask(question, default="", show_default=False).strip().lower()[:1]
        answers.get(found, []).append(renamed)
    if not any(answers.values()):
        return None
    return run_renames(project, answers["y"], answers["n"])


class _Terminal:
    """Progress and questions of a survey on a terminal. Ctrl C ends the reading of
    rows, not the survey."""

    def __init__(self) -> None:
        self.status = Console(stderr=True).status("Reading the catalogue …")

    def __call__(self, place: str) -> None:
        self.status.update(
            f"Reading {escape(place)} … (Ctrl C: continue without the rest)"
        )

    def accept(self, other: OtherDatabase) -> bool:
        """Ask whether another database than before is meant; off a terminal it is
        not."""
        if not sys.stdin.isatty():
            return False
        self.status.stop()
        question = (
            f"  ? This seems to be another database. {other} Survey it all the same?"
        )
        return bool(typer.confirm(question, err=True))


@contextmanager
def _progress() -> Iterator[_Terminal]:
    terminal = _Terminal()
    if not sys.stderr.isatty():
        yield terminal
        return
    with terminal.status:
        yield terminal


def _ask_for_all(choice: TableChoice) -> tuple[str, TableChoice]:
    """Ask for the kind of database, where it is, and what of it to read; each answer is
    tried at once. Returns the address, and the choice of schemas and tables."""
    _say("No database was given. Press Enter for the value in brackets.\n")
    kind = _pick("Kind", [server.name for server in SERVERS], SERVERS[0].name)
    if server_of(kind).is_file:
        return str(_ask_until_it_opens(_ask_for_file)), choice
    address = _ask_until_it_opens(lambda: _ask_for_server(kind))
    assert isinstance(address, Address)
    if not choice.schemas:
        choice = replace(choice, schemas=_ask_for_schemas(address))
    if not choice.tables and not choice.skip:
        choice = replace(choice, tables=_ask_for_tables(address, choice.schemas))
    return address.kept(Path()), choice


def _ask_until_it_opens(ask: Callable[[], Any]) -> Any:
    while True:
        try:
            return ask()
        except CannotRun as error:
            _say(f"{error}\n")


def _ask_for_file() -> Path:
    path = _ask("File")
    found = parse_address(path, Path.cwd()).path
    if found is None or not found.is_file():
        raise CannotRun(f"{path}: the file does not exist.")
    return found


def _ask_for_server(kind: str) -> Address:
    host = _ask("Host", default="127.0.0.1")
    port = int(_ask("Port", default=str(server_of(kind).port), type=int))
    user = _ask("User", default=getpass.getuser())
    password = _ask("Password, empty for none", hide_input=True, default="")
    known = server_address(kind, host=host, port=port, user=user, password=password)
    place = f"{server_of(kind).title} at {host}"
    with saying_why(place, bool(password)):
        names = other_databases(known)
    _say(f"\n  {place} answers. Databases: {_listed(names)}")
    return known.with_database(_pick("Database", names, _only(names)))


def _ask_for_schemas(address: Address) -> tuple[str, ...]:
    names = schemas_with_tables(address)
    if len(names) < 2:
        return tuple(name for name in names if name != "public")
    _say(f"\n  Schemas with tables: {_listed(names)}")
    usual = "public" if "public" in names else names[0]
    found = _pick_several("Schemas, separated by commas", names, usual)
    return () if found == ("public",) else found


def _ask_for_tables(address: Address, schemas: Sequence[str]) -> tuple[str, ...]:
    names = table_names(address, schemas)
    _say(f"\n  {len(names)} tables and views: {_listed(names)}")
    text = _ask("Tables to read, as patterns separated by commas", default="all")
    patterns = _split(text)
    return () if patterns == ("all",) else patterns


def _pick(question: str, names: Sequence[str], usual: str) -> str:
    """Ask for one of `names`, until it is one."""
    while True:
        found = str(_ask(f"{question} ({', '.join(names)})" if len(names) < 5 else question,
                         default=usual or None)).strip()  # fmt: skip
        if found in names:
            return found
        _say(f"  There is no {found}: {_listed(names)}")


def _pick_several(question: str, names: Sequence[str], usual: str) -> tuple[str, ...]:
    while True:
        found = _split(_ask(f"{question}, or all", default=usual))
        if found == ("all",):
            return tuple(names)
        unknown = [name for name in found if name not in names]
        if found and not unknown:
            return found
        _say(f"  There is no {', '.join(unknown)}.")


def _split(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in text.split(",") if part.strip())


def _only(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else ""


def _listed(names: Sequence[str]) -> str:
    more = len(names) - MAX_LISTED
    return ", ".join(names[:MAX_LISTED]) + (f" and {more} more" if more > 0 else "")


def _ask(question: str, **rest: Any) -> str:
    return str(typer.prompt(question, err=True, **{"show_default": True} | rest))


def _say(text: str) -> None:
    typer.echo(visible(text), err=True)
