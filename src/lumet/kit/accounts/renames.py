"""Tables and columns that were renamed: what the store keeps by their old names, saved
views, chosen columns and the history among it, follows when the application starts.

Each rename is carried out once. Stores tell which they have seen, so that an older one,
or one that was restored, catches up.
"""

import json
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qsl, urlencode

from sqlalchemy import Connection, Table, delete, insert, select, update

from ..db.engine import Database
from .preferences import COLUMNS, FAVOURITES, WIDTHS, mark_changed
from .store import (
    choice,
    entry,
    followed_rename,
    owner,
    recent_record,
    saved_view,
    shared_choice,
    upload,
    user,
)

Names = Sequence[tuple[str, str]]  # TABLE or TABLE.COLUMN, before and after, in order
Lookups = Callable[[str], Sequence[tuple[str, str]]]
"""Gives the lookups that choose among the records of a table: table and column."""
_OF_KEYS = frozenset(
    {"sort", "columns", "by", "sum", "and", "stack"}
)  # parameters of a list
AT_ONCE = 500  # entries of the log


@dataclass(frozen=True, slots=True)
class _Rename:
    """One rename, and the later ones."""

    old: str
    new: str
    rest: Names

    @property
    def column(self) -> tuple[str, str]:
        """The column before and after; "" of a table."""
        return self.old.partition(".")[2], self.new.partition(".")[2]

    @property
    def table(self) -> str:
        """The table whose column is renamed, as it was called then."""
        return self.old.partition(".")[0]

    def now(self, table: str, column: str = "") -> tuple[str, str]:
        """Return the present names of a table and of a column of it."""
        for old, new in self.rest:
            if old == f"{table}.{column}":
                column = new.partition(".")[2]
            elif old == table:
                table = new
        return table, column


def follow_renames(store: Database, names: Names, lookups: Lookups) -> None:
    """Let the store follow those renames that it has not seen yet."""
    with store.reading() as connection:
        known = set(connection.scalars(select(followed_rename.c.name)))
    if known.issuperset(_marks(names)):
        return
    with store.writing() as connection, store.server.lock_store(connection):
        known = set(connection.scalars(select(followed_rename.c.name)))
        for place, mark in enumerate(_marks(names)):
            if mark not in known:
                rename = _Rename(*names[place], names[place + 1 :])
                if rename.column[0]:
                    _follow_column(connection, rename, lookups)
                else:
                    _follow_table(connection, rename)
                connection.execute(insert(followed_rename).values(name=mark))
        for number in connection.scalars(select(user.c.id)).all():
            mark_changed(connection, number)


def _marks(names: Names) -> list[str]:
    """Return how the store notes each rename: there and back again are three."""
    seen: Counter[tuple[str, str]] = Counter()
    found = []
    for pair in names:
        seen[pair] += 1
        found.append(f"{pair[0]} > {pair[1]} {seen[pair]}")
    return found


def _follow_table(connection: Connection, rename: _Rename) -> None:
    old, new = rename.old, rename.new
    favourites = choice.c.name == FAVOURITES
    for number, text in connection.execute(
        select(choice.c.user_id, choice.c.value).where(favourites)
    ).all():
        names = [new if name == old else name for name in text.split("\n")]
        mine = update(choice).where(favourites, choice.c.user_id == number)
        connection.execute(mine.values(value="\n".join(names)))
    connection.execute(delete(recent_record).where(recent_record.c.record_table == new))
    for table in (entry, owner, recent_record, saved_view, upload):
        name = table.c.record_table
        connection.execute(update(table).where(name == old).values(record_table=new))
    for beginning in (COLUMNS, WIDTHS):
        before, after = f"{beginning}{old}", f"{beginning}{new}"
        of_old = choice.c.name == before
        for number in connection.scalars(select(choice.c.user_id).where(of_old)).all():
            mine = choice.c.user_id == number
            connection.execute(delete(choice).where(mine, choice.c.name == after))
        connection.execute(update(choice).where(of_old).values(name=after))
        connection.execute(delete(shared_choice).where(shared_choice.c.name == after))
        was = shared_choice.c.name == before
        connection.execute(update(shared_choice).where(was).values(name=after))


