"""Output of the commands: result, meaning and next step.

Colour only supports: amber for doubtful, red for wrong. Everything reads without it, in
80 columns and in a pipe.
"""

import textwrap
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from rich.console import Console

from lumet.cli.visible import escape
from lumet.demo.making import DemoUser
from lumet.design.decision_schema import EDIT_ROWS
from lumet.design.rewriting import Edited
from lumet.facts.comparing import Difference
from lumet.facts.dialects import server_of
from lumet.facts.model import Table
from lumet.generation.merge_writer import Conflict
from lumet.generation.merging import CONFLICT
from lumet.project.generating import GenerationReport
from lumet.project.renames import RenameReport
from lumet.project.surveyfile import Inferred, Question
from lumet.project.surveying import Doubt, SurveyReport

MAX_DOUBTS = 8
MAX_NAMED = 4
WEAK_TITLE = 0.6  # confidence; below, a title tells little
_WIDTH = 80


def console() -> Console:
    """Return where the commands print."""
    return Console(highlight=False, soft_wrap=True, emoji=False)


def counted(number: int, noun: str) -> str:
    """Return a number with its noun: 1 file, 2 files."""
    return f"{number:,} {noun}" if number == 1 else f"{number:,} {noun}s"


def show_survey(
    report: SurveyReport,
    is_alone: bool = True,
    is_asking: bool = False,
    is_preview: bool = False,
) -> None:
    """Print the result of a survey. `is_alone`: name the next command; `is_asking`: open
    questions are asked next; of a preview nothing was written."""
    out = console()
    _show_reading(out, report)
    if report.is_first:
        for label, text in _findings(report):
            for part in textwrap.wrap(text, _WIDTH - 15) or [""]:
                out.print(f"  {label:<13}{escape(part)}")
                label = ""
        _show_doubts(out, report.doubts)
    else:
        _compare(out, report.differences)
    if report.renames is not None:
        show_renames(report.renames, out)
    _show_contradictions(out, report)
    _show_unread(out, report)
    if report.edited:
        out.print('\nEdited, but still marked "#~": remove the mark to decide:')
        _show_statements(out, report.edited)
    if not is_asking:
        show_questions(out, report.questions)
    if is_preview:
        out.print()
        return
    files = counted(len(report.written), "file")
    name = escape(report.folder.name)
    out.print(
        f"\nWrote {files} in {name}/. Nothing was written to the database."
        if report.written
        else "\nNothing to write: everything is up to date."
    )
    if is_alone:
        out.print("Next:  lumet review --doubtful      or      lumet serve")


def show_renames(report: RenameReport, out: Console | None = None) -> None:
    """Print what followed from renames."""
    out = out or console()
    names = ", ".join(map(str, report.renames))
    if report.changed:
        out.print(f"\n{escape(names)}: your lines were changed:")
        _show_statements(out, report.changed)
    else:
        out.print(f"\n{escape(names)}: no decision of yours names it.")
    for path, before in report.moved.items():
        out.print(f"  {escape(before)} is {escape(path)} now")
    for path in report.kept:
        out.print(
            f"  {escape(path)} was kept: both tables have decisions of yours. Join them"
            " by hand, then delete it."
        )
    if report.own_code:
        out.print("\n[yellow]Own code names it; change it by hand:[/]")
        _show_statements(out, report.own_code)


def show_questions(out: Console, questions: Sequence[Question]) -> None:
    """Print the renames that nobody has answered."""
    if not questions:
        return
    out.print("\n[yellow]Renamed? Your lines then follow.[/] Confirm with:")
    for each in questions:
        old = each.old if each.is_table else f"{each.table}.{each.old}"
        out.print(f"  lumet survey --renamed {escape(f'{old}={each.new}')}")


def _show_reading(out: Console, report: SurveyReport) -> None:
    """Print the database, and how much of it was read."""
    database, evidence = report.survey.database, report.survey.evidence
    views = sum(table.is_view for table in database.tables)
    parts = [counted(len(database.tables) - views, "table")]
    if views:
        parts.append(counted(views, "view"))
    if database.routines:
        parts.append(counted(len(database.routines), "stored routine"))
    rows = sum(profile.rows for profile in evidence.tables.values())
    sampled = sum(profile.sampled for profile in evidence.tables.values())
    if evidence.tables:
        read = f" sampled to {sampled:,}" if sampled < rows else ""
        parts.append(f"{rows:,} rows{read}")
    out.print(
        f"Reading {escape(report.address.shown)} "
        f"({server_of(database.dialect).title or database.dialect} {database.version},"
        " read-only) …\n"
        f"  {', '.join(parts)}   {report.seconds:.1f} s\n"
    )


