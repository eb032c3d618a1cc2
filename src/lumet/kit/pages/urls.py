"""Addresses of lists, records and forms."""

from collections.abc import Mapping, Sequence
from typing import Any
from urllib.parse import urlencode

from flask import request, session

from ..common.url_keys import decode_key
from .context import Site, site
from .table_pages import TablePages, python_type

LEFT = "left"  # what a session keeps of lists: how they were left, by table
MAX_LEFT = 4
MAX_LEFT_QUERY = 300  # characters of an address; a cookie holds all of them


def record_address(table: str, key: str) -> str:
    """Return the address of a record's page, below the application's own."""
    return record_home(table) + key


def record_home(table: str) -> str:
    """Return the beginning of the addresses of a table's records."""
    return f"{site().root}/t/{table}/r/"


def list_address(table: str) -> str:
    """Return the address of a table's list."""
    return f"{site().root}/t/{table}"


def leave_list(table: str, query: str) -> None:
    """Remember how the user left the list of a table, to lead back to it."""
    left: dict[str, str] = session.get(LEFT, {})
    if left.get(table) == query or len(query) > MAX_LEFT_QUERY:
        return
    others = [(name, text) for name, text in left.items() if name != table]
    session[LEFT] = dict([*others[1 - MAX_LEFT :], (table, query)])


def left_list(table: str, or_home: bool = True) -> str:
    """Return the address of a table's list as the user left it; of one that was not
    left the first page, or "" when that is not wanted."""
    left: dict[str, str] = session.get(LEFT, {})
    if table not in left:
        return list_address(table) if or_home else ""
    return list_address(table) + (f"?{left[table]}" if left[table] else "")


def add_address(table: str, given: Mapping[str, str] | None = None) -> str:
    """Return the address of the form for a new record, with `given` filled in."""
    filled = f"?{urlencode(given)}" if given else ""
    return f"{request.script_root}/t/{table}/add{filled}"


def key_values(made: Site, pages: TablePages, segment: str) -> dict[str, Any]:
    """Return the key in a segment of an address, by column.

    Raises ValueError when it is none of this table's.
    """
    return values_of(made, pages, pages.key, segment)


def values_of(
    made: Site, pages: TablePages, columns: Sequence[str], segment: str
) -> dict[str, Any]:
    """Return the same for other columns than those of the key."""
    takes_any = made.database.server.is_untyped
    types = [python_type(pages.column(key)) for key in columns]
    values = decode_key(segment, types, takes_any)
    widest = 1 << (63 if takes_any else 64)  # of a number that a database can hold
    if any(isinstance(value, int) and abs(value) >= widest for value in values):
        raise ValueError(segment)
    return dict(zip(columns, values, strict=True))
