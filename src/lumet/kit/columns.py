"""Column types that read whatever a database holds, and write it back unharmed.

SQLite takes any value into any column. These types return what fits as the Python value
and everything else as it is, so that one odd value never kills a page; the field shows
it as text, and an unchanged value is never written back.
"""

from datetime import date, datetime, time
from decimal import Decimal as PythonDecimal
from decimal import InvalidOperation
from typing import Any

import sqlalchemy
from sqlalchemy import (
    BindParameter,
    ColumnElement,
    Dialect,
    String,
    TypeDecorator,
    cast,
    func,
    type_coerce,
)
from sqlalchemy.types import NullType, TypeEngine, UserDefinedType

MARIADB = ("mariadb", "mysql")


class _Lenient(TypeDecorator[Any]):
    """Reads and writes by `read` and `write` where `is_raw`, elsewhere as its `impl`."""

    impl: type[TypeEngine[Any]] = NullType
    cache_ok = True

    @staticmethod
    def is_raw(dialect: str) -> bool:
        """Tell whether values come from the driver as the database holds them."""
        return dialect == "sqlite"

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[Any]:
        if self.is_raw(dialect.name):
            return dialect.type_descriptor(NullType())
        return dialect.type_descriptor(self.impl_instance)

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        if value is None or not self.is_raw(dialect.name):
            return value
        try:
            return self.read(value)
        except (ValueError, TypeError, InvalidOperation):
            return value

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        if value is None or not self.is_raw(dialect.name):
            return value
        return self.write(value)

    @staticmethod
    def read(value: Any) -> Any:
        return value

    @staticmethod
    def write(value: Any) -> Any:
        return value


class Date(_Lenient):
    """A date, as ISO text on SQLite."""

    impl = sqlalchemy.Date
    cache_ok = True

    @staticmethod
    def read(value: Any) -> Any:
        return date.fromisoformat(value)

    @staticmethod
    def write(value: Any) -> Any:
        return value.isoformat() if isinstance(value, date) else value


class Time(_Lenient):
    """A time of day, as ISO text on SQLite."""

    impl = sqlalchemy.Time
    cache_ok = True

    @staticmethod
    def read(value: Any) -> Any:
        return time.fromisoformat(value)

    @staticmethod
    def write(value: Any) -> Any:
        return value.isoformat() if isinstance(value, time) else value


class Moment(_Lenient):
    """A date and a time of day, as ISO text with a blank between them on SQLite."""

    impl = sqlalchemy.DateTime
    cache_ok = True

    @staticmethod
    def read(value: Any) -> Any:
        return datetime.fromisoformat(value)

    @staticmethod
    def write(value: Any) -> Any:
        return value.isoformat(" ") if isinstance(value, datetime) else value


def decimal(
    precision: int | None = None, scale: int | None = None
) -> TypeEngine[PythonDecimal]:
    """An exact number of at most `precision` digits, `scale` of them behind the point;
    SQLite stores it as its column's affinity wants."""
    return _Decimal(precision, scale)


class _Decimal(_Lenient):
    impl = sqlalchemy.Numeric
    cache_ok = True

    @staticmethod
    def read(value: Any) -> Any:
        if isinstance(value, bytes):
            return value
        return PythonDecimal(repr(value) if isinstance(value, float) else value)

    @staticmethod
    def write(value: Any) -> Any:
        return str(value) if isinstance(value, PythonDecimal) else value


class YesNo(_Lenient):
    """True or false, as 1 and 0 on SQLite and MariaDB, where it may hold a 2 as well."""

    impl = sqlalchemy.Boolean
    cache_ok = True

    @staticmethod
    def is_raw(dialect: str) -> bool:
        return dialect == "sqlite" or dialect in MARIADB

    @staticmethod
    def read(value: Any) -> Any:
        return bool(value) if value in (0, 1) else value

    @staticmethod
    def write(value: Any) -> Any:
        return int(value) if isinstance(value, bool) else value


class Anything(_Lenient):
    """A type that nobody knows: read as it comes."""

    cache_ok = True


class Shown(_Lenient):
    """A type that is read as its server writes it, and never written."""

    cache_ok = True

    @staticmethod
    def is_raw(dialect: str) -> bool:
        return True

    def column_expression(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        return cast(column, String)


class Shape(Shown):
    """A geometric type, read as well-known text."""

    cache_ok = True

    def column_expression(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        return func.ST_AsText(column)


class Clock(Shown, Time):
    """A time on MariaDB, where a driver reads one of over a day wrongly."""

    cache_ok = True
    read = staticmethod(Time.read)
    write = staticmethod(Time.write)


class _Native(UserDefinedType[Any]):
    """A type by the server's own spelling of it."""

    cache_ok = True

    def __init__(self, spelling: str) -> None:
        self.spelling = spelling

    def get_col_spec(self, **_: Any) -> str:
        return self.spelling


class Cast(Shown):
    """Any other type: read as its server writes it, and written from such a text by the
    server's own cast. `native` is how the server spells it."""

    cache_ok = True

    def __init__(self, native: str) -> None:
        super().__init__()
        self.native = native

    def bind_expression(self, bindparam: BindParameter[Any]) -> ColumnElement[Any]:
        return cast(type_coerce(bindparam, String), _Native(self.native))
