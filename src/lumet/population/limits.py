"""The limits of one column: what its type, its checks and the decisions about it say."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from lumet.design.decision_schema import FieldDecisions
from lumet.expressions.checks import OneOf, and_parts, plain, read_check
from lumet.facts.dialects import server_of
from lumet.facts.model import Column, Table

_BITS = {"tinyint": 8, "int1": 8, "smallint": 16, "int2": 16, "smallserial": 16,
         "mediumint": 24, "int3": 24, "bigint": 64, "int8": 64, "bigserial": 64}  # fmt: skip
_COMPARED: dict[type[exp.Expr], str] = {exp.LT: "<", exp.LTE: "<=", exp.GT: ">", exp.GTE: ">="}  # fmt: skip
_TURNED = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "="}
_MATCHES = (exp.RegexpLike, exp.RegexpILike, exp.SimilarTo)


@dataclass(slots=True)
class Limits:
    """What the values of a column keep to: bounds, both included, of numbers; lengths in
    characters; `choices`; regular expressions that are found in them, and patterns of
    LIKE."""

    lowest: Decimal | None = None
    highest: Decimal | None = None
    shortest: int = 0
    longest: int | None = None
    choices: tuple[str, ...] = ()
    patterns: list[str] = field(default_factory=list)
    likes: list[str] = field(default_factory=list)
    is_ruled: bool = False  # by more than the type
    earliest: str = ""  # dates, as a check writes them
    latest: str = ""

    def at_least(self, value: Decimal) -> None:
        """Let no number be below `value`."""
        self.lowest = value if self.lowest is None else max(self.lowest, value)

    def at_most(self, value: Decimal) -> None:
        """Let no number be above `value`."""
        self.highest = value if self.highest is None else min(self.highest, value)

    def no_longer(self, characters: int) -> None:
        """Let no text be longer."""
        self.longest = min(self.longest or characters, characters)


@dataclass(frozen=True, slots=True)
class Ordered:
    """The value of the column `low` comes before that of `high`, or with `strict` is
    not even the same."""

    low: str
    high: str
    strict: bool


def limits_of(
    table: Table, decisions: dict[str, FieldDecisions], dialect: str, texts: Sequence[str]
) -> tuple[dict[str, Limits], list[Ordered]]:  # fmt: skip
    """Return the limits by column, and the pairs of columns that are in order. `texts`
    are conditions in SQL: checks, and rules that were decided."""
    found = {
        column.name: _of_type(column, decisions.get(column.name, FieldDecisions()))
        for column in table.columns
    }
    names = {column.name.casefold(): column.name for column in table.columns}
    ordered: list[Ordered] = []
    for text in texts:
        for rule in read_check(text, dialect):
            if isinstance(rule, OneOf) and (name := names.get(rule.column.casefold())):
                found[name].choices = rule.values
        for part in _parsed(text, dialect):
            _add(part, found, names, ordered)
    return found, ordered


def _of_type(column: Column, decided: FieldDecisions) -> Limits:
    limits = Limits(longest=column.type.length, choices=column.type.values)
    sized = re.search(r"\((\d+)\)", column.type.native)
    if column.type.kind == "binary" and sized:
        limits.no_longer(int(sized[1]))
    if column.type.kind == "integer":
        word = column.type.native.lower().split("(")[0].split()[:1]
        bits = _BITS.get(word[0] if word else "", 32)
        low, high = (0, 2**bits) if column.type.unsigned else (-(2 ** (bits - 1)), 2 ** (bits - 1))  # fmt: skip
        limits.at_least(Decimal(low))
        limits.at_most(Decimal(high - 1))
    if column.type.kind == "decimal" and column.type.precision:
        most = Decimal(10) ** (column.type.precision - (column.type.scale or 0))
        step = Decimal(10) ** -(column.type.scale or 0)
        limits.at_least(Decimal(0) if column.type.unsigned else step - most)
        limits.at_most(most - step)
    if column.type.unsigned:
        limits.at_least(Decimal(0))
    limits.is_ruled = decided.minimum is not None or decided.maximum is not None
    if decided.minimum is not None:
        limits.at_least(Decimal(str(decided.minimum)))
    if decided.maximum is not None:
        limits.at_most(Decimal(str(decided.maximum)))
    if decided.pattern:
        limits.patterns.append(f"^(?:{decided.pattern})$")
    if decided.choices and not decided.other_values and not limits.choices:
        limits.choices = tuple(decided.choices)
    return limits


def _parsed(text: str, dialect: str) -> Iterator[exp.Expr]:
    try:
        parsed = sqlglot.parse_one(f"({text})", read=server_of(dialect).sqlglot)
    except SqlglotError:
        return
    for part in and_parts(parsed):
        if isinstance(part, exp.Between):
            yield exp.GTE(this=part.this, expression=part.args["low"])
            yield exp.LTE(this=part.this, expression=part.args["high"])
        elif isinstance(part, exp.Or):  # x IS NULL OR …
            sides = [side for side in _or_parts(part) if not isinstance(side, exp.Is)]
            if len(sides) == 1:
                yield sides[0]
        else:
            yield part


def _or_parts(node: exp.Expr) -> list[exp.Expr]:
    node = node.unnest()
    if isinstance(node, exp.Or):
        return _or_parts(node.left) + _or_parts(node.right)
    return [node]


def _add(
    part: exp.Expr, found: dict[str, Limits], names: dict[str, str], ordered: list[Ordered]
) -> None:  # fmt: skip
    if isinstance(part, _MATCHES):
        name, pattern = _column(part.this, names), _literal(part.expression)
        if name and pattern is not None:
            whole = isinstance(part, exp.SimilarTo)
            found[name].patterns.append(f"^(?:{pattern})$" if whole else pattern)
    elif isinstance(part, exp.Like | exp.Glob):
        name, pattern = _column(part.this, names), _literal(part.expression)
        if name and pattern is not None:
            is_glob = isinstance(part, exp.Glob)
            found[name].likes.append(pattern if not is_glob else _like(pattern))
    elif type(part) in _COMPARED or isinstance(part, exp.EQ):
        sign = _COMPARED.get(type(part), "=")
        left, right = plain(part.this), plain(part.expression)
        one, other = _column(left, names), _column(right, names)
        if one and other and sign != "=":
            low, high = (one, other) if sign.startswith("<") else (other, one)
            ordered.append(Ordered(low, high, not sign.endswith("=")))
            return
        _bound(left, sign, _literal(right), found, names)
        _bound(right, _TURNED[sign], _literal(left), found, names)


def _bound(
    side: exp.Expr, sign: str, text: str | None, found: dict[str, Limits], names: dict[str, str]
) -> None:  # fmt: skip
    """Note what is compared with a constant: a column, or the length of one."""
    if text is None:
        return
    name = _column(side, names)
    try:
        value = Decimal(text)
    except InvalidOperation:
        if name and sign.startswith(">"):
            found[name].earliest = text
        elif name and sign.startswith("<"):
            found[name].latest = text
        return
    if name:
        found[name].is_ruled = True
        step = Decimal(1 if value == value.to_integral() else 0)
        if sign in (">", ">="):
            found[name].at_least(value + (step if sign == ">" else 0))
        elif sign in ("<", "<="):
            found[name].at_most(value - (step if sign == "<" else 0))
        return
    if isinstance(side, exp.Length):
        name, size = _column(side.this, names), int(value)
        if name and sign in (">", ">=", "="):
            least = size + (sign == ">")
            found[name].shortest = max(found[name].shortest, least)
        if name and sign in ("<", "<=", "="):
            found[name].no_longer(size - (sign == "<"))


def _column(node: exp.Expr, names: dict[str, str]) -> str:
    bare = plain(node)
    while isinstance(bare, exp.Trim | exp.Lower | exp.Upper):
        bare = plain(bare.this)
    return names.get(bare.name.casefold(), "") if isinstance(bare, exp.Column) else ""


def _literal(node: exp.Expr | None) -> str | None:
    bare = plain(node) if node is not None else None
    if isinstance(bare, exp.Introducer):  # MariaDB's _utf8mb4'…'
        bare = plain(bare.expression)
    if isinstance(bare, exp.Neg) and isinstance(bare.this, exp.Literal):
        return f"-{bare.this.this}"
    return str(bare.this) if isinstance(bare, exp.Literal) else None


def _like(glob: str) -> str:
    return glob.replace("*", "%").replace("?", "_")
