"""A rehearsal on the terminal: how far it is, what it finds, and its reports."""

import json
from dataclasses import dataclass
from pathlib import Path

import typer
from rich.markup import escape

from lumet.cli.output import console, counted
from lumet.errors import LumetError
from lumet.project.fingerprint import current_package
from lumet.rehearsal.findings import FAILURE, Figures, Finding
from lumet.rehearsal.reports import (
    About,
    as_html,
    as_json,
    as_junit,
    baseline,
    fresh_failures,
    read_baseline,
)
from lumet.rehearsal.running import Request, run_rehearsal

REPORT = "rehearsal.html"
MOST_SHOWN = 40  # findings on the terminal


@dataclass(frozen=True, slots=True)
class Reports:
    """Where the reports go, the page by default into the project, and the failures that
    are known."""

    page: Path | None = None
    junit: Path | None = None
    baseline: Path | None = None
    write_baseline: Path | None = None
    is_json: bool = False


def rehearse_showing(folder: Path, request: Request, reports: Reports) -> int:
    """Rehearse the application of a project; return 1 for a failure that is not
    known."""
    package = current_package(folder)
    if package is None:
        raise LumetError("The generated files do not fit the project.", "Generate first: lumet generate")  # fmt: skip
    known = read_baseline(reports.baseline) if reports.baseline else frozenset()
    if reports.is_json:
        figures, about = run_rehearsal(folder, package, request)
        typer.echo(json.dumps(as_json(figures, about, known), indent=1))
    else:
        figures, about = _run_showing(folder, package, request, known)
    page = reports.page or folder / REPORT
    page.write_text(as_html(figures, about, known), "utf-8")
    if reports.junit is not None:
        reports.junit.write_text(as_junit(figures, about, known), "utf-8")
    if reports.write_baseline is not None:
        reports.write_baseline.write_text(baseline(figures), "utf-8")
    fresh = fresh_failures(figures, known)
    if not reports.is_json:
        _show_end(figures, about, fresh, page)
    return 1 if fresh else 0


def _run_showing(
    folder: Path, package: str, request: Request, known: frozenset[str]
) -> tuple[Figures, About]:
    out = console()
    shown = 0

    def tell(finding: Finding) -> None:
        nonlocal shown
        if finding.key in known or shown >= MOST_SHOWN:
            return
        shown += 1
        mark = "[red]✗[/]" if finding.level == FAILURE else "[yellow]·[/]"
        out.print(f"{mark} {escape(str(finding))}", soft_wrap=True)

    with out.status("Starting") as status:
        return run_rehearsal(
            folder, package, request, tell,
            lambda part, table: status.update(escape(f"{table}: {part}")),
        )  # fmt: skip


def _show_end(figures: Figures, about: About, fresh: list[Finding], page: Path) -> None:
    out = console()
    tables = len({part.table for part in figures.parts})
    out.print(f"\n{counted(tables, 'table')}, {figures.line()}   {about.seconds:.0f} s")
    for table, why in figures.skipped:
        out.print(escape(f"  {table} was not written: {why}"))
    for note in about.notes:
        out.print(escape(f"  {note}"), soft_wrap=True)
    known = len(figures.failures) - len(fresh)
    words = counted(len(fresh), "failure") if fresh else "No failure"
    more = f", {known} known" if known else ""
    out.print(f"[bold]{words}[/]{more}, {len(figures.notices)} to look at: {escape(str(page))}")  # fmt: skip
