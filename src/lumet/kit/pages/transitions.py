"""Transitions: the decided changes of a choice, each a button."""

from collections.abc import Sequence
from dataclasses import dataclass

from .actions import Action


@dataclass(frozen=True, slots=True)
class Transition(Action):
    """A button that changes the value of `column` from one of `sources` to `target`,
    where the `condition`, in SQL, holds; `fields` are asked for. No other change of the
    column is accepted."""

    column: str = ""
    sources: Sequence[str] = ()
    target: str = ""
    condition: str = ""
    fields: Sequence[str] = ()


def initial_values(transitions: Sequence[Transition], column: str) -> list[str]:
    """Return the values that a new record may have in a column with transitions: those
    that none of them leads to; [] for any."""
    own = [each for each in transitions if each.column == column]
    targets = {each.target for each in own}
    sources = dict.fromkeys(value for each in own for value in each.sources)
    return [value for value in sources if value not in targets]
