"""Saved views of a list: what of their queries a user may see."""

from dataclasses import replace
from urllib.parse import parse_qsl, urlencode

from ..accounts.preferences import SavedView
from ..queries.filters import can_filter, seen_operators
from .list_request import ListRequest
from .list_spec import TITLE

_COLUMNS = (
    "sort",
    "columns",
    "by",
    "sum",
    "and",
    "stack",
)  # parameters that list columns


def visible_view(list_request: ListRequest, view: SavedView) -> SavedView:
    """Return a view as a user may see it: an own one whole, of another's what names
    nothing that this user may not see."""
    if view.is_own:
        return view
    return replace(view, query=visible_query(list_request, view.query))


def visible_query(list_request: ListRequest, query: str) -> str:
    """Return the part of a list's query that this user may see: no filter by a hidden
    column, or by records of a table out of reach."""
    columns = {*list_request.showable(), TITLE}
    found = []
    for name, value in parse_qsl(query):
        if not _may_filter(list_request, name):
            continue
        kept = value
        if name in _COLUMNS:
            words = value.split(",")
            kept = ",".join(w for w in words if w.removeprefix("-") in columns)
        if kept:
            found.append((name, kept))
    return urlencode(found, safe=",.~")


def _may_filter(list_request: ListRequest, name: str) -> bool:
    """Tell whether a parameter is no filter, or one that the user can have."""
    key, dot, operator = name.rpartition(".")
    if not dot:
        return True
    known = list_request.known
    is_seen = key in known.columns or can_filter(list_request.context, key)
    return is_seen and operator in seen_operators(list_request.context, key)
