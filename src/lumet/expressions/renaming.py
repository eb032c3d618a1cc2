"""Renamed tables and columns in SQL that people wrote: only what names them changes, and
the rest stays as it was spelled."""

import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from lumet.facts.dialects import server_of
from lumet.facts.model import Database

_PLAIN = re.compile(r"[a-z_][a-z0-9_]*")
_ATTRIBUTE = re.compile(r":user\.\w+")


class Names(NamedTuple):
    """What is called otherwise now: a table by its `old` name, or a column of `table`;
    the database is as it is now."""

    table: str
    old: str
    new: str
    is_table: bool
    database: Database


def rename_in_sql(text: str, names: Names, over: str = "") -> str:
    """Return an expression over the columns of the table `over`, or a query, with the
    new name. What cannot be parsed stays as it is."""
    import sqlglot  # slow to import
    from sqlglot.errors import SqlglotError

    head = "" if not over else "SELECT 1 WHERE "
    # attributes of the user are no SQL: texts of the same length stand for them
    masked = _ATTRIBUTE.sub(lambda use: f"'{'u' * (len(use[0]) - 2)}'", text)
    try:
        dialect = server_of(names.database.dialect).sqlglot
        parsed = sqlglot.parse_one(head + masked, read=dialect)
    except SqlglotError:
        return text
    scope = _Scope(names, over)
    changes = [
        (place["start"] - len(head), place["end"] + 1 - len(head), new)
        for place, new in scope.changes(parsed)
    ]
    for start, end, new in sorted(changes, reverse=True):
        text = text[:start] + new + text[end:]
    return text


class _Scope:
    """Finds what an identifier names, by the names before."""

    def __init__(self, names: Names, over: str) -> None:
        self.names, self.over = names, over
        own = names.database.by_name
        self.own_name = {name: table.own_name for name, table in own.items()}
        self.columns = {
            name: {c.name.casefold() for c in table.columns}
            for name, table in own.items()
        }
        if names.is_table:
            self.own_name[names.new] = names.old.rpartition(".")[2]
        else:
            self.columns[names.table] -= {names.new.casefold()}
            self.columns[names.table] |= {names.old.casefold()}
        self.by_own = {own.casefold(): name for name, own in self.own_name.items()}

    def changes(self, parsed: Any) -> Iterator[tuple[Any, str]]:
        """Yield the places of the identifiers that change, with the new ones."""
        from sqlglot import exp

        old = self.names.old.rpartition(".")[2] if self.names.is_table else self.names.old  # fmt: skip
        for node in parsed.find_all(exp.Identifier):
            if node.name.casefold() != old.casefold() or "start" not in node.meta:
                continue
            if self.names.is_table and self._is_table(node, node.parent):
                new = self.names.new.rpartition(".")[2]
                yield node.meta, self._spelled(new, node)
            elif not self.names.is_table and self._is_column(node, node.parent):
                new = self._spelled(self.names.new, node)
                # the result keeps the name by which others know it
                is_result = not self.over and _is_result(node.parent)
                yield node.meta, f"{new} AS {node.sql()}" if is_result else new

    def _is_column(self, node: Any, parent: Any) -> bool:
        from sqlglot import exp

        is_named = isinstance(parent, exp.Column) and parent.this is node
        return is_named and self._table_of(parent) == self.names.table

    def _is_table(self, node: Any, parent: Any) -> bool:
        from sqlglot import exp

        if isinstance(parent, exp.Table):
            return parent.this is node
        name = node.name
        if isinstance(parent, exp.Column) and parent.args.get("table") is node:
            return self._source(parent, name) == self.names.new
        return False

    def _table_of(self, column: Any) -> str:
        """Return the table that a column is of, "" where that is not known."""
        from sqlglot import exp

        if column.table:
            return self._source(column, column.table)
        select = column.find_ancestor(exp.Select)
        while select is not None:
            for name in self._sources(select).values():
                if column.name.casefold() in self.columns.get(name, ()):
                    return name
            select = select.find_ancestor(exp.Select)
        return self.over

    def _source(self, node: Any, called: str) -> str:
        """Return the table that is called so where `node` stands."""
        from sqlglot import exp

        select = node.find_ancestor(exp.Select)
        while select is not None:
            sources = self._sources(select)
            if called.casefold() in sources:
                return sources[called.casefold()]
            select = select.find_ancestor(exp.Select)
        is_over = called.casefold() == self.own_name.get(self.over, "").casefold()
        return self.over if is_over else ""

    def _sources(self, select: Any) -> dict[str, str]:
        """Return the tables that a SELECT itself reads, by what they are called
        there."""
        from sqlglot import exp

        beginning = select.args.get("from_") or select.args.get("from")
        holders = [beginning, *(select.args.get("joins") or ())]
        tables = [each.this for each in holders if each is not None]
        return {
            each.alias_or_name.casefold(): self.by_own.get(each.name.casefold(), "")
            for each in tables
            if isinstance(each, exp.Table)
        }

    def _spelled(self, name: str, node: Any) -> str:
        from sqlglot import exp

        dialect = server_of(self.names.database.dialect).sqlglot
        quoted = bool(node.args.get("quoted")) or not _PLAIN.fullmatch(name)
        return exp.to_identifier(name, quoted=quoted).sql(dialect=dialect)


def _is_result(column: Any) -> bool:
    """Tell whether a column is one of a SELECT's results, without a name of its own."""
    from sqlglot import exp

    return column.arg_key == "expressions" and isinstance(column.parent, exp.Select)
