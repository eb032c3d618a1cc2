"""The journal of made-up rows: their keys, and what they held, so that they alone can be
removed. It is a SQLite file in the project."""

import hashlib
import json
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

JOURNAL = "populated.db"
_SCHEMA = """
    CREATE TABLE IF NOT EXISTS made_up (
        database TEXT NOT NULL, table_name TEXT NOT NULL, key TEXT NOT NULL, digest BLOB,
        PRIMARY KEY (database, table_name, key)
    ) WITHOUT ROWID
"""


class Journal:
    """The rows that were made up in one database, which `place` names."""

    def __init__(self, folder: Path, place: str) -> None:
        self.place = place
        self.connection = sqlite3.connect(folder / JOURNAL)
        self.connection.execute(_SCHEMA)

    def close(self) -> None:
        """Close the file."""
        self.connection.close()

    def add(self, table: str, keys: Iterable[str]) -> None:
        """Note rows by their keys, before they are committed."""
        rows = ((self.place, table, key) for key in keys)
        self._many("INSERT OR REPLACE INTO made_up VALUES (?, ?, ?, NULL)", rows)

    def note(self, table: str, digests: Iterable[tuple[str, bytes]]) -> None:
        """Note what rows hold, all triggers and later references included."""
        rows = ((digest, self.place, table, key) for key, digest in digests)
        self._many("UPDATE made_up SET digest = ? WHERE database = ? AND table_name = ? AND key = ?", rows)  # fmt: skip

    def forget(self, table: str, keys: Iterable[str]) -> None:
        """Forget rows."""
        rows = ((self.place, table, key) for key in keys)
        self._many("DELETE FROM made_up WHERE database = ? AND table_name = ? AND key = ?", rows)  # fmt: skip

    def tables(self) -> list[str]:
        """Return the tables with made-up rows."""
        words = "SELECT DISTINCT table_name FROM made_up WHERE database = ?"
        return [row[0] for row in self.connection.execute(words, (self.place,))]

    def rows(self, table: str) -> dict[str, bytes | None]:
        """Return the rows of a table: what each held, by key."""
        words = "SELECT key, digest FROM made_up WHERE database = ? AND table_name = ?"
        return dict(self.connection.execute(words, (self.place, table)))

    def _many(self, words: str, rows: Iterable[Sequence[Any]]) -> None:
        with self.connection:
            self.connection.executemany(words, rows)


def key_text(key: Sequence[Any]) -> str:
    """Return a key as the journal has it."""
    if len(key) == 1 and type(key[0]) is int:
        return f"[{key[0]}]"
    return json.dumps([_spelled(each) for each in key])


def digest_of(row: Iterable[Any]) -> bytes:
    """Return eight bytes that tell a row from what it was."""
    return hashlib.blake2b(repr(tuple(row)).encode("utf-8", "surrogateescape"), digest_size=8).digest()  # fmt: skip


def digests(
    rows: Iterable[Sequence[Any]], places: Sequence[int]
) -> Iterator[tuple[str, bytes]]:
    """Yield key and digest of rows whose key is at `places`."""
    for row in rows:
        yield key_text([row[place] for place in places]), digest_of(row)


def _spelled(value: Any) -> Any:
    if isinstance(value, bytes | bytearray | memoryview):
        return {"bytes": bytes(value).hex()}
    if isinstance(value, datetime | date | time | timedelta):
        return str(value)
    return value if isinstance(value, str | int | float | bool | None) else str(value)
