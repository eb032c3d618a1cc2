"""The pages of the outbox: what is on its way, what failed, and what is doubtful."""

from flask import Blueprint, abort, flash, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _

from ..accounts.outbox import STATES
from ..pages.context import note, site
from .admin_views import for_administrators

PAGE_ENTRIES = 50
MAX_NUMBER = 2**31 - 1  # of a message, in any store
SEND, DISCARD = "send", "discard"
blueprint = Blueprint("outbox", __name__)


@blueprint.get("/outbox")
@for_administrators
def listed() -> ResponseReturnValue:
    """The messages, the latest first."""
    outbox, state = site().log.outbox, request.args.get("state", "")
    if state and state not in STATES:
        abort(404)
    before = min(max(request.args.get("before", 0, type=int), 0), MAX_NUMBER)
    found = outbox.read(state, PAGE_ENTRIES + 1, before)
    more = ""
    if len(found) > PAGE_ENTRIES:
        last = found[PAGE_ENTRIES - 1].id
        more = url_for(".listed", before=last, state=state or None)
    return render_template(
        "outbox.html",
        entries=found[:PAGE_ENTRIES],
        counts=outbox.counts(),
        state=state,
        more=more,
        tables=site().registry.pages,
    )


@blueprint.get("/outbox/<int:number>")
@for_administrators
def shown(number: int) -> ResponseReturnValue:
    """One message, with its text."""
    entry = site().log.outbox.entry(min(number, MAX_NUMBER))
    if entry is None:
        abort(404)
    return render_template("outbox-message.html", entry=entry, tables=site().registry.pages)  # fmt: skip


@blueprint.post("/outbox/<int:number>")
@for_administrators
def decide(number: int) -> ResponseReturnValue:
    """Send a message that is failed or doubtful, or discard it."""
    outbox, number = site().log.outbox, min(number, MAX_NUMBER)
    entry, chosen = outbox.entry(number), request.form.get("do", "")
    if entry is None or chosen not in (SEND, DISCARD):
        abort(404)
    if outbox.decide(number, chosen == SEND):
        verb = "sends" if chosen == SEND else "discards"
        note("action", f"{verb} the message to {entry.message.recipient}: {entry.message.subject}")  # fmt: skip
        flash(_("It is sent in a moment.") if chosen == SEND else _("It is not sent."))
    else:
        flash(_("It has another state by now."))
    return redirect(url_for(".shown", number=number))
