"""The context of requests: the site, the present user's reach, preferences and
language."""

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from flask import Flask, current_app, g, has_request_context, request, session
from flask_login import current_user

from ..access.reach import Reach, reach_of
from ..access.roles import Attribute, Role
from ..accounts.audit_log import Actor, AuditEvent, AuditLog
from ..accounts.preferences import Preferences
from ..accounts.recent_records import RecentRecords
from ..accounts.shared_choices import read_shared, share
from ..accounts.throttle import network_of
from ..accounts.user_rows import SessionUser
from ..accounts.users import Users
from ..contract import ANYONE
from ..db.engine import Database
from .cards import CardPage
from .figure_cache import FigureCache
from .menu import MenuEntry
from .registry import Registry

EXTENSION = "site"
IMPERSONATION = "view-as"  # what a session keeps of whom its user looks as
PLANS_KEPT = 2_000
SHARED_SECONDS = 15  # for which what is chosen for everybody is kept
COUNTS_SECONDS = 300  # for which the numbers in the menu are kept


@dataclass(slots=True)
class Site:
    """The tables, the roles and the database of one application."""

    name: str
    registry: Registry
    roles: dict[str, Role]
    database: Database
    users: Users
    log: AuditLog
    default_language: str
    attributes: tuple[Attribute, ...] = ()
    menu: tuple[str, ...] = ()  # groups and tables that come first, in their order
    export_bytes: int = 2_000_000_000  # of the largest export
    own_settings: Mapping[str, str] = field(default_factory=dict)
    own_menu: Sequence[MenuEntry] = ()
    card_pages: Mapping[str, CardPage] = field(default_factory=dict)  # "": the first
    map_tiles: str = ""  # where maps have their pictures from
    map_attribution: str = ""
    is_read_only: bool = False  # whoever it is, nothing is changed
    is_rehearsal: bool = False  # nothing that is changed is kept
    plans: dict[tuple[Any, ...], Any] = field(default_factory=dict)
    figures: FigureCache = field(default_factory=FigureCache)
    changes: FigureCache = field(default_factory=FigureCache)  # when, by user
    counts: FigureCache = field(default_factory=lambda: FigureCache(COUNTS_SECONDS))
    shared: FigureCache = field(default_factory=lambda: FigureCache(SHARED_SECONDS))
    recent: RecentRecords = field(init=False)

    def __post_init__(self) -> None:
        self.recent = RecentRecords(self.users.store)

    def shared_choice(self, name: str) -> str:
        """Return the choice of an administrator for everybody, "" for none."""
        return self.shared.get(name, lambda: read_shared(self.users.store, name))

    def share(self, name: str, value: str) -> None:
        """Choose something for everybody; "" forgets it. Other processes of the
        application follow within SHARED_SECONDS."""
        share(self.users.store, name, value)
        self.shared.forget(name)

    @property
    def language(self) -> str:
        """The language of the present user, for dates and numbers."""
        found: str = g.get("language", "")
        if not found:
            found = getattr(current_user, "language", "") or self.default_language
            if has_request_context():
                g.language = found
        return found

    @property
    def root(self) -> str:
        """The path below which the application is mounted, "" for none."""
        if not has_request_context():
            return ""
        if "root" not in g:
            g.root = request.script_root
        found: str = g.root
        return found

    def plan(self, key: tuple[Any, ...], build: Callable[[], Any]) -> Any:
        """Return the result of `build`, a statement with its readers, built once for
        each language and place; all are forgotten when there are too many."""
        whole = (self.language, self.root, *key)
        if whole not in self.plans:
            if len(self.plans) >= PLANS_KEPT:
                self.plans.clear()
            self.plans[whole] = build()
        return self.plans[whole]


def site() -> Site:
    """Return the site of the application that answers the present request."""
    found: Site = current_app.extensions[EXTENSION]
    return found


def install_site(app: Flask, made: Site) -> None:
    """Make `made` the site of `app`."""
    app.extensions[EXTENSION] = made


@dataclass(frozen=True, slots=True)
class Impersonation:
    """The user or role that an administrator impersonates: views the application as."""

    label: str
    roles: tuple[str, ...]
    attributes: Mapping[str, str]


