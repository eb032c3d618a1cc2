"""The command line of `lumet`."""

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, Optional

import typer

from lumet import __version__
from lumet.errors import LumetError

HOST = "127.0.0.1"
PORT = 8040

app = typer.Typer(
    name="lumet",
    help="Generate a web application you own from an existing relational database.",
    epilog="Start with: lumet serve FILE.db   (in an empty folder), or: lumet demo",
    no_args_is_help=True,
    add_completion=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)

Project = Annotated[
    Path,
    typer.Option("--project", metavar="FOLDER", help="The project's folder."),
]
Host = Annotated[str, typer.Option("--host", help="Address to listen on.")]
Port = Annotated[int, typer.Option("--port", help="Port to listen on.")]
NoData = Annotated[
    bool, typer.Option("--no-data", help="Read the schema only, no rows.")
]
Tables = Annotated[
    Optional[list[str]],  # noqa: UP045 - Typer reads it
    typer.Option(
        "--tables", metavar="PATTERN", help="Read only these tables; repeatable."
    ),
]
Skip = Annotated[
    Optional[list[str]],  # noqa: UP045
    typer.Option("--skip", metavar="PATTERN", help="Skip these tables; repeatable."),
]
Schema = Annotated[
    Optional[list[str]],  # noqa: UP045
    typer.Option("--schema", metavar="NAME", help="Read this schema; repeatable."),
]
Preview = Annotated[
    bool, typer.Option("--preview", help="Show what would change; write nothing.")
]
PreviewJson = Annotated[bool, typer.Option("--json", help="The preview for programs.")]
DATABASE = "A SQLite file, or a postgresql:// or mariadb:// address."


def _show_version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"lumet {__version__}")
        raise typer.Exit


@app.callback()
def main(
    version: Annotated[
        bool,
        typer.Option(
            "--version", callback=_show_version, is_eager=True, help="Say which it is."
        ),
    ] = False,
) -> None:
    pass


@app.command()
def survey(
    database: Annotated[
        Optional[str],  # noqa: UP045 - Typer reads it
        typer.Argument(metavar="DATABASE", help=DATABASE, show_default=False),
    ] = None,
    project: Project = Path(),
    tables: Tables = None,
    skip: Skip = None,
    schema: Schema = None,
    private: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option(
            "--private",
            metavar="PATTERN",
            help="Write no values of these columns (TABLE.COLUMN) into the project; repeatable.",
        ),
    ] = None,
    no_data: NoData = False,
    other_database: Annotated[
        bool,
        typer.Option("--other-database", help="Accept another database than before."),
    ] = False,
    renamed: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option(
            "--renamed",
            metavar="OLD=NEW",
            help="A renamed table, or TABLE.OLD=NEW a column; repeatable.",
        ),
    ] = None,
    preview: Preview = False,
    as_json: PreviewJson = False,
) -> None:
    """Read a database and write the survey and the inferred decisions.

    Writes survey.json, design/ and access.toml, and never to the database. Run it again
    when the schema has changed: your decisions are kept.
    """

    def work() -> int:
        from lumet.cli.prompts import survey_showing
        from lumet.project.surveying import TableChoice

        chosen = (schema, tables, skip, private)
        choice = TableChoice(*(tuple(each or ()) for each in chosen))
        if preview:
            return _preview_survey(project, database, not no_data, choice, as_json)
        survey_showing(
            project,
            database,
            read_rows=not no_data,
            choice=choice,
            takes_other=other_database,
            renamed=renamed or (),
        )
        return 0

    _refuse_json(as_json, preview)
    _carry_out(work)


def _preview_survey(
    project: Path, database: str | None, read_rows: bool, choice: Any, as_json: bool
) -> int:
    from lumet.cli.output import show_survey
    from lumet.cli.previews import show_changes_json, show_file_changes
    from lumet.cli.prompts import survey_asking

    report = survey_asking(
        project, database, read_rows=read_rows, choice=choice, is_preview=True
    )
    if as_json:
        show_changes_json(report.preview)
    else:
        show_survey(report, is_preview=True)
        show_file_changes(report.preview)
    return 1 if report.preview else 0


