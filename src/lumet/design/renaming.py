"""Following a renamed column through a person's decisions: the one case in which lines
that are not the machine's change, since a person has confirmed it."""

import re
from collections.abc import Callable
from dataclasses import dataclass

from lumet.design.rewriting import Edited
from lumet.design.toml_statements import Path, Statement, format_key, format_value, scan

_STRING = re.compile(r'"((?:[^"\\]|\\.)*)"|\'([^\']*)\'')
_SQL_TEXT = re.compile(r"('(?:[^']|'')*')")
_LISTS = frozenset({("list", "columns"), ("list", "wide_columns"), ("list", "order"), ("record", "columns"),
                    ("add", "columns"), ("edit", "columns"), ("key",)})  # fmt: skip


@dataclass(frozen=True, slots=True)
class Renamed:
    """A column of `table` that was called `old` and is called `new` now."""

    table: str
    old: str
    new: str


def follow(text: str, owner: str, renamed: Renamed) -> tuple[str, list[Edited]]:
    """Return the text of the decision file of table `owner` ("" for the patterns of all
    tables) with the new name, and each line of a person's that changed, as it is
    now."""
    statements = scan(text)
    written: list[str] = []
    changed: list[Edited] = []
    for place, statement in enumerate(statements):
        is_own = not statement.machine or _holds_own(statements, place)
        new = _follow_one(statement, owner, renamed) if is_own else statement.text
        if new != statement.text:
            changed.append(Edited(statement.line, new.strip()))
        written.append(new)
    return "".join(written), changed


def _holds_own(statements: list[Statement], place: int) -> bool:
    """Tell whether a heading of the machine's has a person's key below it."""
    if statements[place].kind != "heading":
        return False
    for statement in statements[place + 1 :]:
        if statement.kind == "heading":
            return False
        if statement.kind == "pair" and not statement.machine:
            return True
    return False


def _follow_one(statement: Statement, owner: str, renamed: Renamed) -> str:
    text, path = statement.text, statement.path
    if not path:
        return text
    new_path = _follow_path(path, owner, renamed)
    if statement.kind == "heading":
        if new_path == path:
            return text
        start, end = text.index("["), text.rindex("]")
        return f"{text[: start + 1]}{format_key(new_path)}{text[end:]}"
    key, _, value = text.partition("=")
    new_key = key
    inner = path[len(statement.section) :]
    if new_path[len(statement.section) :] != inner:
        blank = key[: len(key) - len(key.lstrip())]
        tail = key[len(key.rstrip()) :]
        new_key = blank + format_key(new_path[len(statement.section) :]) + tail
    return f"{new_key}={_follow_value(value, path, owner, renamed)}"


def _follow_path(path: Path, owner: str, renamed: Renamed) -> Path:
    if owner == renamed.table and path[:2] == ("field", renamed.old):
        return ("field", renamed.new, *path[2:])
    if not owner and path[:2] == ("field", f"{renamed.table}.{renamed.old}"):
        return ("field", f"{renamed.table}.{renamed.new}", *path[2:])
    return path


def _follow_value(value: str, path: Path, owner: str, renamed: Renamed) -> str:
    old, new = renamed.old, renamed.new

    def named(text: str) -> str:
        return {old: new, f"-{old}": f"-{new}"}.get(text, text)

    if path[0] == "details" and path[1:2] == (renamed.table,):
        return _in_part(value, "by", named)
    if path[0] == "references":
        if owner == renamed.table:
            value = _in_part(value, "by", named)
        return _in_part(value, "to", named) if path[1:2] == (renamed.table,) else value
    if path[0] == "field" and path[-1] == "references":
        ends = {f"{renamed.table}.{old}": f"{renamed.table}.{new}"}
        return _in_strings(value, lambda text: ends.get(text, text))
    if owner != renamed.table:
        return value
    if path == ("title",):
        return _in_strings(value, lambda text: text.replace(f"{{{old}}}", f"{{{new}}}"))
    if path == ("where",):
        return _in_strings(value, lambda text: _in_condition(text, old, new))
    if path in _LISTS or path[0] == "sections":
        return _in_strings(value, named)
    return value


def _in_condition(condition: str, old: str, new: str) -> str:
    """Change a column's name outside the texts of a condition; one that would have to
    be quoted is left to a person, who is told that the condition no longer fits."""
    if not new.isidentifier():
        return condition
    parts = _SQL_TEXT.split(condition)
    word = re.compile(rf"(?<!\w){re.escape(old)}(?!\w)")
    return "".join(
        part if place % 2 else word.sub(new, part) for place, part in enumerate(parts)
    )


def _in_part(value: str, name: str, change: Callable[[str], str]) -> str:
    """Change the strings behind one key of an inline table."""
    part = re.compile(rf"\b{name}\s*=\s*(?:\[[^\]]*\]|\"[^\"]*\"|'[^']*')")
    return part.sub(lambda found: _in_strings(found[0], change), value)


def _in_strings(value: str, change: Callable[[str], str]) -> str:
    """Change the strings in a TOML value; what does not change keeps its spelling."""

    def one(found: re.Match[str]) -> str:
        text = found[1] if found[1] is not None else found[2]
        new = change(text)
        return found[0] if new == text else format_value(new)

    return _STRING.sub(one, value)
