"""The base of the servers: what Lumet asks of a database server beyond standard SQL.

A subclass overrides what its server does otherwise; docs/servers.md lists it.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import Any, ClassVar

from sqlalchemy import URL, Connection, Engine, create_engine

from lumet.facts.dialects.catalogue import Catalogue
from lumet.facts.model import Column, Table, Type

STATEMENT_SECONDS = 30.0  # an emergency brake, not a bound on the work
LOCK_SECONDS = 2.0  # how long a statement waits for another's lock
CONNECT_SECONDS = 10
VALUE = "\0"  # stands for a value in a query; no name can hold it
_NUMBERS = frozenset({"integer", "decimal", "float"})
_LONG = frozenset({"text", "json", "unknown"})
_PLAIN = _NUMBERS | {"boolean", "text", "uuid"}
Ask = Callable[..., Sequence[Sequence[Any]]]


class Server:
    """A kind of database server, one with nothing of its own.

    `name` is Lumet's and SQLAlchemy's name of it, `title` the one that people use,
    `schemes` are how addresses begin, `driver` is how SQLAlchemy's do, `requirement`
    the driver's package, `module` the one its errors come from, and `sqlglot` the
    parser's name of its SQL.
    """

    name: ClassVar[str] = ""
    title: ClassVar[str] = ""
    schemes: ClassVar[tuple[str, ...]] = ()
    driver: ClassVar[str] = ""
    requirement: ClassVar[str] = ""
    module: ClassVar[str] = ""
    port: ClassVar[int] = 0
    sqlglot: ClassVar[str] = ""
    quote: ClassVar[str] = '"'
    catalogue: ClassVar[type[Catalogue]] = Catalogue

    is_file: ClassVar[bool] = False  # a database is a file, without a server
    has_schemas: ClassVar[bool] = True
    is_untyped: ClassVar[bool] = False  # any value may be in any column
    like_ignores_case: ClassVar[bool] = False
    length_counts_bytes: ClassVar[bool] = False  # LENGTH of a text
    long_texts: ClassVar[
        tuple[str, ...]
    ] = ()  # native types that short ones do not have
    compares_texts: ClassVar[bool] = True  # with a value of any other type

    # the database that can always be asked, and for what; () where none is
    directory: ClassVar[tuple[str, str] | tuple[()]] = ()
    own_databases: ClassVar[frozenset[str]] = frozenset()
    schemas_query: ClassVar[str] = ""  # of those that hold tables
    superuser_query: ClassVar[str] = ""  # whether the user is one
    unsafe_query: ClassVar[str] = ""  # tables whose changes cannot be undone, and why

    casts: ClassVar[Mapping[str, str]] = {}  # types of users' attributes
    max_bytes: ClassVar[Mapping[str, int]] = {}  # of columns, by native type
    integer_bits: ClassVar[Mapping[str, int]] = {}  # of small ones, by native type
    shape: ClassVar[str] = "ST_AsText({})"  # reads a geometric value; "" as a text
    prefix_index: ClassVar[str] = ""  # of a column, for what begins with a text

    # what the driver says, the numbers that it gives, and what it means
    causes: ClassVar[tuple[tuple[str, tuple[int, ...], str], ...]] = ()
    encrypted: ClassVar[str] = ""  # what asks for encryption in an address

    def open(self, place: URL | Path) -> Engine:
        """Open a database so that it cannot be written to, with limits on statements
        and on waiting for locks; raises ImportError without its driver."""
        return create_engine(place, connect_args=self.connect_arguments())  # type: ignore[arg-type]

    def open_for_writing(self, place: URL | Path) -> Engine:
        """Open a database so that many rows can be written to it; raises ImportError
        without its driver."""
        address: Any = place
        arguments = {"connect_timeout": CONNECT_SECONDS}
        return create_engine(
            address, connect_args=arguments, isolation_level="REPEATABLE READ"
        )

    def connect_arguments(self) -> dict[str, Any]:
        """Return the driver's arguments that limit statements and waiting."""
        return {}

    def limited(self, connection: Connection) -> AbstractContextManager[None]:
        """Limit what runs on a connection, where `open` could not."""
        return nullcontext()

    def version(self, connection: Connection) -> str:
        """Return the version of the server."""
        info = connection.dialect.server_version_info or ()
        return ".".join(str(part) for part in info if isinstance(part, int))

    def cause(self, error: Any) -> str:
        """Return the cause of a driver's error, "" for one that is not known."""
        number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
        for pattern, numbers, cause in self.causes:
            if number in numbers or re.search(pattern, str(error)):
                return cause
        return ""

    def compares(self, one: Type, other: Type) -> bool:
        """Tell whether the server compares values of two types."""
        kinds = {one.kind, other.kind}
        if len(kinds) == 1 or kinds <= _NUMBERS:
            return True
        return self.compares_texts and "text" in kinds

    # reading rows

    def run(self, connection: Connection, query: str, values: Sequence[Any]) -> Any:
        """Return the rows of a query whose values are marked as the driver does."""
        return connection.exec_driver_sql(query, tuple(values) or None).all()

    # writing rows

    def insert(
        self, connection: Connection, source: str, columns: Sequence[Column],
        rows: Sequence[Sequence[Any]],
    ) -> None:  # fmt: skip
        """Write many rows to the table named `source`, as fast as the driver does. Raises
        the driver's own errors; then some of the rows may be there."""
        names = ", ".join(self.quoted(each.name).replace("%", "%%") for each in columns)
        marks = ", ".join(self.mark(each) for each in columns)
        raw: Any = connection.connection.driver_connection
        cursor = raw.cursor()
        try:
            words = (
                f"INSERT INTO {source.replace('%', '%%')} ({names}) VALUES ({marks})"
            )
            cursor.executemany(words, rows)
        finally:
            cursor.close()

    def mark(self, column: Column) -> str:
        """Return the placeholder of a column's value in a statement that writes."""
        is_shape = column.type.is_shape and self.shape
        return "ST_GeomFromText(%s)" if is_shape else "%s"

    def read(self, column: Column, name: str, most: int, most_bytes: int) -> str:
        """Return the expression that reads a column, quoted as `name`: as text where a
        driver might refuse a value, of a long one only the beginning."""
        kind = column.type.kind
        if kind == "binary":
            return self.beginning(name, most_bytes)
        if column.type.is_shape and self.shape:
            return self.shape.format(name)
        if kind in _LONG and (column.type.length or most) >= most:
            return self.beginning(self.as_text(name), most)
        return name if kind in _PLAIN else self.as_text(name)

    def as_text(self, name: str) -> str:
        """Return the expression that reads a column as text."""
        return f"CAST({name} AS char)"

    def beginning(self, name: str, most: int) -> str:
        """Return the expression that reads at most so many characters or bytes."""
        return f"left({name}, {most})"

    def estimate(self, ask: Ask, source: str) -> int | None:
        """Return the server's own guess of the rows of a table, -1 where it has none
        yet; None where there is no such guess."""
        return None

    def sample(self, columns: str, source: str, percent: float, seed: int) -> str:
        """Return the query of about so many per cent of the rows, "" where the server
        has no means."""
        return ""

    def row_number(self, table: Table, quote: Callable[[str], str]) -> str:
        """Return the column whose numbers spread over the rows, in `quote`; "" for
        none."""
        key = table.primary_key
        if len(key) == 1 and table.column(key[0]).type.kind == "integer":
            return quote(key[0])
        return ""

    def quoted(self, name: str) -> str:
        """Return a name in quotation marks."""
        return self.quote + name.replace(self.quote, self.quote * 2) + self.quote

    # the generated code

    def column_type(self, type_: Type, kind: str) -> str:
        """Return the kit's type of a column that is shown as `kind`, where the server
        or its driver wants another than usual; "" for the usual one."""
        if type_.kind == "unknown":
            return "TextOnly"
        # PostgreSQL's driver casts values to the type it is told
        return "BigInteger" if type_.native.lower().startswith("bigint") else ""
