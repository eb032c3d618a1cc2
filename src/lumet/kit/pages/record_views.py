"""The pages of records: shown, added, edited and deleted."""

import random
import secrets
import time
from collections.abc import Callable
from typing import Any

from flask import (
    Response,
    abort,
    current_app,
    flash,
    jsonify,
    redirect,
    render_template,
    request,
    url_for,
)
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from sqlalchemy import Connection, select
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..accounts.log import Deed, Entry, Recording, Wanted, recorded
from ..accounts.sent import SentForms
from ..addresses import encode_key
from ..fields import PictureField
from ..reach import LeavesReach, Reach
from ..refusals import is_passing, meaning
from .deleting import beyond_delete, consequences
from .lookups import FOUND_AT_ONCE, fill_lookups, lookup_plan
from .model import TablePages
from .pictures import NoPicture, small_picture
from .record import Record, read_blocks, record_plan
from .saving import SEEN, TAKE, Broken, Gone, Outcome, Saver
from .site import (
    actor,
    add_address,
    key_values,
    list_address,
    note,
    record_address,
    site,
)
from .views import blueprint, key_of, pages_of

__all__ = ["blueprint"]

TRIES = 8  # at a transaction that others got in the way of
ONCE = "once"  # the form field with the token that lets it be saved once
RETURN = "return-to"  # the form field that says where one came from


def _record(pages: TablePages, within: Reach, connection: Any, segment: str) -> Record:
    plan = record_plan(site(), pages, within)
    found = plan.read(connection, key_of(pages, segment))
    if found is None:
        abort(404)
    return found


@blueprint.get("/t/<name>/r/<segment>")
def show_record(name: str, segment: str) -> ResponseReturnValue:
    """One record and what refers to it."""
    pages, within = pages_of(name)
    if not pages.key:
        abort(404)
    with site().database.reading() as connection:
        record = _record(pages, within, connection, segment)
        blocks = read_blocks(site(), connection, pages, within, record)
        key = key_of(pages, segment)
        may = {
            change: pages.takes(change)
            and bool(within.reaching(connection, pages.table, key, change))
            for change in ("edit", "delete")
        }
    adds = pages.takes("add") and within.may("add", pages.table.fullname)
    return render_template(
        "record.html",
        pages=pages,
        copy=f"{add_address(name)}?like={segment}" if adds else "",
        record=record,
        blocks=blocks,
        address=record_address(name, segment),
        may=may,
    )


@blueprint.get("/t/<name>/r/<segment>/picture/<column>")
def picture(name: str, segment: str, column: str) -> ResponseReturnValue:
    """A picture of a record, made small."""
    pages, within = pages_of(name)
    shown = pages.fields.get(column)
    if not pages.key or not isinstance(shown, PictureField):
        abort(404)
    if within.hides(pages.table.fullname, column):
        abort(404)
    rows = within.rows(pages.table)
    key = key_of(pages, segment)
    statement = select(rows.c[column]).where(*[rows.c[k] == v for k, v in key.items()])
    with site().database.reading() as connection:
        raw = within.run(connection, statement).scalar()
    try:
        small, kind = small_picture(bytes(raw or b""))
    except NoPicture:
        abort(404)
    answer = Response(small, content_type=kind)
    answer.headers["Cache-Control"] = "private, max-age=60"
    return answer


def _written(work: Callable[[Connection, Recording], Outcome]) -> Outcome:
    """Carry out `work` in one transaction; again, from its beginning, where transactions
    got in each other's way."""
    for tried in range(TRIES):
        try:
            with (
                recorded(site().log) as recording,
                site().database.writing() as connection,
            ):
                return work(connection, recording)
        except DBAPIError as error:
            if tried == TRIES - 1 or not is_passing(error):
                raise
        time.sleep(random.uniform(0.01, 0.05) * (tried + 1))
    raise AssertionError


def _saver(pages: TablePages, within: Reach) -> Saver:
    return Saver(site(), pages, within, current_app.config["SECRET_KEY"])


