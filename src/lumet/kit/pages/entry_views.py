"""The forms of records: adding, editing, choosing what they refer to."""

import secrets
from collections.abc import Sequence
from typing import Any

from flask import (
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
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..accounts.log import Deed, Entry, Recording, Wanted
from ..accounts.sent import SentForms
from ..addresses import encode_key
from ..fields import LookupField
from ..files import REMOVE, FileField, uploads
from ..reach import UNBOUNDED, LeavesReach, Reach
from ..uploads import Refused
from .blocks import FIXED, fixed_columns
from .lookups import Lookup, Option, fill_lookups
from .model import Related, TablePages
from .record import Record, record_plan
from .rows import Rows, RowsEditor, RowsRefused
from .saving import SEEN, TAKE, Broken, Gone, Outcome, Saver
from .site import (
    actor,
    add_address,
    key_values,
    left_list,
    note,
    record_address,
    site,
)
from .views import blueprint, key_of, pages_of
from .writing import BrokenOff, title_of, written

LONGEST_SEARCH = 100  # characters
ONCE = "sent-once"  # the form field with the token that lets it be saved once
RETURN = "return-to"  # the form field that says where one came from
# what is no field has a hyphen in its name, as no column's key has
FIND, CHOSEN, SEARCH = (
    "find-for",
    "chosen-as",
    "find-what",
)  # the parts of choosing without a script
THEN = "save-then"  # the buttons that say where one goes behind a save
LIKE = "copy-of"  # of an address: the key of what a new record begins as
AS_VALUE = "choose-by"  # of an address: the column that a lookup chooses by
PUT_BACK = "put-back"  # of an address: the number of the change to undo
PIECE = "as-piece"  # of an address: the form alone, for a dialog
Typed = MultiDict[str, str]


def saver_of(pages: TablePages, within: Reach) -> Saver:
    """Return what saves the forms of a table for the present user."""
    return Saver(site(), pages, within, current_app.config["SECRET_KEY"])


@blueprint.route("/t/<name>/add", methods=["GET", "POST"])
def add(name: str) -> ResponseReturnValue:
    """The form for a new record."""
    pages, within = pages_of(name, "add")
    saver = saver_of(pages, within)
    if request.method == "GET":
        outcome = Outcome(saver.blank(_given(pages, saver)))
        return _form_page(pages, saver, outcome, is_new=True)
    _note_beyond(pages, saver)
    typed = _typed(pages)
    outcome = Outcome(saver.blank({}))
    if FIND in request.form or CHOSEN in request.form:
        return _choosing(pages, saver, outcome, typed)
    sent, token = SentForms(site().users.store), request.form.get(ONCE, "")
    earlier = sent.claim(token) if token else None
    if earlier is not None:
        flash(_("This form was sent before; it was saved once."))
        return redirect(earlier or _home(pages))
    location = ""
    try:
        answer, location = _add(pages, saver, typed)
    finally:
        if token:
            sent.settle(token, location)
    return answer


def _typed(pages: TablePages) -> Typed:
    """Return what was sent, with the files stored and named by their tokens."""
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
        except Refused as error:
            typed.setlist(f"unfit-{key}", [str(error)])
        else:
            typed.setlist(key, [token])
    return typed


def _add(
    pages: TablePages, saver: Saver, typed: Typed
) -> tuple[ResponseReturnValue, str]:
    """Add the record of a form that was sent; return the answer, and where the record
    is, "" when none was added."""
    name, within = pages.name, saver.reach
    outcome = Outcome(saver.blank({}))
    editors = _row_editors(pages, within)

    def work(connection: Connection, recording: Recording) -> Outcome:
        outcome = saver.add(connection, typed)
        if outcome.key:
            _save_rows(
                pages, within, connection, outcome.key, editors, typed, recording
            )
            title = title_of(pages, within, connection, outcome.key)
            told = Deed("add", name, outcome.key, title, changes=outcome.changes)
            recording.mean(actor(), told)
        return outcome

    status = 422
    try:
        outcome = written(work)
    except BrokenOff as error:
        outcome, status = _typed_again(pages, saver, outcome, typed), 503
        outcome.refused.append(error.message)
    except RowsRefused:
        outcome = _typed_again(pages, saver, outcome, typed)
    except (DBAPIError, LeavesReach, OverflowError, Broken) as error:
        outcome = _refused(pages, saver, outcome, error, typed)
    if not outcome.key:
        page = _form_page(pages, saver, outcome, is_new=True, again=(editors, typed))
        return (page, status), ""
    _settle_files(pages, saver, outcome, typed)
    location = record_address(name, outcome.key)
    if PIECE in request.args:
        return _as_choice(pages, within, outcome.key), location
    flash(_("%(noun)s added.", noun=pages.singular))
    return redirect(_behind_added(pages, within, location, outcome.key)), location


def _as_choice(pages: TablePages, within: Reach, segment: str) -> ResponseReturnValue:
    """Return a record that was added in a dialog as a lookup chooses it."""
    wanted = request.args.get(AS_VALUE, "")
    with site().database.reading() as connection:
        plan = record_plan(site(), pages, within)
        record = plan.read(connection, key_of(pages, segment))
    if record is None or wanted not in record.values:
        return jsonify({})
    return jsonify({"value": str(record.values[wanted]), "text": record.title})


def _behind_added(pages: TablePages, within: Reach, location: str, segment: str) -> str:
    """Return where one goes when a record was added."""
    if request.form.get(THEN) == "another":
        return _with_return(url_for(".add", name=pages.name))
    if request.form.get(THEN) == "here" and not _is_left_out(pages, within, segment):
        return _with_return(f"{location}/edit")
    return _came_from() or location


def _given(pages: TablePages, saver: Saver) -> dict[str, str]:
    """Return what a new record begins with: what the address gives, and, for one that is
    to be like another, what that holds and no other may not hold too."""
    given = request.args.to_dict()
    like = given.pop(LIKE, "")
    given.pop(FIXED, "")
    if like:
        with site().database.reading() as connection:
            given = saver.like(connection, key_of(pages, like)) | given
    return given


@blueprint.route("/t/<name>/r/<segment>/edit", methods=["GET", "POST"])
def edit(name: str, segment: str) -> ResponseReturnValue:
    """The form of a record."""
    pages, within = pages_of(name, "edit")
    key = key_of(pages, segment)
    saver = saver_of(pages, within)
    typed = _typed(pages)
    editors = _row_editors(pages, within) if request.method == "POST" else []
    try:
        if request.method == "GET" or FIND in typed or CHOSEN in typed:
            with site().database.reading() as connection:
                outcome = saver.stored(connection, key)
            if request.method == "GET":
                _put_back(pages, saver, outcome, segment)
            if request.method == "POST":
                return _choosing(pages, saver, outcome, typed, segment)
            return _form_page(pages, saver, outcome, segment=segment)
        outcome = _save(pages, saver, key, typed, editors)
    except Gone:
        abort(404)
    except (BrokenOff, RowsRefused) as error:
        outcome = Outcome(saver.blank({}), seen=_seen(typed))
        outcome.form.is_new = False
        outcome = _typed_again(pages, saver, outcome, typed)
        status = 422
        if isinstance(error, BrokenOff):
            outcome.refused.append(error.message)
            status = 503
        again = (editors, typed)
        page = _form_page(pages, saver, outcome, segment=segment, again=again)
        return page, status
    if not outcome.key:
        status = 409 if outcome.conflicts else 422
        again = (editors, typed)
        page = _form_page(pages, saver, outcome, segment=segment, again=again)
        return page, status
    flash(_("Saved."))
    if _is_left_out(pages, within, outcome.key):
        return redirect(_home(pages))
    if request.form.get(THEN) == "here":
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
    saver = saver_of(pages, within)
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
            outcome = _save(pages, saver, key, typed)
    except Gone:
        abort(404)
    except BrokenOff as error:
        abort(503, description=error.message)
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
    fact = found.fact(column) if found is not None else None
    return fact.cell.__html__() if fact is not None else ""


def _is_left_out(pages: TablePages, within: Reach, segment: str) -> bool:
    """Tell whether a record that was saved no longer exists for the application."""
    if within.rows(pages.table) is pages.table:
        return False
    with site().database.reading() as connection:
        plan = record_plan(site(), pages, within)
        return plan.read(connection, key_values(site(), pages, segment)) is None


def _row_editors(pages: TablePages, within: Reach) -> list[RowsEditor]:
    """Return what edits the rows of a record that stand on its form."""
    found = []
    for number, related in enumerate(pages.details):
        child = site().registry[related.table]
        may = within.may("view", child.table.fullname) and bool(child.key)
        if related.in_place and may and not within_hides(child, within, related):
            found.append(RowsEditor(pages, related, number, saver_of(child, within)))
    return [each for each in found if each.may_add or each.may_edit or each.may_delete]


def within_hides(pages: TablePages, within: Reach, related: Related) -> bool:
    """Tell whether the columns by which records refer are hidden from the user."""
    name = pages.table.fullname
    return any(within.hides(name, key) for key in related.columns)


def _save_rows(
    pages: TablePages,
    within: Reach,
    connection: Connection,
    segment: str,
    editors: list[RowsEditor],
    typed: Typed,
    recording: Recording,
) -> None:
    if not editors:
        return
    plan = record_plan(site(), pages, within)
    record = plan.read(connection, key_values(site(), pages, segment))
    if record is None:
        raise LeavesReach("")
    for each in editors:
        each.save(connection, record.values, typed, recording)


def _save(
    pages: TablePages,
    saver: Saver,
    key: dict[str, Any],
    typed: Typed,
    editors: Sequence[RowsEditor] = (),
) -> Outcome:
    def work(connection: Connection, recording: Recording) -> Outcome:
        outcome = saver.edit(connection, key, typed)
        _note_beyond(pages, saver)
        if outcome.key:
            _save_rows(
                pages,
                saver.reach,
                connection,
                outcome.key,
                list(editors),
                typed,
                recording,
            )
        if outcome.key and outcome.changes:
            segment = encode_key(tuple(key.values()))
            title = title_of(pages, saver.reach, connection, outcome.key)
            told = Deed(
                "edit",
                pages.name,
                segment,
                title,
                changes=outcome.changes,
                texts=outcome.texts,
            )
            recording.mean(actor(), told)
        return outcome

    try:
        outcome = written(work)
    except (DBAPIError, LeavesReach, OverflowError, Broken) as error:
        with site().database.reading() as connection:
            outcome = saver.stored(connection, key)
        return _refused(pages, saver, outcome, error, typed)
    if outcome.key:
        _settle_files(pages, saver, outcome, typed)
    return outcome


def _put_back(pages: TablePages, saver: Saver, outcome: Outcome, segment: str) -> None:
    """Fill the values from before a change into the form, where the address says so."""
    entry = site().log.entry(request.args.get(PUT_BACK, 0, type=int))
    if entry is None or (entry.deed.table, entry.deed.key) != (pages.name, segment):
        return
    saver.put_back(outcome, entry.deed.texts)


def _settle_files(
    pages: TablePages, saver: Saver, outcome: Outcome, typed: Typed
) -> None:
    """Keep the files of a record that was saved, and let those go that it had before."""
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
    """Take away the file of a field whose record no longer has it, unless another has."""
    field = pages.fields[key]
    if not isinstance(field, FileField) or not isinstance(name, str):
        return

    def is_used() -> bool:
        with site().database.reading() as connection:
            return saver_of(pages, UNBOUNDED).is_held(connection, key, name)

    uploads().let_go(field.place(pages.name), name, is_used)


def _refused(
    pages: TablePages, saver: Saver, outcome: Outcome, error: Exception, typed: Typed
) -> Outcome:
    """Return the form with what was typed, and why it was not saved."""
    outcome = _typed_again(pages, saver, outcome, typed)
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


def _typed_again(
    pages: TablePages, saver: Saver, outcome: Outcome, typed: Typed
) -> Outcome:
    """Return the form with what was typed, as it was not saved."""
    form = pages.filled({}, typed)
    form.is_new = outcome.form.is_new
    for key in set(form._fields) - set(saver.entered):
        del form._fields[key]
    return Outcome(form, seen=outcome.seen)


def _seen(typed: Typed) -> dict[str, str]:
    """Return what a form that was sent says of what its user saw."""
    return {key: text for key, text in typed.items() if key.startswith(SEEN)}


def _choosing(
    pages: TablePages,
    saver: Saver,
    outcome: Outcome,
    typed: Typed,
    segment: str = "",
) -> ResponseReturnValue:
    """Answer a form that was sent to choose a record, without a script: with what there
    is to choose, or, when that was done, with the form as it was typed."""
    is_new = outcome.form.is_new
    if CHOSEN in typed:
        column, _sign, value = typed[CHOSEN].partition("=")
        typed.setlist(column, [value])
        outcome.seen = _seen(typed)
        again = _typed_again(pages, saver, outcome, typed)
        return _form_page(pages, saver, again, is_new=is_new, segment=segment)
    column = typed[FIND]
    if column not in saver.entered:
        abort(404)
    lookup = _lookup(pages, saver.reach, column, typed)
    search = typed.get(SEARCH, "")[:LONGEST_SEARCH]
    kept = [
        (key, text)
        for key, texts in typed.lists()
        for text in texts
        if key not in (FIND, SEARCH, "csrf_token")
    ]
    return render_template(
        "find.html",
        pages=pages,
        label=pages.label(column),
        column=column,
        search=search,
        found=lookup.plan.find(search, lookup.given),
        kept=kept,
    )


def _form_page(
    pages: TablePages,
    saver: Saver,
    outcome: Outcome,
    is_new: bool = False,
    segment: str = "",
    again: tuple[list[RowsEditor], Typed] | None = None,
) -> str:
    form, entered = outcome.form, saver.entered
    record = None
    rows: list[Rows] = []
    try:
        with site().database.reading() as connection:
            fill_lookups(site(), connection, pages, form, saver.reach, entered)
            if not is_new:
                plan = record_plan(site(), pages, saver.reach)
                record = plan.read(connection, key_of(pages, segment))
            rows = _rows(pages, saver.reach, connection, record, again)
    except DBAPIError:
        if not outcome.refused:
            raise
        _fill_without(form)  # the database is away, and what was typed is here
        rows = [each.again(None, again[1]) for each in again[0]] if again else []
        for each in (row.form for held in rows for row in held.rows):
            _fill_without(each)
    chosen = pages.on_add if is_new else pages.on_edit
    shown = _shown_beside(pages, record, entered, chosen)
    template = "_form.html" if PIECE in request.args else "form.html"
    return render_template(
        template,
        pages=pages,
        form=form,
        sections=pages.placed(
            [k for k in pages.fields if k in {*entered, *shown}], chosen
        ),
        shown=shown,
        usual=_usual(pages, saver) if is_new else {},
        adds=_adding(pages, saver),
        outcome=outcome,
        details=rows,
        mistakes=form.mistakes() + [m for held in rows for m in _row_mistakes(held)],
        record=record,
        is_new=is_new,
        is_piece=PIECE in request.args,
        fixed=_fixed(pages, form) if is_new else {},
        has_files=any(isinstance(pages.fields[key], FileField) for key in entered),
        files={
            key: fact.cell
            for key in entered
            if record is not None
            and isinstance(pages.fields[key], FileField)
            and (fact := record.fact(key)) is not None
        },
        cancel=_came_from()
        or (record_address(pages.name, segment) if segment else _home(pages)),
        came_from=_came_from(),
        is_put_back=PUT_BACK in request.args and request.method == "GET",
        once=secrets.token_urlsafe(12) if is_new else "",
        changed=_last_change(pages, segment) if outcome.conflicts else None,
    )


def _rows(
    pages: TablePages,
    within: Reach,
    connection: Connection,
    record: Record | None,
    again: tuple[list[RowsEditor], Typed] | None,
) -> list[Rows]:
    """Return the rows on a form: as they were typed, as they are stored, or none yet."""
    if PIECE in request.args:
        return []
    if again is not None:
        return [each.again(connection, again[1]) for each in again[0]]
    editors = _row_editors(pages, within)
    if record is None:
        return [each.empty(connection) for each in editors if each.may_add]
    found = (each.stored(connection, record.values) for each in editors)
    return [each for each in found if each is not None]


def _row_mistakes(held: Rows) -> list[tuple[Any, Any, str]]:
    """Return what is wrong with rows, each with the control to go to."""
    found: list[tuple[Any, Any, str]] = []
    for row in held.rows:
        found += row.form.mistakes()
        found += [
            (held.pages.singular, each, f"row-{row.name}") for each in row.refused
        ]
        found += [
            (
                held.pages.label(key),
                _("Somebody changed this meanwhile."),
                f"row-{row.name}",
            )
            for key in row.conflicts
        ]
    return found


def _fixed(pages: TablePages, form: Any) -> dict[str, str]:
    """Return the titles of what a new record belongs to, by column: given by the address
    of the form, and not to be chosen."""
    found = {}
    for key in fixed_columns(pages, request.args):
        field = form._fields.get(key)
        if isinstance(field, LookupField) and field._value() == request.args[key]:
            titles = {value: title for value, title, _note in field.options}
            if field._value() in titles:
                found[key] = titles[field._value()]
    return found


def _fill_without(form: Any) -> None:
    """Let the lookups of a form keep what was chosen, without the database."""
    for field in form._fields.values():
        if isinstance(field, LookupField):
            value = field._value()
            chosen = Option(value, str(_("as chosen before")))
            field.options = [chosen] if value else []


def _shown_beside(
    pages: TablePages, record: Record | None, entered: list[str], chosen: Any
) -> dict[str, Any]:
    """Return what the form of a record shows and does not let one enter: by column."""
    if record is None:
        return {}
    facts = {
        key: record.fact(key)
        for key in (chosen or pages.fields)
        if key not in entered and (chosen or key in pages.read_only or key in pages.key)
    }
    return {key: fact for key, fact in facts.items() if fact is not None}


def _usual(pages: TablePages, saver: Saver) -> dict[str, str]:
    """Return what is said of the fields of a new record that the database, or the
    application, fills in where nothing is entered."""
    found = {}
    numbered = dict(pages.numbered)
    for key in saver.entered:
        default = pages.column(key).server_default
        if key in numbered:
            found[key] = str(_("Left empty, it is numbered by itself."))
        elif default is None:
            continue
        elif isinstance(getattr(default, "arg", None), str):
            found[key] = str(_("The database's default."))
        else:
            found[key] = str(_("Left empty, the database fills it in."))
    return found


def _adding(pages: TablePages, saver: Saver) -> dict[str, str]:
    """Return the addresses of the forms, by lookup, that add what it may choose."""
    found = {}
    for key, reference in pages.lookups.items():
        target = site().registry[reference.target]
        may = target.takes("add") and not target.for_lookups
        if may and saver.reach.may("add", target.table.fullname):
            value = {AS_VALUE: reference.referred[0]}
            found[key] = add_address(target.name, value)
    return found


def _last_change(pages: TablePages, segment: str) -> Entry | None:
    """Return who changed a record last, and when, by the activity log."""
    wanted = Wanted(kind="edit", table=pages.name, key=segment)
    return next(iter(site().log.read(wanted, 1)), None)


def _home(pages: TablePages) -> str:
    """Return where one goes when a record is left: its list, as it was left, where there
    is one."""
    return left_list(pages.name) if pages.listed else url_for(".front")


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


@blueprint.get("/t/<name>/choices/<column>")
def choices(name: str, column: str) -> ResponseReturnValue:
    """The records that a lookup may choose, by what was typed: value and title."""
    pages, within = pages_of(name)
    lookup = _lookup(pages, within, column, request.args)
    skip = request.args.get("skip", 0, type=int)
    search = request.args.get("q", "")[:LONGEST_SEARCH]
    found = lookup.plan.find(search, lookup.given, max(0, skip))
    options = [
        {"value": each.value, "text": each.title, "note": each.note}
        for each in found.options
    ]
    return jsonify({"found": options, "more": found.more, "cut": found.is_cut})


def _lookup(
    pages: TablePages, within: Reach, column: str, typed: MultiDict[str, str]
) -> Lookup:
    """Return a lookup with what it follows, as far as that was typed."""
    field = pages.fields.get(column)
    if column not in pages.lookups or not isinstance(field, LookupField):
        abort(404)
    if within.hides(pages.table.fullname, column):
        abort(404)
    form = pages.filled({}, typed) if field.follows else None
    lookup = Lookup(site(), pages, within, column, form)
    if not lookup.is_open:
        abort(404)
    return lookup