def _show_statements(out: Console, found: Iterable[tuple[str, Edited]]) -> None:
    for path, line in found:
        out.print(f"  {escape(path)}:{line.line}  {escape(_cut(line.text, 60))}")


def _show_contradictions(out: Console, report: SurveyReport) -> None:
    """Print declarations that the rows contradict, and decisions that no longer
    apply."""
    if report.contradictions:
        out.print("\n[yellow]The rows contradict what you declared:[/]")
        for doubt in report.contradictions:
            out.print(f"  {escape(doubt.place)}: {escape(doubt.reason)}")
    if report.misfits:
        out.print(
            "\n[yellow]These decisions of yours no longer apply; they were kept:[/]"
        )
        for mistake in report.misfits:
            out.print("  " + escape(str(mistake)).replace("\n", "\n  "))


def _show_unread(out: Console, report: SurveyReport) -> None:
    """Print the tables that were not read, or badly."""
    if cut := report.survey.evidence.cut:
        out.print(
            f"\n[yellow]Not read: {escape(_named(cut))}; decided without reading their rows.[/]"
        )
    if report.unanalysed:
        out.print(
            f"\n[yellow]No statistics: {escape(_named(report.unanalysed))}. Without them the server plans badly and lists may be slow.[/]\n  Ask for:  ANALYZE;"
        )
    if report.unread:
        out.print(
            f"\n[yellow]Not read: {escape(_named(report.unread))}. You are connected as a"
            " superuser, with whose\n  rights a view's functions would run.[/]"
            " Connect as a user who may only SELECT."
        )


Decided = Mapping[str, Mapping[tuple[str, ...], Inferred]]


def _findings(report: SurveyReport) -> Iterator[tuple[str, str]]:
    """Yield the lines of a first survey: a label, and what was found."""
    decided = {
        table: {entry.key: entry for entry in entries}
        for table, entries in report.survey.tables.items()
    }
    lines = (
        ("References", _references_found(report, decided)),
        ("Titles", _titles_found(decided)),
        ("Detail rows", _detail_rows_found(decided)),
        ("Many-to-many", _junctions_found(report)),
        ("Columns", _columns_found(decided)),
        ("Read-only", _read_only_found(report, decided)),
        ("Refused", _refused_found(report, decided)),
        ("Unreadable", _unreadable_found(report)),
        ("Left out", _left_out_found(report, decided)),
        ("Values", _values_found(report)),
        ("Lookups", _lookups_found(report)),
    )
    yield from (line for line in lines if line[1])


def _count_keys(
    decided: Decided, fits: Callable[[tuple[str, ...], Inferred], bool]
) -> int:
    """Count the decisions that fit."""
    return sum(fits(k, e) for entries in decided.values() for k, e in entries.items())


def _excluded(decided: Decided) -> list[str]:
    return [table for table, entries in decided.items() if ("include",) in entries]


def _references_found(report: SurveyReport, decided: Decided) -> str:
    database = report.survey.database
    references = [r for table in database.tables for r in table.references]
    names = {table.name for table in database.tables}
    lost = [r for r in references if r.referred_table not in names]
    nowhere = f" · {len(lost)} to tables that do not exist" if lost else ""
    found = _count_keys(decided, lambda key, _: "references" in (key[0], key[-1]))
    where = "in the rows" if report.survey.evidence.tables else "by their names"
    inferred = f" · {found} found {where}" if found else ""
    return f"{len(references)} declared{inferred}{nowhere}"


def _titles_found(decided: Decided) -> str:
    excluded = _excluded(decided)
    titles = {
        table: entries[("title",)]
        for table, entries in decided.items()
        if table not in excluded
    }
    weak = [name for name, title in titles.items() if title.confidence < WEAK_TITLE]
    text = f"{len(titles) - len(weak)} of {len(titles)} tables have a readable one"
    return text + (f" · {_named(weak)} {_have(weak)} none" if weak else "")


def _detail_rows_found(decided: Decided) -> str:
    edited = [
        f"{key[1]} in {table}"
        for table, entries in decided.items()
        for key, entry in entries.items()
        if key[0] == "details" and EDIT_ROWS in str(entry.value)
    ]
    return _dotted(edited) if edited else ""


