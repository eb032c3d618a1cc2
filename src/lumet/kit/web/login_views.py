"""Sign-in and sign-out, passwords by link, and the profile."""

import secrets
from collections.abc import Callable
from zoneinfo import available_timezones

from babel import Locale
from flask import (
    Blueprint,
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
from flask_babel import ngettext
from flask_login import current_user, login_required, login_user, logout_user
from werkzeug.wrappers import Response

from ..accounts.passwords import AccountError
from ..accounts.throttle import TooManyFailures
from ..common.formatting import is_language
from ..pages.context import note, site

DEVICE_LASTS = 365 * 24 * 3600  # seconds
blueprint = Blueprint("login", __name__)


@blueprint.route("/sign-in", methods=["GET", "POST"])
def sign_in() -> ResponseReturnValue:
    """The door: name and password."""
    if current_user.is_authenticated:
        return redirect(url_for("pages.front"))
    users = site().users
    if request.method == "GET":
        return render_template("sign-in.html", wrong="", no_user=users.is_empty())
    name = request.form.get("name", "")
    token = request.cookies.get(_device_cookie(), "")
    try:
        visitor = users.sessions.sign_in(
            name,
            request.form.get("password", ""),
            request.remote_addr or "",
            token,
            request.user_agent.string,
        )
    except TooManyFailures as error:
        note("sign-in", f'refused, too many tries: "{name[:80]}"')
        wrong = _(
            "Too many attempts. Wait %(wait)s, then try again.",
            wait=_wait(error.seconds),
        )
        return _sign_in_page(wrong, 429, {"Retry-After": str(error.seconds)})
    if visitor is None:
        note("sign-in", f'refused: "{name[:80]}"')
        return _sign_in_page(_("Wrong name or password."), 422, {})
    session.clear()  # nothing that was there before signing in is taken along
    login_user(visitor)
    note("sign-in", "signed in")
    answer = redirect(_next())
    _remember_device(answer, visitor.id, token)
    return answer


def _sign_in_page(
    wrong: str, status: int, headers: dict[str, str]
) -> ResponseReturnValue:
    page = render_template("sign-in.html", wrong=wrong, no_user=site().users.is_empty())
    return page, status, headers


def _wait(seconds: int) -> str:
    if seconds < 100:
        return str(ngettext("%(num)s second", "%(num)s seconds", seconds))
    return str(ngettext("%(num)s minute", "%(num)s minutes", -(-seconds // 60)))


def _device_cookie() -> str:
    name = current_app.config["SESSION_COOKIE_NAME"]
    # it has a path of its own, so that it cannot be of the stricter kind
    return f"{name.replace('__Host-', '__Secure-')}-device"


def _remember_device(answer: Response, number: int, token: str) -> None:
    """Let this browser be counted by itself when somebody guesses the password."""
    known = token if len(token) == 43 else secrets.token_urlsafe(32)
    site().users.sessions.remember_device(number, known)
    answer.set_cookie(
        _device_cookie(),
        known,
        max_age=DEVICE_LASTS,
        secure=current_app.config["SESSION_COOKIE_SECURE"],
        httponly=True,
        samesite="Lax",
        path=f"{request.script_root}/sign-in",
    )


def _next() -> str:
    wanted = request.args.get("next", "")
    own = wanted.startswith("/") and not wanted.startswith(("//", "/\\"))
    plain = not any(odd in wanted for odd in "\\\r\n\t")
    return request.script_root + wanted if own and plain else url_for("pages.front")


@blueprint.post("/sign-out")
def sign_out() -> ResponseReturnValue:
    """End the session."""
    if current_user.is_authenticated:
        site().users.sessions.sign_out(current_user.token)
        note("sign-in", "signed out")
    logout_user()
    session.clear()
    answer = redirect(url_for(".sign_in"))
    # what pages left in this browser goes as well: sizes, places, what had the focus
    answer.headers["Clear-Site-Data"] = '"cache", "storage"'
    return answer


@blueprint.route("/setup/<token>", methods=["GET", "POST"])
def first_user(token: str) -> ResponseReturnValue:
    """Make the first user by a link that works once."""
    users = site().users

    def accept(password: str) -> str:
        users.invitations.accept(token, request.form.get("name", ""), password)
        return "the first user was made by the link"

    return _by_link(users.invitations.invited_role(token) is not None, "", accept)


@blueprint.route("/set-password/<token>", methods=["GET", "POST"])
def set_password(token: str) -> ResponseReturnValue:
    """Set one's password by a link that works once."""
    users = site().users

    def accept(password: str) -> str:
        return f"{users.invitations.use_link(token, password)} set a password by a link"

    name = users.invitations.of_link(token)
    return _by_link(name is not None, name or "", accept)


def _by_link(
    is_good: bool, name: str, accept: Callable[[str], str]
) -> ResponseReturnValue:
    """Show where a link leads, or carry out what was sent from there; `accept` returns
    what is written in the log."""
    wrong = ""
    if is_good and request.method == "POST":
        try:
            note("account", accept(_new_password()))
            return redirect(url_for(".sign_in"))
        except AccountError as error:
            wrong = str(error)
    page = render_template(
        "password-link.html", is_good=is_good, name=name, wrong=wrong
    )
    return page, 422 if wrong else 200 if is_good else 404


def _new_password() -> str:
    """Return the new password that was sent twice. Raises AccountError when they
    differ."""
    password = request.form.get("password", "")
    if password != request.form.get("again", ""):
        raise AccountError(_("The passwords do not match."))
    return password


@blueprint.get("/profile")
@login_required  # type: ignore[untyped-decorator]
def profile() -> ResponseReturnValue:
    """One's own name, language, time zone, password and sessions."""
    return _profile()


def _profile(wrong: str = "", status: int = 200) -> tuple[str, int]:
    users = site().users
    page = render_template(
        "profile.html",
        wrong=wrong,
        shortest=users.rules.min_password_length,
        sessions=users.sessions.of_user(current_user.id),
        own=users.sessions.own_session(current_user),
        languages=_languages(),
        zones=sorted(available_timezones()),
    )
    return page, status


def _languages() -> list[tuple[str, str]]:
    """Return languages whose dates and numbers can be written, by their own names."""
    codes = ("cs", "da", "de", "en_GB", "en_US", "es", "fi", "fr", "it", "nb", "nl", "pl",
             "pt", "sv")  # fmt: skip
    own = site().default_language
    named = {
        code: Locale.parse(code).get_display_name() or code for code in {own, *codes}
    }
    return sorted(named.items(), key=lambda item: item[1].casefold())


@blueprint.post("/profile")
@login_required  # type: ignore[untyped-decorator]
def save_profile() -> ResponseReturnValue:
    """Keep one's display name, language and time zone; another display name asks for
    the present password."""
    language = request.form.get("language", "")
    zone = request.form.get("time_zone", "")
    if (language and not is_language(language)) or (
        zone and zone not in available_timezones()
    ):
        return _profile(_("Choose a language and a time zone from the lists."), 422)
    users, shown = site().users, request.form.get("display-name", "").strip()
    if shown != current_user.display_name:
        refused = _confirm()
        if refused is not None:
            return refused
        try:
            users.set_display_name(current_user.id, shown)
        except AccountError as error:
            return _profile(str(error), 422)
        note("account", f"changed the own display name to {shown or '–'}")
    users.set_profile(current_user.id, language, zone)
    flash(_("Saved."))
    return redirect(url_for(".profile"))


def _confirm() -> ResponseReturnValue | None:
    """Ask for the present password: None where it is right, else the answer."""
    who = current_user
    try:
        present = request.form.get("present", "")
        site().users.confirm(who, present, request.remote_addr or "")
    except TooManyFailures as error:
        note("account", "refused, too many tries at the present password")
        wrong = _(
            "Too many attempts. Wait %(wait)s, then try again.",
            wait=_wait(error.seconds),
        )
        page, _status = _profile(wrong)
        return page, 429, {"Retry-After": str(error.seconds)}
    except AccountError as error:
        note("account", "refused: a wrong present password")
        if site().users.sessions.load(who.token) is None:
            logout_user()
            session.clear()
            return redirect(url_for(".sign_in"))
        return _profile(str(error), 422)
    return None


@blueprint.post("/profile/password")
@login_required  # type: ignore[untyped-decorator]
def change_password() -> ResponseReturnValue:
    """Change one's own password; one's other sessions end."""
    refused = _confirm()
    if refused is not None:
        return refused
    try:
        site().users.change_password(current_user, _new_password())
    except AccountError as error:
        return _profile(str(error), 422)
    note("account", "changed the own password")
    flash(_("The password was changed; your other sessions have ended."))
    return redirect(url_for(".profile"))


@blueprint.post("/profile/end")
@login_required  # type: ignore[untyped-decorator]
def end_session() -> ResponseReturnValue:
    """End one of one's own sessions."""
    name = request.form.get("session", "")
    if len(name) == 16:
        site().users.sessions.end_session(current_user.id, name)
        note("account", "ended an own session")
    return redirect(url_for(".profile"))
