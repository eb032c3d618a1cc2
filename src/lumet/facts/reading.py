"""Reading the catalogue of a live database into frozen facts."""

import warnings
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from difflib import get_close_matches

from sqlalchemy import Connection, Engine, inspect
from sqlalchemy.engine.reflection import Inspector
from sqlalchemy.exc import SAWarning

from lumet.errors import LumetError
from lumet.facts.dialects import server_of
from lumet.facts.model import Database, Index, Reference, Routine, Table, Unique


def read_database(engine: Engine, schemas: Sequence[str] = ()) -> Database:
    """Read every table and view of the schemas of these names, by default of the
    default schema; of other schemas what those refer to.

    Raises LumetError for a schema that does not exist.
    """
    server = server_of(engine.dialect.name)
    with engine.connect() as connection, warnings.catch_warnings():
        warnings.simplefilter("ignore", SAWarning)  # a type it does not know: we do
        inspector = inspect(connection)
        chosen = _chosen(inspector, schemas)
        found: dict[str, list[Table]] = {}
        unreadable: list[str] = []
        routines: list[Routine] = []
        waiting = deque(chosen)
        while waiting:
            schema = waiting.popleft()
            if schema not in found:
                reader = _Reader(connection, inspector, schema)
                found[schema] = [reader.table(name) for name in reader.names]
                if schema in chosen:
                    routines += reader.routines()
                unreadable += reader.unreadable
                waiting += sorted(reader.other_schemas)
        version = server.version(connection)
    tables = _complete([table for tables in found.values() for table in tables])
    return Database(
        server.name or engine.dialect.name,
        version,
        tuple(sorted(tables, key=lambda table: (table.name.casefold(), table.name))),
        tuple(sorted(unreadable)),
        chosen,
        tuple(sorted(routines, key=lambda each: each.name)),
    )


def _chosen(inspector: Inspector, schemas: Sequence[str]) -> tuple[str, ...]:
    """Return the schemas to read, "" for the default one."""
    if not schemas:
        return ("",)
    default = inspector.default_schema_name
    if not server_of(inspector.dialect.name).has_schemas:
        raise LumetError(
            "A SQLite file has no schemas to choose from.", "Omit --schema."
        )
    known = inspector.get_schema_names()
    for name in schemas:
        if name not in known:
            near = get_close_matches(name, known, n=len(known), cutoff=0)
            raise LumetError(
                f'There is no schema "{name}".',
                f"Available, nearest first: {', '.join(near[:8])}.",
            )
    return tuple(dict.fromkeys("" if name == default else name for name in schemas))


def _complete(tables: Sequence[Table]) -> Iterator[Table]:
    """Name each table's references by the names that tables have in a `Database`."""
    by_name: dict[str, Table] = {}
    for table in tables:
        if table.name in by_name:
            raise LumetError(
                f'Two tables are called "{table.name}": one by its schema and its name, '
                "one by a name that holds the dot.",
                "Choose the schemas so that only one of them is read: --schema NAME",
            )
        by_name[table.name] = table
    for table in tables:
        yield replace(
            table,
            references=tuple(_whole(each, by_name) for each in table.references),
        )


def _whole(reference: Reference, by_name: dict[str, Table]) -> Reference:
    """Return a reference with the columns it refers to: "REFERENCES t" alone means t's
    primary key."""
    if reference.referred_columns or reference.referred_table not in by_name:
        return reference
    key = by_name[reference.referred_table].primary_key
    return replace(reference, referred_columns=key)


class _Reader:
    """Reads one schema, "" being the default one. Afterwards `other_schemas` are those
    that its tables refer to."""

    def __init__(
        self, connection: Connection, inspector: Inspector, schema: str
    ) -> None:
        self.schema = schema
        self.default = inspector.default_schema_name
        self.other_schemas: set[str] = set()
        make = server_of(connection.dialect.name).catalogue
        self.catalogue = found = make(inspector, schema or None, connection)
        self.unreadable = [self._named(each, schema) for each in found.unreadable]
        self.names = list(found.kinds)

    def _named(self, own_name: str, schema: str) -> str:
        return f"{schema}.{own_name}" if schema else own_name

    def table(self, name: str) -> Table:
        """Return a table by its own name."""
        catalogue = self.catalogue
        columns = catalogue.columns(name)
        known = {column.name for column in columns}
        key = catalogue.primary_key(name)
        indexes = catalogue.indexes(name)
        return Table(
            name=self._named(name, self.schema),
            kind=catalogue.kinds[name],
            columns=columns,
            primary_key=key if known.issuperset(key) else (),
            references=self._references(name, known),
            uniques=_uniques(catalogue.uniques(name), indexes, known),
            checks=catalogue.checks(name),
            indexes=tuple(index for index in indexes if known >= {*index.columns}),
            schema=self.schema,
            **catalogue.about(name).parts(),
        )

    def routines(self) -> list[Routine]:
        """Return the stored procedures and functions."""
        return [
            replace(each, name=self._named(each.name, self.schema), schema=self.schema)
            for each in self.catalogue.routines()
        ]

    def _references(self, name: str, known: set[str]) -> tuple[Reference, ...]:
        found = []
        for reference, other in self.catalogue.references(name):
            schema = self.schema if other is None else other
            schema = "" if schema == self.default else schema
            if schema != self.schema:
                self.other_schemas.add(schema)
            if known.issuperset(reference.columns):
                table = self._named(reference.referred_table, schema)
                found.append(replace(reference, referred_table=table))
        return tuple(sorted(found, key=lambda each: (each.columns, each.name)))


def _uniques(
    constraints: Iterable[Unique], indexes: Iterable[Index], known: set[str]
) -> tuple[Unique, ...]:
    uniques = {unique.columns: unique.name for unique in constraints}
    for index in indexes:
        if index.unique and not index.partial and not index.computed:
            uniques.setdefault(index.columns, index.name)
    return tuple(
        Unique(columns, uniques[columns])
        for columns in sorted(uniques)
        if known.issuperset(columns)
    )
