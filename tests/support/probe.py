"""A look at a database past the application: rows as the driver gives them, by key."""

from collections import Counter
from typing import Any

from sqlalchemy import Engine, create_engine, make_url
from sqlalchemy.pool import NullPool

_DRIVERS = {"postgresql": "postgresql+psycopg", "mariadb": "mariadb+pymysql"}


class Probe:
    """Reads tables of one database, each by its SQLAlchemy table."""

    def __init__(self, address: str) -> None:
        scheme, sign, rest = address.partition("://")
        self.kind = scheme if sign else "sqlite"
        url = f"{_DRIVERS[scheme]}://{rest}" if sign else f"sqlite:///{address}"
        self.engine: Engine = create_engine(make_url(url), poolclass=NullPool)
        # rows() doubles every per cent sign that a driver reads, a name's too
        preparer: Any = self.engine.dialect.identifier_preparer
        preparer._double_percents = False
        self.quote, self.format = preparer.quote_identifier, preparer.format_table

    def rows(self, words: str) -> list[Any]:
        """Run a query; a text that is no UTF-8 is shown as the application shows it."""
        with self.engine.connect() as connection:
            if self.kind == "sqlite":
                raw: Any = connection.connection.driver_connection
                raw.text_factory = lambda held: held.decode("utf-8", "replace")
            escaped = words if self.kind == "sqlite" else words.replace("%", "%%")
            return list(connection.exec_driver_sql(escaped))

    def count(self, table: Any, where: str = "") -> int:
        """Return the number of rows."""
        found = self.rows(self._select("count(*)", table, where))
        return int(found[0][0])

    def dump(self, table: Any) -> Counter[Any]:
        """Return every row with each value as the database spells it."""
        names = [self._read(table, key) for key in tuple(table.c.keys())]
        if self.kind == "sqlite":
            names = [f"quote({name})" for name in names]
        return Counter(tuple(row) for row in self.rows(self._select(", ".join(names), table)))  # fmt: skip

    def keyed(self, table: Any, where: str = "") -> dict[tuple[Any, ...], dict[str, Any]]:  # fmt: skip
        """Return the rows by the values of their key, each a value by column key; on
        PostgreSQL all but the key as texts, since its driver refuses some values."""
        keys = [key for key, column in table.c.items() if column.primary_key]
        names = [
            self._read(table, key, plain=key in keys) for key in tuple(table.c.keys())
        ]
        rows = self.rows(self._select(", ".join(names), table, where))
        found = [dict(zip(table.c.keys(), row, strict=True)) for row in rows]
        for key, column in table.c.items():
            none = getattr(column.type, "none", None)  # what stands for NULL there
            for each in found if none is not None else ():
                if str(each[key]).strip() == str(none):
                    each[key] = None
        return {tuple(each[key] for key in keys): each for each in found}

    def in_order(self, table: Any, key: str) -> list[Any]:
        """Return the values of a column as the database sorts them."""
        words = self._select(self._read(table, key), table)
        return [row[0] for row in self.rows(f"{words} ORDER BY {self._name(table, key)}")]  # fmt: skip

    def _name(self, table: Any, key: str) -> str:
        return f"looked_at.{self.quote(table.c[key].name)}"

    def _read(self, table: Any, key: str, plain: bool = False) -> str:
        name = self._name(table, key)
        is_bytes = "Bytes" in type(table.c[key].type).__name__
        is_plain = plain or is_bytes or self.kind != "postgresql"
        return name if is_plain else f"{name}::text"

    def _select(self, words: str, table: Any, where: str = "") -> str:
        condition = f" WHERE ({where})" if where else ""
        return f"SELECT {words} FROM {self.format(table)} AS looked_at{condition}"
