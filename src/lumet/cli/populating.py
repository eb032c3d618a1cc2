"""Made-up rows on the terminal: what would be added, the question, and what came of it."""

import sys
from pathlib import Path

import typer
from rich.console import Console
from rich.markup import escape
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

from lumet.cli.output import console, counted
from lumet.errors import LumetError
from lumet.population.populating import (
    Filled,
    Plan,
    Population,
    Request,
    opened,
    plan,
    populate,
)
from lumet.population.removal import Removed, count_made_up, remove

MOST_LISTED = 30  # tables


def populate_showing(folder: Path, request: Request, yes: str | None, is_preview: bool) -> int:  # fmt: skip
    """Fill the empty tables of a project's database; return 1 where one stays empty."""
    with opened(folder) as population:
        planned = plan(population, request)
        _show_plan(planned)
        if is_preview:
            return 1 if planned.wanted else 0
        if not planned.wanted:
            return 1 if planned.never else 0
        _ask(population, yes, "write made-up rows into it")
        total = sum(each.rows for each in planned.wanted)
        with _progress() as progress:
            task = progress.add_task("", total=total)
            found = populate(
                population, planned, request,
                lambda table, rows: progress.update(task, advance=rows, description=escape(table)),
            )  # fmt: skip
        _show_end(found)
    return 1 if planned.never or any(not each.rows for each in found) else 0


def remove_showing(folder: Path, yes: str | None, is_preview: bool) -> int:
    """Remove the rows that were added to a project's database."""
    with opened(folder) as population:
        known = count_made_up(population)
        total = sum(known.values())
        if not total:
            console().print(f"No made-up row is known in {escape(population.name)}.")
            return 0
        where = f"{counted(total, 'made-up row')} in {counted(len(known), 'table')}"
        console().print(f"{where} of [bold]{escape(population.name)}[/]")
        if is_preview:
            return 1
        _ask(population, yes, "remove them")
        _show_removed(remove(population))
    return 0


def _ask(population: Population, yes: str | None, what: str) -> None:
    """Have the name of the database typed."""
    name = population.name
    if yes is None and sys.stdin.isatty():
        yes = typer.prompt(f"Type the name of the database to {what}", default="", show_default=False)  # fmt: skip
    if yes is None:
        raise LumetError("The name of the database is needed. Nothing was written.", f"Add: --yes '{name}'")  # fmt: skip
    if yes.strip() != name:
        raise LumetError(f'The database is {name}, not "{yes}". Nothing was written.')


def _progress() -> Progress:
    columns = TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn()
    return Progress(*columns, console=Console(stderr=True), transient=True)


def _show_plan(planned: Plan) -> None:
    out = console()
    total = sum(each.rows for each in planned.wanted)
    there = f", {planned.kept} with rows stay as they are" if planned.kept else ""
    empty = counted(len(planned.wanted), "empty table")
    out.print(f"[bold]{escape(planned.database)}[/]   {empty}, {total:,} rows{there}")
    for each in planned.wanted[:MOST_LISTED]:
        out.print(f"  {each.rows:>9,}  {escape(each.table)}")
    if len(planned.wanted) > MOST_LISTED:
        out.print(f"             and {len(planned.wanted) - MOST_LISTED} more")
    for name, why in planned.never.items():
        out.print(f"  [yellow]·[/] {escape(name)} stays empty: {escape(why)}")


def _show_end(found: list[Filled]) -> None:
    out = console()
    for each in found:
        if each.why:
            short = f"{each.rows:,} of {each.wanted:,} rows" if each.rows else "stays empty"  # fmt: skip
            mark = "[yellow]·[/]" if each.rows else "[red]✗[/]"
            out.print(f"{mark} {escape(each.table)}: {short}: {escape(each.why)}", soft_wrap=True)  # fmt: skip
    rows, tables = sum(e.rows for e in found), sum(1 for e in found if e.rows)
    seconds = sum(each.seconds for each in found)
    out.print(f"\n[bold]{counted(rows, 'row')}[/] in {counted(tables, 'table')}   {seconds:.1f} s")  # fmt: skip
    out.print("  Sequences and counters of the database have advanced.")
    out.print("  Remove them with: lumet populate --remove")


def _show_removed(found: list[Removed]) -> None:
    out = console()
    for each in found:
        if each.changed:
            out.print(f"[yellow]·[/] {escape(each.table)}: {counted(each.changed, 'row')} changed since, and yours now")  # fmt: skip
        if each.referred:
            out.print(f"[yellow]·[/] {escape(each.table)}: {counted(each.referred, 'row')} kept, as another row refers to it")  # fmt: skip
    rows = sum(each.rows for each in found)
    out.print(f"[bold]{counted(rows, 'row')}[/] removed.")
