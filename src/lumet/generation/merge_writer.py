"""Writing files so that nothing that a person wrote is lost, and none is half-written.

What was last generated is kept beside the project, as the base of a three-way merge.
All is written aside first, with a list; only then are files renamed into place. A
killed run is finished, or undone, by the next command.
"""

import hashlib
import json
import os
import shutil
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from lumet.errors import CannotRun
from lumet.generation.kept_imports import with_kept, without_kept
from lumet.generation.merging import (
    CONFLICT,
    Merge,
    conflict_text,
    is_valid,
    merge,
    whole_conflict,
)

STATE = ".lumet"
BASES = f"{STATE}/base"
PENDING = f"{STATE}/pending"
MANIFEST = f"{STATE}/written.json"
STAGING = f"{STATE}/staging"
PLAN = "plan.json"
DRAFTS = "drafts"  # digests of modules before they are formatted, in the manifest
PRIVATE = frozenset({".env"})  # written for their owner alone


@dataclass(frozen=True, slots=True)
class Change:
    """What to do with one path: write `content`, or delete it where that is None."""

    path: str
    content: bytes | None


@dataclass(frozen=True, slots=True)
class Conflict:
    """A file with lines that a person edited and that are generated differently now:
    where, from 1."""

    path: str
    lines: tuple[int, ...]


@dataclass(slots=True)
class Written:
    """What became of every file of one run, by path."""

    written: list[str] = field(default_factory=list)
    merged: list[str] = field(default_factory=list)
    conflicts: list[Conflict] = field(default_factory=list)
    settled: list[str] = field(default_factory=list)  # conflicts that were open
    kept: list[str] = field(default_factory=list)
    removed: list[str] = field(default_factory=list)
    unchanged: int = 0

    @property
    def is_quiet(self) -> bool:
        """Tell whether nothing happened that a person wants to hear of."""
        named = self.written, self.merged, self.conflicts, self.removed
        return not any((*named, self.settled))

    @property
    def total(self) -> int:
        """The number of files that the application consists of."""
        conflicts = [each.path for each in self.conflicts]
        named = {*self.written, *self.merged, *conflicts, *self.settled, *self.kept}
        return self.unchanged + len(named)


def write_generated(
    folder: Path,
    wanted: Mapping[str, bytes],
    once: Mapping[str, bytes],
    origin: Mapping[str, Any],
) -> Written:
    """Bring the project in `folder` up to `wanted`, merging what was edited by hand.

    `once` is written where it is missing. `origin` says in the manifest what the files
    were made from. Raises CannotRun when the folder cannot be written.
    """
    changes, report = plan_generated(folder, wanted, once, origin)
    apply(folder, changes)
    return report


def formatted_before(folder: Path) -> Callable[[str, str], bytes | None]:
    """Return a function that gives the text of a module as it was generated last, where
    the draft of it, by its digest, was the same; else None."""
    manifest = read_manifest(folder / MANIFEST)
    drafts, digests = manifest.get(DRAFTS, {}), manifest.get("files", {})

    def known(path: str, draft: str) -> bytes | None:
        if drafts.get(path) != draft:
            return None
        content = read_bytes(folder / BASES / path)
        is_whole = content is not None and digest_of(content) == digests.get(path)
        return content if is_whole and path not in manifest["pending"] else None

    return known


def plan_generated(
    folder: Path,
    wanted: Mapping[str, bytes],
    once: Mapping[str, bytes],
    origin: Mapping[str, Any],
) -> tuple[list[Change], Written]:
    """Return the changes that `write_generated` carries out, and its report; nothing is
    written."""
    run = _Run(folder, wanted)
    for path, content in wanted.items():
        run.bring(path, content)
    for path, content in once.items():
        if not (folder / path).exists():
            run.changes.append(Change(path, content))
            run.report.written.append(path)
        else:
            run.report.unchanged += 1
    run.drop_unwanted()
    run.changes.append(Change(MANIFEST, run.manifest(origin)))
    return run.changes, run.report


