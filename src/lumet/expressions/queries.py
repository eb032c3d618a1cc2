"""Values and queries in SQL: their types, and the tables that they read.

Where an expression reads a table, the application puts the rows of it that are within
the reach of its user: `{station}` is their place in the generated code.
"""

import re
from collections.abc import Collection, Iterator
from typing import Any

from lumet.expressions.conditions import FUNCTIONS
from lumet.facts.dialects import server_of
from lumet.facts.model import Column, Database, Reference, Table, Type, TypeKind

_READ_KINDS: dict[str, TypeKind] = {  # as sqlglot names types
    "BOOLEAN": "boolean",
    "DATE": "date",
    "TIME": "time",
    "DATETIME": "datetime",
    "TIMESTAMP": "datetime",
    "TIMESTAMPTZ": "datetime",
    "DECIMAL": "decimal",
    "FLOAT": "float",
    "DOUBLE": "float",
    "TINYINT": "integer",
    "SMALLINT": "integer",
    "INT": "integer",
    "BIGINT": "integer",
}
_WRITTEN_KINDS = {
    "boolean": "BOOLEAN",
    "date": "DATE",
    "time": "TIME",
    "datetime": "TIMESTAMP",
    "decimal": "DECIMAL",
    "float": "DOUBLE",
    "integer": "BIGINT",
}
_MARK = re.compile(r"\{([^{}]+)\}")
_BEGINS = re.compile(
    r"(\s|--[^\n]*\n|/\*.*?\*/)*(select|with)\b", re.IGNORECASE | re.DOTALL
)


def value_type(text: str, table: Table, database: Database) -> Type:
    """Return the type of a checked value over the columns of `table`; text, where that
    cannot be told."""
    import sqlglot
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    dialect = server_of(database.dialect).sqlglot
    try:
        parsed = sqlglot.parse_one(f"SELECT {text}", read=dialect)
        value = parsed.expressions[0]
        held = exp.to_identifier(table.own_name, quoted=True)
        whole = exp.select(exp.alias_(value, "made")).from_(exp.Table(this=held))
        return _columns(whole, database)[0].type
    except SqlglotError:
        return Type("text", "a computed value")


def with_rows_marked(text: str, database: Database, known: Collection[str]) -> str:
    """Return a checked value or query in which each table that it reads, of those that
    are `known`, is written `{TABLE}` with its own name behind it."""
    import sqlglot
    from sqlglot import exp

    head = "" if _BEGINS.match(text) else "SELECT "
    whole = head + text
    dialect = server_of(database.dialect).sqlglot
    parsed = sqlglot.parse_one(whole, read=dialect)
    shadowed = {cte.alias.casefold() for cte in parsed.find_all(exp.CTE)}
    by_name = {t.own_name.casefold(): t for t in database.tables if t.name in known}
    changes = []
    for node in parsed.find_all(exp.Table):
        found = by_name.get(node.name.casefold())
        if found is None or node.name.casefold() in shadowed:
            continue
        place, own = (node.args.get("db") or node.this).meta, node.this.meta
        written = whole[own["start"] : own["end"] + 1]
        alias = "" if node.alias else f" AS {written}"
        changes.append((place["start"], own["end"] + 1, f"{{{found.name}}}{alias}"))
    for start, end, new in sorted(changes, reverse=True):
        whole = whole[:start] + new + whole[end:]
    return whole.removeprefix(head)


def tables_in(text: str, database: Database) -> tuple[str, ...]:
    """Return the surveyed tables that a checked value or query reads."""
    names = {table.name for table in database.tables}
    marked = with_rows_marked(text, database, names)
    return tuple(sorted(names.intersection(_MARK.findall(marked))))


def read_query(
    name: str, text: str, database: Database
) -> tuple[Table | None, list[str]]:
    """Return a query as a table of facts, with the references and the types that its
    columns bring along; or None, and what is wrong with it."""
    import sqlglot
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    dialect = server_of(database.dialect).sqlglot
    plain = text.strip().removesuffix(";").strip()
    try:
        parsed = [each for each in sqlglot.parse(plain, dialect=dialect) if each]
        if len(parsed) != 1 or not isinstance(parsed[0], exp.Select | exp.SetOperation):
            return None, ["A query is one SELECT, and nothing beside it."]
        problems = list(_problems(parsed[0], database))
        columns = [] if problems else _columns(parsed[0], database)
    except SqlglotError as error:
        said = str(error).split("\n")[0].partition(". Line")[0].removesuffix(".")
        return None, [f"This is no query of these tables: {said}."]
    names = [column.name for column in columns]
    doubled = sorted({each for each in names if names.count(each) > 1})
    if doubled:
        problems.append(f"Give each column a name of its own: {', '.join(doubled)}.")
    if problems:
        return None, problems
    references = _references(parsed[0], database)
    made = Table(name, "query", tuple(columns), references=references, definition=plain)
    return made, []