@blueprint.route("/t/<name>/add", methods=["GET", "POST"])
def add(name: str) -> ResponseReturnValue:
    """The form for a new record."""
    pages, within = pages_of(name, "add")
    saver = _saver(pages, within)
    if request.method == "GET":
        outcome = Outcome(saver.blank(_given(pages, saver)))
        return _form_page(pages, saver, outcome, is_new=True)
    _note_beyond(pages, saver)
    sent, token = SentForms(site().users.store), request.form.get(ONCE, "")
    earlier = sent.claim(token) if token else None
    if earlier is not None:
        flash(_("This form was sent before; it was saved once."))
        return redirect(earlier or _home(pages))
    location = ""
    try:
        answer, location = _add(pages, within, saver)
    finally:
        if token:
            sent.settle(token, location)
    return answer


def _add(
    pages: TablePages, within: Reach, saver: Saver
) -> tuple[ResponseReturnValue, str]:
    """Add the record of a form that was sent; return the answer, and where the record
    is, "" when none was added."""
    name = pages.name
    outcome = Outcome(saver.blank({}))

    def work(connection: Connection, recording: Recording) -> Outcome:
        outcome = saver.add(connection, request.form)
        if outcome.key:
            title = _title(pages, within, connection, outcome.key)
            told = Deed("add", name, outcome.key, title, changes=outcome.changes)
            recording.begin(actor(), told)
        return outcome

    try:
        outcome = _written(work)
    except (DBAPIError, LeavesReach, OverflowError, Broken) as error:
        outcome = _refused(pages, saver, outcome, error)
    if not outcome.key:
        return (_form_page(pages, saver, outcome, is_new=True), 422), ""
    flash(_("%(noun)s added.", noun=pages.singular))
    location = record_address(name, outcome.key)
    return redirect(_behind_added(pages, within, location, outcome.key)), location


def _behind_added(pages: TablePages, within: Reach, location: str, segment: str) -> str:
    """Return where one goes when a record was added."""
    if request.form.get("then") == "another":
        return _with_return(url_for(".add", name=pages.name))
    if request.form.get("then") == "here" and not _is_left_out(pages, within, segment):
        return _with_return(f"{location}/edit")
    return _came_from() or location


def _given(pages: TablePages, saver: Saver) -> dict[str, str]:
    """Return what a new record begins with: what the address gives, and, for one that is
    to be like another, what that holds and no other may not hold too."""
    given = request.args.to_dict()
    like = given.pop("like", "")
    if like:
        with site().database.reading() as connection:
            given = saver.like(connection, key_of(pages, like)) | given
    return given


@blueprint.route("/t/<name>/r/<segment>/edit", methods=["GET", "POST"])
def edit(name: str, segment: str) -> ResponseReturnValue:
    """The form of a record."""
    pages, within = pages_of(name, "edit")
    key = key_of(pages, segment)
    saver = _saver(pages, within)
    try:
        if request.method == "GET":
            with site().database.reading() as connection:
                outcome = saver.stored(connection, key)
            return _form_page(pages, saver, outcome, segment=segment)
        outcome = _save(pages, saver, key, request.form)
    except Gone:
        abort(404)
    if not outcome.key:
        status = 409 if outcome.conflicts else 422
        return _form_page(pages, saver, outcome, segment=segment), status
    flash(_("Saved."))
    if _is_left_out(pages, within, outcome.key):
        return redirect(_home(pages))
    if request.form.get("then") == "here":
        return redirect(f"{record_address(name, outcome.key)}/edit")
    return redirect(record_address(name, outcome.key))


@blueprint.route("/t/<name>/r/<segment>/field/<column>", methods=["GET", "POST"])
def edit_field(name: str, segment: str, column: str) -> ResponseReturnValue:
    """One field of a record, edited where it stands in a list: a piece of a page. It
    goes the way of the whole form, with all that is checked there."""
    pages, within = pages_of(name, "edit")
    key = key_of(pages, segment)
    if not pages.in_place or column in pages.key:
        abort(404)
    saver = _saver(pages, within)
    try:
        if request.method == "GET":
            with site().database.reading() as connection:
                outcome = saver.stored(connection, key)
        else:
            own = (column, SEEN + column, TAKE + column)
            typed = [(name, request.form[name]) for name in own if name in request.form]
            outcome = _save(pages, saver, key, MultiDict(typed))
    except Gone:
        abort(404)
    if column not in saver.entered:
        abort(403)
    if outcome.key:
        return _cell(pages, within, outcome.key, column)
    with site().database.reading() as connection:
        fill_lookups(site(), connection, pages, outcome.form, within, [column])
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
        address=f"{record_address(name, segment)}/field/{column}",
    )
    status = 409 if outcome.conflicts else 422
    return page, 200 if request.method == "GET" else status


