"""The layouts of a list by days, by values and by positions; moving an entry there changes
its record."""

from collections.abc import Mapping
from datetime import date, datetime, timedelta
from typing import Any

from flask import abort, current_app, jsonify, request
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from sqlalchemy import Connection
from werkzeug.datastructures import MultiDict

from ..contract import BOARD, CALENDAR, MAP
from ..editing.conflict_check import SEEN
from ..editing.record_reader import RecordNotFound
from ..editing.transactions import SaveAborted
from ..lists.board import Board
from ..lists.calendar import Calendar
from ..lists.list_request import ListRequest
from ..lists.map_points import MapPoints
from ..pages import urls
from ..pages.context import preferences, site
from ..pages.table_context import TableContext
from ..pages.transitions import Transition
from .bulk_actions import BulkAction
from .edit_views import save_fields
from .form_context import saver_of
from .navigation import blueprint, key_or_404, table_or_404

__all__ = ["blueprint"]

WAS = "was-"  # before the name of a column: the value that the user saw
DAY = "day"  # of a calendar: the day to which an entry was moved
FROM_DAY = "from-day"


def laid_out(
    list_request: ListRequest, connection: Connection
) -> tuple[str, dict[str, Any]] | None:
    """Return the template of a layout by days, values or positions, and what it shows;
    None for another layout."""
    context = list_request.context
    may_move = context.pages.offers("edit") and context.may("edit")
    found: dict[str, Any]
    if list_request.layout == CALENDAR:
        calendar = Calendar(list_request)
        weeks, has_more = calendar.weeks(connection)
        found = {"calendar": calendar, "weeks": weeks, "has_more": has_more}
        may_move &= _may_enter(context, context.pages.list.calendar)
        return "calendar.html", found | {"may_move": may_move}
    if list_request.layout == BOARD:
        board = Board(list_request)
        columns, has_more = board.columns(connection)
        found = {"board": board, "columns": columns, "has_more": has_more}
        moves = [each for each in context.pages.transitions if each.column == board.key]
        may_move &= bool(moves) or _may_enter(context, [board.key])
        return "board.html", found | {"may_move": may_move}
    if list_request.layout == MAP:
        points = MapPoints(list_request)
        return "map.html", {"points": points.read(connection), "map": points}
    return None


def _may_enter(context: TableContext, columns: Any) -> bool:
    """Tell whether the user may enter these columns in some records."""
    pages, reach = context.pages, context.reach
    roles = reach.holding("edit", pages.table.fullname)
    return {*columns} <= {*pages.enters(reach, roles, is_new=False)}


@blueprint.post(urls.RECORD + urls.MOVE)
def move_entry(name: str, segment: str) -> ResponseReturnValue:
    """Move an entry of a calendar to another day, or of a board to another column: it
    goes the way of the form, with all that is checked there. Answers with a `message`
    why not, or with the address where more is asked for."""
    context = table_or_404(name, "edit")
    pages, key = context.pages, key_or_404(context, segment)
    columns = [pages.list.board] if DAY not in request.form else [*pages.list.calendar]
    if not all(columns) or not columns:
        abort(404)
    try:
        with site().database.reading() as connection:
            stored = saver_of(context).reader.read(connection, key, columns)
    except RecordNotFound:
        abort(404)
    texts = {
        column: "" if value is None else pages.fields[column].to_text(value)
        for column, value in stored.items()
    }
    if any(request.form.get(WAS + column, "") != texts[column] for column in columns):
        return _refused(_("Another user changed this record. Check it and try again."), 409)  # fmt: skip
    if DAY in request.form:
        return _move_days(context, segment, key, stored)
    column, value = columns[0], request.form.get("value", "")
    moves = [each for each in pages.transitions if each.column == column]
    if moves:
        return _move_by_transition(context, segment, moves, texts[column], value)
    return _save(context, key, {column: value})


def _refused(message: object, status: int = 422) -> ResponseReturnValue:
    return jsonify({"message": str(message)}), status


def _move_days(
    context: TableContext,
    segment: str,
    key: Mapping[str, Any],
    stored: Mapping[str, Any],
) -> ResponseReturnValue:
    """Move the dates of a record by as many days as its entry was moved."""
    try:
        days = date.fromisoformat(request.form[DAY]) - date.fromisoformat(request.form[FROM_DAY])  # fmt: skip
        changed = {
            column: context.pages.fields[column].to_text(_moved(context, column, value, days))
            for column, value in stored.items()
            if value is not None
        }  # fmt: skip
    except (ValueError, KeyError, OverflowError):
        abort(400)
    return _save(context, key, changed)


def _moved(context: TableContext, column: str, value: Any, days: timedelta) -> Any:
    """Return a date some days later; of a moment the same time by the user's clocks."""
    field: Any = context.pages.fields[column]
    if isinstance(value, datetime):
        return field.here(value).replace(tzinfo=None) + days
    return value + days


def _move_by_transition(
    context: TableContext,
    segment: str,
    moves: list[Transition],
    before: str,
    value: str,
) -> ResponseReturnValue:
    """Carry out the transition that leads from one value to another."""
    roles = {role.name for role in context.reach.roles}
    fitting = [
        each
        for each in moves
        if before in each.sources and each.target == value
        if not each.roles or roles & {*each.roles}
    ]
    if not fitting:
        return _refused(_("There is no transition from here to there."))
    action = fitting[0]
    if action.fields or action.question:
        address = context.urls.record(segment) + urls.ACTION + action.name
        return jsonify({"address": address})
    asked = ListRequest(context, MultiDict(), preferences())
    acting = BulkAction(asked, current_app.config["SECRET_KEY"], own=action)
    with site().database.reading() as connection:
        seen = acting.seen(connection, [segment])
    result = acting.carry_out([segment], seen)
    if result.refused:
        return _refused(result.refused[0].why)
    return jsonify({})


def _save(
    context: TableContext, key: Mapping[str, Any], changed: Mapping[str, str]
) -> ResponseReturnValue:
    """Save some columns of a record as its form would."""
    saver = saver_of(context)
    try:
        with site().database.reading() as connection:
            seen = saver.stored(connection, key).seen
        if not {*changed} <= {*saver.entered}:
            return _refused(_("Your roles do not allow this."), 403)
        digests = {SEEN + column: seen.get(SEEN + column, "") for column in changed}
        outcome = save_fields(context.pages, saver, dict(key), MultiDict({**digests, **changed}))  # fmt: skip
    except RecordNotFound:
        abort(404)
    except SaveAborted as error:
        return _refused(error.message, 503)
    if outcome.key:
        return jsonify({})
    mistakes = [
        f"{label}: {message}" for label, message, _id in outcome.form.mistakes()
    ]
    said = " ".join([*mistakes, *map(str, outcome.refused)])
    if outcome.conflicts:
        said = str(_("Another user changed this record. Check it and try again."))
    return _refused(said, 409 if outcome.conflicts else outcome.status)
