"""A walk over a whole application: every list, record, form, export and forbidden way,
each compared with what its database holds.

The walker knows the application by its pages alone, as a person with a browser does, and
the database by looks of its own past the application. What does not agree is a fault.
"""

import csv
import io
import itertools
import json
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any
from urllib.parse import urlencode

import openpyxl

from tests.support.pages import Control, Form, Page
from tests.support.probe import Probe

MOST_ALIKE = 3  # faults of one kind and table
PASSWORD = "only-for-walks-7-lamps"
PICTURE = bytes.fromhex(
    "89504e470d0a1a0a0000000d49484452000000010000000108060000001f15c4890000000d4944415478"
    "9c63606060f80f00010401005fe5c34b0000000049454e44ae426082"
)
_EXAMPLE = re.compile(r"\b(?:such as|as) (\S.*?)(?: or |, |\.$|\.? *$)")
_SECRET = re.compile(r"passw|passphrase|secret|token|api_?key|private_?key|psk|session_?(id|key)|^pw$")  # fmt: skip
_NO_SECRET = re.compile(r"(min|max|length|_len|id|count|at|on)$")


@dataclass(frozen=True, slots=True)
class Fault:
    """Something that is not as it should be: what kind, of which table, and where."""

    kind: str
    table: str
    where: str

    def __str__(self) -> str:
        return f"{self.kind}: {self.table}: {self.where}"


@dataclass(slots=True)
class Limits:
    """How much is looked at: records and forms of a table, rows of a list in every order,
    choices of a filter, titles that are searched, orders of a list."""

    records: int = 12
    forms: int = 8
    rows: int = 8_000
    choices: int = 4
    titles: int = 5
    orders: int = 99
    tries: int = 4


@dataclass(slots=True)
class Figures:
    """What a walk came past."""

    pages: int = 0
    forms: int = 0
    writes: int = 0
    refusals: int = 0
    rows: int = 0
    forbidden: int = 0
    faults: list[Fault] = field(default_factory=list)
    refused: Counter[str] = field(default_factory=Counter)

    def line(self, name: str) -> str:
        """Return the figures as one line."""
        return (
            f"{name}: {self.pages:,} pages, {self.forms:,} forms, {self.writes:,} writes,"
            f" {self.refusals:,} refusals, {self.rows:,} rows compared,"
            f" {self.forbidden:,} forbidden requests, {len(self.faults)} faults"
        )


class Browser:
    """One user's browser; `role` is "" for somebody who is not signed in."""

    def __init__(self, app: Any, role: str, figures: Figures) -> None:
        self.client = app.test_client()
        self.figures = figures
        if role:
            users = app.extensions["users"]
            name = f"walker {role}"
            if all(account.name != name for account in users.accounts()):
                users.add(name, PASSWORD, [role])
            form = self.get("/sign-in").form("form")
            assert form is not None
            signed = form.sent(name=name, password=PASSWORD)
            assert self.post("/sign-in", signed).status == 302

    def get(self, address: str) -> Page:
        """Open an address."""
        self.figures.pages += 1
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
            if form is not None:
                return form.controls["csrf_token"].value
        return ""