def _cell(
    pages: TablePages, within: Reach, segment: str, column: str
) -> ResponseReturnValue:
    """Return what a list shows of a field that was just saved; nothing of a record that
    is no longer there for the user."""
    with site().database.reading() as connection:
        plan = record_plan(site(), pages, within)
        found = plan.read(connection, key_of(pages, segment))
    if found is None:
        return "", 200
    label = pages.label(column)
    facts = [fact for _name, held in found.sections for fact in held]
    return next((f.cell.__html__() for f in facts if f.label == label), "")


def _is_left_out(pages: TablePages, within: Reach, segment: str) -> bool:
    """Tell whether a record that was saved no longer exists for the application."""
    if within.rows(pages.table) is pages.table:
        return False
    with site().database.reading() as connection:
        plan = record_plan(site(), pages, within)
        return plan.read(connection, key_values(site(), pages, segment)) is None


def _raise_if_busy(error: DBAPIError) -> None:
    """Leave it to the page for a busy database, when that is what it is."""
    if meaning(error).kind == "busy" or error.connection_invalidated:
        raise error


def _save(
    pages: TablePages, saver: Saver, key: dict[str, Any], typed: MultiDict[str, str]
) -> Outcome:
    def work(connection: Connection, recording: Recording) -> Outcome:
        outcome = saver.edit(connection, key, typed)
        _note_beyond(pages, saver)
        if outcome.key and outcome.changes:
            segment = encode_key(tuple(key.values()))
            title = _title(pages, saver.reach, connection, outcome.key)
            changes = outcome.changes
            told = Deed("edit", pages.name, segment, title, changes=changes)
            recording.begin(actor(), told)
        return outcome

    try:
        return _written(work)
    except (DBAPIError, LeavesReach, OverflowError, Broken) as error:
        if isinstance(error, DBAPIError):
            _raise_if_busy(error)
        with site().database.reading() as connection:
            outcome = saver.stored(connection, key)
        return _refused(pages, saver, outcome, error)


def _title(pages: TablePages, within: Reach, connection: Any, segment: str) -> str:
    """Return the title of a record by its key in an address, "" where it is beyond
    reach."""
    plan = record_plan(site(), pages, within)
    found = plan.read(connection, key_of(pages, segment)) if pages.key else None
    return found.title if found else ""


def _refused(
    pages: TablePages, saver: Saver, outcome: Outcome, error: Exception
) -> Outcome:
    """Return the form with what was typed, and why it was not saved."""
    if isinstance(error, DBAPIError):
        _raise_if_busy(error)
    outcome = _typed_again(pages, saver, outcome)
    if isinstance(error, DBAPIError):
        saver.refuse(outcome, error)
    elif isinstance(error, Broken):
        at = error.rule.key
        if at in outcome.form._fields:
            outcome.form.add_error(at, error.rule.message)
        else:
            outcome.refused.append(str(error.rule.message))
    elif isinstance(error, OverflowError):
        outcome.refused.append(_("A number is too large for the database."))
    else:
        outcome.refused.append(
            _("This would put the record, or a part of it, beyond what you may change.")
        )
    return outcome


def _note_beyond(pages: TablePages, saver: Saver) -> None:
    """Note fields of the table that were sent and that no form offers this user: they
    are ignored."""
    beyond = sorted(set(request.form) & set(pages.column_keys()) - set(saver.entered))
    if beyond:
        words = f"fields that the form does not offer: {', '.join(beyond)}"
        note("refusal", words, table=pages.name)


