"""Joins of views: the columns of tables that views compare for equality."""

import logging
from collections.abc import Iterator, Mapping

from lumet.facts.dialects import server_of
from lumet.facts.model import Database, Table

End = tuple[str, str]  # a table and a column, as the database spells them


def joined_columns(database: Database) -> dict[End, dict[End, str]]:
    """Return the joined columns of views: for each column those of other tables, with
    the name of the view. A view that cannot be parsed has none. Example:
    `SELECT … FROM light l JOIN keeper k ON k.nr = l.who` joins `light.who` with
    `keeper.nr`."""
    found: dict[End, dict[End, str]] = {}
    tables = {t.name.casefold(): t for t in database.tables if not t.is_view}
    tables |= {t.own_name.casefold(): t for t in database.tables if not t.is_view}
    for view in database.tables:
        if view.is_view and "join" in view.definition.casefold():
            for one, other in _pairs(view.definition, database.dialect, tables):
                found.setdefault(one, {})[other] = view.name
                found.setdefault(other, {})[one] = view.name
    return found


def _pairs(
    definition: str, dialect: str, tables: Mapping[str, Table]
) -> Iterator[tuple[End, End]]:
    """Yield the columns that one definition joins."""
    import sqlglot  # slow to import, and seldom needed
    from sqlglot import exp
    from sqlglot.optimizer.scope import traverse_scope

    logging.getLogger("sqlglot").setLevel(logging.ERROR)  # of what it does not know
    try:
        parsed = sqlglot.parse_one(definition, dialect=server_of(dialect).sqlglot)
        if isinstance(parsed, exp.Create):
            parsed = parsed.expression
        scopes = traverse_scope(parsed)
    except (sqlglot.errors.SqlglotError, RecursionError):
        return
    for scope in scopes:
        sources = {
            alias.casefold(): tables[source.name.casefold()]
            for alias, source in scope.sources.items()
            if isinstance(source, exp.Table) and source.name.casefold() in tables
        }
        for each in scope.find_all(exp.EQ):
            ends = [_end(side, sources) for side in (each.this, each.expression)]
            if ends[0] is not None and ends[1] is not None and ends[0][0] != ends[1][0]:
                yield ends[0], ends[1]
        for join in scope.find_all(exp.Join):
            right = sources.get(join.this.alias_or_name.casefold())
            for named in join.args.get("using") or ():
                held = [(table, column) for table in sources.values()
                        if (column := _column(table, named.name))]  # fmt: skip
                own = [(table, column) for table, column in held if table is right]
                rest = [(table, column) for table, column in held if table is not right]
                if own and rest:
                    yield (own[0][0].name, own[0][1]), (rest[0][0].name, rest[0][1])


def _end(side: object, sources: Mapping[str, Table]) -> End | None:
    """Return the column of a table that one side of a comparison is, None for what is
    none, or whose table is not said."""
    from sqlglot import exp

    while isinstance(side, exp.Cast | exp.Paren):
        side = side.this
    if not isinstance(side, exp.Column):
        return None
    if side.table:
        held = [sources[side.table.casefold()]] if side.table.casefold() in sources else []  # fmt: skip
    else:
        held = [table for table in sources.values() if _column(table, side.name)]
    named = [(table.name, column) for table in held if (column := _column(table, side.name))]  # fmt: skip
    return named[0] if len(named) == 1 else None


def _column(table: Table, name: str) -> str:
    """Return the name of a column as the table has it, "" for none."""
    return next((c.name for c in table.columns if c.name.casefold() == name.casefold()), "")  # fmt: skip
