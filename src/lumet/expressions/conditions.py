"""Expressions in decisions, in the SQL of the surveyed database: checked against the
facts, and written out for the application that is generated."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from types import MappingProxyType
from typing import Any

from lumet.facts.dialects import server_of
from lumet.facts.model import Database, Table

FUNCTIONS: Mapping[str, str] = MappingProxyType(
    {
        "abs": "the number without its sign",
        "and": "both",
        "avg": "the mean, in a sub-select",
        "case": "CASE WHEN … THEN … ELSE … END",
        "cast": "CAST(x AS type), with the server's type names",
        "ceil": "the next whole number above",
        "char_length": "characters of a text (PostgreSQL, MariaDB)",
        "coalesce": "the first that is not NULL",
        "concat": "texts in a row (PostgreSQL, MariaDB); || on SQLite",
        "count": "how many, in a sub-select",
        "current_date": "today",
        "current_time": "the time of day now",
        "current_timestamp": "now",
        "date": "the date of a moment",
        "date_trunc": "the begin of a month, a year … (PostgreSQL)",
        "datediff": "days between two dates (MariaDB)",
        "day": "the day of a date (MariaDB)",
        "exists": "a sub-select has rows",
        "extract": "EXTRACT(YEAR FROM x) (PostgreSQL, MariaDB)",
        "floor": "the next whole number below",
        "greatest": "the largest (PostgreSQL, MariaDB); max on SQLite",
        "if": "IF(a, b, c) (MariaDB)",
        "ifnull": "the first, unless it is NULL (SQLite, MariaDB)",
        "in": "one of a list or of a sub-select",
        "julianday": "days since 4714 BC (SQLite)",
        "least": "the smallest (PostgreSQL, MariaDB); min on SQLite",
        "length": "the length of a text; bytes on MariaDB",
        "lower": "in small letters",
        "ltrim": "without blanks at the left",
        "max": "the largest, in a sub-select",
        "min": "the smallest, in a sub-select",
        "mod": "the remainder",
        "month": "the month of a date (MariaDB)",
        "now": "now (PostgreSQL, MariaDB)",
        "nullif": "NULL where both are equal",
        "or": "one of both",
        "replace": "a text with a part replaced",
        "round": "rounded",
        "rtrim": "without blanks at the right",
        "strftime": "a date written by a pattern (SQLite)",
        "substr": "a part of a text",
        "substring": "a part of a text",
        "sum": "the sum, in a sub-select",
        "trim": "without blanks around",
        "upper": "in capital letters",
        "year": "the year of a date (MariaDB)",
    }
)
"""The functions that an expression may call, and what each does."""

ATTRIBUTE_TYPES = ("text", "integer", "decimal", "yes/no", "date", "datetime")
NAME = "name"  # the attribute that every user has


@dataclass(frozen=True, slots=True)
class _Use:
    """A mention of an attribute of the user: its position and its name."""

    start: int
    end: int
    name: str


def check_expression(
    text: str,
    table: Table,
    database: Database,
    attributes: Mapping[str, str] | None = None,
    *,
    is_condition: bool = True,
) -> list[str]:
    """Return the problems of an expression over the columns of `table` and sub-selects
    of tables that were surveyed: one value, or one condition that is true or false.

    `attributes` are the types of the user's, by name; None where no user is at hand.
    """
    import sqlglot  # slow to import
    from sqlglot.errors import SqlglotError

    dialect = server_of(database.dialect).sqlglot
    wanted = "condition" if is_condition else "value"
    try:
        tokens = sqlglot.tokenize(text, read=dialect)
        uses = list(_uses(tokens))
        plain = _replaced(text, [(use, f"'{_MARK}{use.name}'") for use in uses])
        parsed = sqlglot.parse(f"SELECT 1 WHERE {plain}", dialect=dialect)
    except SqlglotError as error:
        return [f"This is no SQL {wanted}: {_first_line(error)}"]
    if any(token.comments for token in tokens) or _is_cut(text, tokens):
        return ["An expression holds no comments: write them beside it, after #."]
    expression = _only_expression(parsed)
    if expression is None:
        return [f"One {wanted} is wanted, without a semicolon and nothing behind it."]
    problems = [*_attribute_problems(uses, attributes)]
    problems += _problems(expression, table, database)
    problems = problems or [*_count_problems(expression)]
    if not problems and attributes:
        problems += _type_problems(expression, table, database, attributes)
    if not problems and is_condition and not _is_condition(expression, table):
        problems.append("This is a value, not a condition: compare it with something.")
    return problems


def _only_expression(parsed: Sequence[Any]) -> Any:
    """Return the expression behind WHERE of the only statement, None where there is
    more."""
    from sqlglot import exp

    if len(parsed) != 1 or not isinstance(parsed[0], exp.Select):
        return None
    known = ("expressions", "where", "kind")
    where = parsed[0].args.get("where")
    if where is None or any(v for k, v in parsed[0].args.items() if k not in known):
        return None
    return where.this


def _is_cut(text: str, tokens: list[Any]) -> bool:
    """Tell whether text follows the last token, such as a comment."""
    return bool(tokens) and bool(text[tokens[-1].end + 1 :].strip())


def _uses(tokens: list[Any]) -> Iterator[_Use]:
    """Yield each `:user.NAME`, as tokens tell them from the inside of a string."""
    for place in range(len(tokens) - 3):
        colon, user, dot, name = tokens[place : place + 4]
        if [colon.text, user.text, dot.text] == [":", "user", "."] and (
            name.end + 1 - colon.start == len(f":user.{name.text}")
        ):
            yield _Use(colon.start, name.end + 1, name.text)


def _replaced(text: str, changes: Iterable[tuple[_Use, str]]) -> str:
    for use, new in reversed(list(changes)):
        text = text[: use.start] + new + text[use.end :]
    return text


def _attribute_problems(
    uses: Iterable[_Use], attributes: Mapping[str, str] | None
) -> Iterator[str]:
    for use in uses:
        if attributes is None:
            yield f":user.{use.name} is not known here: only columns and constants are."
        elif use.name not in attributes:
            near = _nearest(use.name, attributes)
            yield (
                f"No attribute of users is called {use.name}: declare it in [user] of "
                f"access.toml. {near}"
            ).rstrip()


_MARK = "\x01user."  # begins a text that stands for an attribute of the user
_ALIKE = {  # the kinds of columns that an attribute of a type is compared with
    "text": {"text", "uuid", "json", "unknown", "binary"},
    "integer": {"integer", "decimal", "float", "boolean"},
    "decimal": {"integer", "decimal", "float"},
    "yes/no": {"boolean", "integer"},
    "date": {"date", "datetime", "text", "unknown"},
    "datetime": {"date", "datetime", "text", "unknown"},
}


def _count_problems(expression: Any) -> Iterator[str]:
    """Yield problems with the number of values: one, of each sub-select too."""
    from sqlglot import exp

    whole = expression
    while isinstance(whole, exp.Paren):
        whole = whole.this
    if isinstance(whole, exp.Tuple):
        yield f"One value is wanted; these are {len(whole.expressions)}."
    for select in expression.find_all(exp.Select):
        parent = select.parent
        while isinstance(parent, exp.Subquery | exp.Paren):
            parent = parent.parent
        if isinstance(parent, exp.Exists | exp.From | exp.Join):
            continue
        if isinstance(parent, exp.In) and isinstance(parent.this, exp.Tuple):
            continue
        columns = select.expressions
        if len(columns) != 1 or columns[0].find(exp.Star) in columns:
            yield f"A sub-select gives one column here; this one gives {_many(columns)}."


def _many(columns: Any) -> str:
    from sqlglot import exp

    stars = any(isinstance(each, exp.Star) for each in columns)
    return "all of its table's" if stars else str(len(columns))


def _type_problems(
    expression: Any, table: Table, database: Database, attributes: Mapping[str, str]
) -> Iterator[str]:
    """Yield where an attribute of the user is compared with a column of another type,
    which a server refuses, or which is never equal."""
    from sqlglot import exp

    sources = {t.own_name.casefold(): t for t in database.tables}
    for node in expression.find_all(exp.Literal):
        if not (node.is_string and node.name.startswith(_MARK)):
            continue
        name, parent = node.name.removeprefix(_MARK), node.parent
        if not isinstance(parent, exp.Binary | exp.In | exp.Between):
            continue
        for column in parent.find_all(exp.Column):
            if column.parent is not parent:
                continue
            holder = sources.get(column.table.casefold(), table)
            found = [c for c in holder.columns if c.name.casefold() == column.name.casefold()]  # fmt: skip
            kind = attributes.get(name, "text")
            if found and found[0].type.kind not in _ALIKE.get(kind, ()):
                native = found[0].type.native or found[0].type.kind
                yield (
                    f":user.{name} is of the type {kind} and {found[0].name} is {native}:"
                    f" declare {name} in [user] with the column's type, or cast it."
                )


def written_out(text: str, dialect: str, attributes: Mapping[str, str]) -> str:
    """Return a checked expression as SQLAlchemy's `text()` takes it: each attribute of
    the user is bound, as `:user_NAME`, with a cast to its declared type; no other colon
    binds."""
    import sqlglot

    tokens = sqlglot.tokenize(text, read=server_of(dialect).sqlglot)
    uses = list(_uses(tokens))
    marks = [f"\0{number}\0" for number in range(len(uses))]
    found = _replaced(text, zip(uses, marks, strict=True)).replace(":", "\\:")
    for use, mark in zip(uses, marks, strict=True):
        cast = server_of(dialect).casts.get(attributes[use.name])
        bound = f":user_{use.name}"
        found = found.replace(mark, f"CAST({bound} AS {cast})" if cast else bound)
    return found


def _first_line(error: Exception) -> str:
    return str(error).split("\n")[0].removesuffix(".") + "."


def _problems(expression: Any, table: Table, database: Database) -> Iterator[str]:
    from sqlglot import exp

    by_name = {t.own_name.casefold(): t for t in database.tables}
    sources = {table.own_name.casefold(): table}
    for node in expression.find_all(exp.Table):
        found = by_name.get(node.name.casefold())
        if found is None:
            near = _nearest(node.name, by_name)
            yield f'There is no table "{node.name}". {near}'.rstrip()
        else:
            sources[node.alias_or_name.casefold()] = found
    for node in expression.find_all(exp.Column):
        yield from _column_problems(node, table, sources)
    for node in expression.find_all(exp.Placeholder, exp.Parameter):
        yield f"{node.sql()} is not known here: only columns and constants are."
    for node in expression.find_all(exp.Func):
        name = (
            node.name if isinstance(node, exp.Anonymous) else node.sql_name()
        ).casefold()
        if name not in FUNCTIONS:
            near = _nearest(name, FUNCTIONS)
            yield f'There is no function "{name}" here. {near}'.rstrip()
    if expression.find(exp.Lock, exp.Into):
        yield "An expression only reads: no INTO and no FOR UPDATE."


def _column_problems(
    node: Any, table: Table, sources: Mapping[str, Table]
) -> Iterator[str]:
    holders: list[Table] = list(sources.values())
    if node.table:
        source = sources.get(node.table.casefold())
        if source is None:
            near = _nearest(node.table, sources)
            yield f'No table is called "{node.table}" here. {near}'.rstrip()
            return
        holders = [source]
    columns = {c.name.casefold(): c.name for each in holders for c in each.columns}
    if node.name.casefold() not in columns:
        where = holders[0].name if node.table else table.name
        near = _nearest(node.name, columns)
        yield f'Table {where} has no column "{node.name}". {near}'.rstrip()


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