def _follow_column(connection: Connection, rename: _Rename, lookups: Lookups) -> None:
    old, new = rename.column
    now, _column = rename.now(rename.table)
    borrowing = frozenset(lookups(now))

    def renamed(table: str, key: str) -> str:
        """Return the key of a column as `table` calls it, also one that is borrowed
        from the record that it refers to."""
        mark = "-" if key.startswith("-") else ""
        own, _, far = key.removeprefix("-").partition(".")
        if table == rename.table and own == old:
            return mark + new + (f".{far}" if far else "")
        if far == old and rename.now(table, own) in borrowing:
            return f"{mark}{own}.{new}"
        return key

    def keys(table: str, text: str) -> str:
        return ",".join(renamed(table, key) for key in text.split(","))

    def query(table: str, text: str) -> str:
        return urlencode(
            [
                (name, keys(table, value))
                if name in _OF_KEYS
                else (_filter(renamed, table, name), value)
                for name, value in parse_qsl(text, keep_blank_values=True)
            ],
            safe=",",
        )

    for number, table, text in connection.execute(
        select(saved_view.c.id, saved_view.c.record_table, saved_view.c.query)
    ).all():
        _change(connection, saved_view, number, "query", text, query(table, text))
    chosen = choice.c.name.startswith(COLUMNS, autoescape=True)
    for row in connection.execute(select(choice).where(chosen)).all():
        text = keys(row.name.removeprefix(COLUMNS), row.value)
        if text != row.value:
            mine = (choice.c.user_id == row.user_id) & (choice.c.name == row.name)
            connection.execute(update(choice).where(mine).values(value=text))
    shared = shared_choice.c.name.startswith(COLUMNS, autoescape=True)
    for row in connection.execute(select(shared_choice).where(shared)).all():
        text = keys(row.name.removeprefix(COLUMNS), row.value)
        is_it = shared_choice.c.name == row.name
        connection.execute(update(shared_choice).where(is_it).values(value=text))
    mine = (upload.c.record_table == rename.table) & (upload.c.record_column == old)
    connection.execute(update(upload).where(mine).values(record_column=new))
    for number, text in _entries(connection, rename.table, old):
        detail = json.loads(text)
        texts, columns = detail.get("texts", {}), detail.get("columns", {})
        detail["texts"] = {new if key == old else key: pair for key, pair in texts.items()}  # fmt: skip
        detail["columns"] = {label: new if key == old else key for label, key in columns.items()}  # fmt: skip
        words = json.dumps(detail, ensure_ascii=False)
        _change(connection, entry, number, "detail", text, words)


def _filter(renamed: Callable[[str, str], str], table: str, name: str) -> str:
    """Return the name of a parameter that filters by a column: COLUMN.OPERATOR."""
    key, dot, operator = name.rpartition(".")
    return f"{renamed(table, key)}.{operator}" if dot else name


def _change(
    connection: Connection, table: Table, number: int, column: str, old: Any, new: Any
) -> None:
    if new != old:
        mine = update(table).where(table.c.id == number)
        connection.execute(mine.values({column: new}))


def _entries(
    connection: Connection, table: str, column: str
) -> Iterator[tuple[int, str]]:
    """Yield the entries of the log that may tell of a column, a few at a time."""
    last = 0
    statement = (
        select(entry.c.id, entry.c.detail)
        .where(entry.c.record_table == table)
        .where(entry.c.detail.contains(f'"{column}"', autoescape=True))
        .order_by(entry.c.id)
        .limit(AT_ONCE)
    )
    while found := connection.execute(statement.where(entry.c.id > last)).all():
        for row in found:
            last = row.id
            yield row.id, row.detail
