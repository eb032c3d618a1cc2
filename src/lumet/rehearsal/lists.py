"""Lists: every order, page, layout and export, with the rows that the database holds."""

import csv
import io
import itertools
import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal, InvalidOperation
from typing import Any

import openpyxl

from lumet.browsing.pages import Page
from lumet.kit.contract import GROUPS, MAX_GROUPS
from lumet.rehearsal.rehearsal import Rehearsal
from lumet.rehearsal.secrets import look_for_secrets

TITLES = "tbody tr td a.title"
MOST_PAGES = 12  # of a large table in one order
FEW, MORE = 10, 100  # rows of a page; between them the queries must not grow
MOST_QUERIES_MORE = 2
_TEXTS = ("TextField", "LongTextField", "EmailField", "PhoneField", "ChoiceField")
_NUMBERS = ("IntegerField", "DecimalField", "CodeField")


def count_on(page: Page) -> int | None:
    """Return how many records a list says it has, None where it does not count them
    all."""
    words = " ".join(page.words(".count"))
    is_whole = page.status == 200 and "more than" not in words
    return _number(words.partition("·")[0]) if is_whole else None


def _number(text: str) -> int:
    return int(re.sub(r"\D", "", text) or 0)


class ListChecks:
    """The checks of the list of one table."""

    def __init__(self, rehearsal: Rehearsal, name: str) -> None:
        self.rehearsal, self.name = rehearsal, name
        self.pages = rehearsal.pages(name)
        self.home = rehearsal.list_address(name)
        self._titles: list[str] = []  # of the list in its own order

    def check_orders(self) -> None:
        """Page through every order to its end: each row once, in the column's order."""
        rehearsal, name = self.rehearsal, self.name
        first = rehearsal.open(name, self.home)
        look_for_secrets(rehearsal, name, first)
        count = rehearsal.count(name)
        if not self.pages.key:
            found = sum(len(keys) for keys in self._walk_pages(first, count))
            if found != count:
                rehearsal.fail("rows of a list", name, self.home, f"{found} of {count}")
            return
        is_large = count > rehearsal.limits.rows
        stored = rehearsal.keys(name) if is_large else rehearsal.stored(name)
        sorts = (address for address, _ in first.links("thead th a[href*='sort=']"))
        orders = [self.home, *sorts]
        if is_large:  # its export shows that none is missing
            orders = orders[:2]
        for address in orders[: rehearsal.limits.orders + 1]:
            turned = re.sub(r"sort=(?!-)", "sort=-", address)
            for each in dict.fromkeys((address, turned)):
                page = rehearsal.open(name, each)
                keys = list(itertools.chain(*self._walk_pages(page, count)))
                self._compare_keys(each, stored, keys, is_large)
                if each == address and "sort=" in address and not is_large:
                    self._compare_order(each, stored, keys)

    def _walk_pages(self, page: Page, most: int) -> Iterator[list[str]]:
        most_pages = MOST_PAGES if most > self.rehearsal.limits.rows else most // 25 + 3
        for _number in range(most_pages):
            found = [key_of(row) for row in page.tree.css("tbody tr")]
            self.rehearsal.figures.rows += len(found)
            if "sort=" not in page.address:
                self._titles += [text for _a, text in page.links(TITLES)]
            yield found
            later = [a for a, words in page.links(".pager nav a") if words == "Next"]
            if not later:
                return
            page = self.rehearsal.open(self.name, later[0])
        if most_pages != MOST_PAGES:
            self.rehearsal.fail("endless list", self.name, page.address)

    def _compare_keys(
        self,
        where: str,
        stored: Mapping[str, Any],
        keys: Sequence[str],
        are_some: bool,
    ) -> None:
        twice = len(keys) - len(set(keys))
        missing = 0 if are_some else len(stored.keys() - set(keys))
        if twice or missing or set(keys) - stored.keys():
            plain = re.sub(r"[?&](rows|deleted)=\w+", "", where)
            detail = f"{missing} missing, {twice} twice"
            self.rehearsal.fail("rows of a list", self.name, plain, detail)

    def _compare_order(
        self, where: str, stored: Mapping[str, Any], keys: Sequence[str]
    ) -> None:
        found = re.search(r"sort=-?([^&,]+)", where)
        key = found[1] if found else ""
        is_plain = key in self.pages.fields and key not in self.pages.lookups
        if not is_plain or set(keys) - stored.keys():
            return
        type_ = self.pages.column(key).type
        held = getattr(type_, "base", type_)  # of one with a value for none
        if getattr(held, "storage_format", ""):
            return
        # servers that pad texts with blanks do not tell these apart
        shown = [plain(stored[each][key]).rstrip(" ") for each in keys]
        sorted_ = self.rehearsal.probe.in_order(self.pages.table, key)
        wanted = [plain(each).rstrip(" ") for each in sorted_]
        if shown != wanted and not self.rehearsal.where(self.name):
            self.rehearsal.fail("order of a list", self.name, where, key)

    def check_layouts(self) -> None:
        """Open every layout; the queries of a page do not grow with its rows."""
        rehearsal, name = self.rehearsal, self.name
        for layout in self.pages.list.layouts:
            page = rehearsal.open(name, f"/t/{name}?layout={layout}")
            for address, _words in page.links("main .sheet a[href^='/t/']"):
                if f"/t/{name}?" in address and "layout=" in address:
                    rehearsal.open(name, address)
                    break
        if rehearsal.count(name) >= MORE:
            taken = []
            for rows in (FEW, MORE):
                for _again in range(2):  # a plan is built but once
                    rehearsal.open(name, f"/t/{name}?rows={rows}")
                taken.append(rehearsal.figures.timings[-1].queries)
            if taken[1] > taken[0] + MOST_QUERIES_MORE:
                detail = f"{taken[0]} queries for {FEW} rows, {taken[1]} for {MORE}"
                rehearsal.fail("queries that grow with the rows", name, f"/t/{name}", detail)  # fmt: skip

    def check_groups(self) -> None:
        """Open the groups by several columns: together they have each row once, and each
        leads to so many rows."""
        rehearsal, name = self.rehearsal, self.name
        if GROUPS not in self.pages.list.layouts:
            return
        deleted = "&deleted=with" if self.pages.soft_delete else ""
        first = rehearsal.open(name, f"/t/{name}?layout={GROUPS}{deleted}")
        others = [address for address, _words in first.links(".pager.before a[href*='by=']")]  # fmt: skip
        for address in [first.address, *others[: rehearsal.limits.choices]]:
            page = rehearsal.open(name, address)
            links, total = dict[str, int](), 0
            rows = page.tree.css("#groups tbody tr")
            for row, number in zip(rows, page.words("#groups tbody td:nth-child(2)"), strict=True):  # fmt: skip
                total += _number(number)
                if (link := row.css_first("a.title")) is not None:
                    links[str(link.attributes["href"])] = _number(number)
            count = rehearsal.count(name)
            if len(rows) < MAX_GROUPS and total != count:
                rehearsal.fail("rows of groups", name, address, f"{total} of {count}")
            for each in rehearsal.some(links, rehearsal.limits.choices):
                self._compare_count(each, links[each])

    def _compare_count(self, address: str, wanted: int) -> None:
        found = count_on(self.rehearsal.open(self.name, address))
        if found is not None and found != wanted:
            self.rehearsal.fail("rows of a group", self.name, address, f"{found} of {wanted}")  # fmt: skip

    def check_titles(self) -> None:
        """Titles tell records apart."""
        titles = self._titles
        if not titles:
            page = self.rehearsal.open(self.name, self.home)
            titles = [text for _a, text in page.links(TITLES)]
        doubled = len(titles) - len(set(titles))
        if len(titles) > 4 and doubled * 5 > len(titles):
            detail = f"{doubled} of {len(titles)} titles are those of others"
            self.rehearsal.notice("titles that do not tell records apart", self.name, "", detail)  # fmt: skip

    def check_exports(self) -> None:
        """Take every export: each row once, plain values as they are stored."""
        rehearsal, name = self.rehearsal, self.name
        count = rehearsal.count(name)
        if count > rehearsal.limits.exported:
            return
        rest = "&deleted=with" if self.pages.soft_delete else ""
        for kind, read in _READERS.items():
            if kind != "csv" and count > rehearsal.limits.rows:
                continue
            page = rehearsal.open(name, f"/t/{name}/export.{kind}?keys=1{rest}")
            if page.status != 200:
                continue
            rows = read(page.data)
            rehearsal.figures.rows += len(rows)
            if len(rows) != count:
                rehearsal.fail("rows of an export", name, kind, f"{len(rows)} of {count}")  # fmt: skip
            elif kind == "csv":
                self._compare_values(rows)
            look_for_secrets(rehearsal, name, page)

    def _compare_values(self, rows: Sequence[Mapping[str, Any]]) -> None:
        pages = self.pages
        keys = [key for key in pages.key if key in pages.fields]
        if len(keys) != len(pages.key) or len(keys) != 1 or not rows:
            return
        by_label = {
            pages.label(key): key
            for key in pages.list.columns
            if key in pages.fields and pages.label(key) in rows[0]
        }
        by_key = self.rehearsal.sample(self.name).values()
        stored: dict[str, Any] = {plain(row[keys[0]]): row for row in by_key}
        for row in rows:
            held = stored.get(row.get(pages.label(keys[0]), ""))
            if held is None:
                continue
            for label, key in by_label.items():
                labels = getattr(pages.fields[key], "by_value", {})
                if row[label] == str(labels.get(held[key], "")):
                    continue
                if not _is_same(row[label], held[key], pages.fields[key]):
                    detail = f"{held[key]!r} as {row[label]!r}"
                    self.rehearsal.fail("value of an export", self.name, key, detail)
                    return