def _junctions_found(report: SurveyReport) -> str:
    joins = [f"{j.table} {j.reason.partition(',')[0]}" for j in report.junctions]
    return _dotted(joins) if joins else ""


def _columns_found(decided: Decided) -> str:
    lookups = _count_keys(
        decided, lambda key, e: key[-1] == "kind" and e.value == "lookup"
    )
    hidden = _count_keys(
        decided, lambda key, e: key[-1] == "hidden" and e.value is True
    )
    return f"{lookups} shown by name · {hidden} hidden"


def _read_only_found(report: SurveyReport, decided: Decided) -> str:
    excluded = _excluded(decided)
    tables = [t for t in report.survey.database.tables if t.name not in excluded]
    keyed = {table for table, entries in decided.items() if ("key",) in entries}
    keyed |= report.keyed
    reasons = (
        ("a view", [t.name for t in tables if t.is_view]),
        ("no key", _without(tables, lambda t: t.primary_key or t.name in keyed)),
        (
            "no right to write",
            _without(tables, lambda t: t.is_changeable or t.refusal),
        ),
    )
    return " · ".join(f"{_named(names)} ({why})" for why, names in reasons if names)


def _refused_found(report: SurveyReport, decided: Decided) -> str:
    excluded = _excluded(decided)
    found: dict[str, list[str]] = {}
    for table in report.survey.database.tables:
        if table.refusal and table.denied and table.name not in excluded:
            found.setdefault(table.refusal, []).append(table.name)
    return " · ".join(f"{_named(names)}: {why}" for why, names in found.items())


def _unreadable_found(report: SurveyReport) -> str:
    names = report.survey.database.unreadable
    return f"{_named(names)}: the database cannot open it" if names else ""


def _left_out_found(report: SurveyReport, decided: Decided) -> str:
    left_out = report.survey.left_out
    names = [table for table in _excluded(decided) if table not in left_out]
    return f"{_named(names)}: used by programs only" if names else ""


def _values_found(report: SurveyReport) -> str:
    kept = sum(
        bool(column.values)
        for profile in report.survey.evidence.tables.values()
        for column in profile.columns.values()
    )
    if not kept:
        return ""
    those = f"of {counted(kept, 'column')} with few values are written into"
    return f"{those} the project (--private TABLE.COLUMN leaves them out)"


def _lookups_found(report: SurveyReport) -> str:
    names = report.survey.left_out
    return f"{_named(names)}: not selected, but referred to" if names else ""


def _without(tables: Sequence[Table], has: Callable[[Table], object]) -> list[str]:
    return [table.name for table in tables if not (table.is_view or has(table))]


def _compare(out: Console, differences: Sequence[Difference]) -> None:
    if not differences:
        out.print("Compared with the last survey: the schema is the same.")
        return
    out.print("Compared with the last survey:")
    show_differences(out, differences)


def show_differences(out: Console, differences: Sequence[Difference]) -> None:
    """Print the differences of the database from the last survey."""
    if not differences:
        return
    places = [_place(difference) for difference in differences]
    width = min(36, max(map(len, places))) + 2
    for difference, place in zip(differences, places, strict=True):
        text = escape(f"{_in_column(place, width)}{_in_words(difference)}")
        out.print(f"  {_SIGNS[difference.kind]} {text}")


_SIGNS = {
    "added": "+",
    "dropped": "-",
    "left out": "-",
    "retyped": "~",
    "changed": "~",
    "renamed": "?",
}


def _place(difference: Difference) -> str:
    if difference.what == "column":
        return f"{difference.table}.{difference.name}"
    return difference.table


def _in_words(difference: Difference) -> str:
    what, kind = difference.what, difference.kind
    if kind == "renamed":
        return f"perhaps {difference.before} renamed ({difference.confidence:.0%})"
    if what == "definition":
        return "the view's definition changed"
    if what == "routine":
        words = {"added": "a new procedure or function", "dropped": "dropped"}
        return words.get(kind, "other parameters")
    if kind in ("retyped", "changed") and what in ("column", "key", "rights"):
        label = {"key": "key: ", "rights": "may be written: "}.get(what, "")
        return f"{label}{difference.before or 'none'} → {difference.after or 'none'}"
    if what == "column":
        return difference.after if kind == "added" else "dropped; your lines are kept"
    if what == "table":
        words = {"added": "a new table", "left out": "not chosen; your file is kept"}
        return words.get(kind, "dropped; your file is kept")
    change = f": {difference.before} → {difference.after}" if kind == "changed" else ""
    return f"{what} {kind}: {difference.name}{change}"


