"""A rehearsal of a project as a command carries it out."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from lumet.errors import LumetError
from lumet.project.reviewing import review
from lumet.rehearsal.checks import rehearse
from lumet.rehearsal.findings import Figures, Finding
from lumet.rehearsal.rehearsal import QUICK, Choice, Limits, Rehearsal
from lumet.rehearsal.reports import About
from lumet.rehearsal.staging import staged


@dataclass(frozen=True, slots=True)
class Request:
    """What to rehearse: tables and roles by pattern, a sample alone where it is
    `is_quick`, pages alone where it is `is_read_only`."""

    tables: Sequence[str] = ()
    roles: Sequence[str] = ()
    is_quick: bool = False
    is_read_only: bool = False
    seed: int = 1

    @property
    def arguments(self) -> str:
        """The same as the words of a command."""
        parts = [f"--tables {each}" for each in self.tables]
        parts += [f"--roles {each}" for each in self.roles]
        parts += ["--quick"] * self.is_quick + ["--read-only"] * self.is_read_only
        return " ".join([*parts, f"--seed {self.seed}"])


def run_rehearsal(
    folder: Path,
    package: str,
    request: Request,
    on_finding: Callable[[Finding], None] = lambda finding: None,
    on_part: Callable[[str, str], None] = lambda part, table: None,
) -> tuple[Figures, About]:
    """Rehearse the application of a project; return the findings.

    Raises LumetError for a pattern that fits no table or no role, CannotRun where the
    application does not start.
    """
    began, start = datetime.now(), time.perf_counter()
    with staged(folder, package) as stage:
        choice = Choice(request.tables, request.roles, request.is_read_only, stage.unsafe)  # fmt: skip
        rehearsal = Rehearsal(
            stage.app,
            stage.probe,
            limits=QUICK if request.is_quick else Limits(),
            choice=choice,
            seed=request.seed,
            end_case=stage.end_case,
        )
        if not rehearsal.tables:
            raise LumetError(f"No table fits {' or '.join(request.tables)}.")
        if not rehearsal.roles:
            raise LumetError(f"No role fits {' or '.join(request.roles)}.")
        rehearsal.figures.on_finding = on_finding
        rehearsal.on_part = on_part
        figures = rehearse(rehearsal)
        for index in review(folder).indexes:
            rehearsal.notice("missing index", index.table, "", f"{index.statement} {index.reason}")  # fmt: skip
        name = stage.app.extensions["site"].name
        notes = _notes(stage.is_copy, request.is_read_only)
    about = About(name, began, time.perf_counter() - start, request.arguments, notes)
    return figures, about


def _notes(is_copy: bool, is_read_only: bool) -> list[str]:
    if is_copy:
        return ["It worked on a copy of the database's file."]
    if is_read_only:
        return ["Nothing was written."]
    text = (
        "Every change was rolled back. Sequences and counters of the server advance all"
        " the same, and what triggers or procedures do outside of the transaction stays."
    )
    return [text]
