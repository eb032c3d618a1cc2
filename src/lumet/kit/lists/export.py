"""Exports of a list: CSV, XLSX and JSON, by one statement into a temporary file, a few
rows in memory at a time. Only then is it sent: a slow reader holds no cursor."""

import csv
import io
import json
import math
import re
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import date, datetime
from datetime import time as clock_time
from decimal import Decimal
from threading import BoundedSemaphore
from typing import Any, BinaryIO

import xlsxwriter  # type: ignore[import-untyped]

from ..common import locale
from ..db.column_types import Date, DateTime
from ..forms.fields import ChoiceField, MultipleChoiceField, ValueField
from ..forms.number_fields import DecimalField, IntegerField
from ..pages.table_pages import TablePages
from ..queries.readers import At, TitleAt
from .list_request import ListRequest

RISKY = (
    "=",
    "+",
    "-",
    "@",
    "\t",
    "\r",
    "\n",
    "＝",
    "＋",
    "－",
    "＠",
)  # begin a formula in a spreadsheet
FORMATS = {
    "csv": "text/csv; charset=utf-8",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "json": "application/json",
}
MAX_XLSX_ROWS = 1_048_575  # the format's own limit, without the headings
MAX_EXACT = Decimal(10) ** 15  # a spreadsheet keeps 15 digits of a number
MAX_WIDTH = 60  # characters of a column
CHUNK_ROWS = 2_000  # in memory at once
EXPORT_SECONDS = 600  # for one export
AT_ONCE = 2  # exports that one process makes; each keeps a processor busy
RETRY_SECONDS = 10  # behind which another may begin
Reader = Callable[[Any], Any]
_ISO = re.compile(r"\d{4}-\d\d-\d\d( \d\d:\d\d:\d\d(\.\d{6})?)?")


class Export:
    """The columns of one export: the title, then what the list shows; with the keys
    that of references where they are wanted."""

    def __init__(self, list_request: ListRequest, with_keys: bool) -> None:
        self.list_request = list_request
        self.plan = list_request.own_plan()
        self.zone = locale.zone()
        pages = list_request.pages
        self.headings = [str(pages.singular)]
        self.readers: list[Reader] = [self.plan.rows.title]
        if with_keys:
            for key in pages.key:
                self._add(key, pages.label(key), self.plan.selection.value_reader(key))
        for key in self.plan.shown:
            if key in pages.lookups:
                if with_keys:
                    raw = self.plan.selection.raw_lookup_reader(key)
                    self._add(key, f"{pages.label(key)} ({key})", raw)
                self._add(key, pages.label(key), self.plan.selection.text_reader(key))
            elif pages.borrows_lookup(key):
                cell = self.plan.selection.cell_reader(key, lambda table: "")
                self._add(key, pages.label(key), _text_of(cell))
            elif isinstance(pages.shown_field(key), IntegerField | DecimalField) and (
                key in pages.fields
            ):
                plain = self.plan.selection.plain_reader(key)
                self._add(key, pages.label(key), plain)
            elif _is_day(pages, key):
                day: At | _DayAt = self.plan.selection.plain_reader(key)
                if list_request.site.database.server.is_untyped:
                    day = _DayAt(day.place, pages.column(key).type)
                self._add(key, pages.label(key), day)
            else:
                shown = pages.shown_field(key)
                raw = self.plan.selection.value_reader(key)
                if with_keys and isinstance(shown, ChoiceField) and shown.is_labelled:
                    self._add(key, f"{pages.label(key)} ({key})", raw)
                self._add(key, pages.label(key), _plain(shown, raw))

    def _add(self, key: str, label: str, reader: Reader) -> None:
        self.headings.append(f"{label} ({key})" if label in self.headings else label)
        self.readers.append(reader)

    def chunks(self) -> Iterator[Sequence[Any]]:
        """Yield the rows for the readers, CHUNK_ROWS at a time, of one statement."""
        list_request, plan = self.list_request, self.plan
        with list_request.site.database.exporting(EXPORT_SECONDS) as connection:
            ends = time.monotonic() + EXPORT_SECONDS
            statement, bound = plan.all_rows(), list_request.bound
            result = plan.reach.stream(connection, statement, bound, CHUNK_ROWS)
            with result:
                for rows in result.partitions():
                    yield rows
                    if time.monotonic() > ends:
                        raise TooLarge("time")

    def rows(self) -> Iterator[list[Any]]:
        """Yield the values of each row."""
        for rows in self.chunks():
            for row in rows:
                yield [read(row) for read in self.readers]


