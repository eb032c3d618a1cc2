"""Previews in words: what a command would write, and why."""

import json
from collections.abc import Sequence

import typer
from rich.console import Console
from rich.text import Text

from lumet.cli.output import console, counted, show_differences, show_questions
from lumet.cli.visible import escape, visible
from lumet.kit.contract import RIGHTS
from lumet.project.access_review import in_words
from lumet.project.consistency import Check
from lumet.project.generating import Planned
from lumet.project.previewing import FileChange

_COLOURS = {"+": "green", "-": "red", "@": "cyan"}


def show_generation_preview(planned: Planned, changes: Sequence[FileChange]) -> None:
    """Print what a generation would write: of a first one the tables and the roles,
    later each file with its reason and its difference."""
    out = console()
    if all(each.kind == "new" for each in changes) and changes:
        _show_application(out, planned)
        total = counted(len(changes), "file")
        out.print(f"\n{total} would be written in {escape(planned.report.package)}/ and beside it.")  # fmt: skip
        out.print("Nothing was written.")
    else:
        show_file_changes(changes, out)


def show_file_changes(
    changes: Sequence[FileChange], out: Console | None = None
) -> None:
    """Print the files that would change, why, and their differences."""
    out = out or console()
    if not changes:
        out.print("Nothing would change.")
        return
    out.print(f"{counted(len(changes), 'file')} would change:")
    for each in changes:
        out.print(escape(f"  {each.kind:<9} {each.path}   {each.reason}"))
    for each in changes:
        if each.diff:
            out.print()
        for line in each.diff.splitlines():
            out.print(Text(visible(line), style=_COLOURS.get(line[:1], "")))
    out.print("\nNothing was written.")


def _show_application(out: Console, planned: Planned) -> None:
    application = planned.application
    groups: dict[str, list[str]] = {}
    for decisions in application.decisions.values():
        if decisions.include:
            pages = ", ".join(decisions.pages) or "record"
            words = f"{decisions.plural}: {pages}"
            groups.setdefault(decisions.group or "Tables", []).append(words)
    for group, tables in sorted(groups.items()):
        out.print(f"[bold]{escape(group)}[/]")
        for words in sorted(tables):
            out.print(f"  {escape(words)}")
    out.print("[bold]Roles[/]")
    told = in_words(application)
    for role in application.access.roles:
        held = [words for table, words in told[role.name].items() if table]
        usual = max((words[0] for words in held), key=[w[0] for w in held].count, default=RIGHTS[0])  # fmt: skip
        more = told[role.name].get("", [])
        out.print(f"  {escape('; '.join([f'{role.label}: {usual}', *more]))}")


def show_check(found: Check) -> None:
    """Print the findings of a check, with what to do about each."""
    out = console()
    if found.differences is None:
        out.print("Database     not looked at")
    else:
        _finding(out, "Database", found.differences, "as surveyed", "lumet survey")
        show_differences(out, found.differences)
    _finding(out, "Renames", found.questions, "none open", "lumet survey")
    show_questions(out, found.questions)
    _finding(out, "Decisions", found.mistakes, "right", "correct them")
    for mistake in found.mistakes:
        out.print("  " + escape(str(mistake)).replace("\n", "\n  "))
    if found.mistakes:
        return
    _finding(out, "Generated", found.changes, "up to date", "lumet generate")
    for each in found.changes:
        out.print(escape(f"  {each.kind:<9} {each.path}   {each.reason}"))
    _finding(out, "Conflicts", found.conflicts, "none", "settle them")
    for place in found.conflicts:
        out.print(f"  {escape(place)}")


def _finding(
    out: Console, subject: str, found: Sequence[object], good: str, remedy: str
) -> None:
    if found:
        out.print(f"{subject:<12} [yellow]{len(found)} found[/]   Next:  {remedy}")
    else:
        out.print(f"{subject:<12} {good}")


def show_changes_json(changes: Sequence[FileChange]) -> None:
    """Print the changes for programs."""
    found = {"changes": [each.as_json() for each in changes]}
    typer.echo(json.dumps(found, indent=1))
