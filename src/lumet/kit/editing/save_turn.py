"""One save of detail rows: what it holds, and what it is about to write."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection

from ..access.roles import Role
from ..accounts.audit_log import AuditEvent
from .save_result import PendingWrites, SaveResult


@dataclass(frozen=True, slots=True)
class HeldRow:
    """One stored row, locked: its key, the key that its user saw, which is another
    where that of the record has just changed, its values, the roles that may change
    it."""

    key: dict[str, Any]
    seen: dict[str, Any]
    values: dict[str, Any]
    roles: tuple[Role, ...]


@dataclass(slots=True)
class SaveTurn:
    """One save: its transaction, what its rows belong to, what they hold, by their keys
    in addresses; what was done, to be written down; the next numbers, by column."""

    connection: Connection
    belongs: Mapping[str, Any]
    held: dict[str, HeldRow]
    later: PendingWrites | None = (
        None  # changes that are written at once, where they can be
    )
    added: PendingWrites | None = None  # new rows that are
    adding: dict[str, SaveResult] = field(
        default_factory=dict
    )  # by their words in the form
    done: list[AuditEvent] = field(default_factory=list)
    titled: dict[str, str] = field(default_factory=dict)
    next: dict[str, int] = field(default_factory=dict)
    places: list[Any] = field(default_factory=list)  # that rows are about to have
