"""The databases that a server has, for a person who named a wrong one."""

from collections.abc import Sequence

from lumet.facts.connecting import Address, open_for_reading

_LISTS = {
    "postgresql": ("postgres", ("SELECT datname FROM pg_database WHERE datallowconn"
                   " AND NOT datistemplate ORDER BY 1")),
    "mariadb": ("information_schema", "SHOW DATABASES"),
}  # fmt: skip


def other_databases(address: Address) -> Sequence[str]:
    """Return the names of the databases on the server of `address`.

    Raises the driver's error when even that cannot be asked.
    """
    if address.url is None or address.dialect not in _LISTS:
        return ()
    known, query = _LISTS[address.dialect]
    engine = open_for_reading(
        Address(address.dialect, url=address.url.set(database=known))
    )
    try:
        with engine.connect() as connection:
            return [str(row[0]) for row in connection.exec_driver_sql(query)]
    finally:
        engine.dispose()