def current_reach() -> Reach:
    """Return the reach of the present user: by the roles of a signed-in user, else by
    those of anyone; by another's, and without changes, while viewing as another."""
    if "reach" not in g:
        g.reach = _find_reach()
    found: Reach = g.reach
    return found


def _find_reach() -> Reach:
    made = site()
    if not current_user.is_authenticated:
        return reach_of((ANYONE,), made.roles, is_impersonated=made.is_read_only)
    seen = impersonation()
    if seen is not None:
        bound = _bound(made, seen.label, seen.attributes)
        return reach_of(seen.roles, made.roles, bound, is_impersonated=True)
    visitor: SessionUser = current_user
    bound = _bound(made, visitor.name, visitor.attributes)
    return reach_of(visitor.roles, made.roles, bound, is_impersonated=made.is_read_only)


def _bound(
    made: Site, name: str, attributes: Mapping[str, str]
) -> dict[str, str | None]:
    """Return a user's attributes as rules bind them; None for one that is not set, or
    that was set when it had another type."""
    bound: dict[str, str | None] = {"name": name}
    for attribute in made.attributes:
        try:
            bound[attribute.name] = attribute.parse(attributes[attribute.name])
        except (KeyError, ValueError, ArithmeticError):
            bound[attribute.name] = None
    return bound


def own_roles() -> list[Role]:
    """Return the roles of the signed-in user, whomever they look as."""
    if "own_roles" not in g:
        held = site().roles
        names = current_user.roles if current_user.is_authenticated else ()
        g.own_roles = [held[name] for name in names if name in held]
    found: list[Role] = g.own_roles
    return found


def may_manage_users() -> bool:
    """Tell whether the signed-in user manages users."""
    return any(role.manages_users for role in own_roles())


def may_read_audit_log() -> bool:
    """Tell whether the signed-in user sees the activity log."""
    return any(role.reads_audit_log for role in own_roles())


def impersonation() -> Impersonation | None:
    """Return as whom the signed-in user looks at the application, None for as usual."""
    kind, _, word = session.get(IMPERSONATION, "").partition(":")
    if not kind or not may_manage_users():
        return None
    if "impersonation" not in g:
        g.impersonation = _impersonation(kind, word)
    found: Impersonation | None = g.impersonation
    return found


def _impersonation(kind: str, word: str) -> Impersonation | None:
    if kind == "role" and word in site().roles:
        return Impersonation(str(site().roles[word].label), (word,), {})
    account = site().users.account(int(word)) if kind == "user" else None
    if account is None:
        return None
    return Impersonation(account.name, account.roles, account.attributes)


def preferences() -> Preferences:
    """Return the preferences of the present user; none while viewing as another."""
    store = site().users.store
    if not current_user.is_authenticated or impersonation():
        return Preferences(store, None)
    return Preferences(store, current_user.id, current_user.kept)


SHORTCUTS = "shortcuts"  # kept of a user: "off" where single letters do nothing


def are_shortcuts_on() -> bool:
    """Tell whether single letters do something for the present user."""
    return preferences().get(SHORTCUTS) != "off"


def note_change() -> None:
    """Note that the user changed something: figures are read anew for whoever did."""
    user_id = actor().user_id if has_request_context() else None
    if user_id is not None:
        site().changes.put(user_id, time.monotonic())


def last_change() -> tuple[object, ...]:
    """Return a mark of the figures of a user who changed something a short time ago, ()
    for all others."""
    user_id = actor().user_id
    at = None if user_id is None else site().changes.peek(user_id)
    return () if at is None else (user_id, at)


def actor() -> Actor:
    """Return who is doing what the present request does."""
    known = current_user.is_authenticated
    return Actor(
        name=current_user.name if known else "",
        user_id=current_user.id if known else None,
        origin=network_of(request.remote_addr or ""),
        request=g.get("number", ""),
    )


def note(kind: str, words: str, table: str = "") -> None:
    """Write in the activity log what the present user did, or was refused."""
    site().log.note(actor(), AuditEvent(kind, table, description=words))


def lower_first(word: Any) -> str:
    """Write a noun for the middle of a sentence; acronyms stay as they are."""
    text = str(word)
    return text if text[1:2].isupper() else text[:1].lower() + text[1:]