def _refuse_json(as_json: bool, preview: bool) -> None:
    if as_json and not preview:
        raise typer.BadParameter("--json goes with --preview.")


@app.command()
def review(
    place: Annotated[
        Optional[str],  # noqa: UP045
        typer.Argument(metavar="TABLE[.COLUMN]", help="What to show; by default all."),
    ] = None,
    project: Project = Path(),
    doubtful: Annotated[
        bool, typer.Option("--doubtful", help="Only doubtful decisions.")
    ] = False,
    access: Annotated[
        bool, typer.Option("--access", help="Roles and rights, and what changed.")
    ] = False,
    as_json: Annotated[bool, typer.Option("--json", help="For programs.")] = False,
) -> None:
    """Show the decisions: each with its value, its reason, and where to change it.

    The doubtful ones come first. Reads the project alone, never the database.
    """

    def work() -> None:
        from lumet.cli.review import show_json, show_review, show_table
        from lumet.project.reviewing import chosen
        from lumet.project.reviewing import review as look

        if access:
            from lumet.cli.rights import show_access

            show_access(project.resolve(), as_json=as_json)
            return
        found = look(project.resolve())
        if as_json:
            show_json(found)
        elif place is not None:
            show_table(*chosen(found, place), found)
        else:
            show_review(found, doubtful)

    _carry_out(work)


@app.command()
def generate(
    project: Project = Path(), preview: Preview = False, as_json: PreviewJson = False
) -> None:
    """Write the application from the survey and your decisions.

    Edits made by hand are merged, never replaced. Generating twice changes nothing.
    """

    def work() -> int:
        if preview:
            return _preview_generation(project, as_json)
        from lumet.cli.output import show_generation
        from lumet.project.commands import run_generation

        report = run_generation(project)
        show_generation(report)
        return 1 if report.written.conflicts else 0

    _refuse_json(as_json, preview)
    _carry_out(work)


def _preview_generation(project: Path, as_json: bool) -> int:
    from lumet.cli.previews import show_changes_json, show_generation_preview
    from lumet.project.commands import preview_generation

    planned, changes = preview_generation(project)
    if as_json:
        show_changes_json(changes)
    else:
        show_generation_preview(planned, changes)
    return 1 if changes else 0


@app.command()
def customise(
    table: Annotated[str, typer.Argument(metavar="TABLE", help="The table.")],
    project: Project = Path(),
) -> None:
    """Begin with code of your own for a table: a module and a test.

    Both are yours: they are not written again.
    """

    def work() -> int:
        from lumet.project.commands import run_customisation

        for path in run_customisation(project, table):
            typer.echo(f"  written  {path}")
        typer.echo("\nTest it:  python -m unittest")
        return 0

    _carry_out(work)


@app.command()
def adopt(project: Project = Path()) -> None:
    """Take over into design/ the columns and widths that were arranged for everyone.

    An administrator arranges them in the application, by "Apply for everyone"; then they
    are decisions, and the application has them from there.
    """

    def work() -> int:
        from lumet.design.toml_statements import format_value
        from lumet.project.commands import run_adoption

        found = run_adoption(project)
        for each in found:
            if each.columns:
                typer.echo(f"  {each.file}  columns = {format_value(each.columns)}")
            if each.widths:
                typer.echo(
                    f"  {each.file}  column_widths = {format_value(each.widths)}"
                )
            for name in each.left_out:
                typer.echo(f"    without {name}, a column of your own code")
        if found:
            typer.echo("\nNext:  lumet generate")
        else:
            typer.echo("No columns were arranged for everyone. Nothing was written.")
        return 0

    _carry_out(work)


