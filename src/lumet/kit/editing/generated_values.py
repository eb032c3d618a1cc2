"""The values that the application makes: of a new record, and of every change."""

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any
from uuid import UUID, uuid4

from sqlalchemy import (
    Connection,
    func,
    select,
)

from ..access.reach import UNBOUNDED
from ..contract import NEW_UUID
from ..db.column_types import KeyBytes, storage_format_of
from ..forms.date_fields import DateField, DateTimeField
from ..pages.context import actor
from ..pages.table_context import TableContext
from ..pages.table_pages import (
    python_type,
)


class GeneratedValues:
    """The generated and the automatic values of one table's records."""

    def __init__(self, context: TableContext) -> None:
        self.context = context
        self.site, self.pages, self.reach = context.site, context.pages, context.reach

    def uuids(self, written: Mapping[str, Any]) -> dict[str, Any]:
        """Return new UUIDs for the columns that get one where nothing was entered."""
        return {
            key: self._uuid(key)
            for key, how in self.pages.generated_values
            if how == NEW_UUID and written.get(key) is None
        }

    def automatic(self, is_new: bool) -> dict[str, Any]:
        """Return the automatic values: user and time, where that
        was decided."""
        found: dict[str, Any] = {}
        for key, how in self.pages.automatic_values:
            what, _blank, which = how.partition(" ")
            if what == "changed" or is_new:
                found[key] = self.moment(key) if which == "at" else actor().name
        return found

    def moment(self, key: str) -> Any:
        """Return the present moment as the column keeps it: by the clock that its
        defaults follow too, the database's, unless its zone or spelling was decided."""
        shown = self.pages.fields.get(key)
        if isinstance(shown, DateTimeField) and shown.time_zone:
            return shown.as_stored(datetime.now(UTC))
        if storage_format_of(self.pages.column(key)):
            today = datetime.now(UTC).replace(tzinfo=None, microsecond=0)
            return today.date() if isinstance(shown, DateField) else today
        if isinstance(shown, DateField):
            return func.current_date()
        return func.current_timestamp()

    def _uuid(self, key: str) -> Any:
        made = uuid4()
        column = self.pages.column(key)
        if isinstance(column.type, KeyBytes):
            return made.hex
        return made if python_type(column) is UUID else str(made)

    def next_number(self, connection: Connection, key: str) -> int:
        """Return the number behind the largest, whose record is locked: past the reach
        of the user, who learns no more than how many there were."""
        column = self.pages.column(key)
        server = self.site.database.server
        lock = server.lock_numbers(f"{self.pages.table.fullname}.{key}")
        if lock is not None:
            UNBOUNDED.run(connection, lock)
        largest = select(column).where(column.is_not(None)).order_by(column.desc())
        found = UNBOUNDED.run(connection, largest.limit(1).with_for_update()).scalar()
        return int(found or 0) + 1
