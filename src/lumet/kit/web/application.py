"""The application factory: database, accounts, pages and security."""

import re
import secrets
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from flask import (
    Flask,
    g,
)
from flask.templating import Environment as FlaskEnvironment
from flask_babel import Babel, gettext
from flask_babel.speaklater import LazyString
from flask_login import LoginManager
from flask_wtf.csrf import CSRFProtect
from jinja2 import ChoiceLoader, Environment, FileSystemLoader, PrefixLoader
from markupsafe import Markup

from ..access.roles import Attribute, Role
from ..accounts.audit_log import AuditLog
from ..accounts.outbox import Outbox
from ..accounts.renames import follow_renames
from ..accounts.store import open_store
from ..accounts.user_rows import AccountPolicy
from ..accounts.users import Users
from ..common import locale
from ..common.exceptions import CannotStart
from ..common.formatting import datetime_text, is_language
from ..common.proxies import BehindProxies, BelowPrefix
from ..common.settings import LOCAL_HOSTS, Settings, tiles_origin
from ..db.engine import open_database
from ..files.uploads import Uploads
from ..forms.file_fields import EXTENSION as UPLOADS
from ..pages import urls
from ..pages.cards import FIRST_PAGE, CardPage
from ..pages.context import Site, install_site, site
from ..pages.name_checks import unknown_names
from ..pages.registry import Registry
from ..pages.table_pages import TablePages
from ..related.breadcrumbs import breadcrumbs
from . import (
    action_views,
    admin_views,
    audit_views,
    card_views,
    delete_views,
    edit_views,
    file_views,
    find_views,
    health_views,
    help_views,
    history_views,
    layout_views,
    list_views,
    menu_views,
    outbox_views,
    record_views,
)
from . import login_views as account_views
from . import navigation as page_views
from .error_pages import add_error_pages
from .own_code import OwnCode
from .request_limits import MAX_REQUEST_BYTES, limit_requests
from .security import SignedSessions, add_security
from .static_files import own_address, own_style, serve_revisions, static_address

SHARED = "kit"  # before the names of the shared templates
_INDENTATION = re.compile(r"^ +", re.MULTILINE)


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
    menu: tuple[str, ...] = (),
    card_pages: Sequence[CardPage] = (FIRST_PAGE,),
    renames: tuple[tuple[str, str], ...] = (),
) -> Flask:
    """Build the application of `package` from its generated parts.

    Raises CannotStart with everything a person has to put right.
    """
    language = settings.language or language
    if not is_language(language):
        raise CannotStart(f"LANGUAGE: there is no language {language!r}.")
    app = _Application(package, static_folder="kit/static")
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
        BABEL_TRANSLATION_DIRECTORIES="translations;custom/translations",
        TIME_ZONE=settings.time_zone,
        MAX_CONTENT_LENGTH=MAX_REQUEST_BYTES,
        MAX_FORM_MEMORY_SIZE=MAX_REQUEST_BYTES,
    )
    own = Path(app.root_path) / "custom"
    _add_templates(app, own)
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
    code = OwnCode(package, own, tables)
    own_settings = settings.own(code.settings)
    registry = Registry({key: made(key) for key, made in code.pages.items()})
    for key, each in registry.pages.items():
        each.has_own_templates = (own / "templates" / key).is_dir()
    if unknown := unknown_names(registry):
        raise CannotStart("\n".join(unknown))
    store = open_store(settings.accounts_url, settings.folder, settings.database_url)
    follow_renames(store, renames, registry.lookups_of)
    made = Site(
        name=name,
        registry=registry,
        roles={role.name: role for role in roles},
        database=open_database(
            settings.database_url,
            settings.folder,
            dialect,
            settings.is_read_only,
            settings.is_rehearsal,
        ),
        users=Users(
            store,
            AccountPolicy(
                min_password_length=settings.password_length,
                words=(name, package, *[role.name for role in roles]),
                idle=timedelta(hours=settings.session_idle_hours),
                absolute=timedelta(days=settings.session_days),
            ),
            administrator_roles=[role.name for role in roles if role.manages_users],
        ),
        log=AuditLog(store, settings.log_days, Outbox(store, settings.outbox_days)),
        default_language=language,
        attributes=attributes,
        menu=menu,
        export_bytes=settings.export_mb * 1_000_000,
        own_settings=own_settings,
        own_menu=code.menu,
        card_pages={page.name: page for page in (FIRST_PAGE, *card_pages)},
        map_tiles=settings.map_tiles,
        map_attribution=settings.map_attribution,
        is_read_only=settings.is_read_only,
        is_rehearsal=settings.is_rehearsal,
    )
    app.extensions[UPLOADS] = Uploads(settings.uploads, store, most_bytes)
    install_site(app, made)
    _add_accounts(app, made.users)
    views = (
        page_views,
        menu_views,
        layout_views,
        list_views,
        card_views,
        action_views,
        edit_views,
        delete_views,
        record_views,
        file_views,
        find_views,
        help_views,
        history_views,
        account_views,
        admin_views,
        audit_views,
        outbox_views,
        health_views,
    )
    for blueprint in dict.fromkeys(each.blueprint for each in views):
        app.register_blueprint(blueprint)
    for blueprint in code.blueprints:
        app.register_blueprint(blueprint)
    endpoints = {*app.view_functions}
    if lost := [each.endpoint for each in code.menu if each.endpoint not in endpoints]:
        raise CannotStart(f"MENU in custom/__init__.py: no page {', '.join(lost)}.")
    serve_revisions(app)
    add_security(app, tiles_origin(settings.map_tiles))
    add_error_pages(app)
    whole: Any = BehindProxies(app.wsgi_app, settings.proxy)
    if settings.prefix:
        whole = BelowPrefix(whole, settings.prefix)
    app.wsgi_app = whole  # type: ignore[method-assign]
    return app


