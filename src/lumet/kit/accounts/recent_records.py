"""The records that users opened or changed last."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection, delete, insert, select, update
from sqlalchemy.exc import IntegrityError

from ..db.engine import Database
from .store import recent_record
from .throttle import now

KEPT = 20  # records of a user


@dataclass(frozen=True, slots=True)
class RecentRecord:
    """A record by its table and key, as addresses have them; when it was opened, or
    changed (`at`, UTC)."""

    table: str
    key: str
    at: datetime
    is_change: bool


class RecentRecords:
    """What users opened or changed last, KEPT records of each."""

    def __init__(self, store: Database) -> None:
        self.store = store
        self._last: dict[int, tuple[str, str]] = {}  # by user: nothing new to write

    def opened(self, user_id: int, table: str, key: str) -> None:
        """Note that a user opened a record; that a change of it was the last that the
        user did there stays noted."""
        if self._last.get(user_id) == (table, key):
            return
        with self.store.writing() as connection:
            mark_recent(connection, user_id, table, key)
        if len(self._last) > 10_000:
            self._last.clear()
        self._last[user_id] = table, key

    def of_user(self, user_id: int) -> Sequence[RecentRecord]:
        """Return the records of a user, the last first."""
        c = recent_record.c
        statement = (
            select(c.record_table, c.record_key, c.at, c.is_change)
            .where(c.user_id == user_id)
            .order_by(c.at.desc())
            .limit(KEPT)
        )
        with self.store.reading() as connection:
            return [RecentRecord(*row) for row in connection.execute(statement)]


def mark_recent(
    connection: Connection, user_id: int, table: str, key: str, is_change: bool = False
) -> None:
    """Put a record in front of those of a user. `is_change` says that it was changed;
    looking at what was changed just now does not unsay that."""
    c = recent_record.c
    mine = c.user_id == user_id
    this = mine & (c.record_table == table[:120]) & (c.record_key == key[:400])
    values = {"at": now(), **({"is_change": True} if is_change else {})}
    if connection.execute(update(recent_record).where(this).values(values)).rowcount:
        return
    made = {
        "user_id": user_id,
        "record_table": table[:120],
        "record_key": key[:400],
        "at": now(),
        "is_change": is_change,
    }
    try:
        with connection.begin_nested():
            connection.execute(insert(recent_record).values(made))
    except IntegrityError:  # two requests at once, or the user has just gone
        return
    kept = select(c.at).where(mine).order_by(c.at.desc()).offset(KEPT).limit(1)
    if (oldest := connection.scalar(kept)) is not None:
        connection.execute(delete(recent_record).where(mine, c.at <= oldest))
