"""The pages of the activity log."""

import csv
import io
from collections.abc import Iterator
from datetime import datetime, time, timedelta
from itertools import islice
from urllib.parse import urlencode

from flask import (
    Blueprint,
    Response,
    abort,
    redirect,
    render_template,
    request,
    stream_with_context,
    url_for,
)
from flask.typing import ResponseReturnValue
from flask_login import current_user

from ..accounts.audit_log import KINDS, AuditQuery, Entry
from ..common import locale
from ..common.formatting import date_text
from ..common.parsing import read_date
from ..lists.export import RISKY
from ..pages.context import may_read_audit_log, note, site
from .audit_reach import seen_entries

PAGE_ENTRIES = 50
AT_ONCE = 500  # entries that are looked at together
MAX_NUMBER = 2**31 - 1  # of an entry, in any store
_HEADINGS = ("time (UTC)", "user", "origin", "action", "state", "table", "record", "title", "details",
             "field", "before", "after", "request")  # fmt: skip
blueprint = Blueprint("audit", __name__)


@blueprint.before_request
def only_for_some() -> ResponseReturnValue | None:
    """To others than those who may see the log it is not there."""
    if not current_user.is_authenticated:
        return redirect(url_for("login.sign_in"))
    if not may_read_audit_log():
        abort(404)
    return None


@blueprint.get("/log")
def entries() -> ResponseReturnValue:
    """A page of the log, the latest first."""
    log = site().log
    before = request.args.get("before", 0, type=int)
    found = log.read(_wanted(), PAGE_ENTRIES + 1, min(max(before, 0), MAX_NUMBER))
    more = found[PAGE_ENTRIES - 1].id if len(found) > PAGE_ENTRIES else 0
    kept = [(k, v) for k, v in request.args.items() if k != "before" and v]
    return render_template(
        "activity.html",
        entries=seen_entries(found[:PAGE_ENTRIES]),
        more=_address(".entries", [*kept, ("before", str(more))]) if more else "",
        export=_address(".export", kept),
        kinds=KINDS,
        tables={p.name: str(p.plural) for p in site().registry.pages.values()},
        unfinished=log.unfinished(),
        days={name: _shown_day(name) for name in ("from", "to")},
    )


def _address(endpoint: str, kept: list[tuple[str, str]]) -> str:
    return f"{url_for(endpoint)}?{urlencode(kept)}" if kept else url_for(endpoint)


def _wanted() -> AuditQuery:
    since, until = _day("from"), _day("to")
    return AuditQuery(
        name=request.args.get("name", ""),
        kind=request.args.get("kind", ""),
        table=request.args.get("table", ""),
        key=request.args.get("key", ""),
        since=since,
        until=until + timedelta(days=1) if until else None,
    )


def _day(name: str) -> datetime | None:
    typed = request.args.get(name, "")
    try:
        return datetime.combine(
            read_date(typed, locale.language(), locale.today()), time()
        )
    except ValueError:
        return None


def _shown_day(name: str) -> str:
    """Return a day that was asked for as the user's language writes it."""
    day = _day(name)
    return (
        date_text(day.date(), locale.language()) if day else request.args.get(name, "")
    )


@blueprint.get("/log.csv")
def export() -> ResponseReturnValue:
    """The log as a file for spreadsheets, a line for each field that was changed."""
    note("export", "exported the activity log")
    lines = _lines(_seen(site().log.each(_wanted())))
    answer = Response(stream_with_context(lines), mimetype="text/csv")
    answer.headers["Content-Disposition"] = 'attachment; filename="activity-log.csv"'
    return answer


def _seen(entries_: Iterator[Entry]) -> Iterator[Entry]:
    while some := list(islice(entries_, AT_ONCE)):
        yield from seen_entries(some)


def _lines(entries_: Iterator[Entry]) -> Iterator[str]:
    yield _line(_HEADINGS)
    for each in entries_:
        actor, event = each.actor, each.event
        begin = (each.at.isoformat(" ", "seconds"), actor.name, actor.origin, event.kind,
                 each.state, event.table, event.key, event.title, event.description)  # fmt: skip
        changes = [(k, old or "", new or "") for k, (old, new) in event.changes.items()]
        for change in changes or [("", "", "")]:
            yield _line((*begin, *change, actor.request))


def _line(values: tuple[str, ...]) -> str:
    """Write a line as RFC 4180 has it, without what a spreadsheet would reckon."""
    safe = [f"'{value}" if value.startswith(RISKY) else value for value in values]
    written = io.StringIO()
    csv.writer(written).writerow(safe)
    return written.getvalue()
