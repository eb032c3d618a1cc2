"""The code of the fields of a form."""

from collections.abc import Callable
from dataclasses import replace
from decimal import Decimal
from typing import Any

from lumet.design.decision_schema import FieldDecisions
from lumet.design.dependent_lookups import columns_followed, lookup_reference
from lumet.facts.model import Column
from lumet.generation.model import TableSource, generated_value
from lumet.kinds import FieldSource, Kind, fitting_kind, kind_of_type
from lumet.kit.contract import SCALES


def field_code(source: TableSource, column: Column) -> str:
    """Return the field of a column."""
    key = source.keys[column.name]
    decided = source.field(column)
    return _code(source, key, column, decided, choices_name(source, column))


def choices_name(source: TableSource, column: Column) -> str:
    """Return the name of the constant with the choices of a column."""
    key = source.keys[column.name]
    return f"{key.upper().strip('_')}_CHOICES"


def formula_field_code(source: TableSource, name: str) -> str:
    """Return the field of a formula, of the type that its value has."""
    from lumet.expressions.queries import value_type  # slow to import

    decided = source.decisions.field[name]
    type_ = value_type(decided.formula, source.table, source.application.database)
    kind = decided.kind if decided.kind != "text" else kind_of_type(type_.kind).name
    if kind == "choice":
        label = decided.label or name
        return f"{name} = ChoiceField(_({label!r}), choices={decided.choices!r})"
    label = decided.label or name.replace("_", " ").capitalize()
    decided = replace(decided, kind=kind, label=label)
    return _code(source, name, Column(name, type_), decided, "")


def input_code(source: TableSource, column: Column, decided: FieldDecisions) -> str:
    """Return a field that is that of no column: what an action asks for, of the type of
    `column`."""
    kind = decided.kind if decided.kind != "text" else kind_of_type(column.type.kind).name  # fmt: skip
    if decided.choices:
        kind = "choice"
    decided = replace(decided, kind=kind)
    choices = repr(decided.choices)
    return _code(source, "x", column, decided, choices).removeprefix("x = ")


def _code(
    source: TableSource,
    key: str,
    column: Column,
    decided: FieldDecisions,
    choices: str,
) -> str:
    field = FieldSource(
        column, decided, source.server, choices,
        lookup=_lookup(source, column, decided), bounds=_bounds(source, column, decided),
    )  # fmt: skip
    kind = fitting_kind(field)
    parts = [f"_({decided.label or column.name!r})", *kind.arguments(field)]
    if _keeps_empty(column, decided):
        parts.append("empty_text=True")
    parts += [code for argument in ARGUMENTS if (code := argument(decided))]
    validators = _validators(source, field, kind)
    if validators:
        parts.append(f"validators=[{', '.join(validators)}]")
    return f"{key} = {kind.field_class(field)}({', '.join(parts)})"


def _unit(decided: FieldDecisions) -> str:
    return f"unit={decided.unit!r}" if decided.unit else ""


def _width(decided: FieldDecisions) -> str:
    return f"width={decided.width!r}" if decided.width else ""


def _placeholder(decided: FieldDecisions) -> str:
    return f"placeholder=_({decided.placeholder!r})" if decided.placeholder else ""


def _help(decided: FieldDecisions) -> str:
    return f"help=_({decided.help!r})" if decided.help else ""


# of every field, by decision key; those of one kind are its own
ARGUMENTS: tuple[Callable[[FieldDecisions], str], ...] = (
    _unit, _width, _placeholder, _help
)  # fmt: skip


def _keeps_empty(column: Column, decided: FieldDecisions) -> bool:
    """Tell whether an empty field means an empty text: the column takes no NULL."""
    return (
        decided.required is False
        and decided.none is None  # else that is written
        and column.type.kind == "text"
        and not column.nullable
        and not column.generated
    )


def _validators(source: TableSource, field: FieldSource, kind: Kind) -> list[str]:
    decided, is_view = field.decided, source.table.is_view
    assert isinstance(decided, FieldDecisions)
    if decided.read_only or decided.automatic or not kind.is_entered or is_view:
        return []
    is_required = decided.required
    if is_required is None:
        is_required = kind.can_be_required and _needs_value(source, field.column)
    found = ["Required()"] if is_required else []
    if decided.pattern and kind.is_text:
        message = f", _({decided.message!r})" if decided.message else ""
        found.append(f"Matches({decided.pattern!r}{message})")
    return found + kind.validators(field)


def _needs_value(source: TableSource, column: Column) -> bool:
    """Tell whether a new record needs a value from its form: a literal default is but
    what the form begins with. A key that refers to another record is that one's, and
    never the next number."""
    table = source.table
    is_numbered = column.automatic and table.reference_of(column.name) is None
    is_computed = column.default is not None and not column.default.literal
    # without its key, which may have been found in the rows, no record is found again
    may_be_empty = column.nullable and column.name not in table.primary_key
    if may_be_empty or is_numbered or is_computed:
        return False
    decided = source.decisions.field.get(column.name)
    if decided is None:
        return True
    has_none = decided.none is not None
    return not (has_none or generated_value(table, column, decided))


def _lookup(
    source: TableSource, column: Column, decided: FieldDecisions
) -> tuple[str, ...]:
    """Return the arguments of a lookup: its table, the lookups it depends on, and the
    condition of the records that can be chosen; () where there is none."""
    reference = lookup_reference(source.table, column.name)
    if reference is None or not source.has(reference):
        return ()
    ours, theirs = source.keys, source.all_keys[reference.referred_table]
    parts = [f"to={source.modules[reference.referred_table]!r}"]
    possible = columns_followed(source.table, column.name, source.application.database)
    own = reference.columns if len(reference.columns) > 1 else ()
    followed = dict.fromkeys(n for n in (*own, *decided.depends_on) if n in possible)
    if followed:
        pairs = (f"({ours[n]!r}, {theirs[possible[n]]!r})" for n in followed)
        parts.append(f"depends_on=({', '.join(pairs)},)")
    if decided.where:
        condition = decided.where.replace(":", "\\:")
        parts.append(f"where={condition!r}")
    return tuple(parts)


def _shown(stored: Any, decided: FieldDecisions) -> Any:
    """Return a bound of what is stored as one of what is entered."""
    digits = SCALES.get(decided.storage_format)
    return stored if digits is None else float(Decimal(str(stored)).scaleb(-digits))


def _bounds(
    source: TableSource, column: Column, decided: FieldDecisions
) -> tuple[str, ...]:
    """Return the bounds of a number: those of the check constraints that have no
    message of their own, or the narrower ones that were decided."""
    low: Any = None
    high: Any = None
    if source.table.checks:  # the parser of expressions is slow to import
        from lumet.expressions.checks import Within, read_check
    for check in source.table.checks:
        if check.name in source.decisions.messages:
            continue  # a rule of the form says it
        for rule in read_check(check.text, source.application.dialect):
            if isinstance(rule, Within) and (
                rule.column.casefold() == column.name.casefold()
            ):
                low = _shown(rule.lowest, decided) if rule.lowest is not None else low
                high = (
                    _shown(rule.highest, decided) if rule.highest is not None else high
                )
    if decided.minimum is not None:
        low = max(decided.minimum, decided.minimum if low is None else low)
    if decided.maximum is not None:
        high = min(decided.maximum, decided.maximum if high is None else high)
    if low is None:
        return () if high is None else (f"NumberRange(highest={high})",)
    return (f"NumberRange({low})" if high is None else f"NumberRange({low}, {high})",)