class _Run:
    """One run: the changes so far, and the report about them."""

    def __init__(self, folder: Path, wanted: Mapping[str, bytes]) -> None:
        self.folder = folder
        self.wanted = wanted
        manifest = read_manifest(folder / MANIFEST)
        self.digests: dict[str, str] = dict(manifest.get("files", {}))
        self.pending: set[str] = set(manifest.get("pending", []))
        keep_all_inside(folder, (*self.digests, *self.pending), MANIFEST)
        self.changes: list[Change] = []
        self.report = Written()

    def bring(self, path: str, new: bytes) -> None:
        current = read_bytes(self.folder / path)
        self._settle(path)
        base = self._base(path)
        if current is None or digest_of(current) == self.digests.get(path):
            if current == new:
                self.report.unchanged += 1
            else:
                self._put(path, new)
                self.report.written.append(path)
            self._resolve(path, new)
        elif current == new:
            self.report.unchanged += path not in self.pending
            self._resolve(path, new)
        elif path not in self.digests or not _is_text(new):
            self.report.kept.append(path)
        elif base == new:
            # yours differs, and nothing new came
            self.report.unchanged += path not in self.report.settled
        else:
            self._merge(path, current, base, new)

    def _settle(self, path: str) -> None:
        """A conflict whose list is gone was settled by hand: what was generated then is
        the base, so that the person's lines are an edit as any other."""
        copy = self.folder / (path + CONFLICT)
        if path in self.pending and not copy.exists():
            settled = read_bytes(self.folder / PENDING / path)
            if settled is not None:
                self._resolve(path, settled)

    def _resolve(self, path: str, base: bytes) -> None:
        """Remember what a file was generated as; no conflict is left in it."""
        self._remember(path, base)
        if path in self.pending:
            self.pending.discard(path)
            self.changes.append(Change(f"{PENDING}/{path}", None))
            self.changes.append(Change(path + CONFLICT, None))
            self.report.settled.append(path)

    def _base(self, path: str) -> bytes | None:
        for change in reversed(self.changes):
            if change.path == f"{BASES}/{path}":
                return change.content
        return read_bytes(self.folder / BASES / path)

    def _merge(self, path: str, current: bytes, base: bytes | None, new: bytes) -> None:
        merged = _merge_whole(path, current, base, new)
        if not merged.lines:
            self._resolve(path, new)
            if merged.text != current:
                self._put(path, merged.text)
                self.report.merged.append(path)
            return
        if merged.text != current:
            self._put(path, merged.text)
        if base is not None:
            self._remember(path, merged.base)
        self._put(path + CONFLICT, conflict_text(path, merged))
        self._put(f"{PENDING}/{path}", new)
        self.pending.add(path)
        self.report.conflicts.append(Conflict(path, merged.lines))

    def _put(self, path: str, content: bytes) -> None:
        self.changes.append(Change(path, content))

    def _remember(self, path: str, content: bytes) -> None:
        digest = digest_of(content)
        if self.digests.get(path) != digest and _is_text(content):
            self._put(f"{BASES}/{path}", content)
        self.digests[path] = digest

    def drop_unwanted(self) -> None:
        """Delete what was generated once and no longer is, unless it was edited."""
        for path in [path for path in self.digests if path not in self.wanted]:
            current = read_bytes(self.folder / path)
            if current is None or digest_of(current) == self.digests[path]:
                self.changes.append(Change(path, None))
                self.changes.append(Change(f"{BASES}/{path}", None))
                del self.digests[path]
                self.report.removed.append(path)
            else:
                self.report.kept.append(path)

    def manifest(self, origin: Mapping[str, Any]) -> bytes:
        content = {
            **origin,
            "files": dict(sorted(self.digests.items())),
            "pending": sorted(self.pending),
        }
        return (json.dumps(content, indent=1) + "\n").encode()


def _merge_whole(path: str, current: bytes, base: bytes | None, new: bytes) -> Merge:
    """Merge a file around its conflicts; leave it whole where what comes of that could
    not be read, or where what it was generated as is not known."""
    if base is None:
        return whole_conflict(current, base, new)
    is_python = path.endswith(".py")
    merged = merge(without_kept(current) if is_python else current, base, new)
    if not is_valid(merged.text, path):
        return whole_conflict(current, base, new)
    text = with_kept(merged.text, current, new) if is_python else merged.text
    if text is None:
        return whole_conflict(current, base, new)
    return replace(merged, text=text)


