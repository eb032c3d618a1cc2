"""Putting the application together: database, accounts, pages, and what keeps it safe."""

import hashlib
import importlib
import importlib.util
import inspect
import logging
import secrets
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from flask import (
    Flask,
    Response,
    abort,
    g,
    render_template,
    request,
)
from flask.sessions import SecureCookieSessionInterface
from flask_babel import Babel, gettext
from flask_babel import gettext as _
from flask_babel.speaklater import LazyString
from flask_login import LoginManager, current_user
from flask_wtf.csrf import CSRFError, CSRFProtect
from jinja2 import ChoiceLoader, FileSystemLoader
from markupsafe import Markup, escape
from sqlalchemy.exc import DBAPIError
from werkzeug.exceptions import HTTPException, SecurityError

from ..access.reach import Attribute, OutOfReach, Role
from ..accounts.audit_log import ActivityLog
from ..accounts.store import open_store
from ..accounts.users import Rules, Users
from ..common import locale
from ..common.exceptions import CannotStart
from ..common.formatting import is_language, moment_text
from ..common.proxies import BehindProxies
from ..common.settings import LOCAL_HOSTS, Settings
from ..db.engine import open_database
from ..db.errors import meaning
from ..files.uploads import Uploads
from ..forms.file_fields import EXTENSION as UPLOADS
from ..pages.context import Site, install, look, note, site
from ..pages.table_pages import Registry, TablePages
from ..related.breadcrumbs import trail
from . import (
    admin_views,
    audit_views,
    delete_views,
    edit_views,
    file_views,
    help_views,
    history_views,
    list_views,
    record_views,
)
from . import login_views as account_views
from . import navigation as page_views
from .request_limits import LARGEST_REQUEST, UNREADABLE, is_unreadable, limit_requests
from .static_files import serve_revisions, static_address

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
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=(), payment=(), usb=()",
}
HTTPS_ONLY = "max-age=31536000"  # a year, once it was reached by https
NOT_LOOKING = ("keeping.begin_look", "keeping.end_look", "accounts.sign_out")
log = logging.getLogger(__name__)


class SignedSessions(SecureCookieSessionInterface):
    """Sessions signed with SHA-256 where Flask's own are with SHA-1."""

    digest_method = staticmethod(hashlib.sha256)


def build(
    package: str,
    settings: Settings,
    *,
    name: str,
    dialect: str,
    language: str,
    tables: Mapping[str, type[TablePages]],
    roles: tuple[Role, ...],
    attributes: tuple[Attribute, ...] = (),
) -> Flask:
    """Build the application of `package` from its generated parts.

    Raises CannotStart with everything a person has to put right.
    """
    language = settings.language or language
    if not is_language(language):
        raise CannotStart(f"LANGUAGE: there is no language {language!r}.")
    app = Flask(package, static_folder="kit/static")
    app.session_interface = SignedSessions()
    app.config.update(
        SECRET_KEY=settings.secret_key,
        SECRET_KEY_FALLBACKS=list(settings.former_keys),
        # by this beginning browsers let no other host and no plain http set it
        SESSION_COOKIE_NAME=f"{'__Host-' if settings.https else ''}{package}-session",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_SECURE=settings.https,
        TRUSTED_HOSTS=list(settings.trusted_hosts or LOCAL_HOSTS),
        WTF_CSRF_TIME_LIMIT=None,
        WTF_CSRF_SSL_STRICT=settings.https,
        BABEL_DEFAULT_LOCALE=language,
        TIME_ZONE=settings.time_zone,
        MAX_CONTENT_LENGTH=LARGEST_REQUEST,
        MAX_FORM_MEMORY_SIZE=LARGEST_REQUEST,
    )
    own = Path(app.root_path) / "custom"
    app.jinja_loader = ChoiceLoader(
        [
            FileSystemLoader(own / "templates"),
            FileSystemLoader(Path(app.root_path) / "kit" / "templates"),
        ]
    )
    # labels are lazy, and would pass for HTML
    app.jinja_env.finalize = _as_text
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.filters["moment"] = _moment_here
    app.jinja_env.globals["trail"] = trail
    Babel(app, locale_selector=_language_of_user)
    words = _Words()
    app.context_processor(
        lambda: {"static": static_address(), "_": words.of(site().language)}
    )
    most_bytes = settings.upload_mb * 1_000_000
    # first of all: what guards against forged forms reads them already
    app.before_request(_number_request)
    limit_requests(app, most_bytes)
    CSRFProtect(app)
    pages = {key: _own_pages(package, key, found)(key) for key, found in tables.items()}
    store = open_store(settings.accounts_url, settings.folder, settings.database_url)
    made = Site(
        name=name,
        registry=Registry(pages),
        roles={role.name: role for role in roles},
        database=open_database(settings.database_url, settings.folder, dialect),
        users=Users(
            store,
            Rules(
                shortest_password=settings.password_length,
                words=(name, package, *[role.name for role in roles]),
                idle=timedelta(hours=settings.session_idle_hours),
                absolute=timedelta(days=settings.session_days),
            ),
            keeping=[role.name for role in roles if role.keeps_accounts],
        ),
        log=ActivityLog(store, settings.log_days),
        default_language=language,
        attributes=attributes,
        export_bytes=settings.export_mb * 1_000_000,
    )
    app.extensions[UPLOADS] = Uploads(settings.uploads, store, most_bytes)
    install(app, made)
    _add_accounts(app, made.users)
    views = (
        page_views,
        list_views,
        edit_views,
        delete_views,
        record_views,
        file_views,
        help_views,
        history_views,
        account_views,
        admin_views,
        audit_views,
    )
    for blueprint in dict.fromkeys(each.blueprint for each in views):
        app.register_blueprint(blueprint)
    serve_revisions(app)
    _add_safety(app)
    _add_errors(app)
    app.wsgi_app = BehindProxies(app.wsgi_app, settings.proxy)  # type: ignore[method-assign]
    return app


