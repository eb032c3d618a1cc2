"""One rehearsal: the application, the database behind it, the users, and what was
found."""

import random
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from functools import cached_property
from importlib import import_module
from typing import Any

from lumet.browsing.entries import Entries
from lumet.browsing.pages import Page
from lumet.kit.contract import ANYONE
from lumet.rehearsal.browser import Browser, QueryCounter
from lumet.rehearsal.findings import FAILURE, NOTICE, Figures, Finding, Part
from lumet.rehearsal.probe import Probe

SAMPLE = 2_000  # rows of a large table
MOST_ALIKE = 3  # findings of one kind and table
CHANGES = ("add", "edit", "delete")


@dataclass(slots=True)
class Limits:
    """How much is looked at: records and forms of a table, rows of a list in every order,
    choices of a filter, titles that are searched, orders of a list, tries at a form,
    links of a kind of page, values that a form has to refuse, rows of a table that is
    exported."""

    records: int = 12
    forms: int = 8
    rows: int = 3_000
    choices: int = 4
    titles: int = 5
    orders: int = 99
    tries: int = 4
    links: int = 20
    violations: int = 24
    exported: int = 10_000_000


QUICK = Limits(records=2, forms=1, rows=1_000, choices=1, titles=1, orders=2, links=5, violations=6, exported=20_000)  # fmt: skip


@dataclass(slots=True)
class Choice:
    """What is rehearsed: tables and roles by pattern, all by default; whether anything
    is written, and the tables where that is not safe, with the reason."""

    tables: Sequence[str] = ()
    roles: Sequence[str] = ()
    is_read_only: bool = False
    unsafe: dict[str, str] = field(default_factory=dict)

    def has_table(self, name: str) -> bool:
        """Tell whether a table is rehearsed."""
        return not self.tables or any(fnmatchcase(name, each) for each in self.tables)

    def has_role(self, name: str) -> bool:
        """Tell whether a role is rehearsed."""
        return not self.roles or any(fnmatchcase(name, each) for each in self.roles)


