"""The guard: an event of the engine that refuses statements past a reach."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any
from weakref import WeakKeyDictionary

from sqlalchemy import (
    ClauseElement,
    Delete,
    Executable,
    FromClause,
    Insert,
    MetaData,
    Table,
    TextClause,
    Update,
)
from sqlalchemy.sql.ddl import ExecutableDDLElement

from .denied import AccessDenied
from .reach import VERIFIED, Reach
from .row_reach import GIVEN_ROWS, OPTION

_OWN_SQL = ("BEGIN", "PRAGMA ", "SET ")  # what the engine itself sends
_RIGHT_FOR = ((Insert, "add"), (Update, "edit"), (Delete, "delete"))
_seen: WeakKeyDictionary[ClauseElement, "_Touched"] = WeakKeyDictionary()


@dataclass(frozen=True, slots=True)
class _Touched:
    """The business tables in a statement: named as they are, and as given by
    reaches."""

    plain: tuple[str, ...]
    given: tuple[tuple[str, tuple[str, ...]], ...]


def guard(
    metadata: MetaData, statement: Executable, options: Mapping[str, Any]
) -> None:
    """Refuse a statement on business tables that its reach does not allow."""
    reach = options.get(OPTION)
    if isinstance(statement, TextClause | ExecutableDDLElement):
        if not isinstance(reach, Reach) or not reach.everything:
            raise AccessDenied("a statement in words carries no unbounded reach")
        return
    touched = _touched(metadata, statement)
    if not touched.plain and not touched.given:
        return
    if not isinstance(reach, Reach):
        names = [*touched.plain, *(name for name, _ in touched.given)]
        raise AccessDenied(f"a statement on {', '.join(names)} carries no reach")
    if reach.everything:
        return
    if any(shape != reach.shape for _, shape in touched.given):
        raise AccessDenied("a statement selects from the rows of another reach")
    for kind, right in _RIGHT_FOR:
        if isinstance(statement, kind):
            if not options.get(VERIFIED):
                raise AccessDenied(f"a change past the reach: {right} {touched.plain}")
            return
    _refuse_plain(metadata, reach, touched.plain)


def _refuse_plain(metadata: MetaData, reach: Reach, names: Collection[str]) -> None:
    for name in names:
        if reach.rows(metadata.tables[name]) is not metadata.tables[name]:
            raise AccessDenied(f"a statement on {name} selects past its reach")


def guard_words(statement: str, options: Mapping[str, Any]) -> None:
    """Refuse SQL that is handed to the driver as it is, unless it is unbounded."""
    reach = options.get(OPTION)
    if isinstance(reach, Reach) and reach.everything:
        return
    if not statement.startswith(_OWN_SQL):
        raise AccessDenied("a statement in words carries no unbounded reach")


def _touched(metadata: MetaData, statement: Executable) -> _Touched:
    if not isinstance(statement, ClauseElement):
        return _Touched((), ())
    known = _seen.get(statement)
    if known is None:
        plain: dict[str, None] = {}
        given: dict[tuple[str, tuple[str, ...]], None] = {}
        waiting: list[Any] = [statement]
        passed: dict[int, Any] = {}  # held, so that no number is given twice
        while waiting:
            element = waiting.pop()
            if id(element) in passed:
                continue
            passed[id(element)] = element
            if isinstance(element, FromClause) and element in GIVEN_ROWS:
                given[GIVEN_ROWS[element]] = None
                continue
            if isinstance(element, Table) and element.metadata is metadata:
                plain[element.fullname] = None
            waiting += element.get_children()
        known = _seen[statement] = _Touched(tuple(plain), tuple(given))
    return known
