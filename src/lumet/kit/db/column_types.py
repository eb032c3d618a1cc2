"""Tolerant column types: they read any stored value, and write it back unchanged.

SQLite takes any value into any column. These types return a fitting value as the Python
value and every other one as it is, so that one odd value never kills a page; the field
shows it as text, and an unchanged value is never written back.
"""

import json
import re
from collections.abc import Callable
from datetime import date, datetime, time
from decimal import Decimal as PythonDecimal
from decimal import InvalidOperation
from typing import Any, TypeVar

import sqlalchemy
from sqlalchemy import (
    BindParameter,
    ColumnElement,
    Dialect,
    Double,
    Integer,
    LargeBinary,
    Null,
    Numeric,
    String,
    TypeDecorator,
    cast,
    func,
    literal,
    literal_column,
    not_,
    or_,
    type_coerce,
)
from sqlalchemy.sql.operators import is_, is_not
from sqlalchemy.types import NullType, TypeEngine, UserDefinedType, to_instance

from ..common.storage_formats import (
    StorageFormat,
    boolean_format,
    date_format,
    datetime_format,
    text_in_order,
)
from ..contract import SCALES
from .dialects import server_of
from .dialects.base import Server

T = TypeVar("T")
_SIZED = re.compile(
    r"(bit|character|char|bpchar|varchar)(?: varying)?(?:\(\d+\))?((?:\[\])*)"
)


