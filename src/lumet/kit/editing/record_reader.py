"""Reading a record for its form: the fields that the user may enter, with their
values."""

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import (
    Connection,
    bindparam,
    literal,
    not_,
    select,
)
from werkzeug.datastructures import MultiDict

from ..access.denied import AccessDenied
from ..access.reach import UNBOUNDED
from ..db.column_types import stored_value
from ..pages.table_context import TableContext


class RecordNotFound(Exception):
    """The record is not there, or not within reach."""


class RecordReader:
    """Reads the records of one table for their forms."""

    def __init__(self, context: TableContext) -> None:
        self.context = context
        self.site, self.pages, self.reach = context.site, context.pages, context.reach

    def offered(self, key: str) -> str | None:
        """Return the default of a column as its control shows it; None for none, and
        for one that its own field would refuse: that the database fills in by
        itself."""
        column, field_ = self.pages.column(key), self.pages.fields[key]
        decided = dict(self.pages.defaults).get(key)
        default = decided or _literal_default(column.server_default)
        if default is None:
            return None
        value = stored_value(column, default)
        known = value is not None
        text = field_.to_text(value) if known else field_.from_default(default)
        try:
            if text:
                field_.parse(field_.clean(text))
        except (ValueError, ArithmeticError):
            return None
        return text

    def is_cleared(self, key: str, typed: MultiDict[str, str]) -> bool:
        """Tell whether the default of a column was offered and cleared."""
        is_there = key in typed and bool(self.pages.column(key).nullable)
        return is_there and self.offered(key) is not None

    def admit(self, connection: Connection, key: Mapping[str, Any]) -> list[str]:
        """Return the fields of the record with this key that the user may enter.

        Raises RecordNotFound for one out of reach, AccessDenied for one that may be seen
        but not changed.
        """
        table = self.pages.table
        roles = self.reach.reaching(connection, table, key, "edit")
        entered = self.pages.enters(self.reach, roles, is_new=False)
        if not roles:
            self.read(connection, key, ())  # what cannot be seen is not there
            raise AccessDenied(f"edit {table.fullname}")
        return entered

    def read(
        self, connection: Connection, key: Mapping[str, Any], entered: Sequence[str]
    ) -> dict[str, Any]:
        """Return the values of some fields; raises RecordNotFound for a record that is
        not within reach."""
        rows = self.reach.rows(self.pages.table)
        columns = [rows.c[name] for name in entered]
        matches = [rows.c[name] == bindparam(f"k_{name}") for name in self.pages.key]
        statement = select(literal(1), *columns).where(*matches)
        bound = {f"k_{name}": value for name, value in key.items()}
        row = self.reach.run(connection, statement, bound).first()
        if row is None:
            raise RecordNotFound
        return dict(zip(entered, row[1:], strict=True))

    def is_removed(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Tell whether the record with this key is marked as deleted."""
        if not self.pages.soft_delete:
            return False
        marked = select(literal(1)).where(self.pages.is_key(key))
        marked = marked.where(not_(self.pages.is_alive(self.pages.table)))
        return UNBOUNDED.run(connection, marked).first() is not None

    def is_held(self, connection: Connection, key: str, value: Any) -> bool:
        """Tell whether any record has this value."""
        held = select(literal(1)).where(self.pages.is_key({key: value})).limit(1)
        return UNBOUNDED.run(connection, held).first() is not None


def _literal_default(default: Any) -> str | None:
    argument = getattr(default, "arg", None)
    return argument if isinstance(argument, str) else None
