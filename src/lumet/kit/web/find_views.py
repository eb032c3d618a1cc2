"""Finding anything: tables, pages, saved views, and records of all tables."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from urllib.parse import urlencode

from flask import render_template, request
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from werkzeug.datastructures import MultiDict

from ..lists.list_request import ListRequest
from ..lists.saved_views import visible_view
from ..pages.context import current_reach, lower_first, own_roles, preferences, site
from ..pages.table_context import TableContext
from ..pages.urls import add_address, list_address, record_address
from ..queries.record_search import FoundRecords, RecordSearch, find_records
from ..queries.search import MAX_SEARCH_LENGTH
from .form_context import PIECE
from .menu import menu_groups
from .navigation import blueprint

__all__ = ["blueprint"]

SEARCH = "q"
MOST = 8  # of tables, of views and of actions


@dataclass(frozen=True, slots=True)
class Hit:
    """A result: its text, a note, its address."""

    text: str
    note: str
    address: str


@dataclass(frozen=True, slots=True)
class HitGroup:
    """The results of one sort; `more` is the address of all, "" for none."""

    label: str
    hits: Sequence[Hit]
    more: str = ""


@blueprint.get("/find")
def find() -> ResponseReturnValue:
    """What the words in `q` find: a page, or a piece of it for a dialog."""
    search = request.args.get(SEARCH, "").strip()[:MAX_SEARCH_LENGTH]
    groups: list[HitGroup] = []
    records = RecordSearch()
    if search:
        words = search.casefold().split()
        records = find_records(_tables(), search)
        named = [
            HitGroup(_("Tables and pages"), _first(_menu(words))),
            HitGroup(_("Saved views"), _first(_views(words))),
            HitGroup(_("Actions"), _first(_actions(words))),
        ]
        groups = [each for each in named if each.hits]
        groups += [_group(each, search) for each in records.found]
    return render_template(
        "_find.html" if PIECE in request.args else "find.html",
        search=search,
        groups=groups,
        left_out=[str(each.pages.plural) for each in records.left_out],
        is_piece=PIECE in request.args,
    )


def _tables() -> Iterator[TableContext]:
    """Yield the tables within reach that have a list, in the order of the menu."""
    known = site().registry.pages
    for _label, items in menu_groups():
        for item in items:
            if item.name in known:
                yield TableContext(site(), known[item.name], current_reach())


def _first(hits: Iterator[Hit]) -> list[Hit]:
    return [hit for hit, _number in zip(hits, range(MOST), strict=False)]


def _holds(text: str, words: Sequence[str]) -> bool:
    folded = text.casefold()
    return all(word in folded for word in words)


def _menu(words: Sequence[str]) -> Iterator[Hit]:
    """Yield the entries of the menu, those that begin with what was typed first."""
    found = [
        Hit(item.label, group, item.address)
        for group, items in menu_groups()
        for item in items
        if _holds(item.label, words)
    ]
    typed = " ".join(words)
    yield from sorted(found, key=lambda hit: not hit.text.casefold().startswith(typed))


def _views(words: Sequence[str]) -> Iterator[Hit]:
    """Yield the saved views that the user can open; of what others share, only what
    names nothing that this user may not see."""
    contexts = {context.pages.name: context for context in _tables()}
    for view in preferences().all_views([role.name for role in own_roles()]):
        context = contexts.get(view.table)
        if context is None or not _holds(view.name, words):
            continue
        asked = ListRequest(context, MultiDict(), preferences())
        query = visible_view(asked, view).query
        address = list_address(view.table) + (f"?{query}" if query else "")
        yield Hit(view.name, str(context.pages.plural), address)


def _actions(words: Sequence[str]) -> Iterator[Hit]:
    """Yield the forms for new records that the user may fill in."""
    for context in _tables():
        pages = context.pages
        label = _("Add %(noun)s", noun=lower_first(pages.singular))
        may_add = pages.offers("add") and context.may("add")
        if may_add and not site().is_read_only and _holds(label, words):
            yield Hit(label, "", add_address(pages.name))


def _group(found: FoundRecords, search: str) -> HitGroup:
    name = found.context.pages.name
    hits = [
        Hit(each.title, each.note, record_address(name, each.value))
        for each in found.records
    ]
    more = f"{list_address(name)}?{urlencode({SEARCH: search})}" if found.more else ""
    return HitGroup(str(found.context.pages.plural), hits, more)
