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

MAX_PATH_LENGTH = 2_000
MAX_QUERY_LENGTH = 16_000
MAX_PARAMETERS = 500
MAX_NAME_LENGTH = 200
MAX_VALUE_LENGTH = 4_000
MAX_HEADERS_BYTES = 32 * 1024
MAX_REQUEST_BYTES = 1024 * 1024  # bytes; reading a megabyte of escapes takes 0.2 s
MAX_RECORD_BYTES = 2 * 1024 * 1024  # of a form in parts, which has no escapes
MAX_WITH_ROWS_BYTES = 8 * 1024 * 1024  # the same of a form with its rows
MAX_FIELDS = 1_000  # of a form
MAX_WITH_ROWS = 40_000
FILES_AT_ONCE = 4  # so many of the largest may come with one form
MULTIPART = "multipart/form-data"
TAKE_FILES = ("pages.add", "pages.edit", "pages.edit_field")
MAY_SEND_MUCH = ("pages.bulk_action",)  # the keys of many records
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
    if (
        len(request.path) > MAX_PATH_LENGTH
        or len(request.query_string) > MAX_QUERY_LENGTH
    ):
        abort(414)
    if any(
        len(request.headers.get(each, "")) > MAX_VALUE_LENGTH for each in _READ_HEADERS
    ):
        abort(431)
    found = list(request.args.items(multi=True))
    if len(found) > MAX_PARAMETERS or any(map(_is_odd, found)):
        abort(400)
    if "\0" in request.path or any(len(v) > MAX_VALUE_LENGTH for _name, v in found):
        abort(400)


def _is_odd(pair: tuple[str, str]) -> bool:
    """Tell whether a name or a value holds what no field does: a NUL, half a
    character."""
    name, value = pair
    return len(name) > MAX_NAME_LENGTH or "\0" in name or "\0" in value or not (
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
    most, fields, files = MAX_REQUEST_BYTES, MAX_FIELDS, 0
    is_parted = request.mimetype == MULTIPART
    if request.endpoint in TAKE_FILES:
        pages = site().registry.pages.get((request.view_args or {}).get("name", ""))
        has_rows = pages and any(isinstance(each, DetailRows) for each in pages.details)
        fields = MAX_WITH_ROWS if has_rows else MAX_FIELDS
        if is_parted:
            most = MAX_WITH_ROWS_BYTES if has_rows else MAX_RECORD_BYTES
        files = FILES_AT_ONCE * most_bytes if is_parted else 0
    elif request.endpoint in MAY_SEND_MUCH:
        fields = MAX_WITH_ROWS
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
