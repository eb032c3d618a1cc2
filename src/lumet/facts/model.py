"""The facts of a database: tables, columns, types, keys and constraints."""

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

TypeKind = Literal[
    "integer",
    "decimal",
    "float",
    "boolean",
    "text",
    "date",
    "time",
    "moment",
    "binary",
    "json",
    "uuid",
    "unknown",
]
TableKind = Literal["table", "view"]
SHAPES = ("geometry", "geography", "point", "linestring", "polygon", "multi")


@dataclass(frozen=True, slots=True)
class Type:
    """A canonical type beside the database's own spelling of it.

    `length` counts characters; `precision` and `scale` count decimal digits; `values`
    are those of an enumeration; `timezone`: a moment or time that knows its zone.
    """

    kind: TypeKind
    native: str
    length: int | None = None
    precision: int | None = None
    scale: int | None = None
    values: tuple[str, ...] = ()
    timezone: bool = False

    @property
    def is_shape(self) -> bool:
        """Tell whether it is a geometric type by its spelling."""
        return self.native.lower().startswith(SHAPES)


@dataclass(frozen=True, slots=True)
class Default:
    """What the database fills in; `literal` when `text` is a constant, unquoted."""

    text: str
    literal: bool


@dataclass(frozen=True, slots=True)
class Column:
    """One column. `automatic` numbers itself; `generated` is the expression of one
    that the database computes."""

    name: str
    type: Type
    nullable: bool = True
    default: Default | None = None
    automatic: bool = False
    generated: str = ""
    comment: str = ""


@dataclass(frozen=True, slots=True)
class Reference:
    """A foreign key: `columns` hold the values of `referred_columns`, in order."""

    columns: tuple[str, ...]
    referred_table: str
    referred_columns: tuple[str, ...]
    name: str = ""
    on_delete: str = ""
    on_update: str = ""


@dataclass(frozen=True, slots=True)
class Unique:
    """A unique constraint or a unique index over whole columns and all rows."""

    columns: tuple[str, ...]
    name: str = ""


@dataclass(frozen=True, slots=True)
class Index:
    """An index over whole columns, in their order; `partial` covers only some rows."""

    name: str
    columns: tuple[str, ...]
    unique: bool = False
    partial: bool = False


@dataclass(frozen=True, slots=True)
class Check:
    """A check constraint as the database spells it, without the outer parentheses."""

    text: str
    name: str = ""


@dataclass(frozen=True, slots=True)
class Table:
    """A table or a view. `name` is unique within a `Database`; `writable` tells whether
    the user who connected may add, change and delete its rows."""

    name: str
    kind: TableKind
    columns: tuple[Column, ...]
    primary_key: tuple[str, ...] = ()
    references: tuple[Reference, ...] = ()
    uniques: tuple[Unique, ...] = ()
    checks: tuple[Check, ...] = ()
    indexes: tuple[Index, ...] = ()
    comment: str = ""
    writable: bool = True

    def column(self, name: str) -> Column:
        """Return the column called `name`, or raise KeyError."""
        for column in self.columns:
            if column.name == name:
                return column
        raise KeyError(f"{self.name}.{name}")

    def has_column(self, name: str) -> bool:
        """Tell whether there is a column called `name`."""
        return any(column.name == name for column in self.columns)

    def reference_of(self, column: str) -> Reference | None:
        """Return the single-column reference that starts at `column`, if any."""
        for reference in self.references:
            if reference.columns == (column,):
                return reference
        return None

    def is_unique(self, columns: tuple[str, ...]) -> bool:
        """Tell whether the catalogue says that `columns` identify one row."""
        wanted = set(columns)
        keys = [self.primary_key, *(unique.columns for unique in self.uniques)]
        return any(key and set(key) <= wanted for key in keys)


@dataclass(frozen=True)
class Database:
    """Everything read from one database, tables in the order of their names.
    `unreadable` are the tables and views that the database itself cannot read."""

    dialect: str
    version: str
    tables: tuple[Table, ...]
    unreadable: tuple[str, ...] = ()

    @cached_property
    def by_name(self) -> dict[str, Table]:
        """The tables by their names."""
        return {table.name: table for table in self.tables}

    @cached_property
    def _referring(self) -> dict[str, list[tuple[Table, Reference]]]:
        found: dict[str, list[tuple[Table, Reference]]] = {}
        for table in self.tables:
            for reference in table.references:
                found.setdefault(reference.referred_table, []).append(
                    (table, reference)
                )
        return found

    def table(self, name: str) -> Table:
        """Return the table called `name`, or raise KeyError."""
        return self.by_name[name]

    def referring_to(self, name: str) -> tuple[tuple[Table, Reference], ...]:
        """Return every reference that points at table `name`, with its table."""
        return tuple(self._referring.get(name, ()))
