"""What the pages of one application share, and what one request knows."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

from flask import Flask, current_app, request
from flask_login import current_user

from ..addresses import decode_key
from ..database import Database
from ..reach import Reach, Role, reach_of
from .model import Registry, TablePages

EXTENSION = "site"
PLANS_KEPT = 2_000


@dataclass(slots=True)
class Site:
    """The tables, the roles and the database of one application."""

    name: str
    registry: Registry
    roles: dict[str, Role]
    database: Database
    language: str
    plans: dict[tuple[Any, ...], Any] = field(default_factory=dict)

    def keep(self, key: tuple[Any, ...], plan: Any) -> Any:
        """Keep a plan, which is a statement built once; forget all when too many."""
        if len(self.plans) >= PLANS_KEPT:
            self.plans.clear()
        self.plans[key] = plan
        return plan


def site() -> Site:
    """Return the site of the application that answers the present request."""
    found: Site = current_app.extensions[EXTENSION]
    return found


def install(app: Flask, made: Site) -> None:
    """Make `made` the site of `app`."""
    app.extensions[EXTENSION] = made


def reach() -> Reach:
    """Return what the signed-in user can reach; nothing for anybody else."""
    roles = current_user.roles if current_user.is_authenticated else ()
    return reach_of(roles, site().roles)


def record_address(table: str, key: str) -> str:
    """Return the address of a record's page, below the application's own."""
    return f"{request.script_root}/t/{table}/r/{key}"


def list_address(table: str) -> str:
    """Return the address of a table's list."""
    return f"{request.script_root}/t/{table}"


def add_address(table: str, given: Mapping[str, str] | None = None) -> str:
    """Return the address of the form for a new record, with `given` filled in."""
    filled = f"?{urlencode(given)}" if given else ""
    return f"{request.script_root}/t/{table}/add{filled}"


def key_values(made: Site, pages: TablePages, segment: str) -> dict[str, Any]:
    """Return the key that a segment of an address stands for, by column.

    Raises ValueError when it is none of this table's.
    """
    takes_any = made.database.engine.dialect.name == "sqlite"
    values = decode_key(segment, pages.key_types(), takes_any)
    return dict(zip(pages.key, values, strict=True))


def lower_first(word: Any) -> str:
    """Write a noun as it stands inside a sentence; acronyms stay as they are."""
    text = str(word)
    return text if text[1:2].isupper() else text[:1].lower() + text[1:]
