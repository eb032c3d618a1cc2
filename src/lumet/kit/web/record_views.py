"""The pages of records, with their related records."""

from contextlib import suppress
from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qsl

from flask import abort, render_template, request
from flask.typing import ResponseReturnValue
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..accounts.preferences import Preferences
from ..db.errors import classify
from ..lists.list_request import ListRequest
from ..pages import urls
from ..pages.context import preferences, site
from ..pages.table_context import TableContext
from ..pages.urls import add_address, left_list, record_address, record_home
from ..queries.hierarchy import path_above
from ..queries.record import Record, record_plan
from ..related.one_to_one import parts_of
from ..related.related_records import RelatedBlocks
from ..related.timeline import Timeline, dated_relations
from .action_views import offered_on
from .form_context import PIECE, saver_of
from .navigation import blueprint, key_or_404, table_or_404

__all__ = ["blueprint"]

NEIGHBOUR_SECONDS = 1.0  # for finding the records before and behind


def _record(context: TableContext, connection: Any, segment: str) -> Record:
    plan = record_plan(context)
    found = plan.read(connection, key_or_404(context, segment))
    if found is None:
        abort(404)
    return found


@blueprint.get(urls.RECORD)
def show_record(name: str, segment: str) -> ResponseReturnValue:
    """One record and what refers to it."""
    context = table_or_404(name)
    pages, reach = context.pages, context.reach
    if not pages.key:
        abort(404)
    with site().database.reading() as connection:
        record = _record(context, connection, segment)
        home = record_address(name, segment)
        blocks = RelatedBlocks(context, record, home).all(connection)
        parts = parts_of(context.on(connection), record)
        is_removed = saver_of(context).reader.is_removed(
            connection, key_or_404(context, segment)
        )
        above = path_above(context.on(connection), dict(record.values))
        key = key_or_404(context, segment)
        actions = [] if is_removed else offered_on(context, connection, key)
        may = {
            change: pages.offers(change)
            and bool(reach.reaching(connection, pages.table, key, change))
            for change in ("edit", "delete")
        }
    _note_opening(name, segment)
    adds = pages.offers("add") and reach.may("add", pages.table.fullname)
    earlier, later = _neighbours(context, key)
    return render_template(
        pages.templates("record.html"),
        pages=pages,
        copy=f"{add_address(name)}?copy-of={segment}" if adds else "",
        record=record,
        blocks=blocks,
        parts=parts,
        is_removed=is_removed,
        above=above,
        address=record_address(name, segment),
        may=may,
        actions=actions,
        has_timeline=bool(dated_relations(context)),
        earlier=earlier,
        later=later,
    )


def _note_opening(name: str, segment: str) -> None:
    """Note that the user opened a record; not in a rehearsal, and no page fails for
    it."""
    user_id = preferences().user_id
    if user_id is None or site().is_rehearsal:
        return
    with suppress(DBAPIError):
        site().recent.opened(user_id, name, segment)


@blueprint.get(urls.RECORD + urls.PRINT)
def print_record(name: str, segment: str) -> ResponseReturnValue:
    """The print version of a record, with its related records."""
    context = table_or_404(name)
    if not context.pages.key:
        abort(404)
    home = record_address(name, segment)
    with site().database.reading() as connection:
        record = _record(context, connection, segment)
        blocks = RelatedBlocks(context, record, home).printed(connection)
        parts = parts_of(context.on(connection), record)
    return render_template(
        context.pages.templates("print-record.html"), pages=context.pages, record=record, parts=parts, blocks=blocks,
        now=datetime.now(UTC).replace(tzinfo=None), address=home,
    )  # fmt: skip


@blueprint.get(urls.RECORD + urls.TIMELINE)
def timeline(name: str, segment: str) -> ResponseReturnValue:
    """The timeline of a record: its own dates, and what refers to it."""
    context = table_or_404(name)
    if not context.pages.key:
        abort(404)
    with site().database.reading() as connection:
        record = _record(context, connection, segment)
        made = Timeline(context, record)
        years = made.events(connection)
    return render_template(
        "timeline.html", pages=context.pages, record=record, years=years,
        has_more=made.has_more, address=record_address(name, segment),
    )  # fmt: skip


@blueprint.get(urls.RECORD + urls.RELATED + "<block>")
def related(name: str, segment: str, block: str) -> ResponseReturnValue:
    """One block of related records: a piece of its record's page, or a page."""
    context = table_or_404(name)
    if not context.pages.key:
        abort(404)
    address = record_address(name, segment)
    with site().database.reading() as connection:
        record = _record(context, connection, segment)
        blocks = RelatedBlocks(context, record, address)
        found = blocks.one(connection, block, request.args)
    if found is None:
        abort(404)
    template = "_related.html" if PIECE in request.args else "related.html"
    return render_template(
        template, pages=context.pages, record=record, block=found, address=address
    )


def _neighbours(context: TableContext, key: dict[str, Any]) -> tuple[str, str]:
    """Return the addresses of the records before and behind this one, in the list as
    the user left it; "" for none, and where no list was left, or finding them takes
    long."""
    pages = context.pages
    query = left_list(pages.name).partition("?")[2]
    if not pages.has_list or not left_list(pages.name, or_home=False):
        return "", ""
    asked = MultiDict(parse_qsl(query))
    kept = Preferences(site().users.store, None)
    list_request = ListRequest(context, asked, kept)
    try:
        with site().database.reading(NEIGHBOUR_SECONDS) as connection:
            list_request.look(connection)
            found = list_request.plan().neighbours(connection, key, list_request.bound)
    except DBAPIError as error:
        if classify(error).kind != "busy":
            raise
        return "", ""
    home = record_home(pages.name)
    earlier, later = (home + each if each else "" for each in found)
    return earlier, later
