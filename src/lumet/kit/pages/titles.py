"""Titles of records: a text with columns in braces, which may be references."""

import re
from collections.abc import Iterable
from dataclasses import dataclass

_PART = re.compile(r"\{([^{}]+)\}")
DEPTH = 3  # references that a title may reach through; a circle ends here


@dataclass(frozen=True, slots=True)
class Title:
    """A parsed title: literal texts around column keys, one text more than keys."""

    texts: tuple[str, ...]
    keys: tuple[str, ...]

    def join(self, values: Iterable[str]) -> str:
        """Put the texts of the columns in; separators around an empty one are left
        out, so that no title begins or ends with one."""
        written = ""
        for text, value in zip(self.texts, values, strict=False):
            if value:
                written += (text if written or not is_separator(text) else "") + value
        return written + (self.texts[-1] if written else "")


def is_separator(text: str) -> bool:
    """Tell whether a text only stands between others."""
    return not any(character.isalnum() for character in text)


def columns_in(title: str) -> list[str]:
    """Return the columns that a title names."""
    return _PART.findall(title)


def parse_title(title: str) -> Title:
    """Parse a title."""
    parts = _PART.split(title)
    return Title(tuple(parts[0::2]), tuple(parts[1::2]))
