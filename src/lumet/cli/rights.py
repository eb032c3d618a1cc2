"""Output of `lumet review --access`: roles by table, rules, and changes."""

import json
import textwrap
from pathlib import Path

from rich.console import Console

from lumet.cli.visible import escape
from lumet.project.access_review import GENERAL, AccessReview, review_access
from lumet.project.access_review import as_json as for_programs

WIDTH = 80
_TABLE = 22  # columns for the name of a table
_ROLE = 19  # columns for the rights of a role; three roles stand side by side


def show_access(folder: Path, *, as_json: bool) -> None:
    """Print the rights of the project in `folder`."""
    found = review_access(folder)
    if as_json:
        print(json.dumps(for_programs(found), indent=1, ensure_ascii=False))
        return
    out = Console(highlight=False, soft_wrap=True, emoji=False)
    roles = list(found.labels)
    side_by_side = (WIDTH - _TABLE) // _ROLE
    for first in range(0, len(roles), side_by_side):
        _show_matrix(out, found, roles[first : first + side_by_side])
    _show_rules(out, found)
    _show_open_views(out, found)
    _show_open_details(out, found)
    _show_changes(out, found)
    out.print("Rights are defined in access.toml; lumet generate applies them.")


def _show_matrix(out: Console, found: AccessReview, roles: list[str]) -> None:
    heads = "".join(f"{found.labels[role][: _ROLE - 2]:<{_ROLE}}" for role in roles)
    out.print(f"[bold]{'':<{_TABLE}}{escape(heads.rstrip())}[/]")
    for group, tables in found.groups.items():
        out.print(f"[bright_black]{escape(group)}[/]")
        for table in sorted(tables):
            cells = [_cell(found.told[role][table]) for role in roles]
            line = f"  {table[: _TABLE - 3]:<{_TABLE - 2}}" + "".join(
                f"{cell[: _ROLE - 2]:<{_ROLE}}" for cell in cells
            )
            out.print(escape(line.rstrip()))
    general = [(role, found.told[role][GENERAL]) for role in roles]
    for role, words in general:
        if words:
            out.print(escape(f"{found.labels[role]} also {_listed(words)}."))
    out.print()


def _cell(told: list[str]) -> str:
    """Return rights, with a star where rules limit them."""
    rights = "–" if told[0] == "nothing" else told[0]
    return f"{rights} *" if len(told) > 1 else rights


def _listed(words: list[str]) -> str:
    return " and ".join([", ".join(words[:-1]), words[-1]]) if words[1:] else words[0]


def _show_rules(out: Console, found: AccessReview) -> None:
    limited = [
        (role, table, told[1:])
        for role, tables in found.told.items()
        for table, told in tables.items()
        if table != GENERAL and told[1:]
    ]
    if not limited:
        return
    out.print("[bold]* limited[/]")
    for role, table, rules in limited:
        out.print(escape(f"  {found.labels[role]} on {table}"))
        for rule in rules:
            out.print(escape(_wrapped(rule)))
    named = {n: kind for n, kind in found.attributes.items() if n != "name"}
    if named:
        listed = ", ".join(f"{name} ({kind})" for name, kind in named.items())
        out.print(escape(f"  Attributes of each user: {listed}"))
    out.print()


def _wrapped(rule: str) -> str:
    return textwrap.fill(
        rule,
        WIDTH,
        initial_indent=" " * 6,
        subsequent_indent=" " * 8,
        break_long_words=False,
        break_on_hyphens=False,
    )


def _show_open_views(out: Console, found: AccessReview) -> None:
    if not found.open_views:
        return
    out.print("[yellow]Views that bypass a limit; give each a rule of its own:[/]")
    for role, view, table in found.open_views:
        out.print(
            escape(f"  {found.labels[role]} sees in {view} what is limited in {table}")
        )
    out.print()


def _show_open_details(out: Console, found: AccessReview) -> None:
    if not found.open_details:
        return
    out.print("[yellow]Rules do not apply to related records; add one there too:[/]")
    for role, child, table in found.open_details:
        label = found.labels[role]
        out.print(escape(f"  {label} sees all of {child}, of {table} only some"))
    out.print()


def _show_changes(out: Console, found: AccessReview) -> None:
    if found.changes is None:
        return
    if not found.changes:
        out.print("The application has these rights.\n")
        return
    out.print("[yellow]Not in the application yet:[/]")
    for role, table, old, new in found.changes:
        where = f" on {table}" if table != GENERAL else " in general"
        out.print(escape(f"  {found.labels.get(role, role)}{where}"))
        out.print(f"[red]    − {escape('; '.join(old) or 'nothing')}[/]")
        out.print(f"[green]    + {escape('; '.join(new) or 'nothing')}[/]")
    out.print()