def apply(folder: Path, changes: list[Change]) -> None:
    """Carry out changes all or none: written aside first, then renamed.

    Raises CannotRun, with nothing changed, when `folder` cannot be written.
    """
    finish(folder)
    needed = [change for change in changes if not _is_done(folder, change)]
    if not needed:
        return
    staging = folder / STAGING
    try:
        staging.mkdir(parents=True)
        for number, change in enumerate(needed):
            if change.content is not None:
                _write(staging / str(number), change.content, change.path in PRIVATE)
        plan = [[each.path, each.content is not None] for each in needed]
        _write(staging / "new-plan", json.dumps(plan).encode(), False)
        (staging / "new-plan").rename(staging / PLAN)
    except OSError as error:
        shutil.rmtree(staging, ignore_errors=True)
        raise CannotRun(
            f"{folder} cannot be written: {error.strerror}.",
            "Nothing was changed. Check the permissions of the folder and the free space.",
        ) from error
    finish(folder)


def finish(folder: Path) -> None:
    """Finish what a killed run had written aside, or undo what it had only begun."""
    staging = folder / STAGING
    if not staging.is_dir():
        return
    plan = read_bytes(staging / PLAN)
    try:
        for number, (path, is_written) in enumerate(_planned(folder, plan)):
            target = folder / path
            source = staging / str(number)
            if not is_written:
                target.unlink(missing_ok=True)
                _drop_empty(target.parent, folder)
            elif source.exists():
                target.parent.mkdir(parents=True, exist_ok=True)
                source.replace(target)
    except OSError as error:
        raise CannotRun(
            f"{error.filename}: {error.strerror}.",
            "Free some space, then run the command again: it finishes the write.",
        ) from error
    shutil.rmtree(staging, ignore_errors=True)


def _planned(folder: Path, plan: bytes | None) -> list[tuple[str, bool]]:
    """Return the steps of a plan, none of them outside the project."""
    try:
        found = [(str(path), bool(done)) for path, done in json.loads(plan or b"[]")]
    except (ValueError, TypeError) as error:
        raise CannotRun(
            f"{folder / STAGING / PLAN} is damaged.",
            f"Delete the folder {folder / STAGING}; it holds an unfinished write.",
        ) from error
    for path, _done in found:
        keep_inside(folder, path, STAGING)
    return found


def keep_inside(folder: Path, path: str, told_by: str) -> None:
    """Make sure that a path, of a file that may have come with the project, leads to a
    place within it, through links too. Raises CannotRun."""
    target = folder / path
    is_plain = not Path(path).is_absolute() and ".." not in Path(path).parts
    if is_plain and target.parent.resolve().is_relative_to(folder.resolve()):
        return
    raise CannotRun(
        f"{told_by} names {path!r}, which is outside the project. Nothing was changed.",
        f"Delete {told_by} unless you know where it came from.",
    )


def keep_all_inside(folder: Path, paths: Iterable[str], told_by: str) -> None:
    """Make sure that all paths lead to places within the project; each folder of theirs
    is looked at once. Raises CannotRun."""
    seen: set[Path] = set()
    for path in paths:
        parent = Path(path).parent
        if parent not in seen or ".." in Path(path).parts:
            keep_inside(folder, path, told_by)
            seen.add(parent)


def _drop_empty(directory: Path, top: Path) -> None:
    while directory != top and directory.is_dir() and not any(directory.iterdir()):
        directory.rmdir()
        directory = directory.parent


def _is_done(folder: Path, change: Change) -> bool:
    return read_bytes(folder / change.path) == change.content


def _write(path: Path, content: bytes, private: bool) -> None:
    mode = 0o600 if private else 0o666
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, mode)
    with os.fdopen(descriptor, "wb") as file:
        file.write(content)


def read_bytes(path: Path) -> bytes | None:
    try:
        return path.read_bytes()
    except (FileNotFoundError, NotADirectoryError):
        return None


def read_manifest(path: Path) -> dict[str, Any]:
    content = read_bytes(path)
    if content is None:
        return {}
    try:
        found = json.loads(content)
    except ValueError as error:
        raise CannotRun(
            f"{path} is damaged: {error}.",
            "Restore it from version control; it tells your edits from generated text.",
        ) from error
    return found if isinstance(found, dict) else {}


def digest_of(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _is_text(content: bytes) -> bool:
    """Tell whether a file can be merged: text with lines of a person's length."""
    return b"\0" not in content and max(map(len, content.split(b"\n"))) < 2_000
