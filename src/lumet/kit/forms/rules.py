"""Rules over the fields of a form, as the database's own checks have them: with NULL,
or with a field that the form does not have, a rule passes and the database decides."""

import operator
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

__all__ = ["Rule"]


Values = Mapping[str, Any]
Term = Callable[[Values], Any]  # a value, None for NULL
Test = Callable[[Values], bool | None]  # None where it is not known
_OPERATORS: dict[str, Callable[[Any, Any], bool]] = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


class Unknown(Exception):
    """A value is not at hand."""


@dataclass(frozen=True, slots=True)
class Rule:
    """A rule: what must hold, what is said where it does not, and the fields at the
    last of which that is said."""

    test: Test
    message: Any
    at: tuple[str, ...]

    def holds(self, values: Values) -> bool:
        """Tell whether the rule passes, as a CHECK does: unless it is known not to
        hold."""
        return _known(self.test, values) is not False


def _known(test: Test, values: Values) -> bool | None:
    try:
        return test(values)
    except (Unknown, TypeError, ValueError, ArithmeticError):
        return None


def field(key: str) -> Term:
    """The value of a field."""

    def term(values: Values) -> Any:
        if key not in values:
            raise Unknown(key)
        return values[key]

    return term


def const(value: Any) -> Term:
    """A constant; a number with digits behind the point is written as a text."""
    return lambda values: value


def number(text: str) -> Term:
    """A constant number."""
    exact = Decimal(text)
    return lambda values: exact


def length(term: Term) -> Term:
    """How many characters a text has."""

    def count(values: Values) -> int | None:
        text = term(values)
        return None if text is None else len(str(text))

    return count


def lower(term: Term) -> Term:
    """A text in lower case."""
    return _in_case(term, str.lower)


def upper(term: Term) -> Term:
    """A text in upper case."""
    return _in_case(term, str.upper)


def _in_case(term: Term, turn: Callable[[str], str]) -> Term:
    def turned(values: Values) -> Any:
        text = term(values)
        if text is None:
            return None
        if not str(text).isascii():
            raise Unknown(str(text))  # servers do not agree on other letters
        return turn(str(text))

    return turned


def arithmetic(left: Term, sign: str, right: Term) -> Term:
    """A sum, a difference or a product."""
    work = {"+": operator.add, "-": operator.sub, "*": operator.mul}[sign]

    def term(values: Values) -> Any:
        one, other = _alike(left(values), right(values))
        return None if one is None or other is None else work(one, other)

    return term


def compare(left: Term, sign: str, right: Term) -> Test:
    """Two values compared."""
    holds = _OPERATORS[sign]

    def test(values: Values) -> bool | None:
        one, other = _alike(left(values), right(values))
        return None if one is None or other is None else holds(one, other)

    return test


def _alike(one: Any, other: Any) -> tuple[Any, Any]:
    """Return two values as a database compares them: a float with a decimal as floats,
    a date with a text as dates. Raises TypeError for what cannot be compared."""
    if isinstance(one, float) or isinstance(other, float):
        return tuple(
            float(v) if isinstance(v, Decimal | int) else v for v in (one, other)
        )  # type: ignore[return-value]
    for first, second, turned in ((one, other, False), (other, one, True)):
        if isinstance(first, date | time) and isinstance(second, str):
            second = type(first).fromisoformat(second)
        elif isinstance(first, datetime) and type(second) is date:
            second = datetime.combine(second, time())
        else:
            continue
        return (second, first) if turned else (first, second)
    if isinstance(one, str) != isinstance(other, str) and None not in (one, other):
        raise TypeError("a text and a value of another kind")
    return one, other


def not_null(term: Term) -> Test:
    """There is a value."""
    return lambda values: term(values) is not None


def one_of(term: Term, *listed: Any) -> Test:
    """The value is one of a list."""
    tests = [compare(term, "=", const(value)) for value in listed]
    return any_of(*tests)


def like(term: Term, pattern: str, ignoring_case: bool = False) -> Test:
    """A text matches a pattern of LIKE, with % for anything and _ for one character."""
    flags = re.DOTALL | (re.IGNORECASE | re.ASCII if ignoring_case else 0)
    first, *others = [
        re.compile(
            "".join("." if each == "_" else re.escape(each) for each in part), flags
        )
        for part in pattern.split("%")
    ]
    least = len(pattern.split("%")[-1])

    def fits(text: str) -> bool:
        if not others:
            return first.fullmatch(text) is not None
        found = first.match(text)
        # the earliest place of each part leaves the most room for those behind it
        for part in others[:-1]:
            found = part.search(text, found.end()) if found else None
        if found is None or len(text) - found.end() < least:
            return False
        return others[-1].fullmatch(text, len(text) - least) is not None

    def test(values: Values) -> bool | None:
        text = term(values)
        return None if text is None else fits(str(text))

    return test


def not_(test: Test) -> Test:
    """It does not hold."""

    def turned(values: Values) -> bool | None:
        found = _known(test, values)
        return None if found is None else not found

    return turned


def any_of(*tests: Test) -> Test:
    """One of them holds."""

    def test(values: Values) -> bool | None:
        found = [_known(each, values) for each in tests]
        return True if True in found else None if None in found else False

    return test


def all_of(*tests: Test) -> Test:
    """All of them hold."""

    def test(values: Values) -> bool | None:
        found = [_known(each, values) for each in tests]
        return False if False in found else None if None in found else True

    return test
