"""Records: the first, the last and the oddest, with every link of their pages; edit forms
that are sent as they are."""

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from lumet.rehearsal.rehearsal import Rehearsal
from lumet.rehearsal.secrets import look_for_secrets

_FOLLOWED = re.compile(r"/(t/|reports/|profile|log|users|$)")
_LEAVING = ("/sign-out", "/forget", "/export.")


class RecordChecks:
    """The checks of the records of one table."""

    def __init__(self, rehearsal: Rehearsal, name: str) -> None:
        self.rehearsal, self.name = rehearsal, name
        self.pages = rehearsal.pages(name)

    def odd_keys(self, most: int) -> list[str]:
        """Return the keys of the first and the last record, and of the oddest: with the
        most empty values, the longest texts and the largest numbers; and some more."""
        stored = self.rehearsal.sample(self.name)
        if not stored:
            return []
        listed = list(stored)
        odd = [listed[0], listed[-1]]
        for measure in (_empty, _length, _largest):
            odd.append(max(stored, key=lambda key: measure(stored[key])))
        return list(dict.fromkeys([*odd, *self.rehearsal.some(listed, most)]))[:most]

    def check_pages(self) -> None:
        """Open records; what their pages link to is there."""
        rehearsal, name = self.rehearsal, self.name
        followed: set[str] = set()
        for key in self.odd_keys(rehearsal.limits.records):
            page = rehearsal.open(name, f"/t/{name}/r/{key}")
            look_for_secrets(rehearsal, name, page)
            for address, _words in page.links("main a[href^='/']"):
                path = address.partition("#")[0]
                is_own = path.startswith(f"/t/{name}/r/{key}/")
                if path in followed or any(each in path for each in _LEAVING):
                    continue
                if not is_own and (len(followed) >= rehearsal.limits.links or not _FOLLOWED.match(path)):  # fmt: skip
                    continue
                followed.add(path)
                status = rehearsal.main.get(path).status
                if status not in (200, 302):
                    rehearsal.fail("link that leads nowhere", name, path, f"on {page.address}")  # fmt: skip

    def check_unchanged(self) -> None:
        """Send edit forms as they are: not a byte may change."""
        rehearsal, name = self.rehearsal, self.name
        keys = self.odd_keys(rehearsal.limits.forms)
        before = self._dumped(keys)
        for key in keys:
            address = f"/t/{name}/r/{key}/edit"
            form = rehearsal.open(name, address).form()
            if form is None:
                continue
            rehearsal.figures.forms += 1
            answer = rehearsal.main.post(address, form.sent())
            if answer.status != 302:
                said = "; ".join(answer.words(".note[role=alert] li"))
                rehearsal.fail("unchanged form refused", name, address, f"{answer.status} {said}")  # fmt: skip
        lost = before - self._dumped(keys)
        if lost:
            rehearsal.fail("unchanged form changed", name, "", f"{next(iter(lost))}"[:200])  # fmt: skip

    def _dumped(self, keys: Sequence[str]) -> Counter[Any]:
        """Return the rows as the database spells them; of a large table these alone."""
        rehearsal, table = self.rehearsal, self.pages.table
        if not rehearsal.is_large(self.name):
            return rehearsal.probe.dump(table)
        found: Counter[Any] = Counter()
        for key in keys:
            values = rehearsal.key_values(self.name, key)
            where = rehearsal.probe.is_key(table, values) if values else ""
            if where:
                found += rehearsal.probe.dump(table, where)
        return found


def _empty(row: Mapping[str, Any]) -> int:
    return sum(value is None for value in row.values())


def _length(row: Mapping[str, Any]) -> int:
    return max((len(v) for v in row.values() if isinstance(v, str | bytes)), default=0)


def _largest(row: Mapping[str, Any]) -> float:
    numbers = [v for v in row.values() if isinstance(v, int | float)]
    return max((abs(v) for v in numbers), default=0)
