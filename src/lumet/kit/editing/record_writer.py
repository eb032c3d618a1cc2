"""Writing records: inserts with generated values, updates, marks of deletion, and the
rules that only the database can work out."""

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import (
    Column,
    Connection,
    Integer,
    literal,
    select,
    text,
    type_coerce,
)
from sqlalchemy.exc import DBAPIError
from sqlalchemy.types import NullType

from ..access.reach import UNBOUNDED
from ..common.url_keys import encode_key
from ..contract import NEXT_NUMBER
from ..db.errors import classify
from ..forms.fields import YesNoField
from ..pages.changes import ChangeRefused
from ..pages.table_context import TableContext
from ..pages.table_pages import (
    DatabaseRule,
)
from .generated_values import GeneratedValues

NOTHING: Mapping[str, Any] = {}
TRIES = 5  # at a number that others take at the same time


class RuleViolated(ChangeRefused):
    """A record was written that breaks a rule; the transaction is not to be kept."""

    def __init__(self, rule: DatabaseRule) -> None:
        super().__init__(rule.message, rule.key)


class RecordWriter:
    """Writes the records of one table."""

    def __init__(self, context: TableContext) -> None:
        self.context = context
        self.site, self.pages, self.reach = context.site, context.pages, context.reach
        self.generated = GeneratedValues(context)

    def insert(
        self,
        connection: Connection,
        written: Mapping[str, Any],
        own: Mapping[str, Any] = NOTHING,
    ) -> tuple[Any, ...]:
        """Add a record with what makes itself filled in, and with values of your `own`
        code; another try for a number that somebody else took meanwhile. Returns the
        key."""
        numbered = [
            key for key, how in self.pages.generated_values if how == NEXT_NUMBER
        ]
        numbered = [k for k in numbered if {**written, **own}.get(k) is None]
        made = {
            **self.generated.automatic(is_new=True),
            **self.generated.uuids({**written, **own}),
            **own,
        }
        for tried in range(TRIES if numbered else 1):
            for key in numbered:
                made[key] = self.generated.next_number(connection, key)
            columns = self.by_column(written)
            place = connection.begin_nested() if numbered else None
            try:
                found = self.reach.insert(
                    connection, self.pages.table, columns, self.by_column(made)
                )
            except DBAPIError as error:
                if (
                    place is None
                    or classify(error).kind != "unique"
                    or tried == TRIES - 1
                ):
                    raise
                place.rollback()
            else:
                if place is not None:
                    place.commit()
                return found
        raise AssertionError

    def by_column(self, values: Mapping[str, Any]) -> dict[Column[Any], Any]:
        return {self.pages.column(key): value for key, value in values.items()}

    def stamped(self) -> dict[Column[Any], Any]:
        """Return the automatic values of a change."""
        return self.by_column(self.generated.automatic(is_new=False))

    def check_rules(self, connection: Connection, key: Mapping[str, Any]) -> None:
        """Let the database work out the rules that a form cannot. Raises RuleViolated,
        at which the transaction ends."""
        for rule in self.pages.database_rules:
            table = self.pages.table
            breaks = select(literal(1)).select_from(table).where(self.pages.is_key(key))
            breaks = breaks.where(text(f"NOT ({rule.sql})"))
            if UNBOUNDED.run(connection, breaks).first():
                raise RuleViolated(rule)

    def address_key(self, connection: Connection, key: Sequence[Any]) -> str:
        """Return the key of a record as addresses have it: as the database spells what
        was written."""
        columns = [self.pages.column(name) for name in self.pages.key]
        if all(isinstance(column.type, Integer) for column in columns):
            return encode_key(key)
        spelled = select(*[type_coerce(column, NullType()) for column in columns])
        held = dict(zip(self.pages.key, key, strict=True))
        row = UNBOUNDED.run(connection, spelled.where(self.pages.is_key(held))).first()
        return encode_key(key if row is None else tuple(row))

    def remove(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Delete the record with this key, or, where that was decided, mark it as
        deleted; tell whether there was one. Raises AccessDenied when the user may
        not."""
        table, mark = self.pages.table, self.pages.soft_delete
        if not mark:
            return self.reach.delete(connection, table, key)
        shown = self.pages.fields.get(mark)
        is_yes_no = isinstance(shown, YesNoField)
        value = (
            shown.parse("yes") if is_yes_no and shown else self.generated.moment(mark)
        )
        written = {self.pages.column(mark): value, **self.stamped()}
        return self.reach.mark(connection, table, key, written)

    def restore(self, connection: Connection, key: Mapping[str, Any]) -> bool:
        """Take the mark of a deleted record away; as `remove`."""
        mark = self.pages.soft_delete
        shown = self.pages.fields.get(mark)
        is_yes_no = isinstance(shown, YesNoField)
        value = shown.parse("no") if is_yes_no and shown else None
        written = {self.pages.column(mark): value, **self.stamped()}
        return self.reach.mark(connection, self.pages.table, key, written)
