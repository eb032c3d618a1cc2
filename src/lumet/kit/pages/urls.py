"""Addresses of lists, records and forms: what routes take and what pages link to."""

from collections.abc import Mapping
from urllib.parse import urlencode

from flask import session

from .context import site

TABLES = "/t/"  # below which every table has its pages
LIST = TABLES + "<name>"
RECORDS = "/r/"
RECORD = LIST + RECORDS + "<segment>"

# behind the address of a list
ADD, BULK, COLUMNS, EXPORT = "/add", "/bulk", "/columns", "/export."
VIEWS, FORGET, CHOICES, CHOSEN = "/views", "/forget", "/choices/", "/chosen/"
# behind that of a record
EDIT, DELETE, RESTORE, HISTORY = "/edit", "/delete", "/restore", "/history"
TIMELINE = "/timeline"
MOVE = "/move"  # an entry of a calendar or a board
RELATED, FIELD, PICTURE, FILE = "/related/", "/field/", "/picture/", "/file/"
# behind either
PRINT, ACTION = "/print", "/action/"

SUFFIXES = {
    "add": ADD, "bulk": BULK, "columns": COLUMNS, "export": EXPORT, "views": VIEWS,
    "forget": FORGET, "choices": CHOICES, "chosen": CHOSEN, "edit": EDIT,
    "delete": DELETE, "restore": RESTORE, "history": HISTORY, "related": RELATED,
    "field": FIELD, "picture": PICTURE, "file": FILE, "print": PRINT,
    "action": ACTION, "move": MOVE, "timeline": TIMELINE,
}  # fmt: skip
"""The same for templates, as `urls`."""

LEFT = "left"  # what a session keeps of lists: how they were left, by table
MAX_LEFT = 4
MAX_LEFT_QUERY = 300  # characters of an address; a cookie holds all of them


def record_address(table: str, key: str) -> str:
    """Return the address of a record's page, below the application's own."""
    return record_home(table) + key


def record_home(table: str) -> str:
    """Return the beginning of the addresses of a table's records."""
    return list_address(table) + RECORDS


def list_address(table: str) -> str:
    """Return the address of a table's list."""
    return f"{site().root}{TABLES}{table}"


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
    return list_address(table) + ADD + filled


class TableUrls:
    """The addresses of one table's pages, below the root of the application."""

    def __init__(self, root: str, table: str) -> None:
        self.list = f"{root}{TABLES}{table}"
        self.records = self.list + RECORDS

    def record(self, key: str) -> str:
        """Return the address of a record's page."""
        return self.records + key

    def add(self, given: Mapping[str, str] | None = None) -> str:
        """Return the address of the form for a new record, with `given` filled in."""
        filled = f"?{urlencode(given)}" if given else ""
        return self.list + ADD + filled
