"""The health of the data: rows that the rules of the application would not let in."""

import re
from importlib import import_module
from typing import Any
from urllib.parse import urlencode

from lumet.rehearsal.rehearsal import Rehearsal

_IDENTIFIES = re.compile(
    r"(code|number|num|nr|no|ref|reference|email|login|username|serial)$"
)
_CODES = ("TextField", "CodeField", "EmailField", "IntegerField")
_ALIKE = 0.04  # of the rows: where more share a code, it is not meant to be unique
MOST_LINKED = 5  # values in the address of a filtered list


class HealthChecks:
    """The checks of the rows of one table. What they find are notices."""

    def __init__(self, rehearsal: Rehearsal, name: str) -> None:
        self.rehearsal, self.name = rehearsal, name
        self.pages = rehearsal.pages(name)
        self.probe = rehearsal.probe
        self.table: Any = self.pages.table

    def check(self) -> None:
        """Look for orphans of references that the database does not know, for values that
        are no choices, and for nothing where something is required."""
        for key in self.pages.lookups:
            self._note("reference to a record that there is not", key, self._orphans(key))  # fmt: skip
        for key, field in self.pages.fields.items():
            if key not in self.table.c:
                continue
            choices = getattr(field, "by_value", None)
            if choices and not getattr(field, "other_values", False):
                self._note("value that is no choice", key, self._others(key, choices))
            for each in field.validators:
                flags = getattr(each, "field_flags", {})
                if flags.get("required"):
                    self._note("required, and empty", key, self._empty(key))
                low, high = flags.get("lowest"), flags.get("highest")
                if low is not None or high is not None:
                    beyond = self._beyond(key, low, high)
                    self._note("number out of its range", key, beyond)
            self._note("value that is not unique", key, self._double(key, field))

    def _note(self, kind: str, key: str, found: list[tuple[Any, int]]) -> None:
        if not found:
            return
        rows = sum(count for _value, count in found)
        values = [str(value) for value, _count in found if value not in (None, "")]
        asked = {f"{key}.is": each for each in values[:1]} or {f"{key}.empty": "1"}
        shown = ", ".join(values[:MOST_LINKED])
        detail = f"{rows} rows" + (f": {shown}" if shown else "")
        self.rehearsal.notice(kind, self.name, f"/t/{self.name}?{urlencode(asked)}", f"{key}, {detail}")  # fmt: skip

    def _grouped(self, key: str, where: str) -> list[tuple[Any, int]]:
        name = self.probe.quote(self.table.c[key].name)
        words = f"SELECT {name}, count(*) FROM {self.probe.format(self.table)} looked_at WHERE {where} GROUP BY {name}"  # fmt: skip
        return [(_text(row[0]), int(row[1])) for row in self.probe.rows(words)]

    def _orphans(self, key: str) -> list[tuple[Any, int]]:
        reference = self.pages.lookups[key]
        target: Any = self.rehearsal.registry[reference.target].table
        if len(reference.columns) != 1 or "query" in target.info or "query" in self.table.info:  # fmt: skip
            return []
        if all(each.info.get("enforced", True) for each in self.table.c[key].foreign_keys):  # fmt: skip
            return []  # the database sees to it
        ours = self.probe.quote(self.table.c[key].name)
        theirs = self.probe.quote(target.c[reference.referred[0]].name)
        none = getattr(self.table.c[key].type, "none", None)
        where = (
            f"looked_at.{ours} IS NOT NULL AND NOT EXISTS (SELECT 1 FROM"
            f" {self.probe.format(target)} found WHERE found.{theirs} = looked_at.{ours})"
        )
        found = self._grouped(key, where)
        return [pair for pair in found if str(pair[0]).strip() != str(none)]

    def _others(self, key: str, choices: Any) -> list[tuple[Any, int]]:
        is_spelled = bool(getattr(self.table.c[key].type, "storage_format", ""))
        if "query" in self.table.info or is_spelled:
            return []
        known = {str(each) for each in choices}
        found = self._grouped(key, f"{self.probe.quote(self.table.c[key].name)} IS NOT NULL")  # fmt: skip
        return [pair for pair in found if str(pair[0]).strip() not in known and pair[0] != ""]  # fmt: skip

    def _beyond(self, key: str, low: Any, high: Any) -> list[tuple[Any, int]]:
        column = self.table.c[key]
        is_spelled = bool(getattr(column.type, "storage_format", ""))
        if "query" in self.table.info or is_spelled:
            return []
        name = self.probe.quote(column.name)
        sides = [f"{name} < {low}"] if low is not None else []
        sides += [f"{name} > {high}"] if high is not None else []
        return self._grouped(key, " OR ".join(sides)) if sides else []

    def _double(self, key: str, field: Any) -> list[tuple[Any, int]]:
        """Return codes and numbers that few rows share, where the database does not see
        to it."""
        package = import_module(f"{self.rehearsal.app.name}.kit.pages.table_pages")
        is_code = _IDENTIFIES.search(key) and type(field).__name__ in _CODES
        is_single = (key,) in package.unique_sets(self.pages)
        if not is_code or is_single or key in self.pages.lookups or "query" in self.table.info:  # fmt: skip
            return []
        name = self.probe.quote(self.table.c[key].name)
        words = f"SELECT {name}, count(*) FROM {self.probe.format(self.table)} looked_at WHERE {name} IS NOT NULL GROUP BY {name} HAVING count(*) > 1"  # fmt: skip
        found = [(row[0], int(row[1])) for row in self.probe.rows(words)]
        rows = sum(count for _value, count in found)
        return found if rows <= _ALIKE * self.probe.count(self.table) else []

    def _empty(self, key: str) -> list[tuple[Any, int]]:
        if "query" in self.table.info:
            return []
        name = self.probe.quote(self.table.c[key].name)
        return self._grouped(key, f"{name} IS NULL")


def _text(value: Any) -> Any:
    """Return a value as it is shown: a text of the binary character set as a text."""
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else value
