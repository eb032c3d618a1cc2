"""The forms of records: adding, editing, and editing one field in a cell."""

from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from flask import (
    abort,
    flash,
    jsonify,
    redirect,
    render_template,
    request,
    url_for,
)
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..access.denied import AmbiguousKey, ChangeDenied, MissingKey
from ..access.reach import UNBOUNDED
from ..accounts.audit_log import AuditEvent, Recording
from ..accounts.form_tokens import FormTokens
from ..common.url_keys import encode_key
from ..db.errors import classify
from ..editing.conflict_check import SEEN, TAKE
from ..editing.detail_row_saver import PartSaver, part_savers, saved_with
from ..editing.record_reader import RecordNotFound, RecordReader
from ..editing.record_saver import RecordSaver
from ..editing.rows_result import DetailRowsRejected
from ..editing.save_result import SaveResult
from ..editing.transactions import SaveAborted, audited
from ..files.uploads import UploadRejected
from ..forms.file_fields import REMOVE, FileField, uploads
from ..pages import urls
from ..pages.changes import ChangeRefused
from ..pages.context import actor, note, preferences, site
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..pages.urls import record_address
from ..queries.lookups import fill_lookups
from ..queries.record import record_plan
from ..related.related_records import FIXED
from .form_context import (
    AFTER_ADDING,
    AFTER_EDITING,
    ANOTHER,
    AS_VALUE,
    PIECE,
    PUT_BACK,
    SHOW,
    STAY,
    THEN,
    PartEditor,
    Typed,
    after_choice,
    came_from,
    form_page,
    home_of,
    part_editors,
    saver_of,
    seen_of,
    too_many_records,
    typed_again,
    with_return,
)
from .history_views import earlier_texts
from .lookup_views import CHOSEN, FIND, choosing
from .navigation import blueprint, key_or_404, table_or_404

ONCE = "sent-once"  # the form field with the token that lets it be saved once
LIKE = "copy-of"  # of an address: the key of what a new record begins as


@blueprint.route(urls.LIST + urls.ADD, methods=["GET", "POST"])
def add(name: str) -> ResponseReturnValue:
    """The form for a new record."""
    context = table_or_404(name, "add")
    pages = context.pages
    saver = saver_of(context)
    if request.method == "GET":
        outcome = SaveResult(saver.blank(_given(pages, saver)))
        return form_page(pages, saver, outcome, is_new=True)
    _note_beyond(pages, saver)
    typed = _typed(pages)
    outcome = SaveResult(saver.blank({}))
    if FIND in request.form or CHOSEN in request.form:
        return choosing(pages, saver, outcome, typed)
    sent, token = FormTokens(site().users.store), request.form.get(ONCE, "")
    try:
        earlier = sent.claim(token) if token else None
    except DBAPIError as error:
        outcome = typed_again(pages, saver, outcome, typed)
        outcome.refused.append(SaveAborted(classify(error).kind, False).message)
        again = (part_editors(context), typed)
        return form_page(pages, saver, outcome, is_new=True, again=again), 503
    if earlier is not None:
        flash(_("This form was already sent; it was saved once."))
        return redirect(earlier or home_of(pages))
    location = ""
    try:
        answer, location = _add(pages, saver, typed)
    finally:
        if token:
            with suppress(DBAPIError):  # it is settled by itself after a while
                sent.settle(token, location)
    return answer


def _typed(pages: TablePages) -> Typed:
    """Return the submitted values, with files stored and replaced by their tokens."""
    typed: Typed = MultiDict(request.form)
    for key, field in pages.fields.items():
        sent = request.files.get(key)
        if not isinstance(field, FileField) or sent is None or not sent.filename:
            continue
        who = actor()
        try:
            token = uploads().take(
                field.place(pages.name),
                sent.filename,
                sent.stream,
                (who.user_id or 0, who.name),
            )
        except UploadRejected as error:
            typed.setlist(f"unfit-{key}", [str(error)])
        else:
            typed.setlist(key, [token])
    return typed


