"""Help for pages: how a date is read, and the keyboard shortcuts."""

from datetime import date, datetime, time
from typing import Any

from flask import flash, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _

from ..common import locale
from ..common.parsing import read_date
from ..forms.base import RecordForm
from ..forms.date_fields import DateField, DateTimeField, TimeField
from ..pages.context import SHORTCUTS, are_shortcuts_on, preferences, site
from .form_context import PIECE
from .navigation import blueprint

__all__ = ["blueprint"]


class _Clocks(RecordForm):
    """The fields by which dates and times are read, by the kind of their control."""

    date = DateField()
    time = TimeField()
    datetime = DateTimeField()


@blueprint.get("/dates")
def dates() -> ResponseReturnValue:
    """A date or time as it is read: `text` as the user's language writes it, `day` as
    ISO 8601 has it, or `error`. A `day` that was chosen takes the place of that in the
    text."""
    kind, typed = request.args.get("kind", "date"), request.args.get("text", "")
    fields = _Clocks()._fields
    if kind not in fields:
        return jsonify({}), 400
    field: Any = fields[kind]
    found: Any = None
    said: dict[str, str] = {}
    try:
        found = field.parse(field.clean(typed)) if typed.strip() else None
    except ValueError as error:
        said["error"] = str(error)
    chosen = request.args.get("day", "")
    if chosen:
        try:
            found = _on(
                read_date(chosen, locale.language(), locale.today()), kind, found
            )
        except ValueError:
            return jsonify({}), 400
        said = {}
    if found is not None:
        said["text"] = field.written(found)
        said["day"] = found.isoformat()[:10] if isinstance(found, date) else ""
    return jsonify(said)


def _on(day: date, kind: str, before: Any) -> Any:
    """Return a day that was chosen, with the time that was there before it."""
    if kind == "date":
        return day
    hour = before.time() if isinstance(before, datetime) else time()
    return datetime.combine(day, hour)


@blueprint.route("/keys", methods=["GET", "POST"])
def shortcuts() -> ResponseReturnValue:
    """The keys that do something, and whether single letters do."""
    if request.method == "POST":
        preferences().set(SHORTCUTS, "" if "on" in request.form else "off")
        flash(_("Saved."))
        return redirect(url_for(".shortcuts"))
    template = "_keys.html" if PIECE in request.args else "keys.html"
    return render_template(
        template,
        is_on=are_shortcuts_on(),
        is_kept=preferences().user_id is not None,
        language=site().language,
    )
