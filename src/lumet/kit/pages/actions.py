"""Actions of your own on records and lists: buttons that call a method of the pages."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NoReturn

from sqlalchemy import Connection, CursorResult, Executable

from ..access.reach import UNBOUNDED
from ..accounts.audit_log import Actor
from .changes import ChangeRefused
from .messages import Sendable

RECORD, LIST = "record", "list"


@dataclass(frozen=True, slots=True)
class Action:
    """A button: `name` is that of the method which it calls. On a `RECORD` it is on its
    page and in the rows of lists, and, with `bulk`, for selected records; on a `LIST`
    above the list. Who has the `right` may use it, or those with one of the `roles`
    alone, where there are any. `question` is asked before; `inputs`, fields by name, are
    asked for: an action with some is none for selected records."""

    name: str
    label: Any
    on: str = RECORD
    right: str = "edit"
    roles: Sequence[str] = ()
    question: Any = ""
    bulk: bool = False
    inputs: Sequence[tuple[str, Any]] = ()

    @property
    def asked(self) -> Sequence[tuple[str, Any]]:
        """The fields that are asked for, by name, before they belong to a form."""
        return self.inputs


@dataclass(slots=True)
class ActionCall:
    """One call of an action: the record with its key and all columns, {} for a list;
    `inputs` holds what was entered, by name."""

    connection: Connection
    user: Actor
    roles: tuple[str, ...]
    key: Mapping[str, Any]
    values: Mapping[str, Any]
    _edit: Callable[[Mapping[str, Any]], None] = field(repr=False)
    inputs: Mapping[str, Any] = field(default_factory=dict)
    sent: list[Sendable] = field(default_factory=list)  # once all is kept
    address: str = ""  # where the user goes then, by default the record or the list

    def edit(self, values: Mapping[str, Any]) -> None:
        """Change columns of the record: as a form does, with `validate`, `write`,
        `committed` and the log. Raises ChangeRefused."""
        self._edit(values)

    def run(self, statement: Executable, values: Any = None) -> CursorResult[Any]:
        """Execute a statement of your own within the transaction, past the user's
        reach: you answer for what it shows and changes."""
        return UNBOUNDED.run(self.connection, statement, values)

    def send(self, message: Sendable) -> None:
        """Send an e-mail or a webhook once what the action does is kept."""
        self.sent.append(message)

    def refuse(self, message: Any, field: str = "") -> NoReturn:
        """End the action with a message, at the input of this name where one is given;
        nothing is kept. Raises ChangeRefused."""
        raise ChangeRefused(message, field)
