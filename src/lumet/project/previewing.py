"""Previews: the changes of files that a command would write, with the reason for each,
and nothing is written."""

import json
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from difflib import unified_diff
from pathlib import Path
from typing import Any

from lumet import __version__
from lumet.generation.merge_writer import MANIFEST, PRIVATE, STATE, Change
from lumet.generation.merging import CONFLICT
from lumet.generation.tables import module_names
from lumet.project import project_files as files
from lumet.project.fingerprint import INPUTS
from lumet.project.generating import Planned

MAX_NAMED = 3  # inputs in one reason
_NEW = "new"


@dataclass(frozen=True, slots=True)
class FileChange:
    """One file that would change: how ("new", "changed", "removed", "conflict"), why,
    and the difference as a unified diff; "" for one that holds secrets or is no
    text."""

    path: str
    kind: str
    reason: str
    diff: str = ""

    def as_json(self) -> dict[str, str]:
        """Return the change for programs."""
        return {
            "path": self.path,
            "change": self.kind,
            "reason": self.reason,
            "diff": self.diff,
        }


def preview_generation(folder: Path, planned: Planned) -> list[FileChange]:
    """Return the changes of files that a generation would write."""
    before = _manifest(folder)
    conflicts = {each.path for each in planned.report.written.conflicts}
    reasons = _Reasons(before, planned)
    return [*_file_changes(folder, planned.changes, reasons.of, conflicts)]


def preview_survey(folder: Path, changes: Sequence[Change]) -> list[FileChange]:
    """Return the changes of files that a survey would write."""
    return [*_file_changes(folder, changes, lambda path: "the survey", ())]


def _file_changes(
    folder: Path,
    changes: Sequence[Change],
    reason: Callable[[str], str],
    conflicts: Collection[str],
) -> Iterator[FileChange]:
    for change in sorted(changes, key=lambda each: each.path):
        path = change.path
        if path.startswith(f"{STATE}/"):
            continue
        old = _content(folder / path)
        if old == change.content:
            continue
        if change.content is None:
            kind = "removed"
        elif old is None:
            kind = _NEW
        else:
            kind = "conflict" if path in conflicts else "changed"
        yield FileChange(path, kind, reason(path), _diff(path, old, change.content))


def _content(path: Path) -> bytes | None:
    try:
        return path.read_bytes()
    except (FileNotFoundError, NotADirectoryError):
        return None


def _diff(path: str, old: bytes | None, new: bytes | None) -> str:
    """Return a unified diff, "" where a file is new, gone, private or no text; what
    changed in the survey is told in words."""
    if old is None or new is None or path in (*PRIVATE, files.SURVEY):
        return ""
    try:
        before, after = (e.decode().splitlines(keepends=True) for e in (old, new))
    except UnicodeDecodeError:
        return ""
    lines = unified_diff(before, after, f"a/{path}", f"b/{path}")
    return "".join(line if line.endswith("\n") else f"{line}\n" for line in lines)


def _manifest(folder: Path) -> Mapping[str, Any]:
    content = _content(folder / MANIFEST)
    found = json.loads(content) if content is not None else {}
    return found if isinstance(found, dict) else {}


class _Reasons:
    """Why generated files change: by the inputs that differ from the last
    generation."""

    def __init__(self, before: Mapping[str, Any], planned: Planned) -> None:
        self.is_first = not before
        self.version = str(before.get("lumet", ""))
        old, new = before.get(INPUTS, {}), planned.origin[INPUTS]
        self.changed = [
            each for each in sorted({*old, *new}) if old.get(each) != new.get(each)
        ]
        application = planned.application
        self.package = application.package
        self.own = {
            f"{self.package}/tables/{module}.py": table
            for table, module in module_names(application).items()
        }
        self.files = application.files

    def of(self, path: str) -> str:
        """Return the reason for the change of a generated file."""
        if self.is_first:
            return "the first generation"
        if path.endswith(CONFLICT):
            return "lines that you edited are generated differently"
        if path.startswith(f"{self.package}/kit/") and self.version != __version__:
            return f"Lumet {self.version} → {__version__}"
        table = self.own.get(path)
        mine = [] if table is None else [self.files[table], f"survey:{table}"]
        mine += [files.ACCESS] if path == f"{self.package}/access.py" else []
        found = [each for each in mine if each in self.changed] or self.changed
        words = [_in_words(each) for each in found[:MAX_NAMED]]
        more = len(found) - MAX_NAMED
        words += [f"{more} more"] if more > 0 else []
        return ", ".join(words) if words else f"Lumet {__version__}"


def _in_words(name: str) -> str:
    table = name.removeprefix("survey:")
    return f"{name} changed" if table == name else f"the database's {table} changed"
