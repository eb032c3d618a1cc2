"""Changes of records, as the methods of a table's pages see them.

Whatever way a change comes, it passes `validate`, `write` and `committed` of the pages of
its table: from a form, a row on the form of another record, a bulk action, or an action
of your own.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, CursorResult, Executable

from ..access.reach import UNBOUNDED
from ..accounts.audit_log import Actor
from .messages import Sendable

ADD, EDIT, DELETE, RESTORE = "add", "edit", "delete", "restore"
KINDS = (ADD, EDIT, DELETE, RESTORE)
FORM, ROW, BULK, ACTION = "form", "row", "bulk", "action"
TRANSITION = "transition"
SOURCES = (FORM, ROW, BULK, ACTION, TRANSITION)


class ChangeRefused(Exception):
    """A change is not carried out: why, and the column that it is about, "" for the
    record as a whole. The transaction is not kept."""

    status = 422

    def __init__(self, message: Any, field: str = "") -> None:
        super().__init__(str(message))
        self.message = str(message)
        self.field = field


class CodeFailed(ChangeRefused):
    """Your own code raised an exception, which is in the log of the server."""

    status = 500


@dataclass(slots=True)
class Change:
    """One record that is added, edited, deleted or restored.

    `kind` is one of `KINDS`, `source` one of `SOURCES`; `user` is who does it, with the
    names of the `roles`. `key` holds the key by column, {} for a record that is not
    there yet. `before` holds all columns as they were, {} for a new record; `values`
    those that are to be written, which your own code may change; in them it is not bound
    by what the user may enter.
    """

    kind: str
    source: str
    connection: Connection
    user: Actor
    roles: tuple[str, ...]
    key: dict[str, Any]
    before: Mapping[str, Any]
    values: dict[str, Any]
    carry_out: Callable[["Change"], None] = field(repr=False)
    refusals: list[tuple[str, str]] = field(default_factory=list)
    sent: list[Sendable] = field(default_factory=list)  # once the change is kept

    @classmethod
    def sample(
        cls,
        kind: str,
        values: Mapping[str, Any],
        before: Mapping[str, Any] | None = None,
    ) -> "Change":
        """Return a change without a database, for tests of your own code."""
        nobody: Any = None
        return cls(kind, FORM, nobody, Actor("someone"), (), {}, before or {}, {**values},
                   carry_out=lambda change: None)  # fmt: skip

    @property
    def after(self) -> dict[str, Any]:
        """All columns as they are going to be; those of a new record that are
        entered."""
        return {**self.before, **self.values}

    def sets(self, column: str) -> bool:
        """Tell whether a column gets another value."""
        return column in self.values and (
            column not in self.before or self.values[column] != self.before[column]
        )

    def run(self, statement: Executable, values: Any = None) -> CursorResult[Any]:
        """Execute a statement of your own within the transaction, past the user's
        reach: you answer for what it shows and changes."""
        return UNBOUNDED.run(self.connection, statement, values)

    def send(self, message: Sendable) -> None:
        """Send an e-mail or a webhook once the change is kept."""
        self.sent.append(message)

    def refuse(self, message: Any, field: str = "") -> None:
        """Refuse the change with a message at a column's field, or at the form. All
        refusals are shown at once."""
        self.refusals.append((field, str(message)))
