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
