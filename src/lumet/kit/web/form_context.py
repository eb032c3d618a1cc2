"""The context of a form page: the record, its detail rows, and the input."""

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from flask import current_app, render_template, request, url_for
from flask_babel import gettext as _
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..accounts.audit_log import AuditQuery, Entry
from ..editing.conflict_check import SEEN
from ..editing.detail_row_forms import RowsTable
from ..editing.detail_rows import DetailRowsEditor
from ..editing.many_to_many import ManyToManyChoice, ManyToManyEditor
from ..editing.record_saver import RecordSaver
from ..editing.save_result import SaveResult
from ..forms.base import RecordForm
from ..forms.fields import LookupField
from ..forms.file_fields import FileField
from ..pages import urls
from ..pages.changes import FORM, ROW
from ..pages.context import lower_first, preferences, site
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..pages.urls import add_address, left_list, record_address
from ..queries.cells import Cell
from ..queries.lookups import Option, fill_lookups
from ..queries.record import Record, record_plan
from ..related.related_records import fixed_columns, is_seen
from .navigation import key_or_404

SHOW, STAY, ANOTHER = "record", "here", "another"  # where one goes after a save
AFTER_ADDING, AFTER_EDITING = "after adding", "after editing"  # kept of a user
RETURN = "return-to"  # the form field that says where one came from
AS_VALUE = "choose-by"  # of an address: the column that a lookup chooses by
PUT_BACK = "put-back"  # of an address: the number of the change to undo
THEN = "save-then"  # the form field that says where one goes after a save
PIECE = "as-piece"  # of an address: the form alone, for a dialog
Typed = MultiDict[str, str]


@dataclass(frozen=True, slots=True)
class TooMany:
    """What would be a part of a form, if it were not so many; where they are."""

    label: str
    address: str


Part = RowsTable | ManyToManyChoice | TooMany
PartEditor = DetailRowsEditor | ManyToManyEditor


def saver_of(context: TableContext, source: str = FORM) -> RecordSaver:
    """Return the record saver of a table for the present user."""
    return RecordSaver(context, current_app.config["SECRET_KEY"], source)


def typed_again(
    pages: TablePages, saver: RecordSaver, outcome: SaveResult, typed: Typed
) -> SaveResult:
    """Return the form with what was typed, as it was not saved."""
    form = pages.filled({}, typed)
    form.is_new = outcome.form.is_new
    for key in set(form._fields) - set(saver.entered):
        del form._fields[key]
    return SaveResult(form, seen=outcome.seen)


def too_many_records(pages: TablePages) -> str:
    """Return the message for a key that several records share."""
    nouns = lower_first(pages.plural)
    return str(_("Several %(nouns)s have this key, so none of them can be changed "
                 "alone. Nothing was changed.", nouns=nouns))  # fmt: skip


def seen_of(typed: Typed) -> dict[str, str]:
    """Return the digests in a submitted form of the values that its user saw."""
    return {key: text for key, text in typed.items() if key.startswith(SEEN)}


def part_editors(context: TableContext) -> list[PartEditor]:
    """Return the editors of the detail rows on the form of a record, and of what is
    chosen there."""
    pages = context.pages
    found: list[PartEditor] = []
    for number, related in enumerate(pages.details):
        child = site().registry[related.table]
        if not related.is_part or not is_seen(context.about(child), related):
            continue
        saver = saver_of(context.about(child), ROW)
        if related.joined:
            found.append(ManyToManyEditor(pages, related, number, saver))
        elif child.key:
            found.append(DetailRowsEditor(pages, related, number, saver))
    return [each for each in found if each.is_open]


