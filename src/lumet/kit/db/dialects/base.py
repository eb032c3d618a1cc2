"""The base of the servers: what the application asks of a database server beyond
standard SQL.

A subclass overrides what its server does otherwise; docs/servers.md lists it.
"""

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar, Literal

from sqlalchemy import (
    ColumnElement,
    Connection,
    Date,
    DateTime,
    Engine,
    String,
    bindparam,
    cast,
    create_engine,
    func,
    make_url,
    or_,
    type_coerce,
)
from sqlalchemy.exc import ArgumentError, NoSuchModuleError
from sqlalchemy.types import NullType

from ...common.exceptions import CannotStart
from ...common.storage_formats import period_in_text, seconds_of
from ..routines import RoutineCall, RoutineResult, Run

LOCK_SECONDS = 5  # how long a statement waits for another program's lock
STATEMENT_SECONDS = 30  # how long a statement may take
WRITING = "writing"  # the option of a transaction that will write

ErrorKind = Literal[
    "unique",
    "needed",
    "reference",
    "rule",
    "range",
    "transaction",
    "busy",
    "lost",
    "other",
]
Matcher = Callable[..., ColumnElement[bool]]


@dataclass(frozen=True, slots=True)
class DatabaseError:
    """The kind of refusal, the columns that it names, and the rule or its text."""

    kind: ErrorKind
    columns: tuple[str, ...] = ()
    rule: str = ""


