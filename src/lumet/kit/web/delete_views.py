"""The pages that delete a record: its dependent records are listed first. Where records
are only marked as deleted, they can be brought back."""

from dataclasses import dataclass
from typing import Any

from flask import abort, flash, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError

from ..access.denied import AccessDenied, AmbiguousKey
from ..accounts.audit_log import MARKED, AuditEvent, Recording
from ..db.errors import classify, not_allowed
from ..deletion.cascades import beyond_delete
from ..deletion.delete_impact import DeleteImpact, find_delete_impact
from ..editing.record_saver import RecordSaver
from ..editing.transactions import SaveAborted, owners_of, run_in_transaction
from ..pages import urls
from ..pages.changes import ChangeRefused
from ..pages.context import actor, site
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..pages.urls import left_list, record_address
from ..queries.record import Record, record_plan
from .edit_views import let_go
from .form_context import saver_of, too_many_records
from .navigation import blueprint, key_or_404, table_or_404

__all__ = ["blueprint"]

LOOK_SECONDS = 3.0  # for each relation of dependent records
SEEN = "seen"  # the form field with the digest of what was seen of a record


@dataclass(frozen=True, slots=True)
class DeletedRecord:
    """A record to be deleted, its dependent records, and the state that its user saw;
    `is_kept`: it is marked alone, and can be brought back."""

    record: Record
    found: DeleteImpact
    seen: str
    is_kept: bool


@blueprint.route(urls.RECORD + urls.DELETE, methods=["GET", "POST"])
def delete(name: str, segment: str) -> ResponseReturnValue:
    """The question before a delete, with all that it would do."""
    context = table_or_404(name, "delete")
    pages = context.pages
    key = key_or_404(context, segment)
    saver = saver_of(context)
    asked = _look(context, saver, key)
    refused = ""
    if request.method == "POST" and not asked.found.prevented_by:
        refused = _delete(context, saver, key, segment, asked)
        if not refused:
            if not asked.is_kept:
                _let_files_go(pages, asked.record)
            flash(_("%(title)s was deleted.", title=asked.record.title))
            home = left_list(name) if pages.has_list else url_for(".front")
            return redirect(home)
        asked = _look(context, saver, key)  # somebody was quicker
    page = render_template(
        pages.templates("delete.html"),
        pages=pages,
        record=asked.record,
        found=asked.found,
        is_kept=asked.is_kept,
        refused=refused,
        seen=asked.seen,
        address=record_address(name, segment),
    )
    return page, 409 if request.method == "POST" else 200


def _look(
    context: TableContext, saver: RecordSaver, key: dict[str, Any]
) -> DeletedRecord:
    pages = context.pages
    with site().database.reading(LOOK_SECONDS) as connection:
        record = record_plan(context).read(connection, key)
        if record is None:
            abort(404)
        if not context.reach.reaching(connection, pages.table, key, "delete"):
            abort(403)
        is_removed = saver.reader.is_removed(connection, key)
        is_kept = bool(pages.soft_delete) and not is_removed
        found = DeleteImpact()
        if not is_kept:
            found = find_delete_impact(context.on(connection), key)
        return DeletedRecord(
            record, found, saver.conflicts.digest(connection, key), is_kept
        )


def _delete(
    context: TableContext,
    saver: RecordSaver,
    key: dict[str, Any],
    segment: str,
    asked: DeletedRecord,
) -> str:
    """Delete the record; return why it was not, "" when it was."""
    pages, reach = context.pages, context.reach

    def work(connection: Connection, recording: Recording) -> str:
        reach.lock(connection, pages.table, key)
        if request.form.get(SEEN, "") not in (
            "",
            saver.conflicts.digest(connection, key),
        ):
            return str(_("Another user changed this record. Check it and try again."))
        if asked.is_kept:
            if not saver.changes.remove(connection, key):
                abort(404)
        else:
            if beyond_delete(context.on(connection), key):
                abort(403)
            if not saver.changes.erase(connection, key):
                abort(404)
        _tell(connection, recording)
        return ""

    def _tell(connection: Connection, recording: Recording) -> None:
        record = asked.record
        facts = [fact for _name, held in record.sections for fact in held]
        gone = {fact.label: (str(fact.cell.text), None) for fact in facts}
        words = MARKED if asked.is_kept else ""
        told = AuditEvent(
            "delete", pages.name, segment, description=words, changes=gone
        )
        owners = owners_of(context.on(connection), record.values)
        recording.mean(actor(), told.entitled(record.title, owners))

    try:
        return run_in_transaction(work)
    except SaveAborted as error:
        return error.message
    except AmbiguousKey:
        return too_many_records(pages)
    except ChangeRefused as refused:
        return refused.message
    except DBAPIError as error:
        told = classify(error)
        text = _("The database rejected the deletion: another record refers to "
                 "this one. Nothing was deleted.")  # fmt: skip
        if told.kind != "reference":
            text = not_allowed(told)
        return str(text)


def _let_files_go(pages: TablePages, record: Record) -> None:
    for column, value in record.values.items():
        if column in pages.fields:
            let_go(pages, column, value)


@blueprint.post(urls.RECORD + urls.RESTORE)
def restore(name: str, segment: str) -> ResponseReturnValue:
    """Bring back a record that was marked as deleted."""
    context = table_or_404(name, "delete")
    pages = context.pages
    key = key_or_404(context, segment)
    if not pages.soft_delete:
        abort(404)
    saver = saver_of(context)
    asked = _look(context, saver, key)

    def work(connection: Connection, recording: Recording) -> None:
        context.reach.lock(connection, pages.table, key)
        if not saver.reader.is_removed(connection, key):
            return
        if not saver.changes.restore(connection, key):
            abort(404)
        owners = owners_of(context.on(connection), asked.record.values)
        told = AuditEvent("restore", pages.name, segment)
        recording.mean(actor(), told.entitled(asked.record.title, owners))

    try:
        run_in_transaction(work)
    except SaveAborted as error:
        abort(503, description=error.message)
    except AccessDenied:
        abort(403)
    except ChangeRefused as refused:
        flash(refused.message)
        return redirect(record_address(name, segment))
    flash(_("%(title)s was restored.", title=asked.record.title))
    return redirect(record_address(name, segment))
