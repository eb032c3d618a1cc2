"""What the signed-in user can reach: the one place that decides it.

Every statement on a business table carries a `Reach`; an event of the engine refuses
one that does not, or whose reach lacks the right for what the statement does.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any
from weakref import WeakKeyDictionary

from sqlalchemy import (
    ClauseElement,
    CursorResult,
    Delete,
    Executable,
    FromClause,
    Insert,
    MetaData,
    Table,
    Update,
    select,
    text,
)
from sqlalchemy.engine import Connection
from sqlalchemy.sql import visitors

OPTION = "reach"
_ROWS = "existing rows"
ALL = frozenset({"view", "add", "edit", "delete", "export"})
_RIGHT_FOR = ((Insert, "add"), (Update, "edit"), (Delete, "delete"))
_seen: WeakKeyDictionary[ClauseElement, tuple[str, ...]] = WeakKeyDictionary()


class OutOfReach(Exception):
    """A statement wants what its reach does not hold, or carries none."""


@dataclass(frozen=True, slots=True)
class Role:
    """A role: its rights on every table, but for those named in `tables`."""

    name: str
    label: str
    rights: frozenset[str] = frozenset()
    tables: Mapping[str, frozenset[str]] = field(default_factory=dict)
    keeps_accounts: bool = False

    def rights_on(self, table: str) -> frozenset[str]:
        """Return the role's rights on the table of this name."""
        return self.tables.get(table, self.rights)


@dataclass(frozen=True)
class Reach:
    """What one user can reach: the rights of all roles, added up."""

    roles: tuple[Role, ...] = ()
    everything: bool = False

    def may(self, right: str, table: str) -> bool:
        """Tell whether `right` is held on the table of this name."""
        if self.everything:
            return True
        return any(right in role.rights_on(table) for role in self.roles)

    def rows(self, table: Table) -> FromClause:
        """Return the rows of `table` within reach, to select from: those that exist for
        the application.

        Raises OutOfReach when none of them is.
        """
        if not self.may("view", table.fullname):
            raise OutOfReach(f"view {table.fullname}")
        return table if self.everything else existing(table)

    def run(
        self, connection: Connection, statement: Executable, values: Any = None
    ) -> CursorResult[Any]:
        """Execute `statement` within this reach."""
        result: CursorResult[Any] = connection.execute(
            statement, values, execution_options={OPTION: self}
        )
        return result

    @property
    def shape(self) -> tuple[str, ...]:
        """What statements depend on: reaches of one shape can share them."""
        return ("*",) if self.everything else tuple(role.name for role in self.roles)


def existing(table: Table) -> FromClause:
    """Return the rows of `table` that exist for the application. A condition is applied
    within, where no alias of the table can break it; servers merge it, so that indexes
    are used all the same."""
    where = table.info.get("where")
    if not where:
        return table
    if _ROWS not in table.info:
        condition = text(where.replace(":", "\\:"))
        table.info[_ROWS] = select(table).where(condition).subquery(table.name)
    rows: FromClause = table.info[_ROWS]
    return rows


UNBOUNDED = Reach(everything=True)
"""For the few statements that must see past the user: whether a value is taken, what
hangs on a record. Whoever uses it answers for what it lets show."""


def reach_of(names: Iterable[str], roles: Mapping[str, Role]) -> Reach:
    """Return the reach of a user who has the roles of these names."""
    return Reach(tuple(roles[name] for name in sorted(names) if name in roles))


def guard(
    metadata: MetaData, statement: Executable, options: Mapping[str, Any]
) -> None:
    """Refuse a statement on business tables that its reach does not allow."""
    tables = _business_tables(metadata, statement)
    if not tables:
        return
    reach = options.get(OPTION)
    if not isinstance(reach, Reach):
        raise OutOfReach(f"a statement on {', '.join(tables)} carries no reach")
    written = getattr(statement, "table", None)
    for table in tables:
        right = "view"
        if isinstance(written, Table) and written.fullname == table:
            right = next(
                (r for kind, r in _RIGHT_FOR if isinstance(statement, kind)), right
            )
        if not reach.may(right, table):
            raise OutOfReach(f"{right} {table}")


def _business_tables(metadata: MetaData, statement: Executable) -> tuple[str, ...]:
    if not isinstance(statement, ClauseElement):
        return ()
    known = _seen.get(statement)
    if known is None:
        names = (
            element.fullname
            for element in visitors.iterate(statement)
            if isinstance(element, Table) and element.metadata is metadata
        )
        known = _seen[statement] = tuple(dict.fromkeys(names))
    return known
