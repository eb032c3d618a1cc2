"""What a CHECK constraint says, where it says something a form can use."""

from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError


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


def read_check(text: str, dialect: str) -> tuple[Rule, ...]:
    """Understand the parts of a check that are joined by AND.

    What is not understood is left to the database. A node with an argument that was
    not looked at is not understood.
    """
    try:
        parsed = sqlglot.parse_one(text, read=dialect)
    except SqlglotError:
        return ()
    found = (_understand(part) for part in _parts(parsed))
    return tuple(rule for rule in found if rule is not None)


def _parts(node: exp.Expr) -> list[exp.Expr]:
    node = node.unnest()
    if isinstance(node, exp.And):
        return _parts(node.this) + _parts(node.expression)
    return [node]


def _understand(node: exp.Expr) -> Rule | None:
    if isinstance(node, exp.In):
        return _one_of(node)
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


def _one_of(node: exp.In) -> OneOf | None:
    column = _column(node.this)
    looked_at = {"this", "expressions"}
    if not column or any(
        value for key, value in node.args.items() if key not in looked_at
    ):
        return None
    items = node.expressions
    if not items or not all(isinstance(i, exp.Literal) and i.is_string for i in items):
        return None
    return OneOf(column, tuple(str(item.this) for item in items))


def _column(node: exp.Expr) -> str:
    node = node.unnest()
    return node.name if isinstance(node, exp.Column) and not node.table else ""


def _number(node: exp.Expr) -> Decimal | None:
    negative = isinstance(node, exp.Neg)
    literal = node.this if negative else node
    if not isinstance(literal, exp.Literal) or literal.is_string:
        return None
    try:
        number = Decimal(literal.this)
    except InvalidOperation:
        return None
    return -number if negative else number