class Walker:
    """One walk over an application and the database behind it."""

    def __init__(
        self,
        app: Any,
        probe: Probe,
        *,
        changer: str = "administrator",
        reader: str = "viewer",
        limits: Limits | None = None,
    ) -> None:
        self.app, self.probe = app, probe
        self.figures = Figures()
        self.limits = limits or Limits()
        self.registry = app.extensions["site"].registry
        addresses = __import__(
            f"{app.name}.kit.common.url_keys", fromlist=["encode_key"]
        )
        self.encode = addresses.encode_key
        self.changer = Browser(app, changer, self.figures)
        self.reader = Browser(app, reader, self.figures)
        self.nobody = Browser(app, "", self.figures)
        self._numbers = itertools.count(1)
        self._far = 0

    def fault(self, kind: str, table: str, where: str) -> None:
        """Note a fault; of one kind and table a few."""
        alike = [each for each in self.figures.faults if (each.kind, each.table) == (kind, table)]  # fmt: skip
        if len(alike) < MOST_ALIKE:
            self.figures.faults.append(Fault(kind, table, where))

    def walk(self, *only: str) -> Figures:
        """Walk everywhere, or over some tables; forms that add and delete come last."""
        named = [n for n, p in self.registry.pages.items() if not p.for_lookups]
        named = [name for name in named if not only or name in only]
        for name in named:
            self.walk_lists(name)
            self.walk_exports(name)
            self.walk_filters(name)
            self.walk_records(name)
        for name in named:
            self.walk_unchanged(name)
            self.walk_forbidden(name)
        for name in named:
            self.walk_adding(name)
        return self.figures

    # What there is to know of a table

    def pages(self, name: str) -> Any:
        """Return how a table is shown."""
        return self.registry.pages[name]

    def is_compared(self, name: str) -> bool:
        """Tell whether a table is one of the database itself."""
        return "query" not in self.pages(name).table.info

    def where(self, name: str) -> str:
        """Return the condition of the rows that exist for the application."""
        return str(self.pages(name).table.info.get("where", ""))

    def stored(self, name: str) -> dict[str, dict[str, Any]]:
        """Return the rows by their keys as addresses have them."""
        rows = self.probe.keyed(self.pages(name).table, self.where(name))
        return {self.encode(key): row for key, row in rows.items() if None not in key}

    def open(self, name: str, address: str, browser: Browser | None = None) -> Page:
        """Open a page that must open."""
        page = (browser or self.changer).get(address)
        if page.status != 200:
            self.fault(f"status {page.status}", name, address)
        return page

    # Lists

    def lists(self, name: str) -> str:
        """Return the address of a whole list, "" for a table without one."""
        if not self.pages(name).has_list:
            return ""
        return f"/t/{name}?rows=250" + ("&deleted=with" if self.pages(name).soft_delete else "")  # fmt: skip

    def walk_lists(self, name: str) -> None:
        """Page through every order to its end: each row once, in the column's order."""
        home = self.lists(name)
        if not home or not self.is_compared(name):
            return
        first = self.open(name, home)
        self._look_for_secrets(name, first)
        count = self.probe.count(self.pages(name).table, self.where(name))
        if not self.pages(name).key:
            self._compare_count(name, home, count, sum(len(p) for p in self._walk_pages(name, first, count)))  # fmt: skip
            return
        stored = self.stored(name)
        orders = [home, *(address for address, _ in first.links("thead th a[href*='sort=']"))]  # fmt: skip
        if count > self.limits.rows:
            orders = orders[:1]
        for address in orders[: self.limits.orders + 1]:
            turned = re.sub(r"sort=(?!-)", "sort=-", address)
            for each in dict.fromkeys((address, turned)):
                keys = list(itertools.chain(*self._walk_pages(name, self.open(name, each), count)))  # fmt: skip
                self._compare_keys(name, each, stored, keys)
                if each == address and "sort=" in address:
                    self._compare_order(name, each, stored, keys)

    def _walk_pages(self, name: str, page: Page, most: int) -> Iterator[list[str]]:
        for _number in range(most // 25 + 3):
            keys = page.tree.css("tbody tr")
            found = [_key_of(row) for row in keys]
            self.figures.rows += len(found)
            yield found
            later = [a for a, words in page.links(".pager nav a") if words == "Next"]  # fmt: skip
            if not later:
                return
            page = self.open(name, later[0])
        self.fault("endless list", name, page.address)

    def _compare_count(self, name: str, where: str, wanted: int, found: int) -> None:
        if wanted != found:
            self.fault("rows of a list", name, f"{where}: {found} of {wanted}")

    def _compare_keys(
        self, name: str, where: str, stored: dict[str, Any], keys: Sequence[str]
    ) -> None:
        twice = len(keys) - len(set(keys))
        missing = len(stored.keys() - set(keys))
        if twice or missing or set(keys) - stored.keys():
            self.fault("rows of a list", name, f"{_plainly(where)}: {missing} missing, {twice} twice")  # fmt: skip

    def _compare_order(
        self, name: str, where: str, stored: dict[str, Any], keys: Sequence[str]
    ) -> None:
        found = re.search(r"sort=-?([^&,]+)", where)
        key = found[1] if found else ""
        pages = self.pages(name)
        if key not in pages.fields or key in pages.lookups or set(keys) - stored.keys():
            return
        if getattr(pages.column(key).type, "storage_format", ""):
            return
        shown = [_plain(stored[each][key]) for each in keys]
        wanted = [_plain(each) for each in self.probe.in_order(pages.table, key)]
        if shown != wanted and not self.where(name):
            self.fault("order of a list", name, key)

    # Exports

    def walk_exports(self, name: str) -> None:
        """Take every export: each row once, plain values as they are stored."""
        if not self.lists(name) or not self.is_compared(name):
            return
        count = self.probe.count(self.pages(name).table, self.where(name))
        rest = "&deleted=with" if self.pages(name).soft_delete else ""
        for kind in ("csv", "json", "xlsx"):
            if kind == "xlsx" and count > self.limits.rows:
                continue
            page = self.open(name, f"/t/{name}/export.{kind}?keys=1{rest}")
            if page.status != 200:
                continue
            rows = _READERS[kind](page.data)
            self.figures.rows += len(rows)
            if len(rows) != count:
                self.fault("rows of an export", name, f"{kind}: {len(rows)} of {count}")
            elif kind == "csv":
                self._compare_values(name, rows)
            self._look_for_secrets(name, page)

    def _compare_values(self, name: str, rows: list[dict[str, Any]]) -> None:
        pages = self.pages(name)
        keys = [key for key in pages.key if key in pages.fields]
        if len(keys) != len(pages.key) or len(keys) != 1:
            return
        by_label = {
            pages.label(key): key for key in pages.list.columns if key in pages.fields
        }
        by_label = {label: key for label, key in by_label.items() if rows and label in rows[0]}  # fmt: skip
        stored = {_plain(row[keys[0]]): row for row in self.stored(name).values()}
        for row in rows:
            held = stored.get(row.get(pages.label(keys[0]), ""))
            for label, key in by_label.items() if held else ():
                labels = getattr(pages.fields[key], "by_value", {})
                if row[label] == str(labels.get(held[key], "")):
                    continue
                if not _is_same(row[label], held[key], pages.fields[key]):
                    self.fault("value in an export", name, f"{key}: {held[key]!r} as {row[label]!r}")  # fmt: skip
                    return

    def _look_for_secrets(self, name: str, page: Page) -> None:
        table = self.pages(name).table
        for key, column in table.c.items():
            is_named = _SECRET.search(column.name.lower()) and not _NO_SECRET.search(column.name.lower())  # fmt: skip
            if not is_named or column.primary_key:
                continue
            for row in self.probe.rows(f"SELECT {self.probe.quote(column.name)} FROM {self.probe.format(table)} LIMIT 5"):  # fmt: skip
                if isinstance(row[0], str) and len(row[0]) > 5 and row[0] in page.text:
                    self.fault("secret on a page", name, key)

    # Searches and filters

    def walk_filters(self, name: str) -> None:
        """Search for titles as they are shown; filter by what the panel offers."""
        home = self.lists(name)
        if not home or not self.is_compared(name):
            return
        self._search_titles(name)
        panel = self.open(name, f"/t/{name}?panel=filter").form("form.panel")
        stored = list(self.probe.keyed(self.pages(name).table, self.where(name)).values()) if self.pages(name).key else []  # fmt: skip
        for control in panel.controls.values() if panel and stored else ():
            key, _dot, operator = control.name.partition(".")
            if key not in self.pages(name).fields or len(stored) > self.limits.rows:
                continue
            values = [row[key] for row in stored]
            if operator == "is":
                self._filter_is(name, key, control, values)
            elif operator in ("empty", "filled"):
                empty = sum(value is None or value == "" for value in values)
                wanted = empty if operator == "empty" else len(values) - empty
                self._filter(name, {control.name: "1"}, wanted)
            elif operator == "has":
                self._filter_has(name, key, values)

    def _filter_is(self, name: str, key: str, control: Control, values: list[Any]) -> None:  # fmt: skip
        is_plain = not any(each in ("yes", "no") for each in control.offers)
        counts = Counter(_plain(value) for value in values)
        for offered in [each for each in control.offers if each][: self.limits.choices]:
            if is_plain and "," not in offered:
                self._filter(name, {control.name: offered}, counts[offered])

    def _filter_has(self, name: str, key: str, values: list[Any]) -> None:
        texts = [v for v in values if isinstance(v, str) and v.strip() and v.isprintable()]  # fmt: skip
        for text in list(dict.fromkeys(texts))[:2]:
            part = max(text.split(), key=len)[:20].swapcase()
            wanted = sum(part.casefold() in each.casefold() for each in texts)
            self._filter(name, {f"{key}.has": part}, wanted, at_least=True)

    def _filter(
        self, name: str, asked: dict[str, str], wanted: int, at_least: bool = False
    ) -> None:
        deleted = {"deleted": "with"} if self.pages(name).soft_delete else {}
        address = f"/t/{name}?{urlencode({**asked, **deleted})}"
        page = self.open(name, address)
        words = " ".join(page.words(".count"))
        if "more than" in words or page.status != 200:
            return
        found = int(re.sub(r"\D", "", words.partition("·")[0]) or 0)
        if found < wanted or (found > wanted and not at_least):
            self.fault("rows of a filter", name, f"{asked}: {found} of {wanted}")

    def _search_titles(self, name: str) -> None:
        page = self.open(name, f"/t/{name}")
        titles = [
            t for _a, t in page.links("tbody tr td a.title") if t not in ("–", "")
        ]
        addresses = [a for a, t in page.links("tbody tr td a.title") if t not in ("–", "")]  # fmt: skip
        count = self.limits.titles
        for address, title in list(zip(addresses, titles, strict=True))[:count]:
            same = titles.count(title)
            turned = title.swapcase()
            for typed in {title, turned if turned.swapcase() == title else title}:
                page = self.open(name, f"/t/{name}?{urlencode({'q': typed, 'rows': 250})}")  # fmt: skip
                found = [a for a, _t in page.links("tbody tr td a.title")]
                if address not in found and same < 200 and len(found) < 250:
                    self.fault("title that is not found", name, typed)

    # Records

    def walk_records(self, name: str) -> None:
        """Open records, their edit and delete pages; blocks and links lead somewhere."""
        if not self.is_compared(name) or not self.pages(name).key:
            return
        for key in self._some(self.stored(name), self.limits.records):
            page = self.open(name, f"/t/{name}/r/{key}")
            self._look_for_secrets(name, page)
            for address, _words in page.links("main a[href^='/t/']"):
                if address.startswith(f"/t/{name}/r/{key}/"):
                    self.open(name, address)

    def _some(self, keys: Iterable[str], most: int) -> list[str]:
        listed = list(keys)
        return listed[:: max(1, -(-len(listed) // most))] if listed else []

    def walk_unchanged(self, name: str) -> None:
        """Send edit forms as they are: not a byte may change."""
        pages = self.pages(name)
        if not self.is_compared(name) or not pages.key or not pages.offers("edit"):
            return
        before = self.probe.dump(pages.table)
        keys = self._some(self.stored(name), self.limits.forms)
        for key in keys:
            address = f"/t/{name}/r/{key}/edit"
            page = self.open(name, address)
            form = page.form()
            if form is None:
                continue
            self.figures.forms += 1
            answer = self.changer.post(address, form.sent())
            if answer.status != 302:
                said = "; ".join(answer.words(".note[role=alert] li"))
                self.fault("unchanged form refused", name, f"{key}: {answer.status} {said}")  # fmt: skip
        lost = before - self.probe.dump(pages.table)
        if lost:
            self.fault("unchanged form changed", name, f"{next(iter(lost))}"[:200])

    # Adding and deleting

    def walk_adding(self, name: str) -> None:
        """Add a record with all fields, and one with the required alone; delete both."""
        pages = self.pages(name)
        if not self.is_compared(name) or not pages.offers("add"):
            return
        address = f"/t/{name}/add"
        form = self.open(name, address).form()
        if form is None:
            return
        fields = [k for k in form.controls if k in pages.fields]
        added = self._add(name, address, dict.fromkeys(fields, True))
        if added is not None:
            self._delete(name, added)
        required = {k: form.controls[k].required for k in fields}
        added = self._add(name, address, required)
        if added is not None:
            self._compare_cleared(name, added, form, required)
            self._delete(name, added)

    def _add(self, name: str, address: str, filled: dict[str, bool]) -> str | None:
        """Add a record, again with what a refusal tells; return its key, None for none."""
        pages = self.pages(name)
        hints: dict[str, str] = {}
        said = ""
        for tried in range(self.limits.tries):
            self._far = 7_000 * tried  # numbers that no record has yet
            form = self.open(name, address).form()
            assert form is not None
            typed: dict[str, Any] = {}
            for key, wanted in sorted(
                filled.items(), key=lambda e: _is_led(form, e[0])
            ):
                control = form.controls[key]
                value = self._typed(control, hints, typed) if wanted else ""
                typed[key] = value
            before = self.stored(name)
            count = self.probe.count(pages.table)
            answer = self.changer.post(address, form.sent(**typed))
            self.figures.forms += 1
            if answer.status == 302:
                return self._compare_added(name, answer, before, count, typed)
            if answer.status not in (422, 409):
                self.fault(f"status {answer.status}", name, f"adding {typed}"[:300])
                return None
            self.figures.refusals += 1
            for node in answer.tree.css(".said"):
                owner = _control_near(node)
                example = _example(" ".join(node.text().split()), tried)
                if owner and example:
                    hints[owner] = example
            said = "; ".join(answer.words(".note[role=alert] li"))
        self.figures.refused[f"{name}: {said}"] += 1
        if re.fullmatch(r"([^;]*\balready\b[^;]*;? ?)+", said):
            return None  # what must be unique is taken, by as many as there can be
        kind = "form that cannot be filled" if any(filled.values()) else "empty form refused"  # fmt: skip
        self.fault(kind, name, said[:200])
        return None

    def _typed(
        self, control: Control, hints: dict[str, str], typed: dict[str, Any]
    ) -> Any:
        """Return what a person could enter by what the control says."""
        number = next(self._numbers)
        given = control.attributes
        if control.kind == "file":
            return (io.BytesIO(PICTURE), "lamp.png")
        if control.kind in ("select", "radio", "checkbox"):
            return self._chosen(control, number, typed)
        if control.name in hints:
            return hints[control.name]
        if "data-step" in given:
            return _number_within(given, number + self._far)
        clock = given.get("data-date", "")
        if clock == "date":
            return (date(2024, 1, 1) + timedelta(days=number)).isoformat()
        if clock == "time":
            return f"{number % 24:02}:{number % 60:02}"
        if clock == "datetime":
            day = date(2024, 1, 1) + timedelta(days=number)
            return f"{day}T{number % 24:02}:{number % 60:02}"
        if control.kind == "email":
            return f"n{number}@example.org"
        if "data-colour" in given:
            return f"#2a6f{number % 90 + 10}"
        most = int(given.get("maxlength") or 60)
        text = f"Lamp No {number}"
        if most < len(text):
            text = _short(number, most)
        return f"{text}\nSecond line" if control.kind == "textarea" and most > 30 else text  # fmt: skip

    def _chosen(self, control: Control, number: int, typed: dict[str, Any]) -> Any:
        offered = [each for each in control.offers if each]
        led = control.attributes.get("data-follows", "").split()
        if "data-more" in control.attributes or led:
            address, fit = control.attributes["data-lookup"], {k: typed.get(k, "") for k in led}  # fmt: skip
            offered = []
            for word in ("",) if led else ("a", "e", "1"):
                asked = urlencode({SEARCH: word, **fit})
                found = json.loads(self.changer.get(f"{address}?{asked}").text)
                offered += [str(each["value"]) for each in found["found"]]
        if not offered:
            return None if control.kind == "radio" else ""
        value = offered[number % len(offered)]
        return ["", value] if control.kind == "checkbox" else value

    def _compare_added(
        self,
        name: str,
        answer: Page,
        before: dict[str, Any],
        count: int,
        typed: dict[str, Any],
    ) -> str | None:
        self.figures.writes += 1
        pages = self.pages(name)
        if self.probe.count(pages.table) != count + 1:
            self.fault("added, and not there", name, answer.location)
            return None
        fresh = self.stored(name).keys() - before.keys()
        if not fresh:
            self.fault("added beyond reach", name, answer.location)
            return None
        (key,) = fresh
        if self.changer.get(answer.location).status != 200:
            self.fault("new record leads nowhere", name, answer.location)
        row = self.stored(name)[key]
        form = self.open(name, f"/t/{name}/r/{key}/edit").form() if pages.offers("edit") else None  # fmt: skip
        for column, value in typed.items():
            if isinstance(value, str) and value and not _is_typed(value, row[column]):
                shown = form.controls.get(column) if form is not None else None
                if shown is None or not _is_typed(value, _plain_day(shown.value)):
                    self.fault("typed value is stored otherwise", name, f"{column}: {value!r} as {row[column]!r}")  # fmt: skip
        return key

    def _compare_cleared(
        self, name: str, key: str, form: Form, required: dict[str, bool]
    ) -> None:
        row = self.stored(name)[key]
        for column, needed in required.items():
            shown = form.controls[column]
            was_filled = bool(shown.value) and shown.kind != "hidden"
            can_clear = shown.kind != "radio" or "" in shown.offers
            if (
                not needed
                and was_filled
                and can_clear
                and row[column] not in (None, "")
            ):
                self.fault(
                    "cleared value came back", name, f"{column}: {row[column]!r}"
                )

    def _delete(self, name: str, key: str) -> None:
        pages = self.pages(name)
        if not pages.offers("delete"):
            return
        address = f"/t/{name}/r/{key}/delete"
        before, alive = self.probe.count(pages.table), key in self.stored(name)
        form = self.open(name, address).form("form.bar")
        if form is None or not alive:
            return
        answer = self.changer.post(address, form.sent())
        self.figures.writes += 1
        if pages.soft_delete:
            return
        after = self.probe.count(pages.table)
        if answer.status != 302 or after != before - 1 or key in self.stored(name):
            self.fault("delete", name, f"{key}: {answer.status}, {before - after} went")

    # What is forbidden

    def walk_forbidden(self, name: str) -> None:
        """Try every changing address as one who may not, and as nobody."""
        pages = self.pages(name)
        if not self.is_compared(name):
            return
        key = next(iter(self.stored(name)), "1") if pages.key else "1"
        before = self.probe.dump(pages.table)
        column = next(iter(pages.fields), "x")
        for browser, allowed in ((self.reader, ()), (self.nobody, (302,))):
            token = browser.token()
            for address in self._changing(name, key, column):
                for method in ("get", "post"):
                    self.figures.forbidden += 1
                    forged = {"csrf_token": token, column: "forged", "chosen-row": key, "do-action": "delete", "is-sure": "1", "column": column}  # fmt: skip
                    page = browser.get(address) if method == "get" else browser.post(address, forged)  # fmt: skip
                    is_door = page.status in allowed and "/sign-in" in page.location
                    if page.status not in (400, 403, 404, 405) and not is_door:
                        self.fault("forbidden, and answered", name, f"{method} {address}: {page.status}")  # fmt: skip
            if browser is self.nobody:
                for address in (f"/t/{name}", f"/t/{name}/r/{key}", f"/t/{name}/export.csv"):  # fmt: skip
                    self.figures.forbidden += 1
                    if browser.get(address).status not in (302, 404):
                        self.fault("open to nobody", name, address)
        if before != self.probe.dump(pages.table):
            self.fault("forbidden, and changed", name, "")

    def _changing(self, name: str, key: str, column: str) -> Iterator[str]:
        """Yield the addresses of a table, from the routes, that take a change."""
        for rule in self.app.url_map.iter_rules():
            if not rule.rule.startswith("/t/<name>") or "POST" not in rule.methods:
                continue
            if "/views" in rule.rule or "/columns" in rule.rule:
                continue  # what one keeps for oneself
            made = rule.rule.replace("<name>", name).replace("<segment>", key)
            yield made.replace("<column>", column).replace("<int:number>", "1")


SEARCH = "find-what"


def _is_led(form: Form, key: str) -> bool:
    """Tell whether a control offers what others of the form leave."""
    return "data-follows" in form.controls[key].attributes


def _key_of(row: Any) -> str:
    box = row.css_first("input[name=chosen-row]")
    if box is not None:
        return box.attributes.get("value") or ""
    link = row.css_first("a.title")
    return (link.attributes.get("href") or "").rpartition("/")[2] if link else ""


def _example(said: str, tried: int) -> str:
    """Return what a message says could be entered, "" where it does not."""
    if "Enter a duration" in said:
        return "01:30:00"  # as it is stored
    if found := _EXAMPLE.search(said):
        return found[1].strip().rstrip(".")
    if found := re.search(r"at most (\d+) digits? before the decimal point|multiple of (\d+)", said):  # fmt: skip
        return str(10 ** (int(found[1]) - 1) + tried) if found[1] else found[2]
    if found := re.search(r"must be less than (\d+)", said):
        return str(int(found[1]) - 1 - tried)
    told = (
        ("one number per line", "1\n2"),
        ("not valid JSON", "[1]"),
    )
    return next((example for words, example in told if words in said), "")


def _control_near(node: Any) -> str:
    """Return the name of the control that a message stands at."""
    while node is not None:
        for control in node.css("[name]"):
            return control.attributes.get("name") or ""
        node = node.parent
    return ""


def _plainly(address: str) -> str:
    return re.sub(r"[?&](rows|deleted)=\w+", "", address)


def _short(number: int, most: int) -> str:
    """Return a text of few characters."""
    letters = "abcdefghijklmnopqrstuvwxyz"
    text = ""
    while len(text) < most and (number or not text):
        text += letters[number % 26]
        number //= 26
    return text[:most]


def _number_within(given: dict[str, str], number: int) -> str:
    step = Decimal(given.get("data-step") or 1)
    low = Decimal(given.get("data-lowest") or 0)
    if "data-highest" not in given:
        return f"{low + number:f}"
    steps = int((Decimal(given["data-highest"]) - low) / step) or 1
    return f"{low + step * (number % (steps + 1)):f}"


def _plain(value: Any) -> str:
    return "" if value is None else str(value)


def _plain_day(shown: str) -> str:
    """Return a date, or moment, as forms show it, in ISO 8601."""
    for pattern, form in (
        ("%d %b %Y", "%Y-%m-%d"),
        ("%d %b %Y, %H:%M", "%Y-%m-%dT%H:%M"),
    ):
        with suppress(ValueError):
            return datetime.strptime(shown.replace("Sept ", "Sep "), pattern).strftime(
                form
            )
    return shown


def _is_typed(typed: str, stored: Any) -> bool:
    """Tell whether what is stored is what was typed, however it is spelled."""
    if stored is None:
        return False
    if isinstance(stored, bytes):
        stored = stored.decode("utf-8", "replace")
    text, plain = str(stored), typed.replace("\r\n", "\n").strip()
    if text.replace("\r\n", "\n").strip() == plain or text.lstrip("#") == plain.lstrip("#"):  # fmt: skip
        return True
    try:
        return Decimal(text) == Decimal(plain)
    except InvalidOperation:
        return text.replace(" ", "T").startswith(plain) or text.startswith(plain)


def _is_same(exported: Any, stored: Any, shown: Any) -> bool:
    """Tell whether an exported value of a plain column is the stored one."""
    kind = type(shown).__name__
    if kind in (
        "TextField",
        "LongTextField",
        "EmailField",
        "PhoneField",
        "ChoiceField",
    ):
        return isinstance(stored, bytes) or exported.removeprefix("'").strip() == _plain(stored).removeprefix("'").strip()  # fmt: skip
    if kind in ("IntegerField", "DecimalField", "CodeField") and stored is not None:
        if isinstance(stored, bytes):
            stored = stored.decode("utf-8", "replace")
        try:
            return Decimal(exported) == Decimal(str(stored))
        except InvalidOperation:
            return bool(exported == str(stored))
    return True


def _read_csv(data: bytes) -> list[dict[str, Any]]:
    return list(csv.DictReader(io.StringIO(data.decode("utf-8-sig"), newline="")))


def _read_xlsx(data: bytes) -> list[dict[str, Any]]:
    sheet = openpyxl.load_workbook(io.BytesIO(data), read_only=True).active
    rows = list(sheet.iter_rows(values_only=True))
    return [dict(zip(rows[0], row, strict=True)) for row in rows[1:]]


_READERS = {"csv": _read_csv, "json": lambda data: json.loads(data), "xlsx": _read_xlsx}
