"""User administration: users, roles, and viewing as another (impersonation)."""

import re
from collections.abc import Callable
from functools import wraps
from typing import Any, ParamSpec

from flask import (
    Blueprint,
    abort,
    current_app,
    flash,
    redirect,
    render_template,
    request,
    session,
    url_for,
)
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from flask_login import current_user

from ..access.roles import ALL
from ..accounts.invitations import INVITATION_LASTS, LINK_LASTS
from ..accounts.passwords import AccountError
from ..accounts.user_rows import Account
from ..contract import ANYONE
from ..pages.context import IMPERSONATION, impersonation, may_manage_users, note, site

blueprint = Blueprint("admin", __name__)
P = ParamSpec("P")
_BOUND = re.compile(r"CAST\(:user_(\w+) AS [^()]*(?:\([^()]*\))?\)|(?<!\\):user_(\w+)")


def for_administrators(
    view: Callable[P, ResponseReturnValue],
) -> Callable[P, ResponseReturnValue]:
    """Allow only users who manage users; for others the page does not exist."""

    @wraps(view)
    def kept(*positional: P.args, **named: P.kwargs) -> ResponseReturnValue:
        if not current_user.is_authenticated:
            return redirect(url_for("login.sign_in"))
        if not may_manage_users():
            abort(404)
        return view(*positional, **named)

    return kept


@blueprint.get("/users")
@for_administrators
def accounts() -> ResponseReturnValue:
    """All users."""
    return _accounts()


def _accounts(wrong: str = "", status: int = 200) -> ResponseReturnValue:
    page = render_template(
        "users.html",
        accounts=site().users.accounts(),
        roles=_offered(),
        wrong=wrong,
    )
    return page, status


def _offered() -> dict[str, str]:
    """Return the roles that a user can have: all but that of who is not signed in."""
    return {
        name: str(role.label) for name, role in site().roles.items() if name != ANYONE
    }


def _chosen_roles() -> list[str]:
    return [role for role in request.form.getlist("role") if role in _offered()]


@blueprint.post("/users/add")
@for_administrators
def add() -> ResponseReturnValue:
    """Add a user, who sets a password by a link that works once."""
    roles = _chosen_roles()
    if not roles:
        return _accounts(_("Choose at least one role."), 422)
    name = request.form.get("name", "")
    try:
        token = site().users.invitations.invite(name, roles)
    except AccountError as error:
        return _accounts(str(error), 422)
    account = site().users.find(name)
    note("account", f"invited {account.name} as {', '.join(roles)}")
    return _show_link(account, token, INVITATION_LASTS.days * 24)


def _show_link(account: Account, token: str, hours: int) -> str:
    # the application may be reached by https though its own server speaks http
    scheme = "https" if current_app.config["SESSION_COOKIE_SECURE"] else None
    address = url_for("login.set_password", token=token, _external=True, _scheme=scheme)
    return render_template(
        "user-link.html", account=account, address=address, hours=hours
    )


def _account(number: int) -> Account:
    found = site().users.account(number)
    if found is None:
        abort(404)
    return found


@blueprint.get("/users/<int:number>")
@for_administrators
def account(number: int) -> ResponseReturnValue:
    """One user."""
    return _page(number)


def _page(number: int, wrong: str = "", status: int = 200) -> ResponseReturnValue:
    page = render_template(
        "user.html",
        account=_account(number),
        roles=_offered(),
        attributes=site().attributes,
        sessions=site().users.sessions.of_user(number),
        wrong=wrong,
    )
    return page, status


