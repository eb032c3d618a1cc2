"""Choosing a record for a form: as one types, or on a page of its own without a
script."""

from flask import abort, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from ..editing.many_to_many import ManyToManyEditor
from ..editing.record_saver import RecordSaver
from ..editing.save_result import SaveResult
from ..forms.fields import LookupField
from ..pages import urls
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..queries.lookups import Found, Lookup
from ..queries.search import MAX_SEARCH_LENGTH
from .form_context import Typed, form_page, part_editors, seen_of, typed_again
from .navigation import blueprint, table_or_404

# what is no field has a hyphen in its name, as no column's key has
FIND, CHOSEN, SEARCH, SKIP = "find-for", "chosen-as", "find-what", "skip-first"


def choosing(
    pages: TablePages,
    saver: RecordSaver,
    outcome: SaveResult,
    typed: Typed,
    segment: str = "",
) -> ResponseReturnValue:
    """Answer a form that was sent to choose a record, without a script: with what there
    is to choose, or, when that was done, with the form as it was typed."""
    is_new = outcome.form.is_new
    if CHOSEN in typed:
        column, _sign, value = typed[CHOSEN].partition("=")
        typed.setlist(column, [value])
        outcome.seen = seen_of(typed)
        again = typed_again(pages, saver, outcome, typed)
        rows = (part_editors(saver.context.about(pages)), typed)
        return form_page(
            pages, saver, again, is_new=is_new, segment=segment, again=rows
        )
    column = typed[FIND]
    if column not in saver.entered:
        abort(404)
    lookup = _lookup(saver.context.about(pages), column, typed)
    search = typed.get(SEARCH, "")[:MAX_SEARCH_LENGTH]
    kept = [
        (key, text)
        for key, texts in typed.lists()
        for text in texts
        if key not in (FIND, SEARCH, "csrf_token")
    ]
    return render_template(
        "lookup.html",
        pages=pages,
        label=pages.label(column),
        column=column,
        search=search,
        found=lookup.plan.find(search, lookup.given),
        kept=kept,
    )


@blueprint.get(urls.LIST + urls.CHOICES + "<column>")
def choices(name: str, column: str) -> ResponseReturnValue:
    """The records that a lookup may choose, by what was typed: value and title."""
    context = table_or_404(name)
    lookup = _lookup(context, column, request.args)
    search = request.args.get(SEARCH, "")[:MAX_SEARCH_LENGTH]
    return _as_choices(lookup.plan.find(search, lookup.given, _skipped()))


@blueprint.get(urls.LIST + urls.CHOSEN + "<int:number>")
def chosen_records(name: str, number: int) -> ResponseReturnValue:
    """The records that may be chosen on a form by way of a table that joins, by what
    was typed."""
    context = table_or_404(name)
    found = [each for each in part_editors(context) if each.number == number]
    if not found or not isinstance(found[0], ManyToManyEditor):
        abort(404)
    return _as_choices(found[0].find(request.args.get(SEARCH, ""), _skipped()))


def _skipped() -> int:
    return max(0, request.args.get(SKIP, 0, type=int))


def _as_choices(found: Found) -> ResponseReturnValue:
    options = [
        {"value": each.value, "text": each.title, "note": each.note}
        for each in found.options
    ]
    return jsonify({"found": options, "more": found.more, "cut": found.is_cut})


def _lookup(context: TableContext, column: str, typed: Typed) -> Lookup:
    """Return a lookup with what it follows, as far as that was typed."""
    pages = context.pages
    field = pages.fields.get(column)
    if column not in pages.lookups or not isinstance(field, LookupField):
        abort(404)
    if context.reach.hides(pages.table.fullname, column):
        abort(404)
    form = pages.filled({}, typed) if field.depends_on else None
    lookup = Lookup(context, column, form)
    if not lookup.is_open:
        abort(404)
    return lookup
