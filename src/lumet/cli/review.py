"""Output of `lumet review`: decisions with value, reason, confidence and place."""

import json
import textwrap
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from rich.console import Console

from lumet.cli.visible import escape
from lumet.design.decision_schema import SEVERITIES
from lumet.design.indexes import Wanted
from lumet.project.reviewing import (
    INFERRED,
    YOURS,
    Review,
    Reviewed,
    ReviewedPage,
    ReviewedReference,
    ReviewedTable,
    as_json,
)

WIDTH = 80
_VALUE = 26  # columns for a value


def show_json(found: Review) -> None:
    """Print a review for programs, on standard output."""
    print(json.dumps(as_json(found), indent=1, ensure_ascii=False, default=str))


def show_review(found: Review, doubtful: bool) -> None:
    """Print the decisions: the doubtful first, then, unless only those are wanted, one
    block a table."""
    out = _console()
    shown = [table for table in found.tables if table.is_included]
    decisions = [d for table in shown for d in table.decisions]
    own = sum(d.source != INFERRED for d in decisions)
    unsure = sum(d.is_doubtful for d in decisions)
    out.print(
        f"{len(shown)} tables and views · {len(decisions) - own:,} decisions inferred, "
        f"{own:,} yours · {unsure:,} doubtful\n"
    )
    _show_doubtful(out, shown)
    _show_proposals(out, shown)
    if not doubtful:
        for table in shown:
            _show_block(out, table, found.references)
        for page in found.pages:
            _show_cards(out, page)
        left = [table.name for table in found.tables if not table.is_included]
        if left:
            out.print(f"Left out: {escape(', '.join(left))}\n")
    _show_indexes(out, found.indexes)
    if found.unlooked:
        out.print(f"[yellow]Not read: {escape(', '.join(found.unlooked))}[/]\n")
    out.print('To decide differently, write the key without "#~" in the file named.')
    if not doubtful:
        out.print("More:  lumet review TABLE      or      lumet review TABLE.COLUMN")


def show_table(table: ReviewedTable, column: str, found: Review) -> None:
    """Say all that was decided about a table, or about one column of it."""
    out = _console()
    chosen = table.of_column(column) if column else table.decisions
    place = f"{table.name}.{column}" if column else table.name
    line = next((d.line for d in chosen if d.line), 0)
    out.print(_ends(place, f"{table.file}:{line}" if line else table.file))
    if column:
        _show_lines(out, chosen, lambda d: d.path[-1])
    else:
        _show_whole(out, table, found)
    if any(not column or p.path[1:2] == (column,) for p in table.proposals):
        _show_proposals(out, [table])
    if not column:
        _show_indexes(out, [each for each in found.indexes if each.table == table.name])
    doubtful = sum(d.is_doubtful for d in chosen)
    told = f"{doubtful} doubtful." if doubtful else "All certain."
    out.print(
        f'\n{told} To decide differently, write the key without "#~" in that file.'
    )


def _show_whole(out: Console, table: ReviewedTable, found: Review) -> None:
    """Print the decisions about a table, then those about each column."""
    about = [d for d in table.decisions if d.path[0] != "field"]
    _show_lines(out, about, lambda d: ".".join(d.path))
    _show_refers(out, table, found.references)
    fields = (d.path[1] for d in table.decisions if d.path[0] == "field")
    for name in dict.fromkeys(fields):
        out.print(f"\n  {escape(name)}")
        _show_lines(out, table.of_column(name), lambda d: d.path[-1], "    ")


def _console() -> Console:
    return Console(highlight=False, soft_wrap=True, emoji=False)


def _ends(left: str, right: str) -> str:
    gap = max(2, WIDTH - len(left) - len(right))
    return f"[bold]{escape(left)}[/]{' ' * gap}{escape(right)}"


def _show_doubtful(out: Console, tables: Sequence[ReviewedTable]) -> None:
    unsure = [(t, d) for t in tables for d in t.decisions if d.is_doubtful]
    if not unsure:
        out.print("Nothing is doubtful.\n")
        return
    out.print("[yellow]Doubtful, check these first:[/]")
    unsure.sort(key=lambda e: (SEVERITIES.index(e[1].severity), e[1].confidence))
    heading = ""
    for table, d in unsure:
        if d.severity != heading:
            heading = d.severity
            out.print(f"  [dim]{heading}[/]")
        place = f"{table.name}.{d.path[1]}" if d.path[0] == "field" else table.name
        what = f"{d.path[-1]} {_written(d.value)}"
        out.print(_ends(f"  {place}  {_cut(what, 40)}", f"{d.confidence:.0%}"))
        out.print(f"      {escape(d.reason)}")
        out.print(f"      {escape(table.file)}:{d.line}")
    out.print()


def _show_indexes(out: Console, indexes: Sequence[Wanted]) -> None:
    if not indexes:
        return
    out.print("\nMissing indexes on large tables. Lumet creates none; ask for:")
    for each in indexes:
        out.print(f"  {escape(each.statement)}")
        out.print(f"      {escape(each.reason)}")
    out.print()


