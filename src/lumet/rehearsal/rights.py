"""Rights: every role opens what it may, and nothing else, by GET and by POST, with forged
fields and rows."""

import re
from collections.abc import Iterator
from typing import Any

from lumet.browsing.entries import owners_of_messages
from lumet.kit.contract import ANYONE
from lumet.rehearsal.browser import Browser, user_name
from lumet.rehearsal.lists import key_of
from lumet.rehearsal.rehearsal import CHANGES, Rehearsal

REFUSED = (400, 403, 404, 405)
MOST_FORGED = 3  # rows out of reach that a role asks for
MOST_LIST_PAGES = 40
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

    def check_reach(self) -> None:
        """A role with a condition on the rows sees these rows and no others, by lists
        and by addresses, and refers to no others in forms."""
        rehearsal, table = self.rehearsal, self.pages.table
        if "query" in table.info or not self.pages.key or rehearsal.is_large(self.name):
            return
        for name, role in rehearsal.roles.items():
            condition = role.condition("view", table.fullname)
            if not condition or "view" not in role.rights_on(table.fullname):
                continue
            browser = rehearsal.browser(name)
            within = self._within(condition, name)
            if self.pages.has_list:
                self._compare_list(browser, within)
            beyond = [key for key in rehearsal.keys(self.name) if key not in within]
            for key in rehearsal.some(beyond, MOST_FORGED):
                for end in ("", "/edit", "/delete", "/history", "/print"):
                    address = f"/t/{self.name}/r/{key}{end}"
                    self._expect(browser, "GET", address, browser.get(address))
                self._refer(browser, role, key)

    def _within(self, condition: str, role: str) -> set[str]:
        """Return the keys of the rows that a condition lets a user of the rehearsal
        see, who has a name and no other attribute."""
        probe, table = self.rehearsal.probe, self.pages.table
        name = user_name(role).replace("'", "''")
        words = re.sub(r"(?<![\\:]):user_(\w+)", lambda m: f"'{name}'" if m[1] == "name" else "NULL", condition)  # fmt: skip
        where = [words.replace("\\:", ":"), self.rehearsal.where(self.name)]
        given = " AND ".join(f"({each})" for each in where if each)
        keys = ", ".join(probe.quote(self.pages.column(key).name) for key in self.pages.key)  # fmt: skip
        rows = probe.rows(f"SELECT {keys} FROM {probe.format(table)} WHERE {given}")
        return {self.rehearsal.encode(tuple(row)) for row in rows if None not in row}

    def _compare_list(self, browser: Browser, within: set[str]) -> None:
        address: str | None = self.rehearsal.list_address(self.name)
        shown: list[str] = []
        for _number in range(MOST_LIST_PAGES):
            page = self.rehearsal.open(self.name, address or "", browser)
            shown += [key_of(row) for row in page.tree.css("tbody tr")]
            address = next((a for a, words in page.links(".pager nav a") if words == "Next"), None)  # fmt: skip
            if address is None:
                break
        missing, others = within - {*shown}, {*shown} - within
        if missing or others or len(shown) != len({*shown}):
            detail = f"{len(missing)} missing, {len(others)} out of reach"
            self.rehearsal.fail("rows within reach", self.name, f"/t/{self.name}", detail, browser.role)  # fmt: skip

    def _refer(self, browser: Browser, role: Any, key: str) -> None:
        """Try to add a record that refers to a row out of reach."""
        for other, pages in self.rehearsal.registry.pages.items():
            may_add = "add" in role.rights_on(pages.table.fullname) and pages.offers("add")  # fmt: skip
            columns = [c for c, each in pages.lookups.items() if each.target == self.name and len(each.columns) == 1]  # fmt: skip
            if not may_add or pages.for_lookups or not columns:
                continue
            address = f"/t/{other}/add"
            form = browser.get(address).form()
            column = next((c for c in columns if form is not None and c in form.controls), "")  # fmt: skip
            if form is None or not column:
                continue
            before = self.rehearsal.probe.count(pages.table)
            answer = browser.post(address, form.sent(**{column: key}))
            self.rehearsal.figures.forbidden += 1
            is_told = column in owners_of_messages(answer)
            if not is_told or self.rehearsal.probe.count(pages.table) != before:
                self.rehearsal.fail("row out of reach, and referred to", other, address, column, browser.role)  # fmt: skip

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
