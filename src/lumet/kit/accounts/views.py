"""Signing in and out, and the link that makes the first user."""

from flask import Blueprint, current_app, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from flask_login import current_user, login_user, logout_user

from .users import Refused, TooManyFailures, Users

EXTENSION = "users"
blueprint = Blueprint("accounts", __name__)


def users() -> Users:
    """Return the users of the application that answers the present request."""
    found: Users = current_app.extensions[EXTENSION]
    return found


@blueprint.route("/sign-in", methods=["GET", "POST"])
def sign_in() -> ResponseReturnValue:
    """The door: name and password."""
    if current_user.is_authenticated:
        return redirect(url_for("pages.front"))
    wrong = ""
    if request.method == "POST":
        name = request.form.get("name", "")
        password = request.form.get("password", "")
        try:
            visitor = users().sign_in(name, password, request.remote_addr or "")
        except TooManyFailures:
            wrong = _("Too many tries. Wait a quarter of an hour.")
        else:
            if visitor is not None:
                login_user(visitor)
                return redirect(_next())
            wrong = _("Name and password do not fit together.")
    page = render_template("sign-in.html", wrong=wrong, no_user=users().is_empty())
    return page, 422 if wrong else 200


def _next() -> str:
    wanted = request.args.get("next", "")
    own = wanted.startswith("/") and not wanted.startswith(("//", "/\\"))
    return request.script_root + wanted if own else url_for("pages.front")


@blueprint.post("/sign-out")
def sign_out() -> ResponseReturnValue:
    """End the session."""
    logout_user()
    return redirect(url_for(".sign_in"))


@blueprint.route("/first-steward/<token>", methods=["GET", "POST"])
def first_user(token: str) -> ResponseReturnValue:
    """Make the first user by a link that works once."""
    if users().invited_role(token) is None:
        return render_template("first-user.html", is_good=False), 404
    wrong = ""
    if request.method == "POST":
        password = request.form.get("password", "")
        if password != request.form.get("again", ""):
            wrong = _("The two passwords differ.")
        else:
            try:
                users().accept(token, request.form.get("name", ""), password)
            except Refused as error:
                wrong = str(error)
            else:
                return redirect(url_for(".sign_in"))
    page = render_template("first-user.html", is_good=True, wrong=wrong)
    return page, 422 if wrong else 200