@app.command()
def check(
    project: Project = Path(),
    no_database: Annotated[
        bool, typer.Option("--no-database", help="Do not look at the database.")
    ] = False,
    as_json: Annotated[bool, typer.Option("--json", help="For programs.")] = False,
) -> None:
    """Check that database, survey, decisions and generated files fit each other.

    For continuous integration: writes nothing, and ends with status 1 where something
    does not fit.
    """

    def work() -> int:
        from lumet.project.commands import run_check

        found = run_check(project, not no_database)
        if as_json:
            import json

            typer.echo(json.dumps(found.as_json(), indent=1))
        else:
            from lumet.cli.previews import show_check

            show_check(found)
        return 0 if found.is_clean else 1

    _carry_out(work)


@app.command()
def rehearse(
    project: Project = Path(),
    tables: Annotated[
        Optional[list[str]],  # noqa: UP045 - Typer reads it
        typer.Option("--tables", metavar="PATTERN", help="These tables; repeatable."),
    ] = None,
    roles: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--roles", metavar="PATTERN", help="These roles; repeatable."),
    ] = None,
    quick: Annotated[
        bool, typer.Option("--quick", help="A sample of each table.")
    ] = False,
    read_only: Annotated[
        bool, typer.Option("--read-only", help="Pages alone; no form is sent.")
    ] = False,
    seed: Annotated[int, typer.Option("--seed", help="Which samples are taken.")] = 1,
    report: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option(
            "--report",
            metavar="FILE",
            help="The report as a page, by default rehearsal.html in the project.",
        ),
    ] = None,
    junit: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--junit", metavar="FILE", help="The report as JUnit XML."),
    ] = None,
    baseline: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--baseline", metavar="FILE", help="Failures that are known."),
    ] = None,
    write_baseline: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option(
            "--write-baseline", metavar="FILE", help="Write the failures as known."
        ),
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="For programs.")] = False,
) -> None:
    """Use the application as every role, and compare it with the database.

    Opens every page and sends every form: on a copy of a SQLite file, on a server in
    transactions that are rolled back. Ends with status 1 on a failure.
    """

    def work() -> int:
        from lumet.cli.rehearsing import Reports, rehearse_showing
        from lumet.rehearsal.running import Request

        request = Request(tables or (), roles or (), quick, read_only, seed)
        reports = Reports(report, junit, baseline, write_baseline, as_json)
        return rehearse_showing(project, request, reports)

    _carry_out(work)


@app.command()
def populate(
    project: Project = Path(),
    tables: Annotated[
        Optional[list[str]],  # noqa: UP045 - Typer reads it
        typer.Option("--tables", metavar="PATTERN", help="These tables; repeatable."),
    ] = None,
    rows: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option(
            "--rows",
            metavar="[TABLE=]NUMBER",
            help="Rows of a usual table, 100 by default, or of one table; repeatable.",
        ),
    ] = None,
    seed: Annotated[int, typer.Option("--seed", help="Which rows are made up.")] = 1,
    yes: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option("--yes", metavar="NAME", help="The database's name, for scripts."),
    ] = None,
    remove: Annotated[
        bool, typer.Option("--remove", help="Remove the rows that it added.")
    ] = False,
    preview: Preview = False,
) -> None:
    """Fill the empty tables of a development database with made-up rows.

    They keep every constraint, and fit the kind of each field. Tables with rows are left
    as they are. The database must be marked in .env: DEVELOPMENT_DATABASE=NAME
    """

    def work() -> int:
        from lumet.cli.populating import populate_showing, remove_showing
        from lumet.population.populating import Request, parse_rows

        if remove:
            return remove_showing(project, yes, preview)
        request = Request(tables or (), parse_rows(rows or ()), seed)
        return populate_showing(project, request, yes, preview)

    _carry_out(work)