def _show_proposals(out: Console, tables: Sequence[ReviewedTable]) -> None:
    proposals = [(t, d) for t in tables for d in t.proposals]
    if not proposals:
        return
    out.print("[yellow]Suggested, not used:[/]")
    for table, d in sorted(proposals, key=lambda each: -each[1].confidence):
        if d.path == ("key",):
            left = f"  {table.name}  key {_written(d.value)}"
            section = ""
        else:
            left = f"  {table.name}.{d.path[1]} → {d.value}"
            section = f"[field.{d.path[1]}]  "
        out.print(_ends(left, f"{d.confidence:.0%}"))
        out.print(f"      {escape(d.reason)}")
        out.print(f"      to use it, in {escape(table.file)}:")
        out.print(f"      {escape(f'{section}{d.path[-1]} = {_toml(d.value)}')}")
    out.print()


def _show_block(
    out: Console, table: ReviewedTable, references: Iterable[ReviewedReference]
) -> None:
    out.print(_ends(table.name, table.file))
    keys = [("title",), ("key",), ("group",), ("list", "columns"), ("list", "order")]
    by_path = {d.path: d for d in table.decisions}
    chosen = [by_path[key] for key in keys if key in by_path]
    chosen += [d for d in table.decisions if d.path[0] == "details"]
    _show_lines(out, chosen, lambda d: d.path[-1])
    _show_refers(out, table, references)
    hidden = [
        d.path[1] for d in table.decisions if d.path[-1] == "hidden" and d.value is True
    ]
    if hidden:
        out.print(f"  hidden    {escape(', '.join(hidden))}")
    out.print()


def _show_cards(out: Console, page: ReviewedPage) -> None:
    title = f"Page {page.name}" if page.name else "First page"
    out.print(_ends(title, page.file))
    width = max((len(card.path[-1]) for card in page.cards), default=0) + 2
    for card in page.cards:
        held = card.value
        amounts = [f"{key} of {held[key]} of" for key in ("sum", "average") if key in held]  # fmt: skip
        by = f"by {held['by']}" if "by" in held else ""
        words = (held["kind"], *amounts, held.get("table"), by, held.get("filter"))
        why = card.reason if card.source == INFERRED else _why(card)
        _show_line(out, card.path[-1], " ".join(filter(None, words)), why, width)
    out.print()


def _show_refers(
    out: Console, table: ReviewedTable, references: Iterable[ReviewedReference]
) -> None:
    for r in references:
        if r.table == table.name and r.used:
            ours, theirs = " + ".join(r.columns), " + ".join(r.referred_columns)
            sure = "" if r.declared else f" ({r.confidence:.0%})"
            value = f"{ours} → {r.referred_table}.{theirs}"
            _show_line(out, "references", value, r.reason + sure, 12)


def _show_lines(
    out: Console,
    decisions: Iterable[Reviewed],
    named: Callable[[Reviewed], str],
    indent: str = "  ",
) -> None:
    listed = list(decisions)
    width = min(24, max((len(named(d)) for d in listed), default=0)) + 2
    for d in listed:
        _show_line(out, named(d), _written(d.value), _why(d), max(10, width), indent)


def _show_line(
    out: Console, name: str, value: str, reason: str, width: int, indent: str = "  "
) -> None:
    """Print a name, its value and the reason, in one line or, where they are long, the
    value and the reason below each other."""
    lead = f"{indent}{name:<{width}}"
    room = WIDTH - len(lead)
    if len(value) <= _VALUE and _VALUE + 1 + len(reason) <= room:
        out.print(escape(f"{lead}{value:<{_VALUE}} {reason}".rstrip()))
        return
    for part in textwrap.wrap(value, max(20, room)) or [""]:
        out.print(escape(f"{lead}{part}"))
        lead = " " * len(lead)
    for part in textwrap.wrap(reason, max(20, room - 2)):
        out.print(escape(f"{' ' * (len(indent) + width)}  {part}"))


def _why(decision: Reviewed) -> str:
    if decision.source == YOURS:
        return f"yours, line {decision.line}" if decision.line else "yours"
    if decision.source != INFERRED:
        return f"yours, by {decision.source}"
    sure = f" ({decision.confidence:.0%})" if decision.confidence < 0.9 else ""
    return f"{decision.reason}{sure}" if decision.reason else ""


def _written(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dict) and "by" in value:
        named = f'"{value["label"]}" ' if value.get("label") else ""
        edited = f", {value['edit']}" if value.get("edit") else ""
        return f"{named}by {_written(value['by'])}{edited}"
    if isinstance(value, dict):
        return ", ".join(str(key) for key in value)
    if isinstance(value, list | tuple):
        return ", ".join(_written(item) for item in value)
    return str(value)


def _toml(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False)


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"
