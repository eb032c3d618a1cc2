"""The facts of a database: tables, columns, types, keys and constraints."""

from dataclasses import dataclass, field
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
    "datetime",
    "binary",
    "json",
    "uuid",
    "unknown",
]
TableKind = Literal[
    "table", "partitioned table", "foreign table", "view", "materialised view", "query"
]
Writing = Literal["add", "edit", "delete"]
ParameterMode = Literal["in", "out", "inout"]
RoutineKind = Literal["procedure", "function"]
WRITINGS: tuple[Writing, ...] = ("add", "edit", "delete")
SHAPES = ("geometry", "geography", "point", "linestring", "polygon", "multi")


@dataclass(frozen=True, slots=True)
class Type:
    """A canonical type beside the database's own spelling of it.

    `length` counts characters; `precision` and `scale` count decimal digits; `values`
    are those of an enumeration or a set; `timezone`: a moment or time that knows its
    zone; `ignores_case`: upper and lower case compare as equal; `element` is the native
    type of an array's elements.
    """

    kind: TypeKind
    native: str
    length: int | None = None
    precision: int | None = None
    scale: int | None = None
    values: tuple[str, ...] = ()
    timezone: bool = False
    unsigned: bool = False
    ignores_case: bool = False
    element: str = ""

    @property
    def is_shape(self) -> bool:
        """Tell whether it is a geometric type by its spelling."""
        return self.native.lower().startswith(SHAPES)


@dataclass(frozen=True, slots=True)
class Default:
    """The default of a column; `literal` when `text` is a constant, unquoted."""

    text: str
    literal: bool


@dataclass(frozen=True, slots=True)
class Column:
    """One column. `automatic` numbers itself; `generated` is the expression of one
    that the database computes; `denied` is what the user who connected may not do with
    it though the table allows it. `apart` is the name with "_" between its words, where
    they are written as one; inference finds it, and no file keeps it."""

    name: str
    type: Type
    nullable: bool = True
    default: Default | None = None
    automatic: bool = False
    generated: str = ""
    comment: str = ""
    denied: tuple[Writing, ...] = ()
    apart: str = field(default="", compare=False, metadata={"kept": False})

    @property
    def worded(self) -> str:
        """The name, its words apart."""
        return self.apart or self.name

    @property
    def is_filled(self) -> bool:
        """Tell whether the database fills in a value where none is given."""
        return bool(self.automatic or self.generated or self.default is not None)


@dataclass(frozen=True, slots=True)
class Reference:
    """A foreign key: `columns` hold the values of `referred_columns`, in order. It is
    checked at once, where `deferrable` on demand at the end of the transaction, where
    `deferred` always then. One that is not `enforced` the database knows nothing of: it
    was found in the rows, or decided."""

    columns: tuple[str, ...]
    referred_table: str
    referred_columns: tuple[str, ...]
    name: str = ""
    on_delete: str = ""
    on_update: str = ""
    deferrable: bool = False
    deferred: bool = False
    enforced: bool = True


@dataclass(frozen=True, slots=True)
class Unique:
    """A unique constraint or a unique index over whole columns and all rows."""

    columns: tuple[str, ...]
    name: str = ""


@dataclass(frozen=True, slots=True)
class Index:
    """An index over columns, in their order; those in `descending` go down. `partial`
    covers only some rows; `computed` has expressions beside or instead of columns."""

    name: str
    columns: tuple[str, ...]
    unique: bool = False
    partial: bool = False
    descending: tuple[str, ...] = ()
    computed: bool = False


@dataclass(frozen=True, slots=True)
class Check:
    """A check constraint as the database spells it, without the outer parentheses."""

    text: str
    name: str = ""


