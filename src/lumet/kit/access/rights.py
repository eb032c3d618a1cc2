"""The rights of one user, by the roles."""

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from ..contract import HIDDEN
from .roles import CHANGES, Role

_NOWHERE = "1 = 0"
_ATTRIBUTE = re.compile(r":user_(\w+)")  # in a rule


@dataclass(frozen=True)
class Rights:
    """The union of the rights of all roles of one user.

    `attributes` are the user's, as rules bind them; `is_impersonated`: nothing may be
    changed.
    """

    roles: tuple[Role, ...] = ()
    attributes: Mapping[str, str | None] = field(default_factory=dict)
    everything: bool = False
    is_impersonated: bool = False

    def may(self, right: str, table: str) -> bool:
        """Tell whether `right` is held on the table of this name, on some rows at
        least."""
        if self.everything:
            return True
        return bool(self.holding(right, table))

    def holding(self, right: str, table: str) -> tuple[Role, ...]:
        """Return the roles that hold `right` on the table of this name."""
        if self.is_impersonated and right in CHANGES:
            return ()
        return tuple(role for role in self.roles if right in role.rights_on(table))

    def condition(self, right: str, table: str) -> str:
        """Return the condition of the rows on which `right` is held; "" for all."""
        holding = self.holding(right, table)
        if not holding:
            return _NOWHERE
        parts = [role.condition(right, table) for role in holding]
        return "" if "" in parts else " OR ".join(f"({part})" for part in parts)

    def hides(self, table: str, key: str) -> bool:
        """Tell whether a column shows on no row at all."""
        if self.everything:
            return False
        seen = self.holding("view", table)
        return all(role.limit(table, key) == HIDDEN for role in seen)

    def shown_where(self, table: str, key: str) -> str:
        """Return the condition of the rows within reach on which a column shows; "" for
        all of them. A limit counts only for the rows that its own role reaches."""
        showing = [
            role
            for role in self.holding("view", table)
            if role.limit(table, key) != HIDDEN
        ]
        if not showing:
            return _NOWHERE
        if len(showing) == len(self.holding("view", table)):
            return ""
        parts = [role.condition("view", table) for role in showing]
        return "" if "" in parts else " OR ".join(f"({part})" for part in parts)

    def enterable(
        self, roles: Iterable[Role], table: str, keys: Iterable[str], is_new: bool
    ) -> list[str]:
        """Return those of `keys` that one of `roles` lets a user enter."""
        held = list(roles)
        if self.everything:
            return list(keys)
        return [
            key for key in keys if any(r.lets_set(table, key, is_new) for r in held)
        ]

    @property
    def identity(self) -> tuple[Any, ...]:
        """What decides which rows and columns are within reach: the shape, and those
        attributes of the user that a rule on rows names."""
        rules = " ".join(rule for role in self.roles for rule in role.rows.values())
        named = sorted({*_ATTRIBUTE.findall(rules)} & {*self.attributes})
        return (*self.shape, *((name, self.attributes[name]) for name in named))

    @property
    def shape(self) -> tuple[str, ...]:
        """The part of the reach that statements depend on: reaches of one shape share
        them."""
        return ("*",) if self.everything else tuple(role.name for role in self.roles)
