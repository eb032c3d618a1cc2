"""Rights: every role opens what it may, and nothing else, by GET and by POST, with forged
fields and rows."""

from collections.abc import Iterator
from typing import Any

from lumet.kit.contract import ANYONE
from lumet.rehearsal.browser import Browser
from lumet.rehearsal.rehearsal import CHANGES, Rehearsal

REFUSED = (400, 403, 404, 405)
_OF_RIGHT = {"/add": "add", "/edit": "edit", "/field/": "edit", "/delete": "delete"}
_OF_ONESELF = ("/views", "/columns", "/forget")  # what one keeps for oneself


class RightChecks:
    """The checks of who may do what with one table."""

    def __init__(self, rehearsal: Rehearsal, name: str) -> None:
        self.rehearsal, self.name = rehearsal, name
        self.pages = rehearsal.pages(name)
        stored = rehearsal.sample(name) if self.pages.key else {}
        self.key = next(iter(stored), "1")
        self.column = next(iter(self.pages.fields), "x")

    def check_pages(self) -> None:
        """Every role opens the pages that its rights are for."""
        table = self.pages.table.fullname
        for name, role in self.rehearsal.roles.items():
            browser, rights = self.rehearsal.browser(name), role.rights_on(table)
            if "view" not in rights:
                continue
            if self.pages.has_list:
                self.rehearsal.open(self.name, f"/t/{self.name}", browser)
            is_bound = bool(role.condition("view", table))
            if self.pages.key and self.key != "1" and not is_bound:
                self.rehearsal.open(self.name, f"/t/{self.name}/r/{self.key}", browser)
            if "add" in rights and self.pages.offers("add"):
                self.rehearsal.open(self.name, f"/t/{self.name}/add", browser)

    def check_refusals(self) -> None:
        """Every role, and nobody, is refused what it may not."""
        rehearsal, table = self.rehearsal, self.pages.table
        before = self._state()
        for name, role in rehearsal.roles.items():
            held = {*role.rights_on(table.fullname)}
            self._refuse(rehearsal.browser(name), held)
        anyone = rehearsal.site.roles.get(ANYONE)
        held = {*anyone.rights_on(table.fullname)} if anyone else set()
        self._refuse(rehearsal.browser(""), held)
        if before != self._state():
            rehearsal.fail("forbidden, and changed", self.name)

    def _state(self) -> Any:
        probe, table = self.rehearsal.probe, self.pages.table
        count = probe.count(table)
        return probe.dump(table) if count <= self.rehearsal.limits.rows else count

    def _refuse(self, browser: Browser, held: set[str]) -> None:
        token = browser.token() if not held.issuperset(CHANGES) else ""
        for address, needed in self._changing():
            # where any change is allowed, an address for all of them is not closed
            if needed in held or (not needed and held & {*CHANGES}):
                continue
            forged = {"csrf_token": token, self.column: "forged", "chosen-row": self.key,
                      "do-action": "delete", "is-sure": "1", "column": self.column}  # fmt: skip
            self._expect(browser, "GET", address, browser.get(address))
            self._expect(browser, "POST", address, browser.post(address, forged))
        if "view" not in held:
            ends = ("", f"/r/{self.key}", "/export.csv", "/print")
            for end in ends:
                address = f"/t/{self.name}{end}"
                self._expect(browser, "GET", address, browser.get(address))

    def _expect(self, browser: Browser, method: str, address: str, page: Any) -> None:
        self.rehearsal.figures.forbidden += 1
        is_door = not browser.role and page.status == 302 and "/sign-in" in page.location  # fmt: skip
        if page.status not in REFUSED and not is_door:
            kind = "forbidden, and answered"
            role = browser.role or "nobody"
            self.rehearsal.fail(kind, self.name, f"{method} {address}", str(page.status), role)  # fmt: skip

    def _changing(self) -> Iterator[tuple[str, str]]:
        """Yield the addresses of the table that take a change, from the routes, and the
        right that each needs, "" for any."""
        for rule in self.rehearsal.app.url_map.iter_rules():
            text = str(rule.rule)
            is_changing = text.startswith("/t/<name>") and "POST" in rule.methods
            if not is_changing or any(each in text for each in _OF_ONESELF):
                continue
            made = text.replace("<name>", self.name).replace("<segment>", self.key)
            made = made.replace("<column>", self.column).replace("<int:number>", "1")
            needed = next((r for end, r in _OF_RIGHT.items() if end in text), "")
            yield made.replace("<act>", "none"), needed
