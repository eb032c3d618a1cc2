"""Proxies in front of the application: from which of them X-Forwarded-For and
X-Forwarded-Proto count; from others these headers are removed."""

import ipaddress
import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from werkzeug.middleware.proxy_fix import ProxyFix

from .exceptions import CannotStart

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
MAX_COUNT = 10  # proxies, one behind the other
MAX_LENGTH = 1_000  # characters of a forwarded header
_PREFIX = re.compile(r"(/[\w.~-]+)+")
_HEADERS = ("FOR", "PROTO", "HOST", "PORT", "PREFIX", "BY")
_FORWARDED = ("HTTP_FORWARDED", *(f"HTTP_X_FORWARDED_{name}" for name in _HEADERS))


@dataclass(frozen=True, slots=True)
class Proxies:
    """The proxies that are trusted: the `networks` that they are in, or how many there
    are, one behind the other."""

    networks: tuple[Network, ...] = ()
    count: int = 0

    def trusts(self, address: str) -> bool:
        """Tell whether an address is that of a proxy."""
        try:
            found = ipaddress.ip_address(address.strip().strip("[]"))
        except ValueError:
            return False
        return any(found in each for each in self.networks)

    def hops(self, environ: dict[str, Any]) -> int:
        """Return how many proxies a request came through, 0 for none that is
        trusted."""
        forwarded = environ.get("HTTP_X_FORWARDED_FOR", "")
        if len(forwarded) > MAX_LENGTH:
            return 0
        named = [each for each in forwarded.split(",") if each.strip()]
        if self.count:
            return min(self.count, len(named)) or 1
        if not self.trusts(environ.get("REMOTE_ADDR", "")):
            return 0
        found = 1
        for address in reversed(named[1:]):
            if found == MAX_COUNT or not self.trusts(address):
                break
            found += 1
        return found


def read_proxies(text: str) -> Proxies:
    """Read the setting PROXY. Raises CannotStart for what is neither addresses nor a
    number."""
    words = [each.strip() for each in text.split(",") if each.strip()]
    if len(words) == 1 and words[0].isdecimal() and len(words[0]) < 3:
        count = int(words[0])
        if count <= MAX_COUNT:
            return Proxies(count=count)
    try:
        networks = tuple(ipaddress.ip_network(each, strict=False) for each in words)
    except ValueError as error:
        raise CannotStart(
            f"PROXY: {error}.\n  Give addresses or networks, such as 127.0.0.1 or"
            f" 10.0.0.0/8, with commas between, or a number of proxies up to {MAX_COUNT}."
        ) from error
    return Proxies(networks)


def read_prefix(text: str) -> str:
    """Read the setting URL_PREFIX: the path below which a proxy has the application, "" for
    none. Raises CannotStart for what is no path."""
    prefix = text.strip().rstrip("/")
    if prefix and not _PREFIX.fullmatch(prefix):
        raise CannotStart(f"URL_PREFIX: {text!r} is no path, such as /lights.")
    return prefix


class BelowPrefix:
    """Serves the application below a path, whether the proxy in front passes that path
    on or not."""

    def __init__(self, app: Any, prefix: str) -> None:
        self.app, self.prefix = app, prefix

    def __call__(self, environ: dict[str, Any], start_response: Any) -> Iterable[bytes]:
        path = environ.get("PATH_INFO", "")
        if path == self.prefix or path.startswith(f"{self.prefix}/"):
            environ["PATH_INFO"] = path.removeprefix(self.prefix) or "/"
        environ["SCRIPT_NAME"] = environ.get("SCRIPT_NAME", "") + self.prefix
        answer: Iterable[bytes] = self.app(environ, start_response)
        return answer


class BehindProxies:
    """Gives the application the address and the scheme that trusted proxies tell."""

    def __init__(self, app: Any, proxies: Proxies) -> None:
        self.app = app
        self.proxies = proxies

    def __call__(self, environ: dict[str, Any], start_response: Any) -> Iterable[bytes]:
        hops = self.proxies.hops(environ)
        if hops:
            fixed = ProxyFix(self.app, x_for=hops, x_proto=1, x_host=0)
            return fixed(environ, start_response)
        for name in _FORWARDED:
            environ.pop(name, None)
        answer: Iterable[bytes] = self.app(environ, start_response)
        return answer
