"""Calls of stored procedures and functions, and what they return."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import CursorResult, Executable

MAX_ROWS = 1_000  # of a result that is shown
Run = Callable[[Executable, Mapping[str, Any]], CursorResult[Any]]


@dataclass(frozen=True, slots=True)
class RoutineArgument:
    """An argument by the name of its parameter, with the database's own spelling of its
    type; `mode` is in, out or inout."""

    name: str
    type: str
    mode: str = "in"
    value: Any = None


@dataclass(frozen=True, slots=True)
class RoutineCall:
    """A call: `name` with its schema before it where it is in another one. `returns`: a
    function with one value, `rows`: one with rows; `by_position`: not all parameters
    have a name."""

    name: Sequence[str]
    arguments: Sequence[RoutineArgument]
    is_function: bool = False
    returns: bool = False
    rows: bool = False
    by_position: bool = False


@dataclass(frozen=True, slots=True)
class ResultSet:
    """Rows of a result, at most MAX_ROWS of them; `more`: there were others."""

    columns: Sequence[str]
    rows: Sequence[Sequence[Any]]
    more: bool = False


@dataclass(slots=True)
class RoutineResult:
    """What a routine gave back: the value of a function, the values of parameters, and
    the rows."""

    value: Any = None
    outs: dict[str, Any] = field(default_factory=dict)
    sets: list[ResultSet] = field(default_factory=list)


def result_set(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> ResultSet:
    """Return the rows as they are shown; one more than MAX_ROWS tells of others."""
    return ResultSet(columns, [tuple(r) for r in rows[:MAX_ROWS]], len(rows) > MAX_ROWS)
