"""Watching the files of a project: what follows from a change is generated and loaded
again."""

from __future__ import annotations

import importlib
import os
import threading
import time
from collections.abc import Callable, Collection, Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from watchfiles import Change, DefaultFilter, watch

from lumet.errors import CannotRun, LumetError
from lumet.live.application import BrokenCode, LiveApplication
from lumet.project import project_files as files
from lumet.project.commands import run_generation

if TYPE_CHECKING:
    from lumet.project.generating import GenerationReport

STEP, DEBOUNCE = 40, 400  # milliseconds without, and at most with, further changes
TRIES, PAUSE = 20, 0.25  # seconds, while another command holds the project
_DECISIONS = (files.SETTINGS, files.ACCESS, files.SURVEY)
_IGNORED = ("uploads", ".lumet")


class _Filter(DefaultFilter):
    """Lets through what a person edits."""

    def __init__(self, folder: Path, shared: Collection[Path]) -> None:
        super().__init__()
        self.folder, self.shared = folder, shared

    def __call__(self, change: Change, path: str) -> bool:
        if not super().__call__(change, path):
            return False
        found = Path(path)
        if found in self.shared:
            return True
        if not found.is_relative_to(self.folder):
            return False
        parts = found.relative_to(self.folder).parts
        return bool(parts) and parts[0] not in _IGNORED


class Watcher:
    """Watches the project of an application until it is stopped; `told` is called with
    what happened."""

    def __init__(self, live: LiveApplication, told: Callable[[str], None]) -> None:
        self.live, self.told = live, told
        self.folder = live.folder
        self._stopped = threading.Event()
        self.shared: set[Path] = set()  # files of patterns that are included
        self._written: dict[Path, int] = {}  # what was generated, with its time
        self._thread = threading.Thread(target=self._run, daemon=True)

    def start(self) -> None:
        """Begin to watch."""
        self._thread.start()
        threading.Thread(target=_warm_up, daemon=True).start()

    def stop(self) -> None:
        """End watching."""
        self._stopped.set()
        if self._thread.is_alive():
            self._thread.join(timeout=5)

    def _run(self) -> None:
        names = files.included_files(self.folder)
        self.shared = {(self.folder / name).resolve() for name in names}
        beside = [path for path in self.shared if path.is_file()]
        found = watch(
            self.folder, *beside, watch_filter=_Filter(self.folder, self.shared), step=STEP, debounce=DEBOUNCE,
            stop_event=self._stopped, raise_interrupt=False,
        )  # fmt: skip
        for changes in found:
            self.take([Path(path) for _kind, path in changes])

    def take(self, paths: Iterable[Path]) -> None:
        """Let the application follow changes of these files."""
        changed = [path for path in paths if self._matters(path)]
        if not changed:
            return
        began = time.monotonic()
        names = [
            Path(os.path.relpath(path, self.folder)).as_posix() for path in changed
        ]
        try:
            if any(map(_is_decision, names)) or self.shared.intersection(changed):
                changed += self._generate()
            done = self._load(changed)
        except (LumetError, BrokenCode) as error:
            self.live.problem = str(error)
            self.told(str(error))
            return
        if done:
            took = time.monotonic() - began
            self.told(f"{_listed(names)}: {done} in {took:.1f} s")

    def _matters(self, path: Path) -> bool:
        """Tell whether the application depends on a file: not on the accounts, say, which
        it writes itself at any time."""
        name = Path(os.path.relpath(path, self.folder)).as_posix()
        is_ours = path in self.shared or _is_decision(name)
        is_inside = path.is_relative_to(self.folder / self.live.package)
        return (is_ours or is_inside) and not self._is_own(path)

    def _is_own(self, path: Path) -> bool:
        """Tell whether a change is that of a file which was generated here."""
        try:
            return self._written.get(path) == path.stat().st_mtime_ns
        except OSError:
            return False

    def _generate(self) -> list[Path]:
        """Generate; return the files that were written. Raises LumetError."""
        report = self._run_generation()
        if report.package != self.live.package:
            raise LumetError("The package has changed.", "Start lumet serve again.")
        written = report.written
        names = [*written.written, *written.merged, *written.removed]
        names += [each.path for each in written.conflicts]
        for conflict in written.conflicts:
            lines = ", ".join(map(str, conflict.lines))
            self.told(f"{conflict.path}:{lines}: your lines were kept")
        paths = [self.folder / name for name in names]
        for path in paths:
            if path.exists():
                self._written[path] = path.stat().st_mtime_ns
        return paths

    def _run_generation(self) -> GenerationReport:
        for _ in range(TRIES):
            try:
                return run_generation(self.folder)
            except CannotRun as error:
                if "Another lumet command" not in error.problem:
                    raise
            self._stopped.wait(PAUSE)
        return run_generation(self.folder)

    def _load(self, changed: Iterable[Path]) -> str:
        """Load what changed; return in a word what was done, "" for nothing."""
        package = self.folder / self.live.package
        inside = [path for path in changed if path.is_relative_to(package)]
        suffixes = {path.suffix for path in inside}
        if ".py" in suffixes:
            self.live.reload_code(inside)
            return "loaded again"
        if ".html" in suffixes:
            self.live.reload_templates([p for p in inside if p.suffix == ".html"])
            return "loaded again"
        if inside:
            self.live.reload_pages()
            return "shown again"
        self.live.problem = ""
        return ""


def _warm_up() -> None:
    """Load what a generation needs, so that the first change is as quick as others."""
    for name in ("lumet.project.generating", "lumet.generation.form_rules"):
        importlib.import_module(name)


def _is_decision(name: str) -> bool:
    return name in _DECISIONS or name.startswith("design/")


def _listed(names: list[str]) -> str:
    more = len(names) - 1
    return names[0] + (f" and {more} more" if more else "")
