"""E-mails and webhooks that changes and actions send once they are kept."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class UsersOf:
    """The users with a role, by their attribute `email`."""

    role: str


@dataclass(frozen=True, slots=True)
class Email:
    """An e-mail to an address, to several, each by itself, or to users.

    Its text is the template `mail/TEMPLATE.txt`, and its HTML, where there is one,
    `mail/TEMPLATE.html`; they are given the `values`, and `link`, the address of the
    record.
    """

    to: str | UsersOf | Sequence[str]
    subject: Any
    template: str
    values: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Webhook:
    """A request to the webhook of this name: WEBHOOK_NAME_URL and WEBHOOK_NAME_SECRET in
    the settings. `event` is its type, such as "repair.done"; dates in `data` are written
    as ISO 8601 has them, decimals as texts."""

    name: str
    event: str
    data: Mapping[str, Any] = field(default_factory=dict)


Sendable = Email | Webhook