def _problems(parsed: Any, database: Database) -> Iterator[str]:
    from sqlglot import exp

    known = {table.own_name.casefold() for table in database.tables}
    known |= {cte.alias.casefold() for cte in parsed.find_all(exp.CTE)}
    for node in parsed.find_all(exp.Table):
        if node.name.casefold() not in known:
            yield f'There is no table "{node.name}" in the survey.'
    for node in parsed.find_all(exp.Anonymous):
        if node.name.casefold() not in FUNCTIONS:
            yield f'There is no function "{node.name}" here.'
    if parsed.find(exp.Placeholder, exp.Parameter):
        yield "A query takes no parameters: the filters of its list narrow it."
    if parsed.find(exp.Lock, exp.Into, exp.Insert, exp.Update, exp.Delete):
        yield "A query only reads."


def _qualified(parsed: Any, database: Database) -> Any:
    """Return a query with the source of every column. Raises SqlglotError for a column
    that is nowhere."""
    from sqlglot.optimizer.qualify import qualify

    dialect = server_of(database.dialect).sqlglot
    schema = _schema(database)
    return qualify(
        parsed.copy(), schema=schema, dialect=dialect, quote_identifiers=False
    )


def _schema(database: Database) -> dict[str, Any]:
    return {
        table.own_name: {c.name: _sql_type(c.type) for c in table.columns}
        for table in database.tables
        if table.kind != "query"
    }


def _sql_type(kind: Type) -> str:
    if kind.kind == "decimal" and kind.precision:
        return f"DECIMAL({kind.precision}, {kind.scale or 0})"
    return _WRITTEN_KINDS.get(kind.kind, "TEXT")


def _columns(parsed: Any, database: Database) -> list[Column]:
    """Return the columns of a query: one that is a table's own brings its type
    along."""
    from sqlglot.optimizer.annotate_types import annotate_types

    dialect = server_of(database.dialect).sqlglot
    schema = _schema(database)
    typed = annotate_types(_qualified(parsed, database), schema=schema, dialect=dialect)
    origins = _origins(typed, database)
    return [
        Column(
            name=each.alias_or_name,
            type=origin[1].type if origin else _type(each),
            comment=origin[1].comment if origin else "",
        )
        for each, origin in zip(typed.selects, origins, strict=True)
    ]


def _origins(qualified: Any, database: Database) -> list[tuple[Table, Column] | None]:
    """Return for each column of a query the table and the column that it is."""
    from sqlglot import exp

    by_name = {t.own_name.casefold(): t for t in database.tables}
    sources = {
        each.alias_or_name.casefold(): by_name.get(each.name.casefold())
        for each in _sources(qualified)
    }

    def origin(selected: Any) -> tuple[Table, Column] | None:
        node = selected.unalias()
        table = isinstance(node, exp.Column) and sources.get(node.table.casefold())
        if not table:
            return None
        columns = {column.name.casefold(): column for column in table.columns}
        found = columns.get(node.name.casefold())
        return (table, found) if found else None

    return [origin(each) for each in qualified.selects]


def _sources(qualified: Any) -> Iterator[Any]:
    """Yield the tables that a query itself selects from, not those of what is
    within."""
    from sqlglot import exp

    if not isinstance(qualified, exp.Select):
        return
    joins = qualified.args.get("joins") or ()
    beginning = qualified.args.get("from_") or qualified.args.get("from")
    for holder in (beginning, *joins):
        if holder is not None and isinstance(holder.this, exp.Table):
            yield holder.this


def _references(parsed: Any, database: Database) -> tuple[Reference, ...]:
    """Return the references that a query's columns bring along: of one that refers, and
    of one that is the key of its table."""
    qualified = _qualified(parsed, database)
    found = []
    for each, origin in zip(
        qualified.selects, _origins(qualified, database), strict=True
    ):
        if origin is None:
            continue
        table, column = origin
        name = (each.alias_or_name,)
        reference = table.reference_of(column.name)
        if reference is not None:
            referred = reference.referred_table, reference.referred_columns
            found.append(Reference(name, *referred))
        elif table.primary_key == (column.name,):
            found.append(Reference(name, table.name, table.primary_key))
    return tuple(found)


def _type(selected: Any) -> Type:
    from sqlglot import exp

    made = selected.type
    kind = _READ_KINDS.get(made.this.name) if made is not None else None
    if kind is None:
        node = selected.unalias().unnest()
        counts = isinstance(node, exp.Add | exp.Sub | exp.Mul | exp.Div | exp.Round)
        kind = "decimal" if counts else "text"
    scale = None
    if made is not None and kind == "decimal" and len(made.expressions) == 2:
        scale = int(made.expressions[1].name)
    return Type(
        kind,
        "a computed value",
        precision=38 if scale is not None else None,
        scale=scale,
    )
