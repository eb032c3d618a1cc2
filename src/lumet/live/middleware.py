"""The middleware of live serving: it adds a script to pages, and answers that script.
The generated application knows nothing of it."""

import ipaddress
import json
import secrets
from collections.abc import Callable, Iterable
from importlib.resources import files
from typing import Any
from urllib.parse import parse_qs

from lumet.errors import LumetError
from lumet.live.application import LiveApplication
from lumet.live.inspection import Inspection

PREFIX = "/_lumet/"
MAX_PAGE_BYTES = 20_000_000
MAX_CHANGE_BYTES = 100_000
_LOCAL_NAMES = frozenset({"localhost", "127.0.0.1", "[::1]", "::1"})

Start = Callable[..., Any]


class LiveMiddleware:
    """Adds the live script to pages and tells it the version that is served."""

    def __init__(self, live: LiveApplication) -> None:
        self.live = live
        home = files("lumet.live")
        self.scripts = {
            name: (home / name).read_bytes() for name in ("live.js", "inspect.js")
        }
        # of this run: no other page than those that are served here knows it
        self.token = secrets.token_urlsafe(24)
        self._inspected: tuple[int, Inspection] | None = None

    def __getattr__(self, name: str) -> Any:
        return getattr(self.live, name)

    def __call__(self, environ: dict[str, Any], start: Start) -> Iterable[bytes]:
        path = environ.get("PATH_INFO", "")
        if path.startswith(PREFIX):
            return self._answer(path.removeprefix(PREFIX), environ, start)
        version = self.live.version  # the page is of this one at least
        token = self.token if is_local(environ) else ""
        tag = (
            f'<script src="{PREFIX}live.js" data-version="{version}"'
            f' data-token="{token}" defer></script>'
        )
        return _with_script(self.live, environ, start, tag)

    def _answer(
        self, name: str, environ: dict[str, Any], start: Start
    ) -> Iterable[bytes]:
        asked = (environ.get("REQUEST_METHOD"), name)
        if is_local(environ):
            if asked[0] == "GET" and name in self.scripts:
                return _respond(start, "200 OK", "text/javascript", self.scripts[name])
            if asked == ("GET", "state"):
                state = {"version": self.live.version, "problem": self.live.problem}
                return _respond_json(start, state)
            if asked in (("GET", "table"), ("POST", "decision")):
                return self._inspect(environ, start)
        return _respond(start, "404 Not Found", "text/plain", b"")

    def _inspect(self, environ: dict[str, Any], start: Start) -> Iterable[bytes]:
        """Answer the pages of this run: what is decided about a table, or a change of a
        decision, first as a difference and then written."""
        sent = environ.get("HTTP_X_LUMET_TOKEN", "")
        if not secrets.compare_digest(sent.encode(), self.token.encode()):
            return _respond(start, "403 Forbidden", "text/plain", b"")
        try:
            if environ["REQUEST_METHOD"] == "GET":
                query = parse_qs(environ.get("QUERY_STRING", ""))
                found = self._inspection().table(query.get("module", [""])[0])
                return _respond_json(start, {"found": found})
            length = min(int(environ.get("CONTENT_LENGTH") or 0), MAX_CHANGE_BYTES)
            asked = json.loads(environ["wsgi.input"].read(length))
            place = str(asked["module"]), [str(e) for e in asked["path"]], str(asked["value"])  # fmt: skip
            if asked.get("is_sure") is True:
                return _respond_json(start, {"diff": self._inspection().write(*place)})
            return _respond_json(start, {"diff": self._inspection().changed(*place)[2]})
        except LumetError as error:
            return _respond_json(start, {"problem": str(error)})
        except (ValueError, KeyError, TypeError):
            return _respond(start, "400 Bad Request", "text/plain", b"")

    def _inspection(self) -> Inspection:
        """Return the decisions as they are since the latest change."""
        if self._inspected is None or self._inspected[0] != self.live.version:
            self._inspected = (self.live.version, Inspection(self.live.folder))
        return self._inspected[1]


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


def _respond_json(start: Start, content: Any) -> Iterable[bytes]:
    body = json.dumps(content).encode()
    return _respond(start, "200 OK", "application/json", body)


def _with_script(
    app: LiveApplication, environ: dict[str, Any], start: Start, tag: str
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
    head, end, tail = body.rpartition(b"</body>")
    if end and len(body) < MAX_PAGE_BYTES:
        body = head + tag.encode() + end + tail
    kept = [(n, v) for n, v in headers if n.casefold() != "content-length"]
    kept.append(("Content-Length", str(len(body))))
    start(status, kept, error) if error else start(status, kept)
    return [body]