@blueprint.post("/users/<int:number>")
@for_administrators
def save(number: int) -> ResponseReturnValue:
    """Give a user other roles and attributes."""
    before = _account(number)
    attributes = {}
    for attribute in site().attributes:
        typed = request.form.get(f"attribute-{attribute.name}", "").strip()
        if typed:
            try:
                attributes[attribute.name] = attribute.parse(typed)[:400]
            except (ValueError, ArithmeticError):
                text = _("Enter a value of the type %(kind)s for %(name)s.",
                         name=attribute.name, kind=attribute.kind)  # fmt: skip
                return _page(number, text, 422)
    roles = _chosen_roles()
    name = request.form.get("name", before.name).strip()
    try:
        if name != before.name:
            site().users.rename(number, name)
            note("account", f"renamed {before.name} to {name}")
        site().users.set_roles(number, roles)
    except AccountError as error:
        return _page(number, str(error), 422)
    site().users.set_attributes(number, attributes)
    words = f"{before.name}: roles {_listed(before.roles)} → {_listed(roles)}"
    for name in sorted({*before.attributes, *attributes}):
        old, new = before.attributes.get(name), attributes.get(name)
        if old != new:
            words += f"; {name} {old or '–'} → {new or '–'}"
    note("account", words)
    flash(_("Saved."))
    return redirect(url_for(".account", number=number))


def _listed(roles: Any) -> str:
    return ", ".join(sorted(roles)) or "–"


@blueprint.post("/users/<int:number>/link")
@for_administrators
def make_link(number: int) -> ResponseReturnValue:
    """Make a link by which a user sets a new password."""
    found = _account(number)
    token = site().users.invitations.link_for(number)
    note("account", f"made a link to set the password of {found.name}")
    return _show_link(found, token, int(LINK_LASTS.total_seconds()) // 3600)


@blueprint.post("/users/<int:number>/end")
@for_administrators
def end_sessions(number: int) -> ResponseReturnValue:
    """End all sessions of a user."""
    found = _account(number)
    site().users.sessions.end_sessions(number)
    note("account", f"ended all sessions of {found.name}")
    flash(_("All sessions of %(name)s have ended.", name=found.name))
    return redirect(url_for(".account", number=number))


@blueprint.post("/users/<int:number>/disable")
@for_administrators
def disable(number: int) -> ResponseReturnValue:
    """Let a user no longer sign in, or again."""
    found = _account(number)
    try:
        if found.disabled:
            site().users.enable(found.name)
        else:
            site().users.disable(found.name)
    except AccountError as error:
        return _page(number, str(error), 422)
    note("account", f"{'enabled' if found.disabled else 'disabled'} {found.name}")
    return redirect(url_for(".account", number=number))


@blueprint.get("/roles")
@for_administrators
def roles() -> ResponseReturnValue:
    """Who may do what: every role on every table."""
    made = site()
    tables = [pages for pages in made.registry.pages.values() if not pages.for_lookups]
    tables.sort(key=lambda pages: (str(pages.group), str(pages.plural).casefold()))
    return render_template(
        "roles.html", plainly=_plainly, roles=list(made.roles.values()), tables=tables, all_rights=ALL,
        accounts=made.users.accounts(),
    )  # fmt: skip


def _plainly(condition: str) -> str:
    """Return a condition as access.toml has it."""
    return _BOUND.sub(r":user.\1\2", condition).replace("\\:", ":")


@blueprint.post("/view-as")
@for_administrators
def begin_viewing() -> ResponseReturnValue:
    """Look at the application as a role or a user has it."""
    wanted = request.form.get("as", "")
    kind, _colon, word = wanted.partition(":")
    known = (kind == "role" and word in site().roles) or (
        kind == "user" and word.isdecimal() and site().users.account(int(word))
    )
    if not known:
        abort(404)
    session[IMPERSONATION] = wanted
    found = impersonation()
    note("look", f"looks at the application as {found.label if found else wanted}")
    return redirect(url_for("pages.front"))


@blueprint.post("/view-as/end")
@for_administrators
def end_viewing() -> ResponseReturnValue:
    """Look at the application as oneself again."""
    if session.pop(IMPERSONATION, None):
        note("look", "looks at the application as usual again")
    return redirect(url_for(".roles"))