@dataclass(frozen=True, slots=True)
class _LabelAt:
    """A reader of a choice's label."""

    place: int
    labels: Mapping[Any, str]

    def __call__(self, row: Any, /) -> Any:
        value = row[self.place]
        return None if value is None else self.labels.get(value) or _said(value)

    def of(self, rows: Sequence[Any], columns: Sequence[Any]) -> list[Any]:
        labels = self.labels
        return [
            None if value is None else labels.get(value) or _said(value)
            for value in columns[self.place]
        ]


def _is_day(pages: TablePages, key: str) -> bool:
    """Tell whether a column holds dates or moments as the database itself has them: on
    SQLite as ISO text."""
    if key not in pages.fields:
        return False
    held = pages.column(key).type
    return isinstance(held, Date | DateTime) and not held.storage_format


@dataclass(frozen=True, slots=True)
class _DayAt:
    """A reader of a date or moment that the database holds as text; in CSV one that is
    plain ISO is that text."""

    place: int
    type: Any

    def __call__(self, row: Any, /) -> Any:
        return self._read(row[self.place])

    def _read(self, value: Any) -> Any:
        try:
            return None if value is None else self.type.read(value)
        except (ValueError, TypeError):
            return value

    def of(self, rows: Sequence[Any], columns: Sequence[Any]) -> list[Any]:
        fits = _ISO.fullmatch
        return [
            value if type(value) is str and fits(value) else self._read(value)
            for value in columns[self.place]
        ]


def _text_of(cell: Reader) -> Reader:
    return lambda row: cell(row).text or None


def _plain(field: ValueField, raw: Reader) -> Reader:
    """Return a reader of a value as other programs take it: choices by their labels."""
    if isinstance(field, MultipleChoiceField):
        return lambda row: None if (v := raw(row)) is None else field.show(v, "")
    if isinstance(field, ChoiceField) and isinstance(raw, At):
        labels = {value: str(label) for value, label in field.by_value.items()}
        return _LabelAt(raw.place, labels)
    return raw


def csv_lines(export: Export) -> Iterator[str]:
    """Write CSV as RFC 4180 has it, with a mark for UTF-8, safe in spreadsheets."""
    yield "\ufeff"
    written = io.StringIO()
    # in quotes, or a program that splits at another mark would find formulas within
    writer = csv.writer(written, quoting=csv.QUOTE_NONNUMERIC)
    writer.writerow([_csv_value(heading) for heading in export.headings])
    for rows in export.chunks():
        values = map(_csv_column, _by_column(export, rows))
        writer.writerows(zip(*values, strict=True))
        yield written.getvalue()
        written.seek(0)
        written.truncate()
    yield written.getvalue()


def _by_column(export: Export, rows: Sequence[Any]) -> list[Sequence[Any]]:
    # a loop over each value of each row would take three times as long
    columns = list(zip(*rows, strict=True))
    return [_values(reader, rows, columns) for reader in export.readers]


def _values(
    reader: Reader, rows: Sequence[Any], columns: Sequence[Sequence[Any]]
) -> Sequence[Any]:
    if isinstance(reader, At | TitleAt | _LabelAt | _DayAt):
        return reader.of(rows, columns)
    return [reader(row) for row in rows]


def _csv_column(values: Sequence[Any]) -> Sequence[Any]:
    """Return the values of a column as CSV has them, safe in spreadsheets."""
    kinds = set(map(type, values))
    if kinds <= _SAFE:
        return values
    if kinds <= _TEXTS and not any(v and v[0] in _RISKY for v in values):
        return values
    return [v if type(v) in _SAFE else _csv_value(v) for v in values]


def _said(value: Any) -> str:
    """Return a value as a text; bytes in a column of something else are mostly one."""
    if isinstance(value, bytes):
        try:
            return value.decode()
        except UnicodeDecodeError:
            return value.hex()
    return value if type(value) is str else str(value)


def _csv_value(value: Any) -> Any:
    if type(value) is bool:
        return "yes" if value else "no"
    text = _said(value)
    return f"'{text}" if text[:1] in _RISKY else text


_RISKY = frozenset(RISKY)
_TEXTS = frozenset({str, type(None)})
_SAFE = frozenset(
    {int, float, Decimal, date, clock_time, datetime, type(None)}
)  # begin no formula


