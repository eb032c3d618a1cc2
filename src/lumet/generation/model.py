"""The model of the generated code: everything is decided before a template is filled."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from lumet.design.access import AccessDecisions
from lumet.design.cards import DecidedPage
from lumet.design.decision_schema import FieldDecisions, TableDecisions
from lumet.design.indexes import MANY_ROWS
from lumet.facts.dialects import server_of
from lumet.facts.dialects.base import Server
from lumet.facts.model import Column, Database, Reference, Table
from lumet.kit.contract import NEW_UUID


@dataclass(frozen=True, slots=True)
class Application:
    """The application: its name, its package, its tables and roles."""

    name: str
    package: str
    dialect: str
    database: Database
    decisions: Mapping[str, TableDecisions]
    files: Mapping[str, str]  # the decision file of each table, for the headers
    access: AccessDecisions
    language: str = "en_GB"
    renames: tuple[tuple[str, str], ...] = ()  # by Python names, in their order
    menu: tuple[str, ...] = ()  # groups and tables that come first, in their order
    rows: Mapping[str, int] = field(default_factory=dict)  # about how many, by table
    card_pages: tuple[DecidedPage, ...] = ()


@dataclass(frozen=True, slots=True)
class Assignment:
    """One assignment of a class, or one argument of a call: its name and its code."""

    name: str
    code: str


@dataclass(frozen=True, slots=True)
class TableModel:
    """One table's module: its texts, and its statements as code."""

    name: str
    plural: str
    file: str
    module: str
    class_name: str
    has_list: bool
    imports: Mapping[str, tuple[str, ...]]  # the names by package
    table: str  # the arguments of Table behind its columns
    columns: tuple[str, ...]
    choices: tuple[Assignment, ...]
    rules: tuple[str, ...]
    fields: tuple[str, ...]
    formula_fields: tuple[str, ...]
    attributes: tuple[Assignment, ...]  # of its pages


@dataclass(frozen=True)
class TableSource:
    """What the code of one table's module is built from: its facts, the decisions about
    it, and the Python names: `modules` of all tables, `all_keys` of their columns."""

    application: Application
    table: Table
    modules: Mapping[str, str]
    all_keys: Mapping[str, Mapping[str, str]]

    @cached_property
    def decisions(self) -> TableDecisions:
        """The decisions about the table."""
        return self.application.decisions[self.table.name]

    @cached_property
    def keys(self) -> Mapping[str, str]:
        """The Python names of the columns, and of the fields that are no columns."""
        own = self.all_keys[self.table.name]
        return {**own, **{name: name for name in self.formulas}}

    @cached_property
    def formulas(self) -> tuple[str, ...]:
        """The names of the fields that are no columns."""
        return tuple(
            name
            for name, each in self.decisions.field.items()
            if each.formula and not self.table.has_column(name)
        )

    @cached_property
    def shown(self) -> tuple[Column, ...]:
        """The columns that are not hidden."""
        return tuple(each for each in self.table.columns if not self.field(each).hidden)

    @cached_property
    def server(self) -> Server:
        """The server of the database."""
        return server_of(self.application.dialect)

    @property
    def is_large(self) -> bool:
        """Tell whether the table has so many rows that searches are bounded."""
        return self.application.rows.get(self.table.name, 0) >= MANY_ROWS

    @property
    def is_splittable(self) -> bool:
        """Tell whether the table's name can be split at its dots, as SQLAlchemy does
        with the target of a reference."""
        return is_splittable(self.table.name)

    def field(self, column: Column) -> FieldDecisions:
        """Return the decisions about a column."""
        return self.decisions.field[column.name]

    def has(self, reference: Reference) -> bool:
        """Tell whether the application has the target of a reference, by a name that
        SQLAlchemy can split."""
        if not is_splittable(reference.referred_table):
            return False
        theirs = self.all_keys.get(reference.referred_table, {})
        referred = reference.referred_columns
        return bool(referred) and set(referred) <= set(theirs)

    def shown_key(self, name: str) -> str:
        """Return the key of a column of a list; that of a lookup's column has a dot in
        it."""
        lookup, dot, column = name.partition(".")
        if not dot or name in self.keys:
            return self.keys[name]
        reference = self.table.reference_of(lookup)
        assert reference is not None
        return f"{self.keys[lookup]}.{self.all_keys[reference.referred_table][column]}"

    def in_reach(self, text: str) -> str:
        """Return a value or a query with a mark for the rows of each table of the
        application, and no colon that binds."""
        from lumet.expressions.queries import with_rows_marked  # slow to import

        marked = with_rows_marked(text, self.application.database, set(self.modules))
        return marked.replace(":", "\\:")


def is_splittable(name: str) -> bool:
    """Tell whether a table's name can be split at its dots."""
    return "" not in name.split(".")


def generated_value(table: Table, column: Column, decided: FieldDecisions) -> str:
    """Return the generator of a column's value where nothing is entered: as decided, or
    a UUID for a key that the database does not make."""
    is_key = table.primary_key == (column.name,) and not table.is_view
    if decided.generated or not is_key or column.is_filled:
        return decided.generated
    return NEW_UUID if column.type.kind == "uuid" else ""


def keys_code(keys: Mapping[str, str], columns: tuple[str, ...]) -> str:
    """Return the keys of columns as code: one by itself, several as a tuple."""
    found = tuple(keys[name] for name in columns)
    return repr(found[0] if len(found) == 1 else found)


def tuple_code(codes: Iterable[str]) -> str:
    """Return a tuple of codes, "" for an empty one."""
    inner = "".join(f"{code}, " for code in codes)
    return f"({inner})" if inner else ""
