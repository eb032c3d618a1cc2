"""A decision file, and the mistakes in it, each with its line."""

import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from difflib import get_close_matches
from functools import cached_property
from typing import Any

from lumet.design.toml_statements import (
    BYTE_ORDER_MARK,
    Path,
    Statement,
    scan,
    without_doubled,
)
from lumet.errors import Mistake

# neither blank nor a comment nor a heading of the machine's
_OWN_LINE = re.compile(r"^[ \t\r]*(?!#|\[[^\n]*#~[ \t\r]*$)[^\s]", re.MULTILINE)


@dataclass(frozen=True)
class DecisionFile:
    """One file that a person edits: its name in the project, and its text."""

    name: str
    text: str

    @cached_property
    def scanned(self) -> list[Statement]:
        """All its statements."""
        return scan(self.text.removeprefix(BYTE_ORDER_MARK))

    @cached_property
    def has_own(self) -> bool:
        """Tell whether anything in it may be a person's: most files of a large project
        hold the machine's lines alone, and need no parser."""
        return _OWN_LINE.search(self.text.removeprefix(BYTE_ORDER_MARK)) is not None

    @cached_property
    def _parsed(self) -> tuple[dict[str, Any], Mistake | None]:
        if not self.has_own:
            return {}, None
        try:
            return tomllib.loads(self._without_doubled()), None
        except tomllib.TOMLDecodeError as error:
            return {}, self._syntax_mistake(str(error))

    def values(self, mistakes: list[Mistake]) -> dict[str, Any]:
        """Return the plain values; a broken file is one mistake and no values."""
        found, mistake = self._parsed
        if mistake is not None:
            mistakes.append(mistake)
        return found

    def _without_doubled(self) -> str:
        """Return the text without superfluous headings, each line where it was."""
        kept = {id(statement) for statement in without_doubled(self.scanned)}
        return "".join(
            each.text if id(each) in kept else "\n" * each.text.count("\n")
            for each in self.scanned
        )

    def _syntax_mistake(self, said: str) -> Mistake:
        found = re.search(r"at line (\d+)", said)
        line = int(found[1]) if found else self.text.rstrip("\n").count("\n") + 1
        lines = self.text.split("\n")
        quoted = lines[line - 1].strip() if line <= len(lines) else ""
        problem = re.sub(r"\s*\(at .*\)$", "", said)
        if "declare" in problem and "twice" in problem:
            problem += '; remove the heading that ends in "#~"'
        problem = f"This is not TOML: {problem}."
        return Mistake(self.name, line, quoted, problem, is_broken=True)

    def statements(self) -> list[Statement]:
        """Return the person's own statements that carry a key."""
        if not self.has_own:
            return []
        return [each for each in self.scanned if each.path and not each.machine]


NOTHING: Mapping[str, str] = {}


class Checker:
    """Check one file's values, collecting every mistake with its line."""

    def __init__(self, file: DecisionFile, mistakes: list[Mistake]) -> None:
        self.file = file
        self.mistakes = mistakes
        self.values = file.values(mistakes)
        self._statements = file.statements()

    def wrong(self, path: Path, problem: str) -> None:
        """Report a mistake at the statement that holds `path`."""
        above = [e for e in self._statements if e.path == path[: len(e.path)]]
        below = [e for e in self._statements if e.path[: len(path)] == path]
        nearest_above = max(above, key=lambda e: len(e.path), default=None)
        best = nearest_above if nearest_above else next(iter(below), None)
        line = best.line if best else 1
        quoted = best.text.strip().split("\n")[0] if best else ".".join(path)
        self.mistakes.append(Mistake(self.file.name, line, quoted, problem))

    def known(
        self,
        path: Path,
        name: str,
        names: Iterable[str],
        what: str,
        others: Mapping[str, str] = NOTHING,
    ) -> bool:
        """Report unless `name` is one of `names`; the nearest one is offered, also that
        of which `others` have another word."""
        choices = list(names)
        if name in choices:
            return True
        self.wrong(path, f'{what} "{name}". {nearest(name, choices, others)}')
        return False

    def text(self, path: Path, value: Any) -> bool:
        """Report unless `value` is a text that is not empty."""
        if isinstance(value, str) and value.strip():
            return True
        self.wrong(path, f'{path[-1]} takes a text, as in {path[-1]} = "…".')
        return False

    def texts(self, path: Path, value: Any) -> tuple[str, ...] | None:
        """Return a list of texts; report anything else and return None."""
        if isinstance(value, list) and all(isinstance(item, str) for item in value):
            return tuple(value)
        self.wrong(path, f'{path[-1]} takes a list of texts, as in ["…", "…"].')
        return None


def nearest(
    name: str, names: Iterable[str], others: Mapping[str, str] = NOTHING
) -> str:
    """Say which of `names` comes closest to `name`, or name the first few; `others` are
    words that people have for some of them."""
    choices = list(names)
    by_folded = {**others, **{each.casefold(): each for each in choices}}
    close = get_close_matches(name.casefold(), by_folded, n=1, cutoff=0.5)
    if close:
        return f"Nearest: {by_folded[close[0]]}."
    listed = ", ".join(choices[:8])
    return f"There are: {listed}." if listed else "There is none."