def json_chunks(export: Export) -> Iterator[str]:
    """Write an array of objects, by the headings."""
    yield "["
    # dumps() would make an encoder for each row
    encode = json.JSONEncoder(ensure_ascii=False).encode
    before = "\n"
    for rows in export.chunks():
        values = [list(map(_json_value, each)) for each in _by_column(export, rows)]
        records = (
            dict(zip(export.headings, row, strict=True))
            for row in zip(*values, strict=True)
        )
        yield before + ",\n".join(map(encode, records))
        before = ",\n"
    yield "\n]\n"


def _json_value(value: Any) -> Any:
    if isinstance(value, str):
        return value
    if isinstance(value, Decimal):
        return _json_number(value)
    if isinstance(value, date | clock_time):
        return value.isoformat()
    if isinstance(value, float):
        return value if math.isfinite(value) else str(value)
    return value if value is None or isinstance(value, int) else _said(value)


def _json_number(value: Decimal) -> int | float | str:
    """Return a number that is the same number again, or the digits as a text where no
    float has them all."""
    if value.is_finite() and value == value.to_integral_value():
        return int(value)
    short = float(value)
    return short if value.is_finite() and Decimal(repr(short)) == value else str(value)


def write_xlsx(export: Export, target: BinaryIO) -> None:
    """Write a workbook with types and widths."""
    options = {"constant_memory": True, "strings_to_formulas": False,
               "strings_to_urls": False, "default_date_format": "yyyy-mm-dd"}  # fmt: skip
    book = xlsxwriter.Workbook(target, options)
    try:
        _write_sheet(book, export)
    finally:
        book.close()


def _write_sheet(book: Any, export: Export) -> None:
    sheet = book.add_worksheet()
    bold = book.add_format({"bold": True})
    moment = book.add_format({"num_format": "yyyy-mm-dd hh:mm"})
    sheet.freeze_panes(1, 1)
    rows = export.rows()
    first = [row for _, row in zip(range(100), rows, strict=False)]
    for column, heading in enumerate(export.headings):
        longest = max([len(heading), *(len(str(row[column] or "")) for row in first)])
        sheet.set_column(column, column, min(longest + 2, MAX_WIDTH))
    for column, heading in enumerate(export.headings):
        sheet.write_string(0, column, heading, bold)
    number = 0
    for part in (first, rows):
        for row in part:
            number += 1
            if number > MAX_XLSX_ROWS:
                return
            for column, value in enumerate(row):
                if isinstance(value, datetime) and value.tzinfo is not None:
                    value = value.astimezone(export.zone)
                _write_cell(sheet, number, column, value, moment)


def _write_cell(sheet: Any, row: int, column: int, value: Any, moment: Any) -> None:
    if value is None:
        return
    number: Any = value if isinstance(value, int | float | Decimal) else None
    if isinstance(value, bool):
        sheet.write_boolean(row, column, value)
    elif isinstance(value, datetime):
        sheet.write_datetime(row, column, value.replace(tzinfo=None), moment)
    elif isinstance(value, date) and value.year >= 1900:
        sheet.write_datetime(row, column, value)
    elif number is not None and math.isfinite(number) and abs(number) < MAX_EXACT:
        sheet.write_number(row, column, value)
    else:
        sheet.write_string(row, column, str(value)[:32_767])


def _write_texts(
    texts: Callable[[Export], Iterator[str]],
) -> Callable[[Export, BinaryIO], None]:
    def write(export: Export, target: BinaryIO) -> None:
        most = export.list_request.site.export_bytes
        for text in texts(export):
            target.write(text.encode())
            if target.tell() > most:
                raise TooLarge("size")

    return write


WRITERS: dict[str, Callable[[Export, BinaryIO], None]] = {
    "csv": _write_texts(csv_lines),
    "xlsx": write_xlsx,
    "json": _write_texts(json_chunks),
}


class TooLarge(Exception):
    """An export is beyond the limits of time or size."""


class TooMany(Exception):
    """So many exports are made in this process that another has to wait."""


_at_once = BoundedSemaphore(AT_ONCE)


def make_export(export: Export, kind: str) -> BinaryIO:
    """Return an export as a file, which is gone when it is closed.

    Raises TooMany while AT_ONCE others are made, TooLarge beyond the limits.
    """
    if not _at_once.acquire(blocking=False):
        raise TooMany
    try:
        with ExitStack() as stack:  # closes the file unless all went well
            target: Any = stack.enter_context(tempfile.TemporaryFile())
            WRITERS[kind](export, target)
            target.seek(0)
            stack.pop_all()
    finally:
        _at_once.release()
    made: BinaryIO = target
    return made
