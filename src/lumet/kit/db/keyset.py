"""Keyset pagination: a page begins after the last row of the previous one, however far.

For the order (a, b, key) the rows behind (x, y, k) come in branches, one after the
other until the page is full: a = x and b = y and key > k; a = x and b > y; a > x. Each
is a range of an index; no single condition is, on all servers.
"""

import base64
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

from sqlalchemy import (
    ColumnElement,
    FromClause,
    UnaryExpression,
    bindparam,
    tuple_,
    type_coerce,
)
from sqlalchemy.types import NullType

from .column_types import as_sorted


@dataclass(frozen=True, slots=True)
class Term:
    """One expression of an order. `nulls_last` is where the server puts NULL in this
    direction; `nullable` is False where there can be none."""

    expression: ColumnElement[Any]
    down: bool
    nullable: bool
    nulls_last: bool

    @property
    def compared(self) -> ColumnElement[Any]:
        """The expression whose value tells a place; an index may serve the order by the
        other."""
        return as_sorted(self.expression)

    def flipped(self) -> "Term":
        """Return the term for reading backwards."""
        return Term(self.expression, not self.down, self.nullable, not self.nulls_last)

    def ordered(self) -> UnaryExpression[Any]:
        """Return the term of ORDER BY."""
        return self.expression.desc() if self.down else self.expression.asc()


@dataclass(frozen=True, slots=True)
class Branch:
    """One query of a page: its conditions and its order. Values are bound as v0, v1…"""

    where: tuple[ColumnElement[bool], ...]
    order: tuple[UnaryExpression[Any], ...]


def make_terms(
    terms: Sequence[tuple[ColumnElement[Any], bool, bool]], nulls_are_largest: bool
) -> tuple[Term, ...]:
    """Make terms from expressions with their direction and whether they may be NULL."""
    return tuple(
        Term(expression, down, nullable, nulls_are_largest != down)
        for expression, down, nullable in terms
    )


def branches(terms: Sequence[Term], is_null: Sequence[bool]) -> Iterator[Branch]:
    """Yield the branches behind a row, of whose values `is_null` tells which are
    NULL."""
    for level in reversed(range(len(terms))):
        equal = tuple(
            _equals(term, place, is_null[place])
            for place, term in enumerate(terms[:level])
        )
        order = tuple(term.ordered() for term in terms[level:])
        strict = _behind(terms[level], level, is_null[level])
        if strict is not None:
            yield Branch((*equal, strict), order)
        term = terms[level]
        if term.nullable and term.nulls_last and not is_null[level]:
            yield Branch((*equal, term.expression.is_(None)), order[1:] or order)


def _value(place: int) -> ColumnElement[Any]:
    return bindparam(f"v{place}", type_=NullType())


def _equals(term: Term, place: int, is_null: bool) -> ColumnElement[bool]:
    if is_null:
        return term.expression.is_(None)
    return type_coerce(term.compared, NullType()) == _value(place)


def _behind(term: Term, place: int, is_null: bool) -> ColumnElement[bool] | None:
    if is_null:
        return None if term.nulls_last else term.expression.is_not(None)
    raw = type_coerce(term.compared, NullType())
    return raw < _value(place) if term.down else raw > _value(place)


_TAGS: dict[str, Any] = {
    "moment": datetime.fromisoformat,
    "date": date.fromisoformat,
    "time": time.fromisoformat,
    "decimal": Decimal,
    "bytes": bytes.fromhex,
    "text": str,
}


def write_place(values: Sequence[Any]) -> str:
    """Write the values of a row's order as a word for an address."""
    plain = json.dumps([_tagged(value) for value in values], separators=(",", ":"))
    return base64.urlsafe_b64encode(plain.encode()).decode().rstrip("=")


def _tagged(value: Any) -> Any:
    if value is None or isinstance(value, int | float | str):
        return value
    if isinstance(value, datetime):
        return {"moment": value.isoformat()}
    if isinstance(value, date):
        return {"date": value.isoformat()}
    if isinstance(value, time):
        return {"time": value.isoformat()}
    if isinstance(value, Decimal):
        return {"decimal": str(value)}
    if isinstance(value, bytes | memoryview):
        return {"bytes": bytes(value).hex()}
    return {"text": str(value)}


def read_place(word: str, length: int) -> list[Any]:
    """Read what `write_place` wrote. Raises ValueError for anything else."""
    padded = word + "=" * (-len(word) % 4)
    try:
        found = json.loads(base64.urlsafe_b64decode(padded.encode("ascii", "strict")))
        if not isinstance(found, list) or len(found) != length:
            raise ValueError("not a place in this order")
        return [_untagged(value) for value in found]
    except (RecursionError, ArithmeticError, TypeError) as error:
        raise ValueError("not a place in this order") from error


def _untagged(value: Any) -> Any:
    if isinstance(value, dict):
        (tag, text), *rest = value.items()
        if rest or tag not in _TAGS or not isinstance(text, str):
            raise ValueError("not a place in this order")
        return _TAGS[tag](text)
    if value is None or isinstance(value, int | float | str):
        return value
    raise ValueError("not a place in this order")


def among_keys(rows: FromClause, key: Sequence[str], name: str) -> ColumnElement[bool]:
    """Return the condition that a row's key is one of those bound as `name`."""
    raw = [type_coerce(rows.c[each], NullType()) for each in key]
    wanted = bindparam(name, expanding=True, type_=NullType())
    return raw[0].in_(wanted) if len(raw) == 1 else tuple_(*raw).in_(wanted)


def bound_keys(keys: Sequence[tuple[Any, ...]]) -> list[Any]:
    """Return keys as `among_keys` binds them."""
    return [key[0] if len(key) == 1 else key for key in keys]
