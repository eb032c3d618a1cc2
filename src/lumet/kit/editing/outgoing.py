"""Messages on their way into the outbox: e-mails and webhooks as they are sent."""

import json
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any
from uuid import UUID

from flask import current_app, g, render_template, request
from flask_babel import force_locale
from jinja2 import TemplateNotFound

from ..accounts.outbox import EMAIL, WEBHOOK, Message
from ..accounts.throttle import now
from ..pages.context import site
from ..pages.messages import Sendable, UsersOf, Webhook
from ..pages.urls import record_address

EMAIL_ATTRIBUTE = "email"  # of users, which access.toml declares
MAILS = "mail/"  # the folder of the templates
_ADDRESS = re.compile(r"[^@\s<>,;]+@[^@\s<>,;.]+(\.[^@\s<>,;.]+)+")
_NAME = re.compile(r"[A-Z][A-Z0-9_]*")


@dataclass(frozen=True, slots=True)
class About:
    """What messages are about: the user who caused them, and the record."""

    user_name: str
    table: str = ""
    key: str = ""
    title: str = ""


def made_messages(sent: Sequence[Sendable], about: About) -> list[Message]:
    """Return messages as the outbox keeps them, written in the language of the
    application. Raises ValueError for a webhook's name that no setting can have,
    TemplateNotFound for an e-mail without a text."""
    if not sent:
        return []
    with _language_of_application():
        return [made for each in sent for made in _made(each, about)]


@contextmanager
def _language_of_application() -> Iterator[None]:
    """Write in the language of the application, instead of the present user's."""
    before, language = site().language, site().default_language
    g.language = language
    try:
        with force_locale(language):
            yield
    finally:
        g.language = before


def _made(each: Sendable, about: About) -> Iterator[Message]:
    parts = (about.user_name, about.table, about.key, about.title)
    if isinstance(each, Webhook):
        if not _NAME.fullmatch(each.name):
            raise ValueError(f"{each.name!r} is no name of a webhook: use capital letters, digits and _.")  # fmt: skip
        body = {"type": each.event, "timestamp": f"{now().isoformat()}Z", "data": each.data}  # fmt: skip
        payload = json.dumps(body, default=_plain, ensure_ascii=False)
        yield Message(WEBHOOK, each.name, each.event, {"body": payload}, *parts)
        return
    subject = " ".join(str(each.subject).split())
    values = {**each.values, "link": _link(about)}
    content = {"text": render_template(f"{MAILS}{each.template}.txt", **values)}
    try:
        content["html"] = render_template(f"{MAILS}{each.template}.html", **values)
    except TemplateNotFound as error:
        if error.name != f"{MAILS}{each.template}.html":
            raise
    for address in _addresses(each.to):
        wrong = "" if _ADDRESS.fullmatch(address) else "This is no e-mail address."
        if isinstance(each.to, UsersOf) and wrong:
            wrong = f'No user with the role {each.to.role} has an attribute "email".'
        yield Message(EMAIL, address, subject, content, *parts, error=wrong)


def _addresses(to: str | UsersOf | Sequence[str]) -> list[str]:
    if isinstance(to, UsersOf):
        if to.role not in site().roles:
            raise ValueError(f"There is no role {to.role!r}.")
        found = [
            account.attributes.get(EMAIL_ATTRIBUTE, "").strip()
            for account in site().users.accounts()
            if to.role in account.roles and not account.disabled
        ]
        return list(dict.fromkeys(filter(_ADDRESS.fullmatch, found))) or [to.role]
    given = [to] if isinstance(to, str) or to is None else to
    return [str(each or "").strip() for each in given]


def _link(about: About) -> str:
    """Return the whole address of the record, "" where there is none."""
    if not (about.table and about.key):
        return ""
    scheme = "https" if current_app.config["SESSION_COOKIE_SECURE"] else request.scheme
    return f"{scheme}://{request.host}{record_address(about.table, about.key)}"


def _plain(value: Any) -> str:
    if isinstance(value, datetime | date | time):
        return value.isoformat()
    if isinstance(value, Decimal | UUID):
        return str(value)
    raise TypeError(f"A {type(value).__name__} cannot be sent as JSON.")