def _typed_again(pages: TablePages, saver: Saver, outcome: Outcome) -> Outcome:
    """Return the form with what was typed, after the database refused it."""
    form = pages.form(formdata=MultiDict(request.form))
    form.is_new = outcome.form.is_new
    for key in set(form._fields) - set(saver.entered):
        del form._fields[key]
    return Outcome(form, seen=outcome.seen)


def _form_page(
    pages: TablePages,
    saver: Saver,
    outcome: Outcome,
    is_new: bool = False,
    segment: str = "",
) -> str:
    form, within, entered = outcome.form, saver.reach, saver.entered
    with site().database.reading() as connection:
        fill_lookups(site(), connection, pages, form, within, entered)
        record = None if is_new else _record(pages, within, connection, segment)
    chosen = pages.on_add if is_new else pages.on_edit
    return render_template(
        "form.html",
        pages=pages,
        form=form,
        sections=pages.placed(entered, chosen),
        outcome=outcome,
        mistakes=form.mistakes(),
        record=record,
        is_new=is_new,
        cancel=_came_from()
        or (record_address(pages.name, segment) if segment else _home(pages)),
        came_from=_came_from(),
        once=secrets.token_urlsafe(12) if is_new else "",
        changed=_last_change(pages, segment) if outcome.conflicts else None,
    )


def _last_change(pages: TablePages, segment: str) -> Entry | None:
    """Return who changed a record last, and when, by the activity log."""
    wanted = Wanted(kind="edit", table=pages.name, key=segment)
    return next(iter(site().log.read(wanted, 1)), None)


def _home(pages: TablePages) -> str:
    """Return where one goes when a record is left: its list, where there is one."""
    return list_address(pages.name) if pages.listed else url_for(".front")


def _came_from() -> str:
    """Return the address to go back to, only one of this application's own."""
    address = request.form.get(RETURN) or request.args.get(RETURN) or ""
    own = address.startswith(request.script_root + "/t/")
    plain = not any(odd in address for odd in ("//", "\\", "\n", "\r"))
    return address if own and plain else ""


def _with_return(address: str) -> str:
    came_from = _came_from()
    if not came_from:
        return address
    return f"{address}?{RETURN}={came_from}"


@blueprint.route("/t/<name>/r/<segment>/delete", methods=["GET", "POST"])
def delete(name: str, segment: str) -> ResponseReturnValue:
    """The question before a delete, with all that it would do."""
    pages, within = pages_of(name, "delete")
    key = key_of(pages, segment)
    refused = False
    with site().database.reading() as connection:
        record = _record(pages, within, connection, segment)
        if not within.reaching(connection, pages.table, key, "delete"):
            abort(403)
        found = consequences(site(), connection, pages, within, record, key)
    if request.method == "POST" and not found.forbids:
        try:
            with (
                recorded(site().log) as recording,
                site().database.writing() as connection,
            ):
                if beyond_delete(site(), connection, pages, within, key):
                    abort(403)
                if not within.delete(connection, pages.table, key):
                    abort(404)
                gone = {
                    fact.label: (str(fact.cell.text), None)
                    for _name, facts in record.sections
                    for fact in facts
                }
                told = Deed("delete", name, segment, record.title, changes=gone)
                recording.begin(actor(), told)
        except DBAPIError as error:
            _raise_if_busy(error)
            refused = True
        else:
            flash(_("%(title)s was deleted.", title=record.title))
            return redirect(_home(pages))
    page = render_template(
        "delete.html",
        pages=pages,
        record=record,
        found=found,
        refused=refused,
        address=record_address(name, segment),
    )
    return page, 409 if request.method == "POST" else 200


@blueprint.get("/t/<name>/choices/<column>")
def choices(name: str, column: str) -> ResponseReturnValue:
    """The records that a lookup may choose, by what was typed: value and title."""
    pages, within = pages_of(name)
    reference = pages.lookups.get(column)
    if reference is None or within.hides(pages.table.fullname, column):
        abort(404)
    if not within.may("view", site().registry[reference.target].table.fullname):
        abort(404)
    plan = lookup_plan(site(), reference, within)
    with site().database.reading() as connection:
        found = plan.find(connection, request.args.get("q", "")[:100], FOUND_AT_ONCE)
    return jsonify([{"value": value, "text": title} for value, title in found])
