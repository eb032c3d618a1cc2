"""Error pages, and the log entries about errors."""

import logging
from traceback import extract_tb
from typing import Any

from flask import Flask, g, render_template, request
from flask_babel import gettext as _
from flask_login import current_user
from flask_wtf.csrf import CSRFError
from markupsafe import escape
from sqlalchemy.exc import DBAPIError
from werkzeug.exceptions import HTTPException, SecurityError

from ..access.denied import AccessDenied
from ..db.errors import classify
from ..pages.context import note, site
from .request_limits import UNREADABLE, is_unreadable


def add_error_pages(app: Flask) -> None:
    @app.errorhandler(CSRFError)
    def stale_form(error: CSRFError) -> tuple[str, int]:
        _note_refusal("a form without its token")
        return _error_page(
            400, _("This form has expired. Go back, reload the page and try again.")
        )

    @app.errorhandler(AccessDenied)
    def out_of_reach(error: AccessDenied) -> tuple[str, int]:
        log.warning("request %s: out of reach: %s", g.number, error)
        _note_refusal(f"out of reach: {error}")
        return _error_page(403, "")

    @app.errorhandler(SecurityError)
    def untrusted(error: SecurityError) -> tuple[str, int]:
        # no page: its links could not be made for a host that is not trusted
        return "This host is not trusted here: see TRUSTED_HOSTS.", 400

    @app.errorhandler(HTTPException)
    def refused(error: HTTPException) -> Any:
        if error.code is None or error.code < 400:
            return error
        if error.code == 403:
            _note_refusal(f"{request.method} {request.path}")
        usual = type(error).description
        own = error.description if error.description != usual else ""
        return _error_page(error.code, own or "")

    @app.errorhandler(DBAPIError)
    def busy(error: DBAPIError) -> tuple[str, int]:
        if is_unreadable(error):
            return unreadable(error)
        if classify(error).kind != "busy":
            return broken(error)
        log.warning("request %s: the database is busy", g.number)
        text = _("The database is busy. Nothing was changed; try again in a moment.")
        return _error_page(503, text)

    def unreadable(error: Exception) -> tuple[str, int]:
        said = f"{type(error).__name__}{_raised_at(error)}"
        log.warning("request %s: could not be understood: %s", g.number, said)
        return _error_page(400, "")

    for kind in UNREADABLE:
        app.register_error_handler(kind, unreadable)

    @app.errorhandler(Exception)
    def broken(error: Exception) -> tuple[str, int]:
        log.error("request %s: %s %s", g.number, request.method, request.path,
                  exc_info=error)  # fmt: skip
        return _error_page(500, "")


def _raised_at(error: Exception) -> str:
    """Return where an error was raised: what seems a strange request may be a strange
    value of a row."""
    frames = extract_tb(error.__traceback__)
    return f" at {frames[-1].filename}:{frames[-1].lineno}" if frames else ""


def _note_refusal(words: str) -> None:
    """Record a refused request of a signed-in user; others could fill the log."""
    if current_user.is_authenticated:
        note("refusal", words[:300])


def _error_page(code: int, text: str) -> tuple[str, int]:
    number = getattr(g, "number", "")
    try:
        title, said = _said_of(code, text)
        page = render_template(
            "error.html", code=code, title=title, text=said, number=number
        )
        return page, code
    except Exception as error:  # whatever is wrong: the store of users is away
        log.error("request %s: the page of an error", number, exc_info=error)
    g.language = site().default_language  # that of the user is not to be had
    title, said = (escape(each) for each in _said_of(code, text))
    return BARE.format(title=title, text=said, number=number), code


def _said_of(code: int, text: str) -> tuple[str, str]:
    """Return the title and the text of an error's page."""
    said = {
        400: _("This request could not be understood."),
        403: _("Your roles do not allow this."),
        404: _("This page does not exist, or you have no access to it."),
        405: _("This is not supported here."),
        429: _("Too many attempts."),
        413: _("This is too large. Send less at once."),
        414: _("This address is too long."),
        431: _("The headers of this request are too long."),
        500: _("The error was logged. Try again, or ask an administrator."),
    }
    titles = {
        403: _("Not allowed"),
        404: _("Not found"),
        500: _("Something went wrong"),
        503: _("Busy"),
    }
    title = titles.get(code, _("Not possible"))
    return str(title), text or str(said.get(code, _("This is not possible.")))


log = logging.getLogger(__name__)

BARE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{title}</title></head>
<body><h1>{title}</h1><p>{text}</p><p>{number}</p></body></html>
"""