class _Lenient(TypeDecorator[T]):
    """Reads and writes by `read` and `write` where `is_raw`, elsewhere as its
    `impl`."""

    impl: type[TypeEngine[Any]] = NullType
    cache_ok = True

    def is_raw(self, server: Server) -> bool:
        """Tell whether values come from the driver as the database holds them."""
        return server.is_untyped

    def in_order(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        """Return the sort expression of a column of this type."""
        return column

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[Any]:
        if self.is_raw(server_of(dialect.name)):
            return dialect.type_descriptor(NullType())
        return dialect.type_descriptor(self.impl_instance)

    def result_processor(
        self, dialect: Dialect, coltype: object
    ) -> Callable[[Any], Any] | None:
        if not self.is_raw(server_of(dialect.name)):
            return super().result_processor(dialect, coltype)
        read = self.read

        def process(value: Any) -> Any:
            if value is None:
                return None
            try:
                return read(value)
            except (ValueError, TypeError, InvalidOperation):
                return value

        return process

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        if value is None or not self.is_raw(server_of(dialect.name)):
            return value
        return self.write(value)

    def read(self, value: Any) -> Any:
        """Return the Python value of what the database holds; raises ValueError,
        TypeError or InvalidOperation for one that has none."""
        return value

    def write(self, value: Any) -> Any:
        """Return a value as the database is to hold it."""
        return value


class _Formatted(_Lenient[T]):
    """A type that a column of another type may hold, in a storage format: then
    values are converted here on all servers."""

    cache_ok = True
    spelling: StorageFormat | None = None

    def __init__(self, storage_format: str = "") -> None:
        super().__init__()
        self.storage_format = storage_format
        if storage_format:
            self.spelling = self.find_format(storage_format)

    @classmethod
    def stored_as(cls, storage_format: str) -> TypeEngine[T]:
        """Return this type in a column of another type."""
        return cls(storage_format)

    @staticmethod
    def find_format(name: str) -> StorageFormat:
        raise NotImplementedError

    def is_raw(self, server: Server) -> bool:
        return bool(self.storage_format) or super().is_raw(server)

    def in_order(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        return text_in_order(column, self.storage_format)

    def read(self, value: Any) -> Any:
        if self.spelling is not None and not isinstance(value, bytes):
            try:
                return self.spelling.read(value)
            except (ValueError, TypeError, OverflowError):
                pass  # a column without a type may hold values in several spellings
        return self.read_plain(value)

    def write(self, value: Any) -> Any:
        if self.spelling is not None and isinstance(value, bool | date):
            return self.spelling.write(value)
        return self.write_plain(value)

    def read_plain(self, value: Any) -> Any:
        return value

    def write_plain(self, value: Any) -> Any:
        return value


class Date(_Formatted[date]):
    """A date, as ISO text on SQLite."""

    impl = sqlalchemy.Date
    cache_ok = True
    find_format = staticmethod(date_format)

    def read_plain(self, value: Any) -> Any:
        return date.fromisoformat(value)

    def write_plain(self, value: Any) -> Any:
        return value.isoformat() if isinstance(value, date) else value


class Time(_Lenient[time]):
    """A time of day, as ISO text on SQLite."""

    impl = sqlalchemy.Time
    cache_ok = True

    def read(self, value: Any) -> Any:
        return time.fromisoformat(value)

    def write(self, value: Any) -> Any:
        return value.isoformat() if isinstance(value, time) else value


class DateTime(_Formatted[datetime]):
    """A date and a time of day, as ISO text with a blank between them on SQLite."""

    impl = sqlalchemy.DateTime
    cache_ok = True
    find_format = staticmethod(datetime_format)

    def read_plain(self, value: Any) -> Any:
        return datetime.fromisoformat(value)

    def write_plain(self, value: Any) -> Any:
        return value.isoformat(" ") if isinstance(value, datetime) else value


def Decimal(
    precision: int | None = None, scale: int | None = None
) -> TypeEngine[PythonDecimal]:
    """An exact number of at most `precision` digits, `scale` of them behind the point;
    SQLite stores it as its column's affinity wants."""
    return _Decimal(precision, scale)


class _Decimal(_Lenient[PythonDecimal]):
    impl = sqlalchemy.Numeric
    cache_ok = True

    def read(self, value: Any) -> Any:
        if isinstance(value, bytes):
            return value
        return PythonDecimal(repr(value) if isinstance(value, float) else value)

    def write(self, value: Any) -> Any:
        return str(value) if isinstance(value, PythonDecimal) else value


class Real(_Lenient[float]):
    """A measured number; SQLite may hold anything in its place."""

    impl = sqlalchemy.Float
    cache_ok = True


class YesNo(_Formatted[bool]):
    """True or false, as 1 and 0 on SQLite and MariaDB, where it may hold a 2 as
    well."""

    impl = sqlalchemy.Boolean
    cache_ok = True
    find_format = staticmethod(boolean_format)

    def is_raw(self, server: Server) -> bool:
        return super().is_raw(server) or not server.has_booleans

    def read_plain(self, value: Any) -> Any:
        return bool(value) if value in (0, 1) else value

    def write_plain(self, value: Any) -> Any:
        return int(value) if isinstance(value, bool) else value


class Scaled(_Lenient[PythonDecimal]):
    """A number that its column holds in another size: an amount in "cents", a
    percentage as a "fraction" of one."""

    impl = sqlalchemy.Numeric
    cache_ok = True

    def __init__(self, storage_format: str) -> None:
        super().__init__()
        self.storage_format = storage_format
        self.digits = SCALES[storage_format]

    @classmethod
    def stored_as(cls, storage_format: str) -> TypeEngine[PythonDecimal]:
        """Return the type of a number in a storage format."""
        return cls(storage_format)

    def is_raw(self, server: Server) -> bool:
        return True

    def read(self, value: Any) -> Any:
        if isinstance(value, bool | str | bytes):
            raise TypeError(value)
        exact = PythonDecimal(repr(value) if isinstance(value, float) else value)
        return exact.scaleb(-self.digits)

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        if isinstance(value, bool) or not isinstance(
            value, PythonDecimal | int | float
        ):
            return value
        exact = PythonDecimal(repr(value) if isinstance(value, float) else value)
        stored = exact.scaleb(self.digits)
        if stored == stored.to_integral_value():
            return int(stored)
        return float(stored) if server_of(dialect.name).is_untyped else stored


class NoneAs(TypeDecorator[Any]):
    """The values of a reference or a date that holds `none` where there is none, as
    columns that take no NULL do; of "" that is a text of blanks, however many. `base` is
    the type of the column."""

    impl: type[TypeEngine[Any]] = NullType
    cache_ok = True

    def __init__(
        self, none: Any, base: TypeEngine[Any] | type[TypeEngine[Any]]
    ) -> None:
        super().__init__()
        self.none, self.base = none, to_instance(base)

    @classmethod
    def of(cls, none: Any, base: Any) -> TypeEngine[Any]:
        """Return the type of a column of type `base` in which `none` stands for NULL."""
        return cls(none, base)

    class Comparator(TypeDecorator.Comparator[Any]):
        """Compares with none as with NULL."""

        def operate(self, op: Any, *other: Any, **named: Any) -> Any:
            if op not in (is_, is_not) or not isinstance(other[0], Null | None):
                return super().operate(op, *other, **named)
            made: Any = self.type
            held = made.comparable(self.expr)
            nothing = or_(held == literal(made.none, made.base), held.is_(None))
            return nothing if op is is_ else not_(nothing)

    comparator_factory = Comparator

    def coerce_compared_value(self, op: Any, value: Any) -> Any:
        return self

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[Any]:
        return self.base

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        return self.none if value is None else value

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        is_padded = isinstance(value, str) and isinstance(self.none, str)
        held = value.rstrip() if is_padded else value
        return None if held == self.none else value

    def in_order(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        """Return the sort expression of a column, in which none is NULL."""
        return in_order(self.or_null(column))

    def or_null(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        """Return the expression of a column in which none is NULL."""
        held = self.comparable(column)
        return func.nullif(held, literal(self.none, self.base), type_=self.base)

    def comparable(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        """Return the expression of a column that is compared with none."""
        held = type_coerce(column, self.base)
        return func.rtrim(held, type_=self.base) if self.none == "" else held


class TextBytes(TypeDecorator[str]):
    """Bytes that are short texts, read and written as such; bytes that are none
    stay."""

    impl = LargeBinary
    cache_ok = True

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        if not isinstance(value, bytes | memoryview):
            return value
        try:
            return bytes(value).decode()
        except UnicodeDecodeError:
            return bytes(value)

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        return value.encode() if isinstance(value, str) else value


class KeyBytes(TypeDecorator[str]):
    """Bytes that are a key or refer to one, such as the sixteen of a UUID: as a text of
    hexadecimal digits, as addresses have them."""

    impl = LargeBinary
    cache_ok = True

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        return bytes(value).hex() if isinstance(value, bytes | memoryview) else value

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        if not isinstance(value, str):
            return value
        try:
            return bytes.fromhex(value)
        except ValueError:
            return value.encode()  # no key is like that


class EnumText(String):
    """An ENUM or SET of MariaDB, which sorts it by the place of its value in the
    declaration, and compares it with a text as a text.
    https://mariadb.com/kb/en/enum/#numeric-index"""

    cache_ok = True


class SingleFloat(sqlalchemy.Float[float]):
    """A measured number of single precision, of which a server writes fewer digits than
    it compares."""

    cache_ok = True


def as_sorted(column: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return the expression that compares as the server sorts a column, and whose value
    can be bound again."""
    if isinstance(column.type, EnumText):
        return type_coerce(column, Integer) + 0
    if isinstance(column.type, Clock):  # a driver has no text of one of over a day
        return func.time_to_sec(column, type_=Numeric())
    if isinstance(column.type, SingleFloat):
        return type_coerce(column, Double) + literal_column("0e0")
    return column


def is_plain_text(column: ColumnElement[Any]) -> bool:
    """Tell whether a column holds texts that can be compared with an empty one."""
    return type(column.type) in (String, EnumText)


class AnyValue(_Lenient[object]):
    """An unknown type: values as the driver returns them."""

    cache_ok = True


class TextOnly(_Lenient[str]):
    """A type that is read as its server writes it, and never written."""

    cache_ok = True

    def is_raw(self, server: Server) -> bool:
        return True

    def column_expression(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        return cast(column, String)


class Geometry(TextOnly):
    """A geometric type, read as well-known text."""

    cache_ok = True

    def column_expression(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        return func.ST_AsText(column)


class _TimeText(Time):
    """A time as a server writes it."""

    cache_ok = True

    def is_raw(self, server: Server) -> bool:
        return True


class Clock(_TimeText):
    """A time on MariaDB, where a driver reads one of over a day wrongly."""

    cache_ok = True

    def column_expression(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        # what is read has the type of this expression, not of the column
        return type_coerce(cast(column, String), _TimeText())


class _Native(UserDefinedType[Any]):
    """A type by the server's own spelling of it."""

    cache_ok = True

    def __init__(self, spelling: str) -> None:
        self.spelling = spelling

    def get_col_spec(self, **_: Any) -> str:
        return self.spelling


class Cast(TextOnly):
    """Any other type: read as its server writes it, and written from such a text by the
    server's own cast. `native` is how the server spells it."""

    cache_ok = True

    def __init__(self, native: str) -> None:
        super().__init__()
        self.native = native
        # a cast cuts what is too long, which an assignment refuses
        # https://www.postgresql.org/docs/current/datatype-character.html
        sized = _SIZED.fullmatch(native.lower())
        bare = "bit varying" if sized and sized[1] == "bit" else "text"
        self.written = f"{bare}{sized[2]}" if sized else native

    @classmethod
    def of(cls, native: str) -> TypeEngine[Any]:
        """Return the type that the server spells so."""
        return cls(native)

    def bind_expression(self, bindparam: BindParameter[Any]) -> ColumnElement[Any]:
        return cast(type_coerce(bindparam, String), _Native(self.written))


class Array(Cast):
    """An array: read as a tuple of texts, one of several dimensions as it is
    written."""

    cache_ok = True

    def column_expression(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        written = cast(func.array_to_json(column), String)
        return type_coerce(written, _ArrayText())

    def bind_expression(self, bindparam: BindParameter[Any]) -> ColumnElement[Any]:
        return cast(type_coerce(bindparam, _ArrayText()), _Native(self.written))


class _ArrayText(TypeDecorator[tuple[str, ...]]):
    """A tuple of texts: read from JSON, written as PostgreSQL takes an array."""

    impl = String
    cache_ok = True

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        if value is None:
            return None
        found = json.loads(value, parse_float=str, parse_int=str)
        if any(isinstance(each, list | dict) for each in found):
            return value
        return tuple(found)

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        if not isinstance(value, tuple):
            return value
        quoted = (str(each).replace("\\", r"\\").replace('"', r"\"") for each in value)
        return "{" + ",".join(f'"{each}"' for each in quoted) + "}"


def in_order(column: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return the sort expression of a column, in the order of its values."""
    made = column.type
    return made.in_order(column) if isinstance(made, _Lenient | NoneAs) else column


def without_none(column: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return the expression of a column in which what stands for none is NULL."""
    made = column.type
    return made.or_null(column) if isinstance(made, NoneAs) else column


def own_type(column: ColumnElement[Any]) -> TypeEngine[Any]:
    """Return the type of the values of a column, of one with a value for none as well."""
    made = column.type
    return made.base if isinstance(made, NoneAs) else made


def is_decimal(column: ColumnElement[Any]) -> bool:
    """Tell whether a column holds exact numbers, which the application reads as such."""
    return isinstance(own_type(column), _Decimal)


def storage_format_of(column: ColumnElement[Any]) -> str:
    """Return how a column spells its values, "" for one that holds them as the database
    does."""
    return str(getattr(own_type(column), "storage_format", ""))


def stored_value(column: ColumnElement[Any], text: str) -> Any:
    """Return the value of `text` in a column that holds it in a spelling of its own;
    None for any other column or text."""
    made = own_type(column)
    if not isinstance(made, _Formatted) or made.spelling is None:
        return None
    try:
        return made.spelling.read(text)
    except (ValueError, TypeError, OverflowError):
        return None
