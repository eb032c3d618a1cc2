"""Roles and their rights, and the attributes of users."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, datetime
from decimal import Decimal

from ..contract import RIGHTS, SET_ONCE

ALL = frozenset(RIGHTS)
CHANGES = frozenset({"add", "edit", "delete"})


@dataclass(frozen=True, slots=True)
class Attribute:
    """An attribute of users that rules may name: its name and its type."""

    name: str
    kind: str

    def parse(self, typed: str) -> str:
        """Return the value of the input `typed`, as rules bind it.

        Raises ValueError for what is not of this type.
        """
        plain = typed.strip()
        if self.kind == "integer":
            return str(int(plain))
        if self.kind == "decimal":
            number = Decimal(plain) if _is_number(plain) else None
            if number is None or not number.is_finite():
                raise ValueError(typed)
            return f"{number:f}"
        if self.kind == "date":
            return date.fromisoformat(plain).isoformat()
        if self.kind == "datetime":
            return datetime.fromisoformat(plain).isoformat(" ")
        if self.kind == "yes/no":
            return {"yes": "1", "1": "1", "no": "0", "0": "0"}.get(plain) or _refuse(
                typed
            )
        return plain


def _is_number(plain: str) -> bool:
    return plain.lstrip("+-").replace(".", "", 1).isdecimal()


def _refuse(typed: str) -> str:
    raise ValueError(typed)


@dataclass(frozen=True, slots=True)
class Role:
    """A role.

    `rights` hold on every table but for those named in `tables`. `rows` are conditions,
    by table, of the rows within reach, `changes` of those that may be changed besides.
    `fields` are limits by table and column: hidden, read-only, set once.
    """

    name: str
    label: str
    rights: frozenset[str] = frozenset()
    tables: Mapping[str, frozenset[str]] = field(default_factory=dict)
    rows: Mapping[str, str] = field(default_factory=dict)
    changes: Mapping[str, str] = field(default_factory=dict)
    fields: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    manages_users: bool = False
    reads_audit_log: bool = False
    shares_views: bool = False

    def rights_on(self, table: str) -> frozenset[str]:
        """Return the role's rights on the table of this name."""
        return self.tables.get(table, self.rights)

    def condition(self, right: str, table: str) -> str:
        """Return the condition of the rows on which this right holds; "" for all."""
        parts = [self.rows.get(table, "")]
        if right in CHANGES:
            parts.append(self.changes.get(table, ""))
        return " AND ".join(f"({part})" for part in parts if part)

    def limit(self, table: str, key: str) -> str:
        """Return the limit on a column, "" for none."""
        return self.fields.get(table, {}).get(key, "")

    def lets_set(self, table: str, key: str, is_new: bool) -> bool:
        """Tell whether this role may enter a column, of a new record or of another."""
        limit = self.limit(table, key)
        return not limit or (limit == SET_ONCE and is_new)
