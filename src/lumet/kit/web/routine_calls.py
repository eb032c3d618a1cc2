"""Calls of stored procedures and functions by actions, and what the user sees of them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection

from ..access.reach import UNBOUNDED
from ..common import locale
from ..common.formatting import shown_text
from ..db.routines import ResultSet, RoutineResult
from ..pages.context import site
from ..pages.routine_actions import RoutineAction
from ..pages.table_context import TableContext

RESULT = "result"  # the name of a function's value in a message


@dataclass(frozen=True, slots=True)
class ShownResult:
    """A result as a page shows it: the values by label, and the rows as texts."""

    values: Sequence[tuple[str, str]]
    sets: Sequence[ResultSet]


@dataclass(frozen=True, slots=True)
class Outcome:
    """What an action came to: the message for the user, the next address, by default
    where it came from, and the result where that has a page of its own."""

    message: str
    address: str = ""
    result: ShownResult | None = None


def call_routine(
    context: TableContext,
    action: RoutineAction,
    connection: Connection,
    values: Mapping[str, Any],
    inputs: Mapping[str, Any],
) -> Outcome:
    """Call the routine of an action for a record with these values, past the user's
    reach: who may use the action may what it does."""
    user = context.reach.attributes
    call = action.call(values, user, inputs)
    run = partial(UNBOUNDED.run, connection)
    result = site().database.server.call(connection, run, call)
    shown = _shown(action, result)
    if action.message:
        held = {**inputs, **result.outs, RESULT: result.value}
        return Outcome(_filled(str(action.message), held), result=_rows_of(shown))
    if not shown.sets and len(shown.values) == 1:
        label, value = shown.values[0]
        return Outcome(f"{label}: {value}")
    said = str(_("%(action)s: done.", action=action.label))
    if len(shown.sets) == 1 and not shown.sets[0].more:
        said = str(_("Rows: %(count)s", count=len(shown.sets[0].rows)))
    return Outcome(said, result=shown if shown.values or shown.sets else None)


def _rows_of(shown: ShownResult) -> ShownResult | None:
    return ShownResult((), shown.sets) if shown.sets else None


def _shown(action: RoutineAction, result: RoutineResult) -> ShownResult:
    values = [(action.label_of(n), _text(value)) for n, value in result.outs.items()]
    if action.returns:
        values.append((str(action.label), _text(result.value)))
    sets = [
        ResultSet(
            [name.replace("_", " ").strip().capitalize() for name in each.columns],
            [[_text(value) for value in row] for row in each.rows],
            each.more,
        )
        for each in result.sets
    ]
    return ShownResult(values, sets)


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return str(_("Yes") if value else _("No"))
    return "–" if value is None else shown_text(value, locale.language())


def _filled(message: str, values: Mapping[str, Any]) -> str:
    """Put values in the place of their names in braces."""
    for name, value in values.items():
        message = message.replace(f"{{{name}}}", _text(value))
    return message
