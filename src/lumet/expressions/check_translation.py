"""CHECK constraints and decided rules as trees that a form can evaluate. Only what was
looked at whole is understood: a node with an argument that is not known here leaves its
constraint to the database."""

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import Any

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from lumet.expressions.checks import and_parts, plain
from lumet.facts.dialects import server_of
from lumet.facts.model import Table

COMPARISONS: dict[type[exp.Expr], str] = {
    exp.EQ: "=",
    exp.NEQ: "<>",
    exp.LT: "<",
    exp.LTE: "<=",
    exp.GT: ">",
    exp.GTE: ">=",
}
_CASES: dict[type[exp.Expr], str] = {exp.Lower: "lower", exp.Upper: "upper"}
_SIGNS: dict[type[exp.Expr], str] = {exp.Add: "+", exp.Sub: "-", exp.Mul: "*"}
_KINDS = ("integer", "decimal", "float", "text", "date", "datetime", "time", "boolean")


@dataclass(frozen=True, slots=True)
class Tree:
    """One node: `kind` is column, text, number, yes/no, length, lower, upper, reckon,
    compare, filled, one of, like, not, or, and; `value` what it is besides its
    `parts`."""

    kind: str
    value: Any = ""
    parts: tuple["Tree", ...] = ()

    def columns(self) -> Iterator[str]:
        """Yield the columns that it mentions, in their order."""
        if self.kind == "column":
            yield self.value
        for part in self.parts:
            yield from part.columns()


class _NotUnderstood(Exception):
    pass


def read_trees(text: str, table: Table, dialect: str) -> tuple[Tree, ...] | None:
    """Return the conditions of a check or a rule over the columns of `table`, by the
    parts that are joined by AND; None for a part that is not understood."""
    try:
        # in parentheses: REPLACE at the beginning of a text would be a statement
        parsed = sqlglot.parse_one(f"({text})", read=server_of(dialect).sqlglot)
        reader = _Reader(table, dialect)
        return tuple(reader.test(part) for part in and_parts(parsed))
    except (SqlglotError, _NotUnderstood):
        return None


class _Reader:
    def __init__(self, table: Table, dialect: str) -> None:
        self.columns = {column.name.casefold(): column for column in table.columns}
        self.counts_bytes = server_of(dialect).length_counts_bytes

    def only(self, node: exp.Expr, *known: str) -> None:
        """Refuse a node that has an argument besides those `known`."""
        if any(value for key, value in node.args.items() if key not in known):
            raise _NotUnderstood

    def test(self, node: exp.Expr) -> Tree:
        node = node.unnest()
        if isinstance(node, exp.And | exp.Or):
            self.only(node, "this", "expression")
            kind = "and" if isinstance(node, exp.And) else "or"
            return Tree(kind, parts=(self.test(node.left), self.test(node.right)))
        if isinstance(node, exp.Not):
            return Tree("not", parts=(self.test(node.this),))
        if isinstance(node, exp.Is) and isinstance(node.expression, exp.Null):
            self.only(node, "this", "expression", "negate")
            filled = Tree("filled", parts=(self.term(node.this),))
            return filled if node.args.get("negate") else Tree("not", parts=(filled,))
        if isinstance(node, exp.Between):
            self.only(node, "this", "low", "high")
            term = self.term(node.this)
            low, high = self.term(node.args["low"]), self.term(node.args["high"])
            held = (
                Tree("compare", ">=", (term, low)),
                Tree("compare", "<=", (term, high)),
            )
            return Tree("and", parts=held)
        if isinstance(node, exp.EQ | exp.NEQ) and _is_listed(node.expression):
            return self.listed(node)
        if type(node) in COMPARISONS:
            self.only(node, "this", "expression")
            pair = (self.term(node.this), self.term(node.expression))
            return Tree("compare", COMPARISONS[type(node)], pair)
        if isinstance(node, exp.In):
            self.only(node, "this", "expressions")
            items = tuple(self.term(item) for item in node.expressions)
            return Tree("one of", parts=(self.term(node.this), *items))
        if isinstance(node, exp.Like):
            return self.pattern(node)
        if isinstance(node, exp.Column):
            yes = Tree("yes/no", True)
            return Tree("compare", "=", (self.term(node), yes))
        raise _NotUnderstood

    def listed(self, node: exp.Expr) -> Tree:
        """Read what PostgreSQL makes of IN and NOT IN: = ANY and <> ALL (ARRAY[…])."""
        held = plain(node.expression)
        is_any = isinstance(held, exp.Any)
        inner = held.this if is_any else held.expressions[0]
        array = plain(inner)
        if is_any != isinstance(node, exp.EQ) or not isinstance(array, exp.Array):
            raise _NotUnderstood
        self.only(array, "expressions")
        items = tuple(self.term(item) for item in array.expressions)
        found = Tree("one of", parts=(self.term(node.this), *items))
        return found if is_any else Tree("not", parts=(found,))

    def pattern(self, node: exp.Expr) -> Tree:
        self.only(node, "this", "expression", "negate")
        pattern = self.term(node.expression)
        if pattern.kind != "text" or "\\" in pattern.value:
            raise _NotUnderstood
        found = Tree("like", pattern.value, (self.term(node.this),))
        return Tree("not", parts=(found,)) if node.args.get("negate") else found

    def term(self, node: exp.Expr) -> Tree:
        node = plain(node)
        if isinstance(node, exp.Column):
            return self.column(node)
        if isinstance(node, exp.Introducer):
            return self.term(node.expression)
        if isinstance(node, exp.Boolean):
            return Tree("yes/no", bool(node.this))
        if isinstance(node, exp.Literal):
            if node.is_string:
                return Tree("text", str(node.this))
            return Tree("number", _number(str(node.this)))
        if isinstance(node, exp.Neg) and isinstance(plain(node.this), exp.Literal):
            return Tree("number", -_number(str(plain(node.this).this)))
        if isinstance(node, exp.Length) and not self.counts_bytes:
            self.only(node, "this")
            return Tree("length", parts=(self.term(node.this),))
        if type(node) in _CASES:
            self.only(node, "this")
            return Tree(_CASES[type(node)], parts=(self.term(node.this),))
        if type(node) in _SIGNS:
            self.only(node, "this", "expression")
            pair = (self.term(node.this), self.term(node.expression))
            return Tree("reckon", _SIGNS[type(node)], pair)
        raise _NotUnderstood

    def column(self, node: exp.Column) -> Tree:
        found = self.columns.get(node.name.casefold())
        if found is None or found.type.kind not in _KINDS:
            raise _NotUnderstood
        if found.type.kind == "text" and found.type.ignores_case:
            raise _NotUnderstood  # the server compares as its collation does
        return Tree("column", found.name)


def _is_listed(node: exp.Expr) -> bool:
    held = plain(node)
    is_all = isinstance(held, exp.Anonymous) and held.name.upper() == "ALL"
    return isinstance(held, exp.Any) or (is_all and len(held.expressions) == 1)


def _number(text: str) -> Decimal:
    try:
        return Decimal(text)
    except InvalidOperation:
        raise _NotUnderstood from None
