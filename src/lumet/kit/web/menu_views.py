"""What users arrange in the menu, and the numbers of records in it."""

import time
from collections.abc import Mapping

from flask import abort, jsonify, redirect, request, url_for
from flask.typing import ResponseReturnValue
from flask_login import current_user
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..accounts.preferences import FAVOURITES, Preferences
from ..common.formatting import number_text
from ..db.errors import classify
from ..lists.list_request import ListRequest
from ..pages.context import current_reach, preferences, site
from ..pages.table_context import TableContext
from .form_context import came_from
from .menu import MANY, TOGGLED, counts_key, favourites, menu_groups
from .navigation import blueprint, redirect_to_sign_in

__all__ = ["blueprint"]

COUNTS_SECONDS = 1.0  # for all tables
COUNT_SECONDS = 0.2  # for one
MOST_KEPT = 200


@blueprint.post("/menu")
def arrange_menu() -> ResponseReturnValue:
    """Fold or open a group, or make an entry a favourite or none."""
    kept = preferences()
    if not current_user.is_authenticated:
        return redirect_to_sign_in()
    if kept.user_id is None:  # looking as another
        abort(403)
    known = menu_groups()
    group, name = request.form.get("group", ""), request.form.get("favourite", "")
    if group in dict(known):
        toggled = [each for each in (kept.get(TOGGLED) or "").split("\n") if each]
        is_open = "open" in request.form
        is_usual = is_open == (sum(len(items) for _group, items in known) <= MANY)
        others = [each for each in toggled if each != group]
        found = others if is_usual else [*others, group]
        kept.set(TOGGLED, "\n".join(found[-MOST_KEPT:]))
    elif any(item.name == name for _group, items in known for item in items):
        chosen = favourites()
        found = [each for each in chosen if each != name]
        if len(found) == len(chosen):
            found.append(name)
        kept.set(FAVOURITES, "\n".join(found[-MOST_KEPT:]))
    else:
        abort(404)
    return redirect(came_from() or url_for(".front"))


@blueprint.get("/menu/counts")
def menu_counts() -> ResponseReturnValue:
    """The numbers of records by table, of those that are counted quickly."""
    return jsonify(site().counts.get(counts_key(), _counts))


def _counts() -> Mapping[str, str]:
    names = [item.name for _group, items in menu_groups() for item in items]
    if len(names) > MANY:
        return {}
    end, found = time.monotonic() + COUNTS_SECONDS, {}
    for name in names:
        pages = site().registry.pages.get(name)
        if pages is None or pages.is_large or pages.is_read_only_source:
            continue
        if time.monotonic() > end:
            break
        found[name] = _count(TableContext(site(), pages, current_reach()))
    return {name: text for name, text in found.items() if text}


def _count(context: TableContext) -> str:
    """Return the number of records in words, "" for one that takes too long."""
    nobody = Preferences(context.site.users.store, None)
    asked = ListRequest(context, MultiDict(), nobody)
    try:
        with context.site.database.reading(COUNT_SECONDS) as connection:
            count = asked.plan().count(connection, bound=asked.bound)
    except DBAPIError as error:
        if classify(error).kind == "lost":
            raise
        return ""
    number = number_text(count.number, context.site.language, None)
    return f"{number}+" if count.is_capped else number
