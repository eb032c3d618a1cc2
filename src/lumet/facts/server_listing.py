"""What there is to choose from on a server: databases, schemas, tables."""

from collections.abc import Sequence

from sqlalchemy import Engine, inspect

from lumet.facts.connecting import Address, open_for_reading

_LISTS = {
    "postgresql": ("postgres", ("SELECT datname FROM pg_database WHERE datallowconn"
                   " AND NOT datistemplate ORDER BY 1")),
    "mariadb": ("information_schema", "SHOW DATABASES"),
}  # fmt: skip
_OWN = frozenset({"information_schema", "mysql", "performance_schema", "sys"})
_SCHEMAS = """
    SELECT n.nspname FROM pg_namespace n WHERE n.nspname <> 'information_schema'
      AND n.nspname !~ '^pg_' AND EXISTS (SELECT FROM pg_class c
          WHERE c.relnamespace = n.oid AND c.relkind IN ('r', 'p', 'v', 'm', 'f'))
    ORDER BY 1
"""


def other_databases(address: Address) -> Sequence[str]:
    """Return the names of the databases on the server of `address`.

    Raises the driver's error when even that cannot be asked.
    """
    if address.url is None or address.dialect not in _LISTS:
        return ()
    known, query = _LISTS[address.dialect]
    engine = open_for_reading(address.with_database(known))
    found = _ask(engine, query)
    return [name for name in found if name not in _OWN]


def schemas_with_tables(address: Address) -> Sequence[str]:
    """Return the schemas of a PostgreSQL database that hold tables; of others none,
    since what they call a schema is a database or does not exist."""
    if address.dialect != "postgresql":
        return ()
    return _ask(open_for_reading(address), _SCHEMAS)


def table_names(address: Address, schemas: Sequence[str]) -> Sequence[str]:
    """Return the tables and views of these schemas, by default of the default one;
    those of named schemas with their schema before them."""
    engine = open_for_reading(address)
    try:
        with engine.connect() as connection:
            inspector = inspect(connection)
            default = inspector.default_schema_name or ""
            found = []
            for schema in schemas or [default]:
                names = [
                    *inspector.get_table_names(schema),
                    *inspector.get_view_names(schema),
                ]
                lead = "" if schema == default else f"{schema}."
                found += [lead + name for name in sorted(names, key=str.casefold)]
            return found
    finally:
        engine.dispose()


def _ask(engine: Engine, query: str) -> list[str]:
    try:
        with engine.connect() as connection:
            return [str(row[0]) for row in connection.exec_driver_sql(query)]
    finally:
        engine.dispose()