def _add_templates(app: Flask, own: Path) -> None:
    """Let the application find its templates, those in `own` first, and what they
    call."""
    app.jinja_loader = ChoiceLoader(
        [
            FileSystemLoader(own / "templates"),
            shared := _Templates(Path(app.root_path) / "kit" / "templates"),
            PrefixLoader({SHARED: shared}),
        ]
    )
    # labels are lazy, and would pass for HTML
    app.jinja_env.finalize = _as_text
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.filters["datetime"] = _local_datetime
    app.jinja_env.globals["breadcrumbs"] = breadcrumbs
    app.jinja_env.globals["urls"] = urls.SUFFIXES
    app.jinja_env.globals.update(page_views.common_functions())
    app.jinja_env.globals.update(own_style=own_style, own_static=own_address)


class _Environment(FlaskEnvironment):
    """Finds the template that one of the same name, or of a table, extends."""

    def join_path(self, template: str, parent: str) -> str:
        """Return the name of a template as another one means it: a template of your
        own that extends its own name extends the shared one."""
        return f"{SHARED}/{template}" if template == parent else template


class _Application(Flask):
    jinja_environment = _Environment


class _Templates(FileSystemLoader):
    """Templates without their indentation, which would be a tenth of every page."""

    def get_source(self, environment: Environment, template: str) -> Any:
        source, filename, is_current = super().get_source(environment, template)
        return _INDENTATION.sub("", source), filename, is_current


def _number_request() -> None:
    g.number = secrets.token_hex(4)


def _as_text(value: Any) -> Any:
    return str(value) if isinstance(value, LazyString) else value


def _local_datetime(moment: datetime) -> str:
    """Write a datetime, stored as UTC, in the time zone and the language of the user."""
    local = moment.replace(tzinfo=UTC).astimezone(locale.zone())
    return datetime_text(local.replace(tzinfo=None), site().language)


class _Words:
    """What the templates say, translated once for each language: a list says some forty
    things."""

    def __init__(self) -> None:
        self._sayings: dict[str, Callable[..., Markup]] = {}

    def of(self, language: str) -> Callable[..., Markup]:
        """Return the translation function of this language, the present user's, with
        values put in."""
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


def _add_accounts(app: Flask, users: Users) -> None:
    app.extensions["users"] = users
    manager = LoginManager(app)
    manager.login_view, manager.login_message = "login.sign_in", None
    manager.user_loader(users.sessions.load)
    manager.session_protection = "basic"
