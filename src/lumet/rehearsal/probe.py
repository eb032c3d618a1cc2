"""A look at a database past the application: rows as the driver gives them, by key."""

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy import URL, Engine, create_engine, make_url
from sqlalchemy.pool import NullPool

from lumet.facts.dialects import FILE, SERVERS, server_of

_ZERO_DATE = "0000-00-00"
Run = Callable[[str], list[Any]]


class Probe:
    """Reads tables of one database, each by its SQLAlchemy table; `run` executes a query
    as it stands, by default on a connection of its own."""

    def __init__(self, url: URL, run: Run | None = None) -> None:
        self.server = server_of(url.get_backend_name())
        # one connection, which sees what others have committed: opening one takes a
        # driver that reads its certificates 0.1 s
        self.engine: Engine = (
            create_engine(url, poolclass=NullPool)
            if self.server.is_file
            else create_engine(url, pool_size=1, isolation_level="AUTOCOMMIT")
        )
        self._run = run or self._connect_and_run
        # run() doubles every per cent sign that a driver reads, a name's too
        preparer: Any = self.engine.dialect.identifier_preparer
        preparer._double_percents = False
        self.quote, self._format = preparer.quote_identifier, preparer.format_table

    @classmethod
    def at(cls, address: str) -> "Probe":
        """Return the probe of a database by its address, or the path of its file."""
        return cls(url_of(address))

    def format(self, table: Any) -> str:
        """Return the name of a table as a statement has it."""
        return str(self._format(table))

    def rows(self, words: str) -> list[Any]:
        """Run a query; a text that is no UTF-8 is shown as the application shows it."""
        return self._run(words)

    def _connect_and_run(self, words: str) -> list[Any]:
        with self.engine.connect() as connection:
            if not self.server.is_file:
                return list(connection.exec_driver_sql(words.replace("%", "%%")))
            raw: Any = connection.connection.driver_connection
            raw.text_factory = lambda held: held.decode("utf-8", "replace")
            return list(connection.exec_driver_sql(words))

    def count(self, table: Any, where: str = "") -> int:
        """Return the number of rows."""
        found = self.rows(self._select("count(*)", table, where))
        return int(found[0][0])

    def dump(self, table: Any, where: str = "") -> Counter[Any]:
        """Return every row with each value as the database spells it."""
        names = [self._read(table, key) for key in tuple(table.c.keys())]
        if self.server.is_untyped:
            names = [f"quote({name})" for name in names]
        return Counter(tuple(row) for row in self.rows(self._select(", ".join(names), table, where)))  # fmt: skip

    def keys(self, table: Any, where: str = "") -> list[tuple[Any, ...]]:
        """Return the keys of the rows."""
        keys = [key for key, column in table.c.items() if column.primary_key]
        names = ", ".join(self._read(table, key, plain=True) for key in keys)
        return [tuple(row) for row in self.rows(self._select(names, table, where))]

    def is_key(self, table: Any, values: Sequence[Any]) -> str:
        """Return the condition of the row with this key, "" for one that cannot be
        spelled with certainty."""
        names = [self._name(table, key) for key, column in table.c.items() if column.primary_key]  # fmt: skip
        spelled = [_literal(value) for value in values]
        if "" in spelled:
            return ""
        pairs = zip(names, spelled, strict=True)
        return " AND ".join(f"{name} = {value}" for name, value in pairs)

    def keyed(
        self, table: Any, where: str = "", most: int = 0
    ) -> dict[tuple[Any, ...], dict[str, Any]]:
        """Return the rows, at most so many, 0 for all, by the values of their key, each
        a value by column key; where a driver refuses some values, all but the key as
        texts."""
        keys = [key for key, column in table.c.items() if column.primary_key]
        names = [
            self._read(table, key, plain=key in keys) for key in tuple(table.c.keys())
        ]
        limit = f" LIMIT {most}" if most else ""
        rows = self.rows(self._select(", ".join(names), table, where) + limit)
        found = [dict(zip(table.c.keys(), row, strict=True)) for row in rows]
        for key, column in table.c.items():
            if "Bytes" not in type(column.type).__name__:
                for each in found:  # a text of the binary character set
                    if isinstance(each[key], bytes) and key not in keys:
                        each[key] = each[key].decode("utf-8", "replace")
        for key, column in table.c.items():
            if type(column.type).__name__ == "KeyBytes":
                for each in found:
                    each[key] = each[key].hex() if each[key] is not None else None
            none = getattr(column.type, "none", None)  # what stands for NULL there
            for each in found if none is not None else ():
                if str(each[key]).strip() == str(none):
                    each[key] = None
        return {tuple(each[key] for key in keys): each for each in found}

    def in_order(self, table: Any, key: str) -> list[Any]:
        """Return the values of a column as the database sorts them."""
        is_key = key in table.primary_key.columns  # which is read as it is
        words = self._select(self._read(table, key, plain=is_key), table)
        return [row[0] for row in self.rows(f"{words} ORDER BY {self._name(table, key)}")]  # fmt: skip

    def _name(self, table: Any, key: str) -> str:
        return f"looked_at.{self.quote(table.c[key].name)}"

    def _read(self, table: Any, key: str, plain: bool = False) -> str:
        name = self._name(table, key)
        is_bytes = "Bytes" in type(table.c[key].type).__name__
        # a driver that casts refuses some values
        is_plain = plain or is_bytes or self.server.compares_texts
        return name if is_plain else self.server.as_text(name)

    def _select(self, words: str, table: Any, where: str = "") -> str:
        condition = f" WHERE ({where})" if where else ""
        return f"SELECT {words} FROM {self.format(table)} AS looked_at{condition}"


def is_empty(value: Any) -> bool:
    """Whether a stored value is shown as nothing: NULL, a text of no characters but
    blanks, and the day of zeros that a server stores where a column takes no NULL."""
    is_blank = isinstance(value, str) and not value.rstrip(" ")
    return value is None or is_blank or str(value).startswith(_ZERO_DATE)


def _literal(value: Any) -> str:
    """Return a value of a key as SQL has it, "" for other types than the usual."""
    if isinstance(value, int) and not isinstance(value, bool):
        return str(value)
    if isinstance(value, str) and value.isprintable() and "\\" not in value:
        return "'" + value.replace("'", "''") + "'"
    return ""


def url_of(address: str) -> URL:
    """Return the address of a database as SQLAlchemy has it, with the driver of its
    server; without a scheme it is the path of a file."""
    scheme, sign, rest = address.partition("://")
    if not sign:
        scheme, rest = FILE.schemes[0], f"/{address}"
    server = next(each for each in SERVERS if scheme.partition("+")[0] in each.schemes)
    return make_url(f"{server.driver or scheme}://{rest}")
