"""Conditions in SQL over made-up rows, before a database sees them: SQLite in memory tells
which rows keep a check. What it does not understand is left to the database."""

import json
import re
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from lumet.expressions.checks import plain
from lumet.facts.dialects import FILE, server_of
from lumet.facts.model import Table

_STEPS = {"=": "", "<=": "", ">=": "", "<": " - 1", ">": " + 1"}
_SIGNS: dict[type[exp.Expr], str] = {exp.EQ: "=", exp.LT: "<", exp.LTE: "<=", exp.GT: ">", exp.GTE: ">="}  # fmt: skip
_TURNED = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "="}
_AS_TEXT = frozenset(["DATE", "DATETIME", "TIMESTAMP", "TIMESTAMPTZ", "TEXT", "VARCHAR", "CHAR", "TIME"])  # fmt: skip


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition as SQLite has it, its columns, and what a column can be set to so that
    it holds: the column with an expression over the others."""

    sql: str
    columns: tuple[str, ...]
    settings: tuple[tuple[str, str], ...] = ()


class Conditions:
    """The conditions of one table that can be asked about rows."""

    def __init__(self, table: Table, texts: Sequence[str], dialect: str) -> None:
        self.names = [column.name for column in table.columns]
        self.connection = sqlite3.connect(":memory:", isolation_level=None)
        self.connection.create_function("REGEXP", 2, _matches, deterministic=True)
        self.connection.create_function("num_nonnulls", -1, lambda *args: sum(a is not None for a in args))  # fmt: skip
        self.connection.create_function("num_nulls", -1, lambda *args: sum(a is None for a in args))  # fmt: skip
        self.connection.create_function("greatest", -1, lambda *args: max((a for a in args if a is not None), default=None))  # fmt: skip
        self.connection.create_function("least", -1, lambda *args: min((a for a in args if a is not None), default=None))  # fmt: skip
        listed = ", ".join(map(_quoted, self.names))
        self.connection.execute(f"CREATE TABLE made ({listed})")
        found = (self._understood(text, dialect) for text in texts)
        self.known = [each for each in found if each is not None]

    def close(self) -> None:
        """Let go of the rows."""
        self.connection.close()

    def _understood(self, text: str, dialect: str) -> Condition | None:
        try:
            parsed = sqlglot.parse_one(f"({text})", read=server_of(dialect).sqlglot)
            bare = parsed.transform(_without_casts)
            sql = bare.sql(FILE.sqlglot)
            self.connection.execute(f"SELECT NOT ({sql}) FROM made")
        except (SqlglotError, sqlite3.Error):
            return None
        by_fold = {name.casefold(): name for name in self.names}
        columns = [by_fold.get(each.name.casefold(), "") for each in bare.find_all(exp.Column)]  # fmt: skip
        settings = [
            (name, value)
            for node in bare.find_all(*_SIGNS)
            for name, value in _settings(node)
        ]
        return Condition(sql, tuple(dict.fromkeys(filter(None, columns))), tuple((by_fold[n.casefold()], v) for n, v in settings if n.casefold() in by_fold))  # fmt: skip

    def failing(
        self, columns: dict[str, list[Any]]
    ) -> list[tuple[Condition, list[int]]]:
        """Return the conditions that do not hold, each with the places of its rows."""
        if not self.known:
            return []
        self._fill(columns)
        found = []
        for each in self.known:
            places = self._ask(f"SELECT rowid - 1 FROM made WHERE NOT ({each.sql})")
            if places:
                found.append((each, places))
        return found

    def reckoned(self, columns: dict[str, list[Any]], expression: str) -> list[Any]:
        """Return the value of an expression for every row, None for all where it cannot
        be reckoned."""
        self._fill(columns)
        found = self._ask(f"SELECT {expression} FROM made ORDER BY rowid")
        return found or [None] * len(next(iter(columns.values()), []))

    def _ask(self, words: str) -> list[Any]:
        try:
            return [row[0] for row in self.connection.execute(words)]
        except sqlite3.Error:
            return []

    def _fill(self, columns: dict[str, list[Any]]) -> None:
        self.connection.execute("DELETE FROM made")
        names = [name for name in self.names if name in columns]
        marks, listed = ", ".join("?" * len(names)), ", ".join(map(_quoted, names))
        self.connection.execute("BEGIN")
        rows = zip(*([_plain(v) for v in columns[name]] for name in names), strict=True)
        self.connection.executemany(
            f"INSERT INTO made ({listed}) VALUES ({marks})", rows
        )
        self.connection.execute("COMMIT")


def _settings(node: exp.Expr) -> list[tuple[str, str]]:
    """Return how a comparison can be made to hold: a column, and what it is set to."""
    sign = _SIGNS[type(node)]
    sides = ((node.this, sign, node.expression), (node.expression, _TURNED[sign], node.this))  # fmt: skip
    found = []
    for side, turned, other in sides:
        bare = plain(side)
        if not isinstance(bare, exp.Column):
            continue
        is_own = bare.name in {c.name for c in other.find_all(exp.Column)}
        if not is_own or turned == "=":  # such as name = lower(name)
            found.append((bare.name, f"({other.sql(FILE.sqlglot)}){_STEPS[turned]}"))
    return found


def _without_casts(node: exp.Expr) -> exp.Expr:
    """Remove the casts that SQLite would read as numbers."""
    if isinstance(node, exp.Introducer):
        return node.expression  # type: ignore[no-any-return]
    if isinstance(node, exp.Cast) and node.to.this.value.split("(")[0] in _AS_TEXT:
        return node.this.transform(_without_casts)  # type: ignore[no-any-return]
    if isinstance(node, exp.Column) and node.args.get("table"):
        return exp.column(node.this)
    return node


def _matches(pattern: Any, text: Any) -> bool | None:
    if pattern is None or text is None:
        return None
    try:
        return re.search(str(pattern), str(text)) is not None
    except re.error:
        return True


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _plain(value: Any) -> Any:
    """Return a value as SQLite takes it."""
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, datetime):
        return value.isoformat(" ")
    if isinstance(value, date | time):
        return value.isoformat()
    if isinstance(value, list):
        return json.dumps(value)
    return value