def _number_request() -> None:
    g.number = secrets.token_hex(4)


def _as_text(value: Any) -> Any:
    return str(value) if isinstance(value, LazyString) else value


def _moment_here(moment: datetime) -> str:
    """Write a moment, kept as UTC, in the zone and the language of the user."""
    local = moment.replace(tzinfo=UTC).astimezone(locale.zone())
    return moment_text(local.replace(tzinfo=None), site().language)


class _Words:
    """What the templates say, translated once for each language: a list says some forty
    things."""

    def __init__(self) -> None:
        self._sayings: dict[str, Callable[..., Markup]] = {}

    def of(self, language: str) -> Callable[..., Markup]:
        """Return what gives a text in this language, the present user's, with values
        put in."""
        if language not in self._sayings:
            self._sayings[language] = _saying()
        return self._sayings[language]


def _saying() -> Callable[..., Markup]:
    known: dict[str, Markup] = {}

    def say(text: str, **values: Any) -> Markup:
        if text not in known:
            known[text] = Markup(gettext(text))
        return known[text] % values if values else known[text]

    return say


def _language_of_user() -> str:
    return site().language


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
    app.extensions["users"] = users
    manager = LoginManager(app)
    manager.login_view, manager.login_message = "accounts.sign_in", None
    manager.user_loader(users.load)
    manager.session_protection = "basic"


def _add_safety(app: Flask) -> None:
    @app.before_request
    def change_nothing_while_looking() -> None:
        changes = request.method not in ("GET", "HEAD", "OPTIONS")
        if changes and request.endpoint not in NOT_LOOKING and look() is not None:
            abort(403)

    @app.after_request
    def add_headers(response: Response) -> Response:
        for name, value in HEADERS.items():
            response.headers.setdefault(name, value)
        if app.config["SESSION_COOKIE_SECURE"]:
            response.headers.setdefault("Strict-Transport-Security", HTTPS_ONLY)
        if request.endpoint not in ("static", "static_revision"):
            response.headers.setdefault("Cache-Control", "no-store")
        return response


def _add_errors(app: Flask) -> None:
    @app.errorhandler(CSRFError)
    def stale_form(error: CSRFError) -> tuple[str, int]:
        _note_refusal("a form without its token")
        return _error_page(400, _("This form is too old. Go back, reload, try again."))

    @app.errorhandler(OutOfReach)
    def out_of_reach(error: OutOfReach) -> tuple[str, int]:
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
        if meaning(error).kind != "busy":
            return broken(error)
        log.warning("request %s: the database is busy", g.number)
        text = _("The database is busy. Nothing was changed; try again in a moment.")
        return _error_page(503, text)

    def unreadable(error: Exception) -> tuple[str, int]:
        log.warning("request %s: could not be understood: %s", g.number, type(error))
        return _error_page(400, "")

    for kind in UNREADABLE:
        app.register_error_handler(kind, unreadable)

    @app.errorhandler(Exception)
    def broken(error: Exception) -> tuple[str, int]:
        log.error("request %s: %s %s", g.number, request.method, request.path,
                  exc_info=error)  # fmt: skip
        return _error_page(500, "")


def _note_refusal(words: str) -> None:
    """Write down what a signed-in user was refused; others could fill the log."""
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
        404: _("There is nothing here, or nothing that you may see."),
        405: _("This cannot be done here."),
        429: _("Too many tries."),
        413: _("This is too large."),
        414: _("This address is too long."),
        431: _("The headers of this request are too long."),
        500: _("Something went wrong here. It was written down."),
    }
    titles = {
        403: _("Not allowed"),
        404: _("Not found"),
        500: _("A fault"),
        503: _("Busy"),
    }
    title = titles.get(code, _("Not possible"))
    return str(title), text or str(said.get(code, _("This is not possible.")))


BARE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{title}</title></head>
<body><h1>{title}</h1><p>{text}</p><p>{number}</p></body></html>
"""
