"""What a rehearsal finds, and what it came past."""

import re
from collections.abc import Callable
from dataclasses import dataclass, field

FAILURE, NOTICE = "failure", "notice"
_VALUES = re.compile(r"(?<==)[^&]*|/r/[^/?]+")


@dataclass(frozen=True, slots=True)
class Finding:
    """Something that is not as it should be: what kind, of which table, at which address
    or column, and as which role. A `NOTICE` is no failure: somebody should look."""

    kind: str
    table: str
    where: str = ""
    detail: str = ""
    role: str = ""
    level: str = FAILURE

    @property
    def key(self) -> str:
        """What stays the same when it is found again: without keys and values."""
        return " · ".join((self.kind, self.table, _VALUES.sub("*", self.where), self.role))  # fmt: skip

    def __str__(self) -> str:
        parts = [self.table, self.where, self.detail, f"as {self.role}" if self.role else ""]  # fmt: skip
        return f"{self.kind}: {': '.join(filter(None, parts))}"


@dataclass(frozen=True, slots=True)
class Timing:
    """How long a page took, in seconds, and how many queries."""

    kind: str
    table: str
    address: str
    seconds: float
    queries: int


@dataclass(frozen=True, slots=True)
class Part:
    """One part of a rehearsal: what was looked at, of which table, and the findings."""

    name: str
    table: str
    seconds: float
    findings: tuple[Finding, ...] = ()


@dataclass(slots=True)
class Figures:
    """What a rehearsal came past."""

    pages: int = 0
    forms: int = 0
    writes: int = 0
    refusals: int = 0
    rows: int = 0
    forbidden: int = 0
    findings: list[Finding] = field(default_factory=list)
    timings: list[Timing] = field(default_factory=list)
    parts: list[Part] = field(default_factory=list)
    skipped: list[tuple[str, str]] = field(default_factory=list)  # table, and why
    on_finding: Callable[[Finding], None] = lambda finding: None

    @property
    def failures(self) -> list[Finding]:
        """The findings that are failures."""
        return [each for each in self.findings if each.level == FAILURE]

    @property
    def notices(self) -> list[Finding]:
        """The findings that are none."""
        return [each for each in self.findings if each.level == NOTICE]

    def line(self) -> str:
        """Return the figures as one line."""
        return (
            f"{self.pages:,} pages, {self.forms:,} forms, {self.writes:,} writes,"
            f" {self.refusals:,} refusals, {self.rows:,} rows compared,"
            f" {self.forbidden:,} forbidden requests"
        )
