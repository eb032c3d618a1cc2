"""Navigation: the sign-in, the menu, and the table of an address."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from babel import Locale
from flask import (
    Blueprint,
    abort,
    redirect,
    render_template,
    request,
    url_for,
)
from flask.typing import ResponseReturnValue
from flask_babel import get_babel
from flask_login import current_user
from markupsafe import Markup

from ..forms.file_fields import FileField
from ..pages.context import (
    are_shortcuts_on,
    current_reach,
    impersonation,
    lower_first,
    may_manage_users,
    may_read_audit_log,
    own_roles,
    site,
)
from ..pages.table_context import TableContext
from ..pages.urls import left_list, list_address
from .menu import favourites, menu, menu_groups

blueprint = Blueprint("pages", __name__)


@blueprint.before_request
def sign_in_first() -> ResponseReturnValue | None:
    """Nobody sees anything before signing in, but for what anyone may."""
    if current_user.is_authenticated or _is_open_to_anyone():
        return None
    return redirect_to_sign_in()


def _is_open_to_anyone() -> bool:
    """Tell whether who is not signed in has the right to see what the address names;
    the first page, where there is any table."""
    name = (request.view_args or {}).get("name")
    known = site().registry.pages
    if name is None:
        return any(
            current_reach().may("view", each.table.fullname) for each in known.values()
        )
    return name in known and current_reach().may("view", known[name].table.fullname)


def redirect_to_sign_in() -> ResponseReturnValue:
    wanted = request.full_path.rstrip("?") if request.method == "GET" else None
    return redirect(url_for("login.sign_in", next=wanted))


@blueprint.app_context_processor
def common_names() -> dict[str, Any]:
    """Return the values that every page needs of the present request."""
    made = site()
    return {"site": made, "places": made.plan(("places",), _places)}


def common_functions() -> dict[str, Callable[..., Any]]:
    """Return the functions that every page can call: the menu of the tables within
    reach, rights and addresses."""
    return {
        "menu": menu,
        "texts": _texts,
        "own_labels": _own_labels,
        "menu_groups": menu_groups,
        "favourites": favourites,
        "impersonation": impersonation,
        "may_manage_users": may_manage_users,
        "may_read_audit_log": may_read_audit_log,
        "list_address": list_address,
        "left_list": left_list,
        "has_uploads": _has_uploads,
        "lower_first": lower_first,
        "are_shortcuts_on": are_shortcuts_on,
        "text_language": text_language,
        "first_day": _first_day,
    }


def text_language() -> str:
    """Return the language of the texts: the user's where the application is translated
    into it, else that in which they are written."""
    made = site()
    language: str = made.plan(
        ("language of texts",), lambda: _language_of(made.language)
    )
    return language


def _language_of(wanted: str) -> str:
    folders = get_babel().translation_directories
    compiled = (
        path for folder in folders for path in Path(folder).glob("*/LC_MESSAGES/*.mo")
    )
    known = {path.parts[-3] for path in compiled}
    found = next(
        (each for each in (wanted, wanted.partition("_")[0]) if each in known), "en"
    )
    return found.replace("_", "-")


def _first_day() -> int:
    """Return the first day of the user's week, 0 for Sunday."""
    made = site()
    day: int = made.plan(
        ("first day",), lambda: (Locale.parse(made.language).first_week_day + 1) % 7
    )
    return day


def _texts() -> Markup:
    """Return the texts that scripts show, which all pages of a language share."""
    found: Markup = site().plan(
        ("texts",), lambda: Markup(render_template("_texts.html").strip())
    )
    return found


def _places() -> dict[str, str]:
    """Return the addresses that every page leads to."""
    names = ("pages.front", "pages.find", "pages.arrange_menu", "pages.menu_counts", "pages.dates", "pages.shortcuts", "login.profile", "login.sign_in", "login.sign_out",
             "admin.accounts", "admin.end_viewing", "audit.entries", "audit.listed", "outbox.listed", "health.shown")  # fmt: skip
    return {name: url_for(name) for name in names}


def _has_uploads() -> bool:
    """Tell whether any table has files."""
    made = site()
    fields = (f for each in made.registry.pages.values() for f in each.fields.values())
    found: bool = made.plan(
        ("uploads",), lambda: any(isinstance(field, FileField) for field in fields)
    )
    return found


def _own_labels() -> str:
    """Return the labels of the user's roles."""
    roles = own_roles()
    key = ("roles", tuple(role.name for role in roles))
    labels: str = site().plan(key, lambda: ", ".join(str(r.label) for r in roles))
    return labels


def table_or_404(name: str, right: str = "view") -> TableContext:
    """Return the context of a request on a table, if the user has this right there; a
    table out of reach does not exist."""
    reach = current_reach()
    pages = site().registry.pages.get(name)
    if pages is None or pages.for_lookups:
        abort(404)
    if not reach.may("view", pages.table.fullname):
        abort(404)
    changes = right in ("add", "edit", "delete")
    if not reach.may(right, pages.table.fullname) or (
        changes and not pages.offers(right)
    ):
        abort(403)
    return TableContext(site(), pages, reach)


def key_or_404(context: TableContext, segment: str) -> dict[str, Any]:
    """Return the key in a segment of an address; one that is none of the table's does
    not exist."""
    try:
        return context.key_values(segment)
    except (ValueError, ArithmeticError):
        abort(404)
