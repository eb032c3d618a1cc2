"""The changes of one table's records, each taken through the methods of own code."""

from collections.abc import Callable, Mapping
from typing import Any

from sqlalchemy import Connection

from ..access.reach import UNBOUNDED
from ..pages.changes import ADD, DELETE, EDIT, RESTORE, Change
from ..pages.table_context import TableContext
from .own_changes import OwnChanges
from .record_writer import RecordWriter

NOTHING: Mapping[str, Any] = {}


class RecordChanges:
    """Makes and carries out the changes of one table that come from one source."""

    def __init__(
        self, context: TableContext, writer: RecordWriter, source: str
    ) -> None:
        self.pages, self.reach = context.pages, context.reach
        self.writer, self.own = writer, OwnChanges(context, source)

    def add(self, connection: Connection, written: Mapping[str, Any]) -> Change:
        """Return the change that adds a record with these values."""
        entered = frozenset(written)

        def insert(change: Change) -> None:
            typed, own = _apart(change.values, entered)
            made = self.writer.insert(connection, typed, own)
            change.key = dict(zip(self.pages.key, made, strict=True))
            self.writer.check_rules(connection, change.key)

        return self.own.change(ADD, connection, insert, values=written)

    def edit(
        self,
        connection: Connection,
        key: Mapping[str, Any],
        changed: Mapping[str, Any],
        also: Mapping[str, Any] = NOTHING,
    ) -> Change:
        """Return the change of a record that sets these columns: what was entered, and
        `also` what was not."""
        entered = frozenset(changed)

        def update(change: Change) -> None:
            typed, own = _apart(change.values, entered)
            made = {**self.writer.stamped(), **self.writer.by_column(own)}
            written = self.writer.by_column(typed)
            self.reach.update(connection, self.pages.table, key, written, made)
            self._check_rules(connection, key, change)

        return self.own.change(EDIT, connection, update, key, {**changed, **also})

    def set_values(
        self, connection: Connection, key: Mapping[str, Any], values: Mapping[str, Any]
    ) -> Change:
        """Change columns of a record for own code, whatever the user may enter. Raises
        ChangeRefused."""

        def update(change: Change) -> None:
            made = {**self.writer.stamped(), **self.writer.by_column(change.values)}
            UNBOUNDED.update(connection, self.pages.table, key, made)
            self._check_rules(connection, key, change)

        change = self.own.change(EDIT, connection, update, key, values)
        self._carry_out(change)
        return change

    def move(
        self, connection: Connection, key: Mapping[str, Any], column: str, place: Any
    ) -> None:
        """Give a record its new position. Raises ChangeRefused."""
        self._carry_out(self.edit(connection, key, {column: place}))

    def remove(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Delete the record with this key, or mark it as deleted; tell whether there
        was one. Raises AccessDenied when the user may not, ChangeRefused where own code
        refuses."""
        return self._take(connection, key, DELETE, self.writer.remove)

    def restore(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Take the mark of a deleted record away; as `remove`."""
        return self._take(connection, key, RESTORE, self.writer.restore)

    def erase(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Delete the record with this key, also where others are only marked; as
        `remove`."""

        def act(connection: Connection, key: Mapping[str, Any]) -> bool:
            return self.reach.delete(connection, self.pages.table, key)

        return self._take(connection, key, DELETE, act)

    def _take(
        self,
        connection: Connection,
        key: Mapping[str, Any],
        kind: str,
        act: Callable[[Connection, Mapping[str, Any]], bool],
    ) -> bool:
        found = [True]  # unless own code does it another way

        def carry_out(_change: Change) -> None:
            found[0] = act(connection, key)

        self._carry_out(self.own.change(kind, connection, carry_out, key))
        return found[0]

    def _carry_out(self, change: Change) -> None:
        self.own.admit(change)
        self.own.write(change)

    def _check_rules(
        self, connection: Connection, key: Mapping[str, Any], change: Change
    ) -> None:
        now = {**key, **{k: v for k, v in change.values.items() if k in key}}
        self.writer.check_rules(connection, now)


def _apart(
    values: Mapping[str, Any], entered: frozenset[str]
) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the values that the user entered, and those of own code."""
    typed = {name: value for name, value in values.items() if name in entered}
    own = {name: value for name, value in values.items() if name not in entered}
    return typed, own
