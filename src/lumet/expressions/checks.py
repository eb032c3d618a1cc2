"""CHECK constraints as limits and choices of a form."""

from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from functools import lru_cache

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from lumet.facts.dialects import server_of


@dataclass(frozen=True, slots=True)
class OneOf:
    """`column` is one of `values`."""

    column: str
    values: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Within:
    """`column` lies between the bounds, both included; None is no bound."""

    column: str
    lowest: Decimal | None = None
    highest: Decimal | None = None


Rule = OneOf | Within


@lru_cache(maxsize=20_000)  # it is asked of each column of the table
def read_check(text: str, dialect: str) -> tuple[Rule, ...]:
    """Understand the parts of a check that are joined by AND.

    What is not understood is left to the database. A node with an argument that was
    not looked at is not understood.
    """
    try:
        # in parentheses: REPLACE at the beginning of a text would be a statement
        parsed = sqlglot.parse_one(f"({text})", read=server_of(dialect).sqlglot)
    except SqlglotError:
        return ()
    found = (_understand(part) for part in and_parts(parsed))
    return tuple(rule for rule in found if rule is not None)


def and_parts(node: exp.Expr) -> list[exp.Expr]:
    """Return the parts of a condition that are joined by AND."""
    node = node.unnest()
    if isinstance(node, exp.And):
        return and_parts(node.this) + and_parts(node.expression)
    return [node]


def _understand(node: exp.Expr) -> Rule | None:
    if isinstance(node, exp.In):
        return _one_of(node.this, node.expressions, node, {"this", "expressions"})
    if isinstance(node, exp.EQ) and _text(node.expression) is not None:
        return _one_of(node.this, [node.expression], node, {"this", "expression"})
    if isinstance(node, exp.EQ) and isinstance(plain(node.expression), exp.Any):
        # PostgreSQL writes IN as = ANY (ARRAY[…])
        listed = plain(plain(node.expression).this)
        if isinstance(listed, exp.Array):
            return _one_of(node.this, listed.expressions, listed, {"expressions"})
        return None
    if isinstance(node, exp.Between):
        column, low, high = _column(node.this), node.args["low"], node.args["high"]
        bounds = _number(low), _number(high)
        if column and None not in bounds and not node.args.get("symmetric"):
            return Within(column, *bounds)
        return None
    if isinstance(node, exp.GTE) and (column := _column(node.this)):
        lowest = _number(node.expression)
        return None if lowest is None else Within(column, lowest=lowest)
    if isinstance(node, exp.LTE) and (column := _column(node.this)):
        highest = _number(node.expression)
        return None if highest is None else Within(column, highest=highest)
    return None


def _one_of(
    left: exp.Expr, items: list[exp.Expr], node: exp.Expr, looked_at: set[str]
) -> OneOf | None:
    column = _column(left)
    rest = [key for key, value in node.args.items() if value and key not in looked_at]
    texts = [_text(item) for item in items]
    if not column or rest or not texts or None in texts:
        return None
    return OneOf(column, tuple(text for text in texts if text is not None))


def plain(node: exp.Expr) -> exp.Expr:
    """Remove parentheses and casts, which PostgreSQL adds everywhere."""
    while isinstance(node, exp.Paren | exp.Cast):
        node = node.this
    return node


def _text(node: exp.Expr) -> str | None:
    bare = plain(node)
    if isinstance(bare, exp.Introducer):  # MariaDB's _utf8mb4'…'
        bare = plain(bare.expression)
    if isinstance(bare, exp.Literal) and bare.is_string:
        return str(bare.this)
    return None


def _column(node: exp.Expr) -> str:
    bare = plain(node)
    return bare.name if isinstance(bare, exp.Column) and not bare.table else ""


def _number(node: exp.Expr) -> Decimal | None:
    node = plain(node)
    negative = isinstance(node, exp.Neg)
    literal = plain(node.this) if negative else node
    if not isinstance(literal, exp.Literal):
        return None
    try:
        number = Decimal(literal.this)  # PostgreSQL writes '-90'::numeric
    except InvalidOperation:
        return None
    return -number if negative else number
