"""A user's browser within the process: pages, forms, and how long they take."""

import re
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import event

from lumet.browsing.pages import Page
from lumet.rehearsal.findings import Figures, Timing

PASSWORD = "only-for-rehearsals-7-lamps"
_KINDS = re.compile(r"/t/([^/?]+)(?:/r/[^/?]+)?(/[a-z]+)?")


class QueryCounter:
    """Counts the statements of an engine."""

    def __init__(self, engine: Any) -> None:
        self.count = 0
        event.listen(engine, "after_cursor_execute", self._counted)

    def _counted(self, *_: Any) -> None:
        self.count += 1


def user_name(role: str) -> str:
    """Return the name of the user with a role."""
    return f"rehearsal {role}"


class Browser:
    """One user's browser; `role` is "" for somebody who is not signed in."""

    def __init__(
        self, app: Any, role: str, figures: Figures, counter: QueryCounter
    ) -> None:
        self.role = role
        self.client = app.test_client()
        self._figures, self._counter = figures, counter
        if role:
            users = app.extensions["users"]
            name = user_name(role)
            if all(account.name != name for account in users.accounts()):
                users.add(name, PASSWORD, [role])
            form = self.get("/sign-in").form("form")
            assert form is not None
            answer = self.post("/sign-in", form.sent(name=name, password=PASSWORD))
            assert answer.status == 302

    def get(self, address: str) -> Page:
        """Open an address."""
        self._figures.pages += 1
        with self._timed(address):
            return Page(self.client.get(address), address)

    def post(self, address: str, sent: dict[str, Any]) -> Page:
        """Send a form."""
        is_file = any(
            isinstance(each, tuple) for value in sent.values() for each in value
        )
        kind = "multipart/form-data" if is_file else None
        return Page(self.client.post(address, data=sent, content_type=kind), address)

    def token(self) -> str:
        """Return the token that forms of this browser carry."""
        for address in ("/profile", "/sign-in"):
            form = self.get(address).form("form")
            if form is not None and "csrf_token" in form.controls:
                return form.controls["csrf_token"].value
        return ""

    @contextmanager
    def _timed(self, address: str) -> Iterator[None]:
        begun, before = time.perf_counter(), self._counter.count
        yield
        found = _KINDS.match(address)
        if found:
            kind = (found[2] or ("/record" if "/r/" in address else "/list"))[1:]
            seconds = time.perf_counter() - begun
            queries = self._counter.count - before
            self._figures.timings.append(Timing(kind, found[1], address, seconds, queries))  # fmt: skip