@dataclass(frozen=True, slots=True)
class Table:
    """A table or a view.

    `name` is unique within a `Database`: outside the default schema it begins with the
    `schema` and a dot. `denied` is what the user who connected may not do with its
    rows; `refusal` says why where that is no matter of rights; `row_security` may refuse some rows besides. `estimate` is the database's own
    guess of the rows, a power of ten, 0 where it has none or a small one. Of a view, or
    of a query that the project adds, `definition` is the text and `updatable` tells
    whether the database would take changes to it. `apart` is as that of a column, of
    the name within the schema.
    """

    name: str
    kind: TableKind
    columns: tuple[Column, ...]
    primary_key: tuple[str, ...] = ()
    references: tuple[Reference, ...] = ()
    uniques: tuple[Unique, ...] = ()
    checks: tuple[Check, ...] = ()
    indexes: tuple[Index, ...] = ()
    comment: str = ""
    schema: str = ""
    denied: tuple[Writing, ...] = ()
    row_security: bool = False
    estimate: int = 0
    exclusions: tuple[Check, ...] = ()
    triggers: tuple[str, ...] = ()
    definition: str = ""
    updatable: bool = False
    refusal: str = ""
    apart: str = field(default="", compare=False, metadata={"kept": False})

    @property
    def own_name(self) -> str:
        """The name within its schema."""
        return self.name.removeprefix(f"{self.schema}.") if self.schema else self.name

    @property
    def worded(self) -> str:
        """The name within its schema, its words apart."""
        return self.apart or self.own_name

    @property
    def is_view(self) -> bool:
        """Tell whether its rows are another's."""
        return self.kind in ("view", "materialised view", "query")

    @property
    def is_changeable(self) -> bool:
        """Tell whether the user who connected may change its rows in any way."""
        return not self.is_view and set(self.denied) != set(WRITINGS)

    def column(self, name: str) -> Column:
        """Return the column called `name`, or raise KeyError."""
        for column in self.columns:
            if column.name == name:
                return column
        raise KeyError(f"{self.name}.{name}")

    def has_column(self, name: str) -> bool:
        """Tell whether there is a column called `name`."""
        return any(column.name == name for column in self.columns)

    @property
    def constraint_names(self) -> tuple[str, ...]:
        """The names of its check, unique and exclusion constraints; those of unique
        indexes too."""
        checks = [each.name for each in (*self.checks, *self.exclusions)]
        uniques = [each.name for each in self.uniques]
        return tuple(dict.fromkeys(name for name in (*checks, *uniques) if name))

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


@dataclass(frozen=True, slots=True)
class Parameter:
    """A parameter of a routine; "" is the name of one that has none. One that is
    `optional` has a default."""

    name: str
    type: Type
    mode: ParameterMode = "in"
    optional: bool = False


@dataclass(frozen=True, slots=True)
class Routine:
    """A stored procedure or function that the user who connected may execute.

    `name` is as that of a `Table`; where several have one, with the types of their
    parameters in parentheses behind it. `returns` is the type of the value of a
    function, None for none and for `rows`: one row, or with `several` any number.
    """

    name: str
    kind: RoutineKind
    parameters: tuple[Parameter, ...] = ()
    returns: Type | None = None
    rows: bool = False
    several: bool = False
    comment: str = ""
    schema: str = ""

    @property
    def own_name(self) -> str:
        """The name within its schema, without the types of its parameters."""
        name = self.name.removeprefix(f"{self.schema}.") if self.schema else self.name
        return name[: name.rindex("(")] if name.endswith(")") else name


@dataclass(frozen=True)
class Database:
    """Everything read from one database, tables and routines in the order of their
    names.

    `unreadable` are the tables and views that the database itself cannot read.
    `schemas` are those that were asked for, "" being the default one; tables of others
    are there since one of these refers to them.
    """

    dialect: str
    version: str
    tables: tuple[Table, ...]
    unreadable: tuple[str, ...] = ()
    schemas: tuple[str, ...] = ("",)
    routines: tuple[Routine, ...] = ()

    @cached_property
    def routine_by_name(self) -> dict[str, Routine]:
        """The stored procedures and functions by their names."""
        return {routine.name: routine for routine in self.routines}

    @cached_property
    def by_name(self) -> dict[str, Table]:
        """The tables by their names."""
        return {table.name: table for table in self.tables}

    def own_name(self, table: str) -> str:
        """Return the name within its schema of a table, which may not be there."""
        found = self.by_name.get(table)
        return found.own_name if found else table

    def worded(self, table: str) -> str:
        """Return the name within its schema of a table, which may not be there, its
        words apart."""
        found = self.by_name.get(table)
        return found.worded if found else table

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
