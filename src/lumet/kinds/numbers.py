"""Kinds of numbers."""

from typing import ClassVar

from lumet.kinds.base import FieldSource, Kind, NumberKind
from lumet.kit.contract import SCALES


class Integer(NumberKind):
    """A whole number."""

    name = "integer"
    meaning = "a whole number, with separators of thousands"
    field = "IntegerField"
    synonyms = ("int",)
    keys = ("unit", "total")
    types = ("integer",)


class Code(NumberKind):
    """A whole number that names something."""

    name = "code"
    meaning = "a number used as a name, without separators, such as a year"
    field = "CodeField"
    can_be_summed = False

    def validators(self, source: FieldSource) -> list[str]:
        found, digits = super().validators(source), source.column.type.precision
        if found or not digits or source.column.type.kind != "decimal":
            return found
        return [f"NumberRange({1 - 10**digits}, {10**digits - 1})"]


class _DecimalKind(NumberKind):
    field = "DecimalField"
    keys: ClassVar[tuple[str, ...]] = ("unit", "total")

    def plainer(self, source: FieldSource) -> str:
        is_whole = source.column.type.kind == "integer"
        is_other = source.decided.storage_format not in SCALES
        return super().plainer(source) or ("integer" if is_whole and is_other else "")

    def field_class(self, source: FieldSource) -> str:
        is_scaled = source.decided.storage_format in SCALES
        is_float = source.column.type.kind == "float" and not is_scaled
        return "FloatField" if is_float else self.field

    def arguments(self, source: FieldSource) -> list[str]:
        digits = SCALES.get(source.decided.storage_format)
        if digits is not None:
            return [f"scale={max(digits + (source.column.type.scale or 0), 0)}"] if (
                source.column.type.kind != "float"
            ) else []  # fmt: skip
        return [] if source.column.type.kind == "float" else _digits(source)

    def validators(self, source: FieldSource) -> list[str]:
        if source.decided.storage_format in SCALES:
            return [*source.bounds]  # those of its type are of what is stored
        return super().validators(source)


class Decimal(_DecimalKind):
    """A number with decimals."""

    name = "decimal"
    meaning = "a number with the decimals of its column"
    synonyms = ("number", "float", "numeric")
    types = ("decimal", "float")


class Money(_DecimalKind):
    """An amount of money."""

    name = "money"
    meaning = "an amount of money; its unit is the currency"
    keys = ("unit", "total", "storage_format")
    storage = ("Scaled", "")
    words = frozenset(
        {"price", "cost", "costs", "amount", "fee", "fees", "salary", "wage", "balance", "budget",
         "revenue", "charge", "payment", "fare", "rent", "premium", "tax", "value", "total",
         "subtotal", "net", "gross", "paid", "income", "expense", "turnover", "deposit", "fine",
         "bonus", "credit", "debit", "funding", "grant", "donation", "vat", "money", "pay"}
    )  # fmt: skip


class Percent(_DecimalKind):
    """A percentage."""

    name = "percent"
    meaning = "a percentage, 12.5 for 12.5 %"
    keys = ("unit", "total", "storage_format")
    storage = ("Scaled", "")
    words = frozenset({"pct", "percent", "percentage", "perc"})


class _Degrees(NumberKind):
    field = "DegreesField"
    can_be_summed = False

    def arguments(self, source: FieldSource) -> list[str]:
        is_float = source.column.type.kind == "float"
        measured = ["measured=True"] if is_float else []
        return [f"axis={self.name!r}", *measured, *_digits(source)]


class Latitude(_Degrees):
    """A latitude in degrees."""

    name = "latitude"
    meaning = "a latitude in degrees; degrees and minutes are read too"
    words = frozenset({"lat", "latitude"})
    usual_bounds = "NumberRange(-90, 90)"


class Longitude(_Degrees):
    """A longitude in degrees."""

    name = "longitude"
    meaning = "a longitude in degrees; degrees and minutes are read too"
    words = frozenset({"lon", "lng", "long", "longitude"})
    usual_bounds = "NumberRange(-180, 180)"


def _digits(source: FieldSource) -> list[str]:
    type_ = source.column.type
    found = [f"precision={type_.precision}"] if type_.precision else []
    return found + ([f"scale={type_.scale}"] if type_.scale is not None else [])


KINDS: tuple[Kind, ...] = (
    Integer(), Code(), Decimal(), Money(), Percent(), Latitude(), Longitude()
)  # fmt: skip
