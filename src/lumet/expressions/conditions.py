"""Conditions on the rows of one table, in the SQL of the surveyed database."""

from collections.abc import Iterator
from difflib import get_close_matches
from typing import Any

from lumet.facts.model import Database, Table

# Functions that mean the same on the three servers, or that each has by that name.
FUNCTIONS = frozenset(
    {"abs", "ceil", "coalesce", "concat", "count", "current_date", "current_time",
     "current_timestamp", "date", "exists", "floor", "greatest", "least", "length", "lower",
     "ltrim", "max", "min", "mod", "now", "nullif", "replace", "round", "rtrim", "strftime",
     "substr", "substring", "sum", "avg", "trim", "upper", "extract", "cast", "case", "if",
     "ifnull", "date_trunc", "julianday", "datediff", "year", "month", "day", "char_length",
     "in", "and", "or"}
)  # fmt: skip
_DIALECTS = {"mariadb": "mysql", "postgresql": "postgres"}


def check_condition(text: str, table: Table, database: Database) -> list[str]:
    """Return what is wrong with a condition on the rows of `table`: it must be one
    expression that is true or false, over its columns and sub-selects of tables that
    were surveyed, with functions of the list alone."""
    import sqlglot  # slow to import
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    dialect = _DIALECTS.get(database.dialect, database.dialect)
    try:
        parsed = sqlglot.parse(f"SELECT 1 WHERE {text}", dialect=dialect)
    except SqlglotError as error:
        return [f"This is no SQL condition: {_first_line(error)}"]
    select = parsed[0]
    if len(parsed) != 1 or not isinstance(select, exp.Select):
        return ["One condition is wanted, without a semicolon."]
    where = select.args.get("where")
    extra = [
        k
        for k, v in select.args.items()
        if v and k not in ("expressions", "where", "kind")
    ]
    if where is None or extra:
        return ["One condition is wanted, and nothing behind it."]
    condition = where.this
    problems = list(_problems(condition, table, database))
    if not problems and not _is_condition(condition, table):
        problems.append("This is a value, not a condition: compare it with something.")
    return problems


def _first_line(error: Exception) -> str:
    return str(error).split("\n")[0].removesuffix(".") + "."


def _problems(condition: Any, table: Table, database: Database) -> Iterator[str]:
    from sqlglot import exp

    by_name = {t.own_name.casefold(): t for t in database.tables}
    named = [node.name for node in condition.find_all(exp.Table)]
    for name in named:
        if name.casefold() not in by_name:
            yield f'There is no table "{name}". {_nearest(name, by_name)}'
    known = [table, *(by_name[n.casefold()] for n in named if n.casefold() in by_name)]
    columns = {c.name.casefold(): c.name for t in known for c in t.columns}
    for node in condition.find_all(exp.Column):
        if node.name.casefold() not in columns:
            yield f'Table {table.name} has no column "{node.name}". {_nearest(node.name, columns)}'
    for node in condition.find_all(exp.Placeholder, exp.Parameter):
        yield f"{node.sql()} is not known here: only columns and constants are."
    for node in condition.find_all(exp.Func):
        name = (
            node.name if isinstance(node, exp.Anonymous) else node.sql_name()
        ).casefold()
        if name not in FUNCTIONS:
            yield f'There is no function "{name}" here. {_nearest(name, FUNCTIONS)}'


def _nearest(name: str, names: Any) -> str:
    near = get_close_matches(name.casefold(), list(names), n=1, cutoff=0.5)
    return f"Nearest: {near[0]}." if near else ""


def _is_condition(node: Any, table: Table) -> bool:
    from sqlglot import exp

    while isinstance(node, exp.Paren):
        node = node.this
    if isinstance(node, exp.Column):
        return any(
            c.type.kind == "boolean"
            for c in table.columns
            if c.name.casefold() == node.name.casefold()
        )
    if isinstance(node, exp.Not):
        return _is_condition(node.this, table)
    if isinstance(node, exp.And | exp.Or):
        return _is_condition(node.left, table) and _is_condition(node.right, table)
    return isinstance(node, exp.Predicate | exp.Boolean | exp.RegexpLike)