def _add(
    pages: TablePages, saver: RecordSaver, typed: Typed
) -> tuple[ResponseReturnValue, str]:
    """Add the record of a form that was sent; return the answer, and where the record
    is, "" when none was added."""
    name = pages.name
    outcome = SaveResult(saver.blank({}))
    editors = part_editors(saver.context)
    rows = part_savers(editors)

    def work(connection: Connection, recording: Recording) -> SaveResult:
        outcome = saver.add(connection, typed)
        if outcome.key:
            _save_rows(
                saver.context.on(connection),
                outcome.key,
                rows,
                typed,
                recording,
            )
            told = audited(saver.context.on(connection), outcome.key)
            event = AuditEvent("add", name, outcome.key, changes=outcome.changes)
            recording.mean(actor(), event.entitled(*told))
        return outcome

    status = 422
    try:
        outcome = saved_with(rows, work)
    except SaveAborted as error:
        outcome, status = typed_again(pages, saver, outcome, typed), 503
        outcome.refused.append(error.message)
    except DetailRowsRejected:
        outcome = typed_again(pages, saver, outcome, typed)
    except (DBAPIError, ChangeDenied, OverflowError, ChangeRefused) as error:
        outcome = _refused(pages, saver, outcome, error, typed)
        status = outcome.status
    if not outcome.key:
        page = form_page(pages, saver, outcome, is_new=True, again=(editors, typed))
        return (page, status), ""
    _settle_files(pages, saver, outcome, typed)
    location = record_address(name, outcome.key)
    if PIECE in request.args:
        return _as_choice(saver.context, outcome.key), location
    flash(_("%(noun)s added.", noun=pages.singular))
    return redirect(_behind_added(saver.context, location, outcome.key)), location


def _as_choice(context: TableContext, segment: str) -> ResponseReturnValue:
    """Return a record that was added in a dialog as a lookup chooses it."""
    wanted = request.args.get(AS_VALUE, "")
    with site().database.reading() as connection:
        plan = record_plan(context)
        record = plan.read(connection, key_or_404(context, segment))
    if record is None or wanted not in record.values:
        return jsonify({})
    return jsonify({"value": str(record.values[wanted]), "text": record.title})


def _behind_added(context: TableContext, location: str, segment: str) -> str:
    """Return where one goes when a record was added."""
    then = _then(is_new=True)
    if then == ANOTHER:
        return with_return(url_for(".add", name=context.pages.name))
    if then == STAY and not _is_left_out(context, segment):
        return with_return(location + urls.EDIT)
    return came_from() or location


def _then(is_new: bool) -> str:
    """Return where one goes after a save, and remember it for the next."""
    then = request.form.get(THEN, SHOW)
    if then in (SHOW, STAY, ANOTHER) and then != after_choice(is_new):
        name = AFTER_ADDING if is_new else AFTER_EDITING
        preferences().set(name, "" if then == SHOW else then)
    return then


def _given(pages: TablePages, saver: RecordSaver) -> dict[str, str]:
    """Return the initial values of a new record: those of the address, and, for one
    that is to be like another, what that holds and no other may not hold too."""
    given = request.args.to_dict()
    like = given.pop(LIKE, "")
    given.pop(FIXED, "")
    if like:
        with site().database.reading() as connection:
            given = saver.like(connection, key_or_404(saver.context, like)) | given
    return given


@blueprint.route(urls.RECORD + urls.EDIT, methods=["GET", "POST"])
def edit(name: str, segment: str) -> ResponseReturnValue:
    """The form of a record."""
    context = table_or_404(name, "edit")
    pages = context.pages
    key = key_or_404(context, segment)
    saver = saver_of(context)
    typed = _typed(pages)
    editors = part_editors(context) if request.method == "POST" else []
    try:
        if request.method == "GET" or FIND in typed or CHOSEN in typed:
            with site().database.reading() as connection:
                outcome = saver.stored(connection, key)
            if request.method == "GET":
                _put_back(pages, saver, outcome, segment)
            if request.method == "POST":
                return choosing(pages, saver, outcome, typed, segment)
            return form_page(pages, saver, outcome, segment=segment)
        outcome = save_fields(pages, saver, key, typed, editors)
    except RecordNotFound:
        abort(404)
    except (SaveAborted, DetailRowsRejected) as error:
        outcome = _unsaved(pages, saver, typed)
        status = 422
        if isinstance(error, SaveAborted):
            outcome.refused.append(error.message)
            status = 503
        again = (editors, typed)
        page = form_page(pages, saver, outcome, segment=segment, again=again)
        return page, status
    if not outcome.key:
        status = 409 if outcome.conflicts else outcome.status
        again = (editors, typed)
        page = form_page(pages, saver, outcome, segment=segment, again=again)
        return page, status
    flash(_("Saved."))
    then = _then(is_new=False)
    if _is_left_out(context, outcome.key):
        return redirect(home_of(pages))
    if then == STAY:
        return redirect(record_address(name, outcome.key) + urls.EDIT)
    return redirect(record_address(name, outcome.key))


