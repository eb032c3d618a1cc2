"""The pages of records, with their related records."""

from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qsl

from flask import abort, render_template, request
from flask.typing import ResponseReturnValue
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..access.reach import Reach
from ..accounts.preferences import Preferences
from ..db.errors import classify
from ..lists.list_request import ListRequest
from ..pages.context import site
from ..pages.table_pages import TablePages
from ..pages.urls import add_address, left_list, record_address, record_home
from ..queries.hierarchy import path_above
from ..queries.record import Record, record_plan
from ..related.one_to_one import parts_of
from ..related.related_records import RelatedBlocks
from .form_context import PIECE, saver_of
from .navigation import blueprint, key_of, table_or_404

__all__ = ["blueprint"]

NEIGHBOUR_SECONDS = 1.0  # for finding the records before and behind


def _record(pages: TablePages, reach: Reach, connection: Any, segment: str) -> Record:
    plan = record_plan(site(), pages, reach)
    found = plan.read(connection, key_of(pages, segment))
    if found is None:
        abort(404)
    return found


@blueprint.get("/t/<name>/r/<segment>")
def show_record(name: str, segment: str) -> ResponseReturnValue:
    """One record and what refers to it."""
    pages, reach = table_or_404(name)
    if not pages.key:
        abort(404)
    with site().database.reading() as connection:
        record = _record(pages, reach, connection, segment)
        home = record_address(name, segment)
        blocks = RelatedBlocks(site(), pages, reach, record, home).all(connection)
        parts = parts_of(site(), connection, pages, reach, record)
        is_removed = saver_of(pages, reach).is_removed(
            connection, key_of(pages, segment)
        )
        above = path_above(site(), connection, pages, reach, dict(record.values))
        key = key_of(pages, segment)
        may = {
            change: pages.offers(change)
            and bool(reach.reaching(connection, pages.table, key, change))
            for change in ("edit", "delete")
        }
    adds = pages.offers("add") and reach.may("add", pages.table.fullname)
    earlier, later = _neighbours(pages, reach, key)
    return render_template(
        "record.html",
        pages=pages,
        copy=f"{add_address(name)}?copy-of={segment}" if adds else "",
        record=record,
        blocks=blocks,
        parts=parts,
        is_removed=is_removed,
        above=above,
        address=record_address(name, segment),
        may=may,
        earlier=earlier,
        later=later,
    )


@blueprint.get("/t/<name>/r/<segment>/print")
def print_record(name: str, segment: str) -> ResponseReturnValue:
    """The print version of a record, with its related records."""
    pages, reach = table_or_404(name)
    if not pages.key:
        abort(404)
    home = record_address(name, segment)
    with site().database.reading() as connection:
        record = _record(pages, reach, connection, segment)
        blocks = RelatedBlocks(site(), pages, reach, record, home).printed(connection)
        parts = parts_of(site(), connection, pages, reach, record)
    return render_template(
        "print-record.html", pages=pages, record=record, parts=parts, blocks=blocks,
        now=datetime.now(UTC).replace(tzinfo=None), address=home,
    )  # fmt: skip


@blueprint.get("/t/<name>/r/<segment>/related/<block>")
def related(name: str, segment: str, block: str) -> ResponseReturnValue:
    """One block of related records: a piece of its record's page, or a page."""
    pages, reach = table_or_404(name)
    if not pages.key:
        abort(404)
    address = record_address(name, segment)
    with site().database.reading() as connection:
        record = _record(pages, reach, connection, segment)
        blocks = RelatedBlocks(site(), pages, reach, record, address)
        found = blocks.one(connection, block, request.args)
    if found is None:
        abort(404)
    template = "_related.html" if PIECE in request.args else "related.html"
    return render_template(
        template, pages=pages, record=record, block=found, address=address
    )


def _neighbours(
    pages: TablePages, reach: Reach, key: dict[str, Any]
) -> tuple[str, str]:
    """Return the addresses of the records before and behind this one, in the list as
    the user left it; "" for none, and where no list was left, or finding them takes
    long."""
    query = left_list(pages.name).partition("?")[2]
    if not pages.has_list or not left_list(pages.name, or_home=False):
        return "", ""
    asked = MultiDict(parse_qsl(query))
    kept = Preferences(site().users.store, None)
    list_request = ListRequest(site(), pages, reach, asked, kept)
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
