"""The base of the kinds of columns: how a column is displayed and entered."""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import ClassVar, Protocol

from lumet.facts.dialects.base import Server
from lumet.facts.model import Column, TypeKind


class Decided(Protocol):
    """The decisions about a column that kinds follow."""

    @property
    def kind(self) -> str: ...
    @property
    def choices(self) -> Mapping[str, str]: ...
    @property
    def other_values(self) -> bool: ...
    @property
    def storage_format(self) -> str: ...
    @property
    def colours(self) -> Mapping[str, str]: ...
    @property
    def folder(self) -> str: ...
    @property
    def time_zone(self) -> str: ...


@dataclass(frozen=True, slots=True)
class FieldSource:
    """The source of a field: its column, what was decided about it, and code: the name
    of its `choices`, the arguments of a `lookup`, the `bounds` of check constraints."""

    column: Column
    decided: Decided
    server: Server
    choices: str = ""
    lookup: tuple[str, ...] = ()
    bounds: tuple[str, ...] = ()

    @property
    def is_binary(self) -> bool:
        """Tell whether the column holds bytes."""
        return self.column.type.kind == "binary"


@dataclass(frozen=True, slots=True)
class Pattern:
    """A pattern of values: its test."""

    fits: Callable[[str], bool]


def matching(pattern: str) -> Pattern:
    """Return the pattern of whole texts by an expression, upper and lower case
    alike."""
    compiled = re.compile(pattern, re.IGNORECASE)
    return Pattern(lambda text: compiled.fullmatch(text) is not None)


class Kind:
    """A kind of column.

    `meaning` and `keys`, the decisions that only such columns have, are its
    documentation; `synonyms` are other words that people have for it. `words` end the
    names of such columns, where their values have one of the patterns `looks`, "" being
    none and () any. `pattern` is that of values; where it `is_ambiguous`, the name must say
    the same. `types` are the types that are shown so unless more is known.

    `field` names the class of the kit that enters it. `storage` is the kit's type of a
    column of another type, and the format that its values have there by default, "" where
    only a decision says that they have one.
    """

    name: ClassVar[str]
    meaning: ClassVar[str]
    field: ClassVar[str] = "TextField"
    keys: ClassVar[tuple[str, ...]] = ()
    synonyms: ClassVar[tuple[str, ...]] = ()

    words: ClassVar[frozenset[str]] = frozenset()
    looks: ClassVar[tuple[str, ...]] = ()
    pattern: ClassVar[Pattern | None] = None
    is_ambiguous: ClassVar[bool] = False
    types: ClassVar[tuple[TypeKind, ...]] = ()

    storage: ClassVar[tuple[str, str]] = ("", "")
    is_text: ClassVar[bool] = False
    holds_bytes: ClassVar[bool] = False  # a column of bytes can be shown so
    is_number: ClassVar[bool] = False  # its field has bounds
    is_entered: ClassVar[bool] = True
    can_be_required: ClassVar[bool] = True
    in_rules: ClassVar[bool] = True  # a rule of the form can compare it
    can_be_summed: ClassVar[bool] = True
    list_rank: ClassVar[int] = 3  # the order of choice for a list; the lowest first
    is_short: ClassVar[bool] = True  # enough for a list

    def plainer(self, source: FieldSource) -> str:
        """Return the name of the plainer kind that a column has which cannot have this
        one, "" where it can."""
        return "other" if source.is_binary and not self.holds_bytes else ""

    def field_class(self, source: FieldSource) -> str:
        """Return the name of the field's class in the kit."""
        return self.field

    def arguments(self, source: FieldSource) -> list[str]:
        """Return the arguments of the field, as code."""
        return []

    def validators(self, source: FieldSource) -> list[str]:
        """Return the validators of the field besides Required, as code."""
        return []

    def has_choices(self, decided: Decided) -> bool:
        """Tell whether the module has a constant with its choices."""
        return False

    def names_values(self, decided: Decided) -> bool:
        """Tell whether the field takes no other values than those it names."""
        return False


class TextKind(Kind):
    """A kind whose values are texts of the column's length."""

    is_text = True
    holds_bytes = True

    def validators(self, source: FieldSource) -> list[str]:
        return text_limits(source)


def text_limits(source: FieldSource) -> list[str]:
    """Return the validators of the texts that a column takes."""
    type_, found = source.column.type, []
    if source.is_binary:
        sized = re.search(r"\((\d+)\)", type_.native)
        found += [f"MaxBytes({sized[1]})"] if sized and int(sized[1]) else []
    elif type_.length:
        found.append(f"MaxLength({type_.length})")
    if type_.kind == "uuid":
        found.append("Uuid()")
    if most := source.server.max_bytes.get(type_.native):
        found.append(f"MaxBytes({most})")
    return found


class NumberKind(Kind):
    """A kind whose values are numbers, within the bounds of check constraints."""

    is_number = True
    usual_bounds: ClassVar[str] = ""  # that such a number has by its nature

    def validators(self, source: FieldSource) -> list[str]:
        if source.bounds:
            return list(source.bounds)
        return [self.usual_bounds] if self.usual_bounds else number_limits(source)


def number_limits(source: FieldSource) -> list[str]:
    """Return the validators of the numbers that a column's type takes."""
    type_ = source.column.type
    if type_.native.lower().startswith("year"):
        return ["NumberRange(1901, 2155)"]  # of MariaDB, which reads 24 as 2024
    word = type_.native.lower().split("(")[0].split(" ")[0]
    if bits := source.server.integer_bits.get(word):
        low, high = (0, 2**bits) if type_.unsigned else (-(2 ** (bits - 1)), 2 ** (bits - 1))  # fmt: skip
        return [f"NumberRange({low}, {high - 1})"]
    return ["NumberRange(0)"] if type_.unsigned else []
