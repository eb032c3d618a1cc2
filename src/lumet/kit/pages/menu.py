"""Entries of your own in the menu."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True, kw_only=True)
class MenuEntry:
    """A page of your own in the menu: `endpoint` as Flask names it, such as
    "reports.dark_lights"; for users with one of the `roles`, none: for all who are
    signed in."""

    label: Any
    endpoint: str
    group: Any = ""
    icon: str = ""
    roles: Sequence[str] = ()
