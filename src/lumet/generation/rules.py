"""Rules of a form as code, and in plain words."""

from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from lumet.expressions.check_translation import Tree
from lumet.facts.model import Table

_DAYS = {
    ">=": "must not be before",
    "<=": "must not be after",
    ">": "must be after",
    "<": "must be before",
    "=": "must be",
    "<>": "must not be",
}
_NUMBERS = {
    ">=": "must be at least",
    "<=": "must be at most",
    ">": "must be more than",
    "<": "must be less than",
    "=": "must be",
    "<>": "must not be",
}
_FUNCTIONS = {  # of the rules module of the shared code, by the kinds of trees
    "compare": "compare",
    "reckon": "arithmetic",
    "filled": "not_null",
    "not": "not_",
    "or": "any_of",
    "and": "all_of",
}
_CASES = {"lower": "in lower case", "upper": "in upper case"}
_TURNED = {">=": "<", "<=": ">", ">": "<=", "<": ">=", "=": "<>", "<>": "="}
_SWAPPED = {">=": "<=", "<=": ">=", ">": "<", "<": ">", "=": "=", "<>": "<>"}


def code_of(tree: Tree, keys: Mapping[str, str], *, folds: bool) -> str:
    """Return a tree as the application's code; `folds`: LIKE takes upper for lower
    case."""
    parts = [code_of(part, keys, folds=folds) for part in tree.parts]
    if tree.kind == "column":
        return f"rules.field({keys[tree.value]!r})"
    if tree.kind == "number":
        return _number_code(tree.value)
    if tree.kind in ("text", "yes/no"):
        return f"rules.const({tree.value!r})"
    if tree.kind in ("compare", "reckon"):
        return f"rules.{_FUNCTIONS[tree.kind]}({parts[0]}, {tree.value!r}, {parts[1]})"
    if tree.kind == "one of":
        listed = [_constant(part) for part in tree.parts[1:]]
        return f"rules.one_of({', '.join([parts[0], *listed])})"
    if tree.kind == "like":
        rest = ", ignoring_case=True" if folds else ""
        return f"rules.like({parts[0]}, {tree.value!r}{rest})"
    return f"rules.{_FUNCTIONS.get(tree.kind, tree.kind)}({', '.join(parts)})"


def _number_code(number: Decimal) -> str:
    whole = number == number.to_integral_value()
    return f"rules.const({int(number)})" if whole else f"rules.number({str(number)!r})"


def _constant(tree: Tree) -> str:
    if tree.kind == "number":
        whole = tree.value == tree.value.to_integral_value()
        return str(int(tree.value)) if whole else repr(float(tree.value))
    return repr(tree.value)


class Wording:
    """Describes rules over the columns of one table."""

    def __init__(
        self,
        table: Table,
        labels: Mapping[str, str],
        choices: Mapping[str, Mapping[str, str]],
    ) -> None:
        self.table = table
        self.labels = labels
        self.choices = choices

    def message(self, tree: Tree) -> str:
        """Return a sentence with the condition."""
        words = self._demand(tree)
        return f"{words[:1].upper()}{words[1:]}."

    def _demand(self, tree: Tree) -> str:
        if tree.kind == "compare":
            return self._compared(tree)
        if tree.kind == "filled":
            return f"{self._term(tree.parts[0])} is required"
        if tree.kind == "one of":
            first = tree.parts[0]
            listed = ", ".join(self._term(part, first) for part in tree.parts[1:])
            return f"{self._term(first)} must be one of: {listed}"
        if tree.kind == "like":
            return f"{self._term(tree.parts[0])} must match {_pattern(tree.value)}"
        if tree.kind == "and":
            return ", and ".join(self._demand(part) for part in tree.parts)
        if tree.kind == "or":
            *premises, last = _flat(tree)
            unless = " and ".join(self._state(_turned(each)) for each in premises)
            return f"where {unless}, {self._demand(last)}"
        return self._denied(tree.parts[0])

    def _denied(self, tree: Tree) -> str:
        if tree.kind == "filled":
            return f"{self._term(tree.parts[0])} must be empty"
        turned = _turned(tree)
        if turned.kind != "not":
            return self._demand(turned)
        if tree.kind == "one of":
            first = tree.parts[0]
            listed = ", ".join(self._term(part, first) for part in tree.parts[1:])
            return f"{self._term(first)} must be none of: {listed}"
        return f"{self._term(tree.parts[0])} must not match {_pattern(tree.value)}"

    def _compared(self, tree: Tree) -> str:
        left, right = tree.parts
        sign = tree.value
        if left.kind != "column" and right.kind == "column":
            left, right, sign = right, left, _SWAPPED[sign]
        if sign == "=" and right.kind in _CASES and right.parts[0] == left:
            return f"{self._term(left)} must be {_CASES[right.kind]}"
        words = _DAYS if self._is_day(left) else _NUMBERS
        if right.kind == "text" and not right.value and sign == "<>":
            return f"{self._term(left)} must not be empty"
        return f"{self._term(left)} {words[sign]} {self._term(right, left)}"

    def _state(self, tree: Tree) -> str:
        """Say in the middle of a sentence that something is so."""
        if tree.kind == "not" and tree.parts[0].kind == "filled":
            return f"{self._term(tree.parts[0].parts[0])} is empty"
        if tree.kind == "filled":
            return f"{self._term(tree.parts[0])} is filled in"
        return (
            self._demand(tree)
            .replace(" must not be ", " is not ")
            .replace(" must be ", " is ")
        )

    def _is_day(self, tree: Tree) -> bool:
        if tree.kind != "column":
            return False
        return self.table.column(tree.value).type.kind in ("date", "datetime", "time")

    def _term(self, tree: Tree, beside: Tree | None = None) -> str:
        if tree.kind == "column":
            return self.labels.get(tree.value) or str(tree.value)
        if tree.kind == "number":
            return f"{tree.value:f}"
        if tree.kind == "yes/no":
            return "yes" if tree.value else "no"
        if tree.kind == "length":
            return f"the length of {self._term(tree.parts[0])}"
        if tree.kind in _CASES:
            return f"{self._term(tree.parts[0])} {_CASES[tree.kind]}"
        if tree.kind == "reckon":
            one, other = (self._term(part) for part in tree.parts)
            return f"{one} {tree.value} {other}"
        if beside is not None and beside.kind == "column":
            labels = self.choices.get(beside.value, {})
            return labels.get(tree.value, str(tree.value))
        return str(tree.value)


def _flat(tree: Tree) -> list[Tree]:
    if tree.kind != "or":
        return [tree]
    return [each for part in tree.parts for each in _flat(part)]


def _turned(tree: Tree) -> Tree:
    """Return the opposite of a tree."""
    if tree.kind == "compare":
        return Tree("compare", _TURNED[tree.value], tree.parts)
    if tree.kind == "not":
        return tree.parts[0]
    if tree.kind == "or":
        return Tree("and", parts=tuple(_turned(part) for part in tree.parts))
    return Tree("not", parts=(tree,))


def _pattern(pattern: Any) -> str:
    return str(pattern).replace("%", "…")