@app.command()
def serve(
    database: Annotated[
        Optional[str],  # noqa: UP045 - Typer reads it
        typer.Argument(metavar="DATABASE", help=DATABASE, show_default=False),
    ] = None,
    project: Project = Path(),
    tables: Tables = None,
    skip: Skip = None,
    schema: Schema = None,
    host: Host = HOST,
    port: Port = PORT,
    opens: Annotated[
        bool, typer.Option("--open", help="Open it in the browser.")
    ] = False,
    read_only: Annotated[
        bool, typer.Option("--read-only", help="Let nothing be written.")
    ] = False,
    no_reload: Annotated[
        bool, typer.Option("--no-reload", help="Do not watch the files.")
    ] = False,
) -> None:
    """Run the application locally.

    With a database, in an empty folder, it does the whole job: survey, generate, serve.
    What you change in decisions, code and templates shows at once.
    """

    def run(folder: Path, package: str) -> int:
        return _run(folder, package, host, port, opens, read_only, no_reload)

    def work() -> int:
        from lumet.project.fingerprint import current_package

        surveys = _wants_survey(project, database, tables, skip, schema)
        package = None if surveys else current_package(project)
        if package is not None:
            return run(project, package)
        from lumet.cli.output import show_generation
        from lumet.cli.prompts import survey_showing
        from lumet.project.commands import run_generation

        if surveys:
            from lumet.project.surveying import TableChoice

            lists = (tuple(each or ()) for each in (schema, tables, skip))
            choice = TableChoice(*lists)
            survey_showing(project, database, is_alone=False, choice=choice)
        report = run_generation(project)
        if surveys or not report.written.is_quiet:
            show_generation(report, is_alone=False)
        return run(report.folder, report.package)

    _carry_out(work)


@app.command()
def demo(
    folder: Annotated[
        Path, typer.Argument(metavar="FOLDER", help="Folder for the demo.")
    ] = Path("skerries"),
    host: Host = HOST,
    port: Port = PORT,
    no_serve: Annotated[
        bool, typer.Option("--no-serve", help="Generate without serving.")
    ] = False,
) -> None:
    """Make the demo: a made-up coastal service, and serve it.

    Builds the database, surveys, generates, and adds one user for each role, with a
    password of its own.
    """

    def work() -> int:
        from lumet.cli.output import show_demo, show_generation, show_survey
        from lumet.demo.making import (
            add_demo_users,
            decide_demo,
            make_demo_database,
        )
        from lumet.project.commands import run_generation, run_survey

        database = make_demo_database(folder)
        show_survey(run_survey(folder, str(database)), is_alone=False)
        decide_demo(folder)
        report = run_generation(folder)
        show_generation(report, is_alone=False)
        show_demo(report, add_demo_users(folder, report.package), host, port, no_serve)
        return 0 if no_serve else _run(report.folder, report.package, host, port)

    _carry_out(work)


def _wants_survey(
    project: Path, database: str | None, *choices: list[str] | None
) -> bool:
    """Tell whether serving begins with a survey: of a database or a choice of tables
    that was given, or, on a terminal, of one that is asked for."""
    if database is not None or any(choices):
        return True
    return not (project / "survey.json").exists() and sys.stdin.isatty()


def _run(
    folder: Path,
    package: str,
    host: str,
    port: int,
    opens: bool = False,
    is_read_only: bool = False,
    no_reload: bool = False,
) -> int:
    """Serve the application of a project until it ends."""
    from lumet.cli.serving import run_live
    from lumet.project.serving import serve

    if opens:
        from lumet.cli.serving import open_when_ready

        open_when_ready(host, port)
    if no_reload:
        return serve(folder, package, host, port, is_read_only)
    return run_live(folder, package, host, port, is_read_only)


def _carry_out(work: Callable[[], int | None]) -> None:
    """Run a command; print errors that a person can correct on standard error, and end
    with the exit status of the error."""
    try:
        status = work() or 0
    except LumetError as error:
        from lumet.cli.visible import visible  # slow to import

        typer.echo(visible(str(error)), err=True)
        raise typer.Exit(int(error.status)) from None
    except KeyboardInterrupt:
        typer.echo("Stopped.", err=True)
        raise typer.Exit(130) from None
    if status:
        raise typer.Exit(status)


def run() -> None:
    """Run the command."""
    app()
