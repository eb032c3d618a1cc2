"""Secrets on pages: values of columns whose names say that they are some."""

import re
from typing import Any

from lumet.browsing.pages import Page
from lumet.rehearsal.rehearsal import Rehearsal

_SECRET = re.compile(r"passw|passphrase|secret|token|api_?key|private_?key|psk|session_?(id|key)|^pw$")  # fmt: skip
_NO_SECRET = re.compile(r"(min|max|length|_len|id|count|at|on)$")
_SHORTEST = 6  # characters; shorter ones are found anywhere


def look_for_secrets(rehearsal: Rehearsal, name: str, page: Page) -> None:
    """Note secrets of a table that a page shows."""
    table: Any = rehearsal.pages(name).table
    probe = rehearsal.probe
    for key, column in table.c.items():
        named = column.name.lower()
        is_secret = _SECRET.search(named) and not _NO_SECRET.search(named)
        if not is_secret or column.primary_key:
            continue
        words = f"SELECT {probe.quote(column.name)} FROM {probe.format(table)} LIMIT 5"
        for (value,) in probe.rows(words):
            if isinstance(value, str) and len(value) >= _SHORTEST and value in page.text:  # fmt: skip
                rehearsal.fail("secret on a page", name, page.address, key)