def plain(value: Any) -> str:
    """Return a value as it is compared."""
    return "" if value is None else str(value)


def key_of(row: Any) -> str:
    """Return the key of a row of a list, as addresses have it."""
    box = row.css_first("input[name=chosen-row]")
    if box is not None:
        return box.attributes.get("value") or ""
    link = row.css_first("a.title")
    return (link.attributes.get("href") or "").rpartition("/")[2] if link else ""


def _is_same(exported: Any, stored: Any, shown: Any) -> bool:
    """Tell whether an exported value of a plain column is the stored one."""
    kind = type(shown).__name__
    if isinstance(stored, bytes):
        if kind in _TEXTS:
            return True
        stored = stored.decode("utf-8", "replace")
    if kind in _TEXTS:
        return bool(exported.removeprefix("'").strip() == plain(stored).removeprefix("'").strip())  # fmt: skip
    if kind in _NUMBERS and stored is not None:
        try:
            is_same = Decimal(exported) == Decimal(str(stored))
            return is_same or str(exported) == str(stored)  # NaN is not itself
        except InvalidOperation:
            return bool(exported == str(stored))
    return True


def _read_csv(data: bytes) -> list[dict[str, Any]]:
    return list(csv.DictReader(io.StringIO(data.decode("utf-8-sig"), newline="")))


def _read_json(data: bytes) -> list[dict[str, Any]]:
    return list(json.loads(data))


def _read_xlsx(data: bytes) -> list[dict[str, Any]]:
    sheet: Any = openpyxl.load_workbook(io.BytesIO(data), read_only=True).active
    rows = list(sheet.iter_rows(values_only=True))
    return [dict(zip(map(str, rows[0]), row, strict=True)) for row in rows[1:]]


_READERS: dict[str, Callable[[bytes], list[dict[str, Any]]]] = {
    "csv": _read_csv, "json": _read_json, "xlsx": _read_xlsx
}  # fmt: skip
