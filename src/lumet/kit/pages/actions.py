"""Actions of your own on records and lists: buttons that call a method of the pages."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, CursorResult, Executable

from ..access.reach import UNBOUNDED
from ..accounts.audit_log import Actor
from .changes import ChangeRefused

RECORD, LIST = "record", "list"


@dataclass(frozen=True, slots=True)
class Action:
    """A button: `name` is that of the method which it calls. On a `RECORD` it is on its
    page and in the rows of lists, and, with `bulk`, for selected records; on a `LIST`
    above the list. Who has the `right` may use it, or those with one of the `roles`
    alone, where there are any. `question` is asked before."""

    name: str
    label: Any
    on: str = RECORD
    right: str = "edit"
    roles: Sequence[str] = ()
    question: Any = ""
    bulk: bool = False


@dataclass(slots=True)
class ActionCall:
    """One call of an action: the record with its key and all columns, {} for a list."""

    connection: Connection
    user: Actor
    roles: tuple[str, ...]
    key: Mapping[str, Any]
    values: Mapping[str, Any]
    _edit: Callable[[Mapping[str, Any]], None] = field(repr=False)
    address: str = ""  # where the user goes then, by default the record or the list

    def edit(self, values: Mapping[str, Any]) -> None:
        """Change columns of the record: as a form does, with `validate`, `write`,
        `committed` and the log. Raises ChangeRefused."""
        self._edit(values)

    def run(self, statement: Executable, values: Any = None) -> CursorResult[Any]:
        """Execute a statement of your own within the transaction, past the user's
        reach: you answer for what it shows and changes."""
        return UNBOUNDED.run(self.connection, statement, values)

    def refuse(self, message: Any) -> None:
        """End the action with a message; nothing is kept. Raises ChangeRefused."""
        raise ChangeRefused(message)