def form_page(
    pages: TablePages,
    saver: RecordSaver,
    outcome: SaveResult,
    is_new: bool = False,
    segment: str = "",
    again: tuple[list[PartEditor], Typed] | None = None,
) -> str:
    form, entered = outcome.form, saver.entered
    record = None
    try:
        with site().database.reading() as connection:
            context = saver.context.about(pages).on(connection)
            fill_lookups(context, form, entered)
            if not is_new:
                key = key_or_404(saver.context, segment)
                record = record_plan(context).read(connection, key)
            parts = _parts(context, record, segment, again)
    except DBAPIError:
        if not outcome.refused:
            raise
        parts = _parts_without(form, again)
    chosen = pages.add.columns if is_new else pages.edit.columns
    shown = _shown_beside(pages, record, entered, chosen)
    placed = [k for k in (*pages.fields, *pages.extras) if k in {*entered, *shown}]
    back = came_from()
    home = record_address(pages.name, segment) if segment else home_of(pages)
    return render_template(
        pages.templates("_form.html" if PIECE in request.args else "form.html"),
        pages=pages,
        form=form,
        sections=pages.placed(placed, chosen),
        shown=shown,
        adds=_adding(pages, saver),
        outcome=outcome,
        details=parts,
        mistakes=form.mistakes() + [m for held in parts for m in _part_mistakes(held)],
        record=record,
        is_new=is_new,
        is_piece=PIECE in request.args,
        files=_files(pages, record, entered),
        cancel=back or home,
        came_from=back,
        after_saving=_after_saving(is_new),
        after_choice=request.form.get(THEN) or after_choice(is_new),
        is_put_back=PUT_BACK in request.args and request.method == "GET",
        changed=_last_change(pages, segment) if outcome.conflicts else None,
        **_of_new(pages, saver, form, is_new),
    )


def _of_new(
    pages: TablePages, saver: RecordSaver, form: RecordForm, is_new: bool
) -> dict[str, Any]:
    """Return the rest of the form of a new record: the usual values, those that
    are given, and the token that lets it be sent once."""
    if not is_new:
        return {"usual": {}, "fixed": {}, "once": ""}
    once = secrets.token_urlsafe(12)
    return {"usual": _usual(pages, saver), "fixed": _fixed(pages, form), "once": once}


def _parts_without(
    form: RecordForm, again: tuple[list[PartEditor], Typed] | None
) -> list[Part]:
    """Return the parts of a form as they were typed, without the database, which is
    away."""
    _fill_without(form)
    parts: list[Part] = (
        [each.again(None, again[1]) for each in again[0]] if again else []
    )
    for held in parts:
        for row in held.rows if isinstance(held, RowsTable) else ():
            _fill_without(row.form)
    return parts


def _files(
    pages: TablePages, record: Record | None, entered: Sequence[str]
) -> dict[str, Cell]:
    """Return the files that a record has, by column."""
    facts = {
        key: record.fact(key)
        for key in entered
        if record is not None and isinstance(pages.fields[key], FileField)
    }
    return {key: fact.cell for key, fact in facts.items() if fact is not None}


def _after_saving(is_new: bool) -> list[tuple[str, str]]:
    """Return where one can go after a save, with what it is called."""
    found = [(SHOW, str(_("show the record"))), (STAY, str(_("stay here")))]
    return [*found, (ANOTHER, str(_("new record")))] if is_new else found


def after_choice(is_new: bool) -> str:
    """Return where the user went after the last save of a new record, or of another."""
    return preferences().get(AFTER_ADDING if is_new else AFTER_EDITING) or SHOW


def _parts(
    context: TableContext,
    record: Record | None,
    segment: str,
    again: tuple[list[PartEditor], Typed] | None,
) -> list[Part]:
    """Return the parts of a form: as they were typed, as they are stored, or none
    yet."""
    if PIECE in request.args:
        return []
    if again is not None:
        return [each.again(context.connection, again[1]) for each in again[0]]
    editors = part_editors(context)
    if record is None:
        return [each.empty(context.connection) for each in editors if each.may_add]
    return [
        each.stored(context.connection, record.values)
        or _too_many(each, record_address(context.pages.name, segment))
        for each in editors
    ]


