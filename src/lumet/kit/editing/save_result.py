"""The result of a save."""

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import (
    Column,
)

from ..accounts.audit_log import Changes
from ..forms.base import RecordForm
from ..pages.changes import Change


@dataclass(slots=True)
class SaveResult:
    """The result of a save: the address key of the record when it was saved; else the
    form with its mistakes, and what others changed meanwhile, by field."""

    form: RecordForm
    key: str = ""
    conflicts: dict[str, str] = field(default_factory=dict)
    refused: list[str] = field(default_factory=list)
    seen: dict[str, str] = field(default_factory=dict)
    changes: Changes = field(default_factory=dict)
    texts: Changes = field(default_factory=dict)  # the changes as a form has them
    written: frozenset[str] = frozenset()  # the columns that were entered anew
    replaced: dict[str, Any] = field(default_factory=dict)  # and what was there before
    change: Change | None = None  # of a new record that is not refused
    status: int = 422  # of the answer, where it was not saved
    waits: bool = False  # nothing is wrong with it, and it is written with others


@dataclass(slots=True)
class PendingWrites:
    """Deferred writes, sent in batches: changes of several records, by key, with the
    values by column; new ones, by column too, with what became of each; a form of which
    nobody has need any more."""

    changes: list[tuple[dict[str, Any], dict[Column[Any], Any]]] = field(
        default_factory=list
    )
    additions: list[tuple[SaveResult, dict[Column[Any], Any]]] = field(
        default_factory=list
    )
    spare: RecordForm | None = None