def _unsaved(pages: TablePages, saver: RecordSaver, typed: Typed) -> SaveResult:
    """Return the form of a stored record as it was typed, without the database: with
    the fields that it had, by what it says that its user saw."""
    seen = seen_of(typed)
    return typed_again(pages, saver, saver.unsaved(seen), typed)


@blueprint.route(urls.RECORD + urls.FIELD + "<column>", methods=["GET", "POST"])
def edit_field(name: str, segment: str, column: str) -> ResponseReturnValue:
    """One field of a record, edited in its cell of a list: a piece of a page. It
    goes the way of the whole form, with all that is checked there."""
    context = table_or_404(name, "edit")
    pages = context.pages
    key = key_or_404(context, segment)
    if not pages.list.is_edited or column in pages.key:
        abort(404)
    saver = saver_of(context)
    sent = _typed(pages)
    try:
        if request.method == "GET":
            with site().database.reading() as connection:
                outcome = saver.stored(connection, key)
        else:
            own = (column, SEEN + column, TAKE + column, f"unfit-{column}")
            typed: Typed = MultiDict()
            for each in own:
                if each in sent:
                    typed.setlist(each, sent.getlist(each))
            outcome = save_fields(pages, saver, key, typed)
    except RecordNotFound:
        abort(404)
    except SaveAborted as error:
        abort(503, description=error.message)
    if column not in saver.entered:
        abort(403)
    if outcome.key:
        return _cell(context, outcome.key, column)
    with site().database.reading() as connection:
        fill_lookups(context.on(connection), outcome.form, [column])
    mistakes = [
        each for each in outcome.form.mistakes() if each[2] != f"field-{column}"
    ]
    page = render_template(
        "_field.html",
        pages=pages,
        field=outcome.form[column],
        seen=(SEEN + column, outcome.seen.get(SEEN + column, "")),
        conflict=outcome.conflicts.get(column),
        refused=[f"{label}: {message}" for label, message, _id in mistakes]
        + [str(each) for each in outcome.refused],
        address=record_address(name, segment) + urls.FIELD + column,
    )
    status = 409 if outcome.conflicts else outcome.status
    return page, 200 if request.method == "GET" else status


def _cell(context: TableContext, segment: str, column: str) -> ResponseReturnValue:
    """Return the cell of a field that was just saved; nothing of a record that
    is no longer there for the user."""
    with site().database.reading() as connection:
        plan = record_plan(context)
        found = plan.read(connection, key_or_404(context, segment))
    fact = found.fact(column) if found is not None else None
    return fact.cell.__html__() if fact is not None else ""


def _is_left_out(context: TableContext, segment: str) -> bool:
    """Tell whether a record that was saved no longer exists for the application."""
    pages = context.pages
    if context.reach.rows(pages.table) is pages.table:
        return False
    with site().database.reading() as connection:
        plan = record_plan(context)
        return plan.read(connection, context.key_values(segment)) is None


def _save_rows(
    context: TableContext,
    segment: str,
    rows: Sequence[PartSaver],
    typed: Typed,
    recording: Recording,
) -> None:
    if not rows:
        return
    plan = record_plan(context)
    record = plan.read(context.connection, context.key_values(segment))
    if record is None:
        raise ChangeDenied("")
    refused = False
    for each in rows:
        try:
            with context.connection.begin_nested():  # the others are looked at too
                each.save(context.connection, record.values, typed, recording)
        except DetailRowsRejected:
            refused = True
    if refused:
        raise DetailRowsRejected


