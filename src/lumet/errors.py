"""The errors that Lumet raises on purpose: what is wrong, where, and what to do next.

An error's class is its exit status. Every other exception is a fault of ours.
"""

from dataclasses import dataclass
from enum import IntEnum


class Status(IntEnum):
    """The exit statuses of the command."""

    SUCCESS = 0
    FOUND = 1  # drift, a conflict, a failure that was looked for
    MISUSE = 2  # wrong use or configuration
    FAILED = 3  # could not run: no connection, no rights, no room


class LumetError(Exception):
    """Something a person can put right.

    `problem` says what is wrong and where; `remedy` what to do next, if anything.
    """

    status = Status.MISUSE

    def __init__(self, problem: str, remedy: str = "") -> None:
        super().__init__(problem)
        self.problem = problem
        self.remedy = remedy

    def __str__(self) -> str:
        return f"{self.problem}\n  {self.remedy}" if self.remedy else self.problem


class CannotRun(LumetError):
    """The outside world refuses: a file, a server, a port, a right."""

    status = Status.FAILED


@dataclass(frozen=True, slots=True)
class Mistake:
    """One wrong line in a file that a person edits; `is_broken`: the file cannot be
    read at all."""

    file: str
    line: int
    quoted: str
    problem: str
    is_broken: bool = False

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.quoted}\n  {self.problem}"


class Mistakes(LumetError):
    """All the mistakes of one run, reported together."""

    def __init__(self, mistakes: tuple[Mistake, ...]) -> None:
        count = len(mistakes)
        noun = "mistake" if count == 1 else "mistakes"
        lines = "\n".join(str(mistake) for mistake in mistakes)
        super().__init__(f"{lines}\n{count} {noun}, nothing was written.")
        self.mistakes = mistakes