class Server:
    """A kind of database server.

    `name` is SQLAlchemy's name of the dialect, `aliases` its other names, `schemes` how
    addresses begin, `driver` how SQLAlchemy's do, and `module` is the driver's, which
    its errors come from.
    """

    name: ClassVar[str] = ""
    aliases: ClassVar[tuple[str, ...]] = ()
    schemes: ClassVar[tuple[str, ...]] = ()
    driver: ClassVar[str] = ""
    module: ClassVar[str] = ""
    port: ClassVar[int] = 0
    is_file: ClassVar[bool] = False  # the database of its own process

    nulls_are_largest: ClassVar[bool] = False  # in an order
    has_nullable_keys: ClassVar[bool] = False  # a primary key may hold NULL
    is_untyped: ClassVar[bool] = False  # any value may be in any column
    has_booleans: ClassVar[bool] = True  # else 1 and 0, and any other number
    has_short_texts: ClassVar[bool] = False  # TEXT, without a length, ends at 64 KB
    has_ordered_cascades: ClassVar[bool] = False  # a delete depends on their order

    def place(self, url: str) -> tuple[str, ...]:
        """Return the identity of a database: server, port, name, search path."""
        made = make_url(url)
        port, options = made.port or self.port, str(made.query.get("options", ""))
        return self.name, made.host or "", str(port), made.database or "", options

    def open(self, url: str, folder: Path, setting: str) -> Engine:
        """Open a database, with limits on statements and on waiting for locks.

        Raises CannotStart, naming the `setting`, for an address that cannot be
        understood.
        """
        _, _, rest = url.partition("://")
        try:
            return create_engine(
                make_url(f"{self.driver}://{rest}"),
                connect_args=self.connect_arguments(),
                pool_pre_ping=True,
                hide_parameters=True,  # what people search for and save is in no log
            )
        except (ArgumentError, NoSuchModuleError, ValueError) as error:
            raise CannotStart(
                f"{setting}: this address cannot be understood."
            ) from error
        except ImportError as error:
            raise CannotStart(
                f"The driver {error.name} is not installed.\n  pip install {error.name}"
            ) from error

    def connect_arguments(self) -> dict[str, Any]:
        """Return the driver's arguments that limit statements and waiting."""
        return {}

    @contextmanager
    def limited(self, connection: Connection, seconds: float) -> Iterator[None]:
        """Limit each statement of a transaction, which only reads, in time."""
        raise NotImplementedError
        yield

    def prepare_export(self, connection: Connection) -> None:
        """Prepare a transaction for reading all rows of something."""

    def check_deferred(self, connection: Connection) -> None:
        """Check what is deferred until a transaction is committed."""

    def lock_numbers(self, name: str) -> Any:
        """Return the statement that locks the next number of `name`, None where the
        lock of the largest number holds up others."""
        return None

    def lock_store(self, connection: Connection) -> AbstractContextManager[None]:
        """Let other processes that would bring the accounts store up to date wait."""
        return nullcontext()

    def call(
        self, connection: Connection, run: Run, call: RoutineCall
    ) -> RoutineResult:
        """Call a stored procedure or function; `run` executes a statement."""
        raise NotImplementedError

    def period(
        self, column: ColumnElement[Any], unit: str, storage_format: str = ""
    ) -> ColumnElement[Any]:
        """Return the year, month or day of a date or datetime as YYYY, YYYY-MM or
        YYYY-MM-DD; of a column of another type, by how that spells it."""
        held = raw(column)
        if not storage_format:
            return self.period_of_moment(held, unit)
        cut = period_in_text(held, storage_format, unit)
        if cut is not None:
            return cut
        moment = self.moment_of_seconds(seconds_of(held, storage_format))
        return self.period_of_moment(moment, unit)

    def period_of_moment(
        self, moment: ColumnElement[Any], unit: str
    ) -> ColumnElement[Any]:
        """Return the period of a date or datetime of the server's own."""
        raise NotImplementedError

    def moment_of_seconds(self, seconds: ColumnElement[Any]) -> ColumnElement[Any]:
        """Return the datetime of a number of seconds since 1970, in UTC."""
        raise NotImplementedError

    def as_compared(self, text: str) -> str:
        """Return a text as the server may compare it with another: without the blanks
        behind, to which a column of a fixed length adds."""
        return text.rstrip(" ")

    def is_empty(self, column: ColumnElement[Any]) -> ColumnElement[bool]:
        """Return the condition that a column holds nothing; a text of no characters is
        left to the caller."""
        return column.is_(None)

    def decoded(self, column: ColumnElement[Any]) -> ColumnElement[Any]:
        """Return the text of a column of bytes, for a comparison."""
        return cast(type_coerce(column, NullType()), String)

    def matcher(self, text: ColumnElement[Any], is_folded: bool) -> Matcher:
        """Return the LIKE that does not tell upper from lower case, whatever the
        collation of the column; `is_folded`: for a search beyond ASCII."""
        folded = func.lower(text)

        def like(word: Any, escape: str | None = None) -> ColumnElement[bool]:
            return folded.like(func.lower(word), escape=escape)

        return like

    def begins_with(
        self, column: ColumnElement[Any], count: int
    ) -> ColumnElement[bool]:
        """Return the condition that a column begins with one of `count` texts, bound by
        `prefix_values`, as an index can serve it."""
        return or_(
            *[column.like(bindparam(f"b{n}"), escape="\\") for n in range(count)]
        )

    def prefix_values(self, texts: Sequence[str]) -> dict[str, str]:
        """Return the bound values of `begins_with`."""
        return {f"b{n}": escape_like(text) + "%" for n, text in enumerate(texts)}

    def classify(self, error: Any) -> DatabaseError | None:
        """Return the class of a driver's error, None for one that has none."""
        return None

    def is_lost(self, error: Any) -> bool:
        """Tell whether the database cannot be reached, or the connection broke off."""
        return False

    def is_passing(self, error: Any) -> bool:
        """Tell whether transactions got in each other's way, so that the same work,
        done again from its beginning, will do."""
        return False


def escape_like(text: str) -> str:
    """Return a text as LIKE … ESCAPE '\\' takes it literally."""
    for special in "\\%_":
        text = text.replace(special, "\\" + special)
    return text


def raw(column: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return a column as the database holds it."""
    return type_coerce(column, NullType())


def holds_days(column: ColumnElement[Any]) -> bool:
    """Tell whether a column holds dates as its server does, and not in a format of its
    own."""
    kept = getattr(column.type, "impl_instance", column.type)
    is_spelled = bool(getattr(column.type, "storage_format", ""))
    return isinstance(kept, Date | DateTime) and not is_spelled


def quoted_name(connection: Connection, name: Sequence[str]) -> str:
    """Return a name with its schema, each part in quotation marks, as a text statement
    has it."""
    quote = connection.dialect.identifier_preparer.quote_identifier
    return ".".join(quote(part) for part in name).replace(":", "\\:")
