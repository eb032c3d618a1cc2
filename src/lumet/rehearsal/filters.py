"""Filters and searches, with the rows that fit in the database."""

import unicodedata
from collections import Counter
from collections.abc import Sequence
from typing import Any
from urllib.parse import urlencode

from lumet.browsing.pages import Control
from lumet.rehearsal.lists import count_on, plain
from lumet.rehearsal.probe import is_empty
from lumet.rehearsal.rehearsal import Rehearsal

MOST_ROWS = 250  # of a page
SHOWN_ANYWHERE = 5  # records of a table, in a search of all of them
MANY_SAME = 200  # records of one title, of which a search need not find each


class FilterChecks:
    """The checks of the filters and the search of one table's list."""

    def __init__(self, rehearsal: Rehearsal, name: str) -> None:
        self.rehearsal, self.name = rehearsal, name
        self.pages = rehearsal.pages(name)

    def check_filters(self) -> None:
        """Filter by what the panel offers."""
        rehearsal, pages = self.rehearsal, self.pages
        panel = rehearsal.open(self.name, f"/t/{self.name}?panel=filter").form("form.panel")  # fmt: skip
        if not panel or not pages.key or rehearsal.count(self.name) > rehearsal.limits.rows:  # fmt: skip
            return
        rows = rehearsal.probe.keyed(pages.table, rehearsal.where(self.name))
        stored = list(rows.values())
        for control in panel.controls.values() if stored else ():
            key, _dot, operator = control.name.partition(".")
            if key not in pages.fields:
                continue
            values = [row[key] for row in stored]
            if operator == "is":
                self._is(key, control, values)
            elif operator in ("empty", "filled"):
                empty = sum(is_empty(value) for value in values)
                wanted = empty if operator == "empty" else len(values) - empty
                self._compare({control.name: "1"}, wanted)
            elif operator == "has":
                self._has(key, values)

    def _is(self, key: str, control: Control, values: Sequence[Any]) -> None:
        is_plain = not any(each in ("yes", "no") for each in control.offers)
        # columns of a fixed length have blanks behind their texts
        counts = Counter(plain(value).rstrip(" ") for value in values)
        alike = Counter(map(_letters, counts))
        offered = [each for each in control.offers if each.strip()]
        for each in offered[: self.rehearsal.limits.choices]:
            text = each.rstrip(" ")
            # the collation tells whether several spellings are the same
            is_clear = alike[_letters(text)] == (text in counts)
            if is_plain and is_clear and "," not in each:
                self._compare({control.name: each}, counts[text])

    def _has(self, key: str, values: Sequence[Any]) -> None:
        texts = [v for v in values if isinstance(v, str) and v.strip() and v.isprintable()]  # fmt: skip
        for text in list(dict.fromkeys(texts))[:2]:
            part = max(text.split(), key=len)[:20].swapcase()
            wanted = sum(part.casefold() in each.casefold() for each in texts)
            self._compare({f"{key}.has": part}, wanted, at_least=True)

    def _compare(
        self, asked: dict[str, str], wanted: int, at_least: bool = False
    ) -> None:
        deleted = {"deleted": "with"} if self.pages.soft_delete else {}
        address = f"/t/{self.name}?{urlencode({**asked, **deleted})}"
        found = count_on(self.rehearsal.open(self.name, address))
        if found is None:
            return
        if found < wanted or (found > wanted and not at_least):
            detail = f"{found} of {wanted}"
            self.rehearsal.fail("rows of a filter", self.name, address, detail)

    def check_search(self) -> None:
        """What is shown as a title finds its record, in capitals or not."""
        page = self.rehearsal.open(self.name, f"/t/{self.name}")
        shown = [(a, t) for a, t in page.links("tbody tr td a.title") if t not in ("–", "")]  # fmt: skip
        titles = [title for _address, title in shown]
        is_large = self.rehearsal.is_large(self.name)
        for address, title in [each for each in shown if len(each[1]) > 1][:1]:
            self._find_anywhere(address, title)
        for address, title in shown[: 1 if is_large else self.rehearsal.limits.titles]:
            turned = title.swapcase()
            # each search of many rows takes seconds
            typed_so = {turned if turned.swapcase() == title else title}
            for typed in typed_so if is_large else {title, *typed_so}:
                asked = f"/t/{self.name}?{urlencode({'q': typed, 'rows': MOST_ROWS})}"
                links = self.rehearsal.open(self.name, asked).links("tbody tr td a.title")  # fmt: skip
                found = [each for each, _title in links]
                is_few = titles.count(title) < MANY_SAME and len(found) < MOST_ROWS
                if address not in found and is_few:
                    self.rehearsal.fail("title that is not found", self.name, asked, typed)  # fmt: skip

    def _find_anywhere(self, address: str, title: str) -> None:
        """Search all tables: of each the first are shown, and what was left out since
        it takes long is named."""
        asked = f"/find?{urlencode({'q': title, 'as-piece': 1})}"
        page = self.rehearsal.open(self.name, asked)
        links = [each for each, _title in page.links("a")]
        alike = sum(each.startswith(f"/t/{self.name}/r/") for each in links)
        left_out = " ".join(page.words("p.help"))
        is_all = alike < SHOWN_ANYWHERE and str(self.pages.plural) not in left_out
        if address not in links and is_all:
            self.rehearsal.fail("title that is not found anywhere", self.name, asked, title)  # fmt: skip


def _letters(text: str) -> str:
    """Return a text without what collations may not tell apart: capitals, accents."""
    plain = unicodedata.normalize("NFKD", text)
    return "".join(each for each in plain if not unicodedata.combining(each)).casefold()
