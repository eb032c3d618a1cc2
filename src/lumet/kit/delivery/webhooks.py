"""Webhooks: signed requests as the Standard Webhooks specification has them.

https://github.com/standard-webhooks/standard-webhooks/blob/main/spec/standard-webhooks.md
"""

import base64
import binascii
import hmac
import ipaddress
import socket
import ssl
import time
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from threading import Timer
from urllib.parse import urlsplit

from urllib3.connection import HTTPConnection, HTTPSConnection
from urllib3.exceptions import HTTPError

from ..accounts.outbox import Message
from ..common.settings import is_on
from .errors import NotSent

PRIVATE = "WEBHOOKS_TO_PRIVATE_ADDRESSES"
SECONDS = 15  # for each answer
WHOLE_SECONDS = 30  # for a request as a whole
SECRET = "whsec_"  # before a secret in base64
GONE = 410  # the receiver wants no more of them
_NAT64 = ipaddress.ip_network("64:ff9b::/96")


@dataclass(frozen=True, slots=True)
class Receiver:
    """A receiver of webhooks: its address, the secrets that sign what it gets, and
    whether that may be a private address."""

    url: str
    secrets: tuple[bytes, ...] = field(repr=False)
    is_private_allowed: bool = False


def read_receiver(given: Mapping[str, str], name: str) -> Receiver:
    """Return the receiver that the settings name. Raises NotSent where they are missing
    or cannot be used."""
    url = given.get(f"WEBHOOK_{name}_URL") or ""
    words = (given.get(f"WEBHOOK_{name}_SECRET") or "").split()
    if not url or not words:
        raise NotSent(f"WEBHOOK_{name}_URL and WEBHOOK_{name}_SECRET are not set.")
    try:
        found = tuple(base64.b64decode(each.removeprefix(SECRET), validate=True) for each in words)  # fmt: skip
    except binascii.Error:
        raise NotSent(f"WEBHOOK_{name}_SECRET is no secret in base64.") from None
    if any(len(each) < 24 for each in found):  # as the specification asks for
        raise NotSent(f"WEBHOOK_{name}_SECRET is shorter than 24 bytes.")
    return Receiver(url, found, is_on(given, PRIVATE))


def signature(secret: bytes, token: str, timestamp: int, body: str) -> str:
    """Return the signature of a request."""
    signed = f"{token}.{timestamp}.{body}".encode()
    digest = hmac.digest(secret, signed, "sha256")
    return f"v1,{base64.b64encode(digest).decode()}"


def send_webhook(receiver: Receiver, message: Message) -> None:
    """Send a webhook. Raises NotSent for any other answer than success."""
    target = _target(receiver)
    body, moment = str(message.content["body"]), int(time.time())
    signed = " ".join(signature(each, message.token, moment, body) for each in receiver.secrets)  # fmt: skip
    headers = {
        "Host": target.named,
        "Content-Type": "application/json",
        "webhook-id": message.token,
        "webhook-timestamp": str(moment),
        "webhook-signature": signed,
    }
    try:
        connection = _connected(target)
        # each answer has its time; a receiver that lets it trickle has this one
        limit = Timer(WHOLE_SECONDS, _cut, [connection])
        limit.daemon = True
        limit.start()
        try:
            connection.request("POST", target.path, body=body.encode(), headers=headers, preload_content=False)  # fmt: skip
            status = connection.getresponse().status
        finally:
            limit.cancel()
            connection.close()
    except (OSError, HTTPError) as error:
        raise NotSent(f"{target.named}: {error or type(error).__name__}") from error
    if not 200 <= status < 300:
        more = "; redirects are not followed" if 300 <= status < 400 else ""
        raise NotSent(f"{target.named} answered {status}{more}.", status == GONE)


def _cut(connection: HTTPConnection) -> None:
    with suppress(OSError):
        if connection.sock is not None:
            connection.sock.shutdown(socket.SHUT_RDWR)


@dataclass(frozen=True, slots=True)
class _Target:
    """Where a request goes: the `addresses` of the host, which were looked at; `named`
    is the host as the address names it."""

    host: str
    port: int
    named: str
    path: str
    addresses: tuple[str, ...]
    is_safe: bool


def _connected(target: _Target) -> HTTPConnection:
    """Return a connection to an address that was looked at: a name that is looked up
    again may lead elsewhere. Raises OSError or HTTPError."""
    for n, address in enumerate(target.addresses):
        connection = HTTPConnection(address, target.port, timeout=SECONDS)
        if target.is_safe:
            connection = HTTPSConnection(
                address,
                target.port,
                timeout=SECONDS,
                ssl_context=ssl.create_default_context(),
                server_hostname=target.host,
                assert_hostname=target.host,
            )
        try:
            connection.connect()
        except (OSError, HTTPError):
            connection.close()
            if n == len(target.addresses) - 1:
                raise
        else:
            return connection
    raise OSError("no address")


def _target(receiver: Receiver) -> _Target:
    try:
        parts = urlsplit(receiver.url)
        host, port = parts.hostname or "", parts.port
    except ValueError as error:
        raise NotSent(f"The address cannot be understood: {error}.") from error
    is_safe = parts.scheme == "https"
    if not host or parts.username or parts.scheme not in ("https", "http"):
        raise NotSent("The address must be https://HOST/PATH.")
    if not is_safe and not receiver.is_private_allowed:
        raise NotSent(f"The address must begin with https://, unless {PRIVATE} is set.")
    port = port or (443 if is_safe else 80)
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    addresses = _addresses(host, port, receiver.is_private_allowed)
    return _Target(host, port, parts.netloc, path, addresses, is_safe)


def _addresses(host: str, port: int, is_private_allowed: bool) -> tuple[str, ...]:
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError) as error:
        raise NotSent(f"{host}: this name is not known.") from error
    addresses = tuple(dict.fromkeys(str(each[4][0]) for each in found))
    if not is_private_allowed and not all(map(is_public, addresses)):
        raise NotSent(f"{host} is a private address: nothing is sent there, unless {PRIVATE} is set.")  # fmt: skip
    return addresses


def is_public(address: str) -> bool:
    """Tell whether an IP address is one of the public Internet, also where it stands
    within one of IPv6."""
    found = ipaddress.ip_address(address.partition("%")[0])
    if isinstance(found, ipaddress.IPv6Address):
        inner = found.ipv4_mapped or found.sixtofour
        if found in _NAT64:
            inner = ipaddress.IPv4Address(int(found) & 0xFFFF_FFFF)
        if inner is not None:
            found = inner
    return found.is_global and not found.is_multicast and not found.is_reserved
