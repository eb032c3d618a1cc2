"""Putting the application together: database, accounts, pages, and what keeps it safe."""

import importlib
import importlib.util
import inspect
import logging
import secrets
from collections.abc import Mapping
from datetime import timedelta
from pathlib import Path
from typing import Any

from flask import Flask, Response, g, render_template, request
from flask_babel import Babel
from flask_babel import gettext as _
from flask_login import LoginManager
from flask_wtf.csrf import CSRFError, CSRFProtect
from jinja2 import ChoiceLoader, FileSystemLoader
from sqlalchemy.exc import DBAPIError
from werkzeug.exceptions import HTTPException

from .accounts import views as account_views
from .accounts.store import open_store
from .accounts.users import Users
from .database import open_database
from .errors import CannotStart
from .formats import is_language
from .pages import views as page_views
from .pages.model import Registry, TablePages
from .pages.site import Site, install
from .reach import OutOfReach, Role
from .refusals import meaning
from .settings import Settings

POLICY = (
    "default-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; "
    "frame-ancestors 'none'; form-action 'self'"
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}
SESSION_LASTS = timedelta(hours=12)
LARGEST_REQUEST = 2 * 1024 * 1024  # bytes; forms only, as yet
log = logging.getLogger(__name__)


def build(
    package: str,
    settings: Settings,
    *,
    name: str,
    dialect: str,
    language: str,
    tables: Mapping[str, type[TablePages]],
    roles: tuple[Role, ...],
) -> Flask:
    """Build the application of `package` from its generated parts.

    Raises CannotStart with everything a person has to put right.
    """
    language = settings.language or language
    if not is_language(language):
        raise CannotStart(f"LANGUAGE: there is no language {language!r}.")
    app = Flask(package)
    app.config.update(
        SECRET_KEY=settings.secret_key,
        SESSION_COOKIE_NAME=f"{package}-session",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_SECURE=settings.https,
        PERMANENT_SESSION_LIFETIME=SESSION_LASTS,
        WTF_CSRF_TIME_LIMIT=None,
        WTF_CSRF_SSL_STRICT=settings.https,
        BABEL_DEFAULT_LOCALE=language,
        MAX_CONTENT_LENGTH=LARGEST_REQUEST,
    )
    own = Path(app.root_path) / "custom"
    app.jinja_loader = ChoiceLoader(
        [
            FileSystemLoader(own / "templates"),
            FileSystemLoader(Path(app.root_path) / "templates"),
        ]
    )
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    Babel(app)
    CSRFProtect(app)
    pages = {key: _own_pages(package, key, found)(key) for key, found in tables.items()}
    install(
        app,
        Site(
            name=name,
            registry=Registry(pages),
            roles={role.name: role for role in roles},
            database=open_database(settings.database_url, settings.folder, dialect),
            language=language,
        ),
    )
    _add_accounts(app, Users(open_store(settings.accounts_url, settings.folder)))
    app.register_blueprint(page_views.blueprint)
    app.register_blueprint(account_views.blueprint)
    _add_safety(app)
    return app


def _own_pages(
    package: str, table: str, generated: type[TablePages]
) -> type[TablePages]:
    """Return your own subclass of a table's pages from `custom/TABLE.py`, else the
    generated class."""
    module = f"{package}.custom.{table}"
    if importlib.util.find_spec(module) is None:
        return generated
    for _name, found in inspect.getmembers(
        importlib.import_module(module), inspect.isclass
    ):
        if issubclass(found, generated) and found is not generated:
            return found
    return generated


def _add_accounts(app: Flask, users: Users) -> None:
    app.extensions[account_views.EXTENSION] = users
    manager = LoginManager(app)
    manager.user_loader(users.load)
    manager.session_protection = "basic"


def _add_safety(app: Flask) -> None:
    @app.before_request
    def number_the_request() -> None:
        g.number = secrets.token_hex(4)

    @app.after_request
    def add_headers(response: Response) -> Response:
        for name, value in HEADERS.items():
            response.headers.setdefault(name, value)
        if request.endpoint != "static":
            response.headers.setdefault("Cache-Control", "no-store")
        return response

    @app.errorhandler(CSRFError)
    def stale_form(error: CSRFError) -> tuple[str, int]:
        return _error_page(400, _("This form is too old. Go back, reload, try again."))

    @app.errorhandler(OutOfReach)
    def out_of_reach(error: OutOfReach) -> tuple[str, int]:
        log.warning("request %s: out of reach: %s", g.number, error)
        return _error_page(403, "")

    @app.errorhandler(HTTPException)
    def refused(error: HTTPException) -> Any:
        if error.code is None or error.code < 400:
            return error
        return _error_page(error.code, "")

    @app.errorhandler(DBAPIError)
    def busy(error: DBAPIError) -> tuple[str, int]:
        if meaning(error).kind != "busy":
            return broken(error)
        log.warning("request %s: the database is busy", g.number)
        text = _("The database is busy. Nothing was changed; try again in a moment.")
        return _error_page(503, text)

    @app.errorhandler(Exception)
    def broken(error: Exception) -> tuple[str, int]:
        log.error("request %s: %s %s", g.number, request.method, request.path,
                  exc_info=error)  # fmt: skip
        return _error_page(500, "")


def _error_page(code: int, text: str) -> tuple[str, int]:
    said = {
        400: _("This request could not be understood."),
        403: _("Your roles do not allow this."),
        404: _("There is nothing here, or nothing that you may see."),
        405: _("This cannot be done here."),
        413: _("This is too large."),
        500: _("Something went wrong here. It was written down."),
    }
    titles = {
        403: _("Not allowed"),
        404: _("Not found"),
        500: _("A fault"),
        503: _("Busy"),
    }
    page = render_template(
        "error.html",
        code=code,
        title=titles.get(code, _("Not possible")),
        text=text or said.get(code, _("This is not possible.")),
        number=getattr(g, "number", ""),
    )
    return page, code
