"""The middleware of live serving: it adds a script to pages, and answers that script.
The generated application knows nothing of it."""

import ipaddress
import json
from collections.abc import Callable, Iterable
from importlib.resources import files
from typing import Any

from lumet.live.application import LiveApplication

PREFIX = "/_lumet/"
MAX_PAGE_BYTES = 20_000_000
_LOCAL_NAMES = frozenset({"localhost", "127.0.0.1", "[::1]", "::1"})

Start = Callable[..., Any]


class LiveMiddleware:
    """Adds the live script to pages and tells it the version that is served."""

    def __init__(self, live: LiveApplication) -> None:
        self.live = live
        self.script = (files("lumet.live") / "live.js").read_bytes()

    def __getattr__(self, name: str) -> Any:
        return getattr(self.live, name)

    def __call__(self, environ: dict[str, Any], start: Start) -> Iterable[bytes]:
        path = environ.get("PATH_INFO", "")
        if path.startswith(PREFIX):
            return self._answer(path.removeprefix(PREFIX), environ, start)
        version = self.live.version  # the page is of this one at least
        return _with_script(self.live, environ, start, version)

    def _answer(
        self, name: str, environ: dict[str, Any], start: Start
    ) -> Iterable[bytes]:
        if environ.get("REQUEST_METHOD") != "GET" or not is_local(environ):
            return _respond(start, "404 Not Found", "text/plain", b"")
        if name == "live.js":
            return _respond(start, "200 OK", "text/javascript", self.script)
        if name == "state":
            state = {"version": self.live.version, "problem": self.live.problem}
            return _respond(start, "200 OK", "application/json", json.dumps(state).encode())  # fmt: skip
        return _respond(start, "404 Not Found", "text/plain", b"")


def is_local(environ: dict[str, Any]) -> bool:
    """Tell whether a request comes from this machine, by a name of this machine: a page
    of elsewhere can make a browser ask, but not under such a name."""
    host = environ.get("HTTP_HOST", "")
    name = host.rpartition(":")[0] if host.rpartition(":")[2].isdecimal() else host
    try:
        address = ipaddress.ip_address(environ.get("REMOTE_ADDR", ""))
    except ValueError:
        return False
    return address.is_loopback and name.casefold() in _LOCAL_NAMES


def _respond(start: Start, status: str, kind: str, body: bytes) -> Iterable[bytes]:
    headers = [
        ("Content-Type", f"{kind}; charset=utf-8"),
        ("Content-Length", str(len(body))),
        ("Cache-Control", "no-store"),
        ("X-Content-Type-Options", "nosniff"),
    ]
    start(status, headers)
    return [body]


def _with_script(
    app: LiveApplication, environ: dict[str, Any], start: Start, version: int
) -> Iterable[bytes]:
    """Return an answer of the application, a page with the live script at its end."""
    held: list[Any] = []

    def keep(status: str, headers: list[tuple[str, str]], error: Any = None) -> Any:
        held[:] = [status, headers, error]
        return lambda data: None

    answer = app(environ, keep)
    status, headers, error = held
    kinds = [value for name, value in headers if name.casefold() == "content-type"]
    if not any(kind.startswith("text/html") for kind in kinds):
        start(status, headers, error) if error else start(status, headers)
        return answer
    try:
        body = b"".join(answer)
    finally:
        close = getattr(answer, "close", None)
        if close is not None:
            close()
    tag = f'<script src="{PREFIX}live.js" data-version="{version}" defer></script>'
    head, end, tail = body.rpartition(b"</body>")
    if end and len(body) < MAX_PAGE_BYTES:
        body = head + tag.encode() + end + tail
    kept = [(n, v) for n, v in headers if n.casefold() != "content-length"]
    kept.append(("Content-Length", str(len(body))))
    start(status, kept, error) if error else start(status, kept)
    return [body]