class Rehearsal:
    """What every check has to do with. `end_case` undoes what a case did, where that is
    needed."""

    def __init__(
        self,
        app: Any,
        probe: Probe,
        *,
        limits: Limits | None = None,
        choice: Choice | None = None,
        seed: int = 1,
        end_case: Callable[[], None] = lambda: None,
    ) -> None:
        self.app, self.probe = app, probe
        self.site = app.extensions["site"]
        self.registry = self.site.registry
        self.limits, self.choice = limits or Limits(), choice or Choice()
        self.chance = random.Random(seed)
        self.figures = Figures()
        self._counter = QueryCounter(self.site.database.engine)
        self._end_case = end_case
        self.on_part: Callable[[str, str], None] = lambda part, table: None
        self._browsers: dict[str, Browser] = {}
        self._large: dict[str, bool] = {}
        keys = import_module(f"{app.name}.kit.common.url_keys")
        self.encode, self._decode = keys.encode_key, keys.decode_key
        self._python_type = import_module(f"{app.name}.kit.pages.table_pages").python_type  # fmt: skip
        self.entries = Entries(lambda address: self.main.get(address))

    # Who

    def browser(self, role: str) -> Browser:
        """Return the browser of a user with a role, "" for nobody."""
        if role not in self._browsers:
            self._browsers[role] = Browser(self.app, role, self.figures, self._counter)
        return self._browsers[role]

    @cached_property
    def roles(self) -> dict[str, Any]:
        """The roles that users can have, by name, those that are rehearsed."""
        known = {name: role for name, role in self.site.roles.items() if name != ANYONE}  # fmt: skip
        return {name: role for name, role in known.items() if self.choice.has_role(name)}  # fmt: skip

    @cached_property
    def main(self) -> Browser:
        """The browser of the role with the most rights, which changes things."""
        names = [pages.table.fullname for pages in self.registry.pages.values()]
        roles = {n: r for n, r in self.site.roles.items() if n != ANYONE}

        def held(name: str) -> tuple[int, int]:
            rights = [right for each in names for right in roles[name].rights_on(each)]
            bound = sum(bool(roles[name].condition("view", each)) for each in names)
            return len(rights) - 2 * bound, int(roles[name].manages_users)

        return self.browser(max(roles, key=held))

    def may(self, right: str, name: str) -> bool:
        """Tell whether the main user holds a right on a table, on some rows."""
        role = self.site.roles[self.main.role]
        return right in role.rights_on(self.pages(name).table.fullname)

    # What

    @cached_property
    def tables(self) -> list[str]:
        """The names of the tables that are rehearsed."""
        return [
            name
            for name, pages in self.registry.pages.items()
            if not pages.for_lookups and self.choice.has_table(name)
        ]

    def pages(self, name: str) -> Any:
        """Return how a table is shown."""
        return self.registry.pages[name]

    def is_compared(self, name: str) -> bool:
        """Tell whether a table is one of the database itself, of which the main user
        sees all rows."""
        table = self.pages(name).table
        if "query" in table.info:
            return False
        role = self.site.roles[self.main.role]
        return self.may("view", name) and not role.condition("view", table.fullname)

    def is_written(self, name: str) -> bool:
        """Tell whether a table's forms are submitted."""
        return not self.choice.is_read_only and name not in self.choice.unsafe

    def where(self, name: str) -> str:
        """Return the condition of the rows that exist for the application."""
        return str(self.pages(name).table.info.get("where", ""))

    def count(self, name: str) -> int:
        """Return the number of rows that exist for the application."""
        return self.probe.count(self.pages(name).table, self.where(name))

    def stored(self, name: str) -> dict[str, dict[str, Any]]:
        """Return the rows by their keys as addresses have them."""
        rows = self.probe.keyed(self.pages(name).table, self.where(name))
        return {self.encode(key): row for key, row in rows.items() if None not in key}

    def is_large(self, name: str) -> bool:
        """Tell whether a table has so many rows that some of them stand for all."""
        if name not in self._large:
            self._large[name] = self.count(name) > self.limits.rows
        return self._large[name]

    def sample(self, name: str) -> dict[str, dict[str, Any]]:
        """Return the rows by their keys; of a large table some."""
        if not self.is_large(name):
            return self.stored(name)
        rows = self.probe.keyed(self.pages(name).table, self.where(name), SAMPLE)
        return {self.encode(key): row for key, row in rows.items() if None not in key}

    def keys(self, name: str) -> dict[str, tuple[Any, ...]]:
        """Return the keys of the rows, by what addresses have."""
        found = self.probe.keys(self.pages(name).table, self.where(name))
        return {self.encode(key): key for key in found if None not in key}

    def key_values(self, name: str, key: str) -> tuple[Any, ...] | None:
        """Return the values of a key as addresses have it, None for one of no row."""
        pages = self.pages(name)
        types = [self._python_type(pages.column(each)) for each in pages.key]
        with suppress(ValueError, ArithmeticError):
            values = tuple(self._decode(key, types))
            where = self.probe.is_key(pages.table, values)
            if where:
                return values if self.probe.count(pages.table, where) else None
        return self.keys(name).get(key)

    def row(self, name: str, key: str) -> dict[str, Any] | None:
        """Return the row with a key as addresses have it, None where there is none."""
        values = self.key_values(name, key)
        if values is None:
            return None
        where = self.probe.is_key(self.pages(name).table, values)
        if not where:
            return self.stored(name).get(key)
        return next(iter(self.probe.keyed(self.pages(name).table, where).values()), None)  # fmt: skip

    def list_address(self, name: str) -> str:
        """Return the address of a whole list, "" for a table without one."""
        if not self.pages(name).has_list:
            return ""
        deleted = "&deleted=with" if self.pages(name).soft_delete else ""
        return f"/t/{name}?rows=250{deleted}"

    def some(self, keys: Iterable[str], most: int) -> list[str]:
        """Return some of many keys, spread over all of them."""
        listed = list(keys)
        return listed[:: max(1, -(-len(listed) // most))] if listed else []

    # Doing and telling

    def open(self, name: str, address: str, browser: Browser | None = None) -> Page:
        """Open a page that must open."""
        page = (browser or self.main).get(address)
        if page.status != 200:
            role = "" if browser is None else browser.role
            self.fail(f"page with status {page.status}", name, address, role=role)
        return page

    def fail(
        self, kind: str, table: str, where: str = "", detail: str = "", role: str = ""
    ) -> None:
        """Note a failure; of one kind and table a few."""
        self._tell(Finding(kind, table, where, detail, role, FAILURE))

    def notice(self, kind: str, table: str, where: str = "", detail: str = "") -> None:
        """Note what somebody should look at."""
        self._tell(Finding(kind, table, where, detail, "", NOTICE))

    def _tell(self, finding: Finding) -> None:
        alike = sum((e.kind, e.table) == (finding.kind, finding.table) for e in self.figures.findings)  # fmt: skip
        if alike < MOST_ALIKE:
            self.figures.findings.append(finding)
            self.figures.on_finding(finding)

    @contextmanager
    def part(self, name: str, table: str) -> Iterator[None]:
        """Take the time of a part. An exception in it is a failure of the application,
        and the rehearsal goes on."""
        begun, before = time.perf_counter(), len(self.figures.findings)
        self.on_part(name, table)
        try:
            yield
        except Exception as error:  # noqa: BLE001 - whatever it is, it is a finding
            self.fail("error while rehearsing", table, name, f"{type(error).__name__}: {error}"[:300])  # fmt: skip
        finally:
            self._end_case()
        seconds = time.perf_counter() - begun
        found = tuple(self.figures.findings[before:])
        self.figures.parts.append(Part(name, table, seconds, found))