def save_fields(
    pages: TablePages,
    saver: RecordSaver,
    key: dict[str, Any],
    typed: Typed,
    editors: Sequence[PartEditor] = (),
) -> SaveResult:
    rows = part_savers(editors)

    def work(connection: Connection, recording: Recording) -> SaveResult:
        if rows:
            saver.reach.lock(connection, pages.table, key)
        for each in rows:
            each.lock(connection, key)
        outcome = saver.edit(connection, key, typed)
        _note_beyond(pages, saver)
        segment = encode_key(tuple(key.values()))
        here = outcome.key or segment
        try:
            _save_rows(
                saver.context.on(connection),
                here,
                rows,
                typed,
                recording,
            )
        except DetailRowsRejected:
            if outcome.key:
                raise
        if not outcome.key:
            raise _NotSaved(outcome)
        if outcome.changes:
            told = audited(saver.context.on(connection), outcome.key)
            event = AuditEvent(
                "edit",
                pages.name,
                segment,
                changes=outcome.changes,
                texts=outcome.texts,
            )
            recording.mean(actor(), event.entitled(*told))
        return outcome

    try:
        outcome = saved_with(rows, work)
    except _NotSaved as refused:
        return refused.outcome
    except (DBAPIError, ChangeDenied, OverflowError, ChangeRefused) as error:
        with site().database.reading() as connection:
            outcome = saver.stored(connection, key)
        return _refused(pages, saver, outcome, error, typed)
    _settle_files(pages, saver, outcome, typed)
    return outcome


class _NotSaved(Exception):
    """A form has mistakes, or somebody changed its record: nothing is kept, though its
    rows were looked at too."""

    def __init__(self, outcome: SaveResult) -> None:
        super().__init__("not saved")
        self.outcome = outcome


def _put_back(
    pages: TablePages, saver: RecordSaver, outcome: SaveResult, segment: str
) -> None:
    """Fill the values from before a change into the form, where the address says so."""
    number = request.args.get(PUT_BACK, 0, type=int)
    texts = earlier_texts(saver.context, segment, number)
    saver.put_back(outcome, texts)


def _settle_files(
    pages: TablePages, saver: RecordSaver, outcome: SaveResult, typed: Typed
) -> None:
    """Keep the files of a record that was saved, and let those go that it had
    before."""
    for key in saver.entered:
        field = pages.fields[key]
        if not isinstance(field, FileField):
            continue
        token = field.gather(typed.getlist(key))
        if token and token != REMOVE and key in outcome.written:
            if field.folder:
                uploads().keep(token, outcome.key)
            else:
                uploads().drop(token)  # the database has it
        if key in outcome.written:
            let_go(pages, key, outcome.replaced.get(key))


def let_go(pages: TablePages, key: str, name: Any) -> None:
    """Remove the file of a field whose record no longer has it, unless another has."""
    field = pages.fields[key]
    if not isinstance(field, FileField) or not field.folder:
        return  # no file of ours
    if not isinstance(name, str):
        return

    def is_used() -> bool:
        with site().database.reading() as connection:
            return any(
                RecordReader(TableContext(site(), each, UNBOUNDED)).is_held(
                    connection, column, name
                )
                for each in site().registry.pages.values()
                for column, other in each.fields.items()
                if isinstance(other, FileField) and other.folder == field.folder
            )

    uploads().let_go(field.place(pages.name), name, is_used)


def _refused(
    pages: TablePages,
    saver: RecordSaver,
    outcome: SaveResult,
    error: Exception,
    typed: Typed,
) -> SaveResult:
    """Return the form with what was typed, and why it was not saved."""
    outcome = typed_again(pages, saver, outcome, typed)
    if isinstance(error, DBAPIError):
        saver.checks.refuse(outcome, error)
    elif isinstance(error, ChangeRefused):
        outcome.status = error.status
        if error.field in outcome.form._fields:
            outcome.form.add_error(error.field, error.message)
        else:
            outcome.refused.append(error.message)
    elif isinstance(error, AmbiguousKey):
        outcome.refused.append(too_many_records(pages))
    elif isinstance(error, MissingKey):
        outcome.refused.append(
            _("The database gave this record no key. Nothing was saved.")
        )
    elif isinstance(error, OverflowError):
        outcome.refused.append(_("A number is too large for the database."))
    else:
        outcome.refused.append(
            _(
                "You could no longer change the record with these values. Nothing "
                "was saved."
            )
        )
    return outcome


def _note_beyond(pages: TablePages, saver: RecordSaver) -> None:
    """Note fields of the table that were sent and that no form offers this user: they
    are ignored."""
    beyond = sorted(set(request.form) & set(pages.column_keys()) - set(saver.entered))
    if beyond:
        words = f"fields that the form does not offer: {', '.join(beyond)}"
        note("refusal", words, table=pages.name)