def _have(names: Sequence[str]) -> str:
    return "has" if len(names) == 1 else "have"


def _dotted(words: list[str]) -> str:
    """Return some of several words, and how many more there are."""
    more = len(words) - MAX_NAMED
    rest = [f"{more} more"] if more > 0 else []
    return " · ".join([*words[:MAX_NAMED], *rest])


def _named(names: Sequence[str]) -> str:
    shown = ", ".join(names[:MAX_NAMED])
    more = len(names) - MAX_NAMED
    return f"{shown} and {more} more" if more > 0 else shown


def _show_doubts(out: Console, doubts: Sequence[Doubt]) -> None:
    if not doubts:
        return
    out.print("\n[yellow]Doubtful, check these first:[/]")
    width = min(34, max(len(doubt.place) for doubt in doubts[:MAX_DOUBTS])) + 2
    for doubt in doubts[:MAX_DOUBTS]:
        reason = _cut(doubt.reason, max(30, _WIDTH - width - 2))
        out.print(f"  {escape(_in_column(doubt.place, width))}{escape(reason)}")
    if len(doubts) > MAX_DOUBTS:
        more = len(doubts) - MAX_DOUBTS
        out.print(f"  and {more} more, in design/tables")


def _in_column(text: str, width: int) -> str:
    """Return a text that fills a column; a longer one has blanks behind it all the
    same."""
    return text.ljust(width) if len(text) <= width - 2 else f"{text}  "


def _cut(text: str, width: int) -> str:
    return text if len(text) <= width else text[: width - 1] + "…"


def show_generation(report: GenerationReport, is_alone: bool = True) -> None:
    """Print the result of a generation. `is_alone`: name the next command."""
    out = console()
    made = [counted(report.tables, "table")]
    if report.views:
        made.append(counted(report.views, "view"))
    total = counted(report.written.total, "file")
    out.print(f"{', '.join(made)} → {total}   {report.seconds:.1f} s")
    for label, paths in (
        ("written", report.written.written),
        ("merged", report.written.merged),
        ("conflict", [each.path for each in report.written.conflicts]),
        ("settled", report.written.settled),
        ("kept", report.written.kept),
        ("removed", report.written.removed),
    ):
        if paths:
            colour = "red" if label == "conflict" else ""
            line = f"  {label:<10}{len(paths):>4}   {_places(paths)}"
            out.print(f"[{colour}]{escape(line)}[/]" if colour else escape(line))
    if report.written.unchanged:
        out.print(f"  {'unchanged':<10}{report.written.unchanged:>4}")
    _show_conflicts(out, report.written.conflicts)
    if report.written.merged or report.written.kept:
        out.print("Your lines were kept.")
    if is_alone:
        out.print("Next:  lumet serve")


def _show_conflicts(out: Console, conflicts: Sequence[Conflict]) -> None:
    if not conflicts:
        return
    out.print("\nYou edited these lines, and they are generated differently now:")
    for each in conflicts:
        lines = ", ".join(map(str, each.lines))
        out.print(f"  {escape(each.path)}:{lines}")
    copy = escape(conflicts[0].path) + CONFLICT
    out.print(
        "Yours were kept, all else was merged. To take the generated ones:\n"
        f"  git apply {copy}\n"
        "To keep yours, delete the .conflict file."
    )


def _places(paths: Sequence[str]) -> str:
    if len(paths) <= 3:
        return ", ".join(paths)
    folders = {str(Path(path).parts[0]) for path in paths if "/" in path}
    tops = [f"{folder}/" for folder in sorted(folders)]
    tops += [path for path in paths if "/" not in path]
    return _cut(", ".join(tops), 60)


def show_demo(
    report: GenerationReport,
    users: Sequence[DemoUser],
    host: str,
    port: int,
    no_serve: bool,
) -> None:
    """Say who can sign in to the demo, and where."""
    out = console()
    out.print("\nSign in as one of these users; the passwords are shown only here:\n")
    for user in users:
        out.print(f"  {user.name:<8}{user.password:<20}{user.role}: {user.may}")
    if no_serve:
        out.print(f"\nNext:  lumet serve --project {escape(str(report.folder))}")
    else:
        out.print(f"\nThe address is http://{host}:{port}/\n")
