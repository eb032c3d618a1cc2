"""Actions that call a stored procedure or function of the database."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ..db.routines import RoutineArgument, RoutineCall
from .actions import Action


@dataclass(frozen=True, slots=True)
class Parameter:
    """A parameter, with the database's own spelling of its type, and where its argument
    comes from: a `column` of the record, an attribute of the `user`, a `field` that is
    asked for, or the constant `value`. One that is `optional` has a default, which
    stands for what is left empty; `label` is that of a value that comes back."""

    name: str
    type: str
    mode: str = "in"
    label: Any = ""
    column: str = ""
    user: str = ""
    field: Any = None
    value: Any = None
    optional: bool = False


@dataclass(frozen=True, slots=True)
class RoutineAction(Action):
    """A button that calls the `routine` of this name, with its schema before it where
    that is another one. `returns`: a function with one value, `rows`: one with rows.
    `message` is shown afterwards, with the values of parameters in the place of their
    names in braces, that of a function in the place of {result}."""

    routine: Sequence[str] = ()
    parameters: Sequence[Parameter] = ()
    is_function: bool = False
    returns: bool = False
    rows: bool = False
    by_position: bool = False
    message: Any = ""

    @property
    def asked(self) -> Sequence[tuple[str, Any]]:
        """The fields of the parameters that are asked for, by name."""
        return [(each.name, each.field) for each in self.parameters if each.field]

    def call(
        self,
        values: Mapping[str, Any],
        user: Mapping[str, Any],
        inputs: Mapping[str, Any],
    ) -> RoutineCall:
        """Return the call for a record with these values, by a user with these
        attributes."""
        arguments = []
        for each in self.parameters:
            if each.mode == "out":
                arguments.append(RoutineArgument(each.name, each.type, each.mode))
                continue
            if each.field is not None:
                value = inputs.get(each.name)
                if value is None and each.optional and not self.by_position:
                    continue
            elif each.column:
                value = values[each.column]
            elif each.user:
                value = user.get(each.user)
            else:
                value = each.value
            arguments.append(RoutineArgument(each.name, each.type, each.mode, value))
        return RoutineCall(
            self.routine,
            arguments,
            is_function=self.is_function,
            returns=self.returns,
            rows=self.rows,
            by_position=self.by_position,
        )

    def label_of(self, name: str) -> str:
        """Return the label of a parameter by its name."""
        return next((str(e.label) for e in self.parameters if e.name == name), name)
