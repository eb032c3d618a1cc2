"""How much of anything a request may hold, and what becomes of one that holds more or
cannot be understood: looked at here, before anything else reads the request.

| what | at most |
|---|---|
| path | 2,000 characters |
| query | 16,000 characters, 500 parameters |
| name of a parameter or a field | 200 characters |
| value of a parameter | 4,000 characters |
| header that the application reads | 4,000 characters |
| all headers | 32 KiB |
| form | 1 MiB, 1,000 fields |
| form of a record, in parts as pages send it | 2 MiB, 8 MiB and 40,000 fields with rows |
| file | UPLOAD_MB |
| field of a number, a date, a choice, an address | 1,000 characters |
| search | 300 characters |
"""

from typing import Any

from flask import Flask, abort, request
from sqlalchemy.exc import DataError, StatementError

from ..pages.context import site
from ..pages.table_pages import DetailRows

LONGEST_PATH = 2_000
LONGEST_QUERY = 16_000
MOST_PARAMETERS = 500
LONGEST_NAME = 200
LONGEST_VALUE = 4_000
LONGEST_HEADERS = 32 * 1024
LARGEST_REQUEST = 1024 * 1024  # bytes; reading a megabyte of escapes takes 0.2 s
LARGEST_RECORD = 2 * 1024 * 1024  # of a form in parts, which has no escapes
LARGEST_WITH_ROWS = 8 * 1024 * 1024  # the same of a form with its rows
MOST_FIELDS = 1_000  # of a form
MOST_WITH_ROWS = 40_000
FILES_AT_ONCE = 4  # so many of the largest may come with one form
MULTIPART = "multipart/form-data"
TAKE_FILES = ("pages.add", "pages.edit", "pages.edit_field")
MAY_SEND_MUCH = ("pages.act_on_several",)  # the keys of many records
_READ_HEADERS = ("Cookie", "User-Agent", "Content-Type", "Host", "Referer", "Origin",
                 "Accept-Language")  # fmt: skip
# what parsing raises of what cannot be understood, wherever that happens
UNREADABLE = (RecursionError, OverflowError, ArithmeticError, UnicodeError, DataError)


def limit_requests(app: Flask, most_bytes: int) -> None:
    """Let every request be looked at before anything reads it; files have `most_bytes`.
    To be called before whatever else looks at requests."""

    @app.before_request
    def limit() -> None:
        _limit_address()
        _limit_form(most_bytes)
        if request.method == "POST" and any(
            map(_is_odd, request.form.items(multi=True))
        ):
            abort(400)


def _limit_address() -> None:
    if len(request.path) > LONGEST_PATH or len(request.query_string) > LONGEST_QUERY:
        abort(414)
    if any(
        len(request.headers.get(each, "")) > LONGEST_VALUE for each in _READ_HEADERS
    ):
        abort(431)
    found = list(request.args.items(multi=True))
    if len(found) > MOST_PARAMETERS or any(map(_is_odd, found)):
        abort(400)
    if "\0" in request.path or any(len(v) > LONGEST_VALUE for _name, v in found):
        abort(400)


def _is_odd(pair: tuple[str, str]) -> bool:
    """Tell whether a name or a value holds what no field does: a NUL, half a
    character."""
    name, value = pair
    return len(name) > LONGEST_NAME or "\0" in name or "\0" in value or not (
        _is_text(name) and _is_text(value)
    )  # fmt: skip


def _is_text(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True


def _limit_form(most_bytes: int) -> None:
    # by form, not by content: other requests stay small
    most, fields, files = LARGEST_REQUEST, MOST_FIELDS, 0
    is_parted = request.mimetype == MULTIPART
    if request.endpoint in TAKE_FILES:
        pages = site().registry.pages.get((request.view_args or {}).get("name", ""))
        has_rows = pages and any(isinstance(each, DetailRows) for each in pages.details)
        fields = MOST_WITH_ROWS if has_rows else MOST_FIELDS
        if is_parted:
            most = LARGEST_WITH_ROWS if has_rows else LARGEST_RECORD
        files = FILES_AT_ONCE * most_bytes if is_parted else 0
    elif request.endpoint in MAY_SEND_MUCH:
        fields = MOST_WITH_ROWS
    request.max_form_memory_size = most
    request.max_form_parts = fields
    request.max_content_length = most + files


def is_unreadable(error: BaseException) -> bool:
    """Tell whether a request could not be understood, rather than something being wrong
    with the application."""
    if isinstance(error, StatementError) and not isinstance(error, DataError):
        original: Any = error.orig
        return isinstance(original, UNREADABLE)
    return isinstance(error, UNREADABLE)
