"""What there is to choose from on a server: databases, schemas, tables."""

from collections.abc import Sequence

from sqlalchemy import Engine, inspect

from lumet.facts.connecting import Address, open_for_reading
from lumet.facts.dialects import server_of


def other_databases(address: Address) -> Sequence[str]:
    """Return the names of the databases on the server of `address`.

    Raises the driver's error when even that cannot be asked.
    """
    server = server_of(address.dialect)
    if address.url is None or not server.directory:
        return ()
    known, query = server.directory
    engine = open_for_reading(address.with_database(known))
    found = _ask(engine, query)
    return [name for name in found if name not in server.own_databases]


def schemas_with_tables(address: Address) -> Sequence[str]:
    """Return the schemas of a database that hold tables; none where a server calls a
    database so, or has none."""
    query = server_of(address.dialect).schemas_query
    return _ask(open_for_reading(address), query) if query else ()


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