def _too_many(editor: PartEditor, home: str) -> TooMany:
    return TooMany(editor.label, home + urls.RELATED + editor.related.slug)


def _part_mistakes(held: Part) -> list[tuple[Any, Any, str]]:
    """Return the mistakes in a part of a form, each with its control."""
    found: list[tuple[Any, Any, str]] = []
    if isinstance(held, TooMany):
        return found
    if isinstance(held, ManyToManyChoice):
        return [(held.label, each, held.name) for each in held.refused]
    for row in held.rows:
        found += row.form.mistakes()
        found += [
            (held.pages.singular, each, f"row-{row.name}") for each in row.refused
        ]
        found += [
            (
                held.pages.label(key),
                _("Another user changed this."),
                f"row-{row.name}",
            )
            for key in row.conflicts
        ]
    return found


def _fixed(pages: TablePages, form: Any) -> dict[str, str]:
    """Return the titles of what a new record belongs to, by column: given by the
    address of the form, and not to be chosen."""
    found = {}
    for key in fixed_columns(pages, request.args):
        field = form._fields.get(key)
        if field is None:
            continue
        value = field.to_text(field.data) if field.date_kind else field._value()
        if value != request.args[key]:
            continue
        if isinstance(field, LookupField):
            titles = {value: title for value, title, _note in field.options}
            if field._value() in titles:
                found[key] = titles[field._value()]
        else:
            found[key] = field._value()
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
    """Return the read-only values on the form of a record, by column."""
    if record is None:
        return {}
    moved = {each.column for each in pages.transitions}
    facts = {
        key: record.fact(key)
        for key in (chosen or [*pages.fields, *pages.computed])
        if key not in entered
        and (chosen or key in {*pages.read_only, *pages.key, *pages.computed, *moved})
        and key != pages.soft_delete
    }
    return {key: fact for key, fact in facts.items() if fact is not None}


def _usual(pages: TablePages, saver: RecordSaver) -> dict[str, str]:
    """Return the hints at fields of a new record that the database, or the
    application, fills in where nothing is entered."""
    found = {}
    numbered = dict(pages.generated_values)
    for key in saver.entered:
        default = pages.column(key).server_default
        if key in numbered:
            found[key] = str(_("Leave empty for the next number."))
        elif default is None:
            continue
        elif isinstance(getattr(default, "arg", None), str):
            found[key] = str(_("The default of the database."))
        else:
            found[key] = str(_("Leave empty to let the database fill it in."))
    return found


def _adding(pages: TablePages, saver: RecordSaver) -> dict[str, str]:
    """Return the addresses of the forms, by lookup, that add what it may choose."""
    found = {}
    for key, reference in pages.lookups.items():
        target = site().registry[reference.target]
        may = target.offers("add") and not target.for_lookups
        if may and saver.reach.may("add", target.table.fullname):
            value = {AS_VALUE: reference.referred[0]}
            found[key] = add_address(target.name, value)
    return found


def _last_change(pages: TablePages, segment: str) -> Entry | None:
    """Return who changed a record last, and when, by the activity log."""
    wanted = AuditQuery(kind="edit", table=pages.name, key=segment)
    return next(iter(site().log.read(wanted, 1)), None)


def home_of(pages: TablePages) -> str:
    """Return where one goes when a record is left: its list, as it was left, where
    there is one."""
    return left_list(pages.name) if pages.has_list else url_for(".front")


def came_from() -> str:
    """Return the address to go back to, only one of this application's own."""
    address = request.form.get(RETURN) or request.args.get(RETURN) or ""
    own = address.startswith(request.script_root + urls.TABLES)
    plain = not any(odd in address for odd in ("//", "\\", "\n", "\r"))
    return address if own and plain else ""


def with_return(address: str) -> str:
    origin = came_from()
    return f"{address}?{RETURN}={origin}" if origin else address
