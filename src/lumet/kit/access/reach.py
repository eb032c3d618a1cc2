"""The reach: the rows, columns and rights of one user. It is decided here alone.

Every statement on a business table carries a `Reach`. It selects from the rows that the
reach gives, and changes by the reach's own methods; an event of the engine refuses any
other statement. Code of your own that wants more says so: `UNBOUNDED.run(…)`.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    ClauseElement,
    Column,
    ColumnElement,
    Table,
    Update,
    and_,
    bindparam,
    case,
    delete,
    insert,
    literal,
    select,
    text,
    update,
)
from sqlalchemy.engine import Connection

from .denied import AccessDenied, AmbiguousKey, ChangeDenied, MissingKey
from .roles import Role
from .row_reach import RowReach

VERIFIED = "verified"  # the option of a change that a reach carries out and checks
_UPDATES = "updates"
NOTHING_MADE: Mapping[Column[Any], Any] = {}


@dataclass(frozen=True)
class Reach(RowReach):
    """The reach of one user: the union of the rights of all roles.

    `attributes` are the user's, as rules bind them; `is_impersonated`: nothing may be
    changed.
    """

    def lock(
        self, connection: Connection, table: Table, key: Mapping[str, Any]
    ) -> None:
        """Lock the record with this key until the transaction ends, if it is there."""
        statement = select(literal(1)).select_from(table).where(_is(table, key))
        UNBOUNDED.run(connection, statement.with_for_update())

    def reaching(
        self, connection: Connection, table: Table, key: Mapping[str, Any], right: str
    ) -> tuple[Role, ...]:
        """Return the roles by which the user holds `right` on the record with this
        key."""
        if self.everything:
            return self.roles
        holding = self.holding(right, table.fullname)
        conditions = [role.condition(right, table.fullname) for role in holding]
        if not any(conditions):
            return holding
        columns = [
            case((text(each), 1), else_=0) if each else literal(1)
            for each in conditions
        ]
        statement = select(*[c.label(f"r{n}") for n, c in enumerate(columns)])
        statement = statement.select_from(table).where(_is(table, key))
        found = UNBOUNDED.run(connection, statement, self.bound).first()
        return tuple(
            role for role, held in zip(holding, found or (), strict=False) if held
        )

    def reaching_each(
        self,
        connection: Connection,
        table: Table,
        where: ColumnElement[bool],
        right: str,
        **bound: Any,
    ) -> dict[tuple[Any, ...], tuple[Role, ...]] | None:
        """Return the roles by which the user holds `right`, by key, on the records that
        fit `where`, with what that binds; None where they are the same on all: those
        that hold it."""
        holding = self.holding(right, table.fullname)
        conditions = [role.condition(right, table.fullname) for role in holding]
        if self.everything or not any(conditions):
            return None
        key = list(table.primary_key)
        columns = [
            case((text(each), 1), else_=0) if each else literal(1)
            for each in conditions
        ]
        named = [c.label(f"r{n}") for n, c in enumerate(columns)]
        statement = select(*key, *named).select_from(table).where(where)
        return {
            tuple(row[: len(key)]): tuple(
                role
                for role, is_held in zip(holding, row[len(key) :], strict=True)
                if is_held
            )
            for row in UNBOUNDED.run(connection, statement, {**self.bound, **bound})
        }

    def insert(
        self,
        connection: Connection,
        table: Table,
        values: Mapping[Column[Any], Any],
        made: Mapping[Column[Any], Any] = NOTHING_MADE,
    ) -> tuple[Any, ...]:
        """Add a record; return its key. `made` are values that the application
        generates by itself, whatever the user may enter. Raises AccessDenied without
        the right, ChangeDenied when the record, or a value of it, is not one that this
        user may add."""
        if not self.may("add", table.fullname):
            raise AccessDenied(f"add {table.fullname}")
        # values by column: keys of columns may differ from their names
        statement = insert(table).values({**values, **made})
        given = {column.key: value for column, value in {**values, **made}.items()}
        names = [column.key for column in table.primary_key]
        is_asked = any(given.get(name) is None for name in names)
        if is_asked and connection.dialect.insert_returning:
            # by itself MariaDB tells what it counted, not what a sequence or default made
            statement = statement.returning(*table.primary_key)
        result = self._execute(connection, statement, **{VERIFIED: True})
        told = result.one() if result.returns_rows else result.inserted_primary_key
        key = tuple(
            returned if given.get(name) is None else given[name]
            for name, returned in zip(names, told or [None] * len(names), strict=True)
        )
        if None in key:
            raise MissingKey(table.fullname)
        self._check(
            connection, table, dict(zip(names, key, strict=True)), values, "add"
        )
        return key

    def insert_all(
        self,
        connection: Connection,
        table: Table,
        rows: Sequence[Mapping[Column[Any], Any]],
        made: Mapping[Column[Any], Any] = NOTHING_MADE,
    ) -> list[tuple[Any, ...]]:
        """Add several records, each given by the values of the same columns, in as few
        exchanges as the driver can; return their keys. Only for a user whose right to
        add does not depend on the record; else as `insert`."""
        self._admit_several(table, "add", rows[0])
        statement = insert(table).values({**made})
        key = list(table.primary_key)
        bound = [{column.key: value for column, value in row.items()} for row in rows]
        if all(each.get(column.key) is not None for each in bound for column in key):
            self._execute(connection, statement, bound, **{VERIFIED: True})
            return [tuple(each[column.key] for column in key) for each in bound]
        returning = statement.returning(*key, sort_by_parameter_order=True)
        found = self._execute(connection, returning, bound, **{VERIFIED: True})
        return [tuple(row) for row in found]

    def update(
        self,
        connection: Connection,
        table: Table,
        key: Mapping[str, Any],
        values: Mapping[Column[Any], Any],
        made: Mapping[Column[Any], Any] = NOTHING_MADE,
    ) -> None:
        """Change the record with this key; `made` are values that the application
        generates by itself. Raises AccessDenied when the user may not, ChangeDenied
        when the user could not change it any more, or not these fields."""
        self._refuse_beyond(connection, table, key, "edit", values)
        written = {**values, **made}
        if any(isinstance(value, ClauseElement) for value in written.values()):
            statement = update(table).where(_is(table, key)).values(written)
            result = self._execute(connection, statement, **{VERIFIED: True})
        else:
            statement = _update_of(table, tuple(key), tuple(written))
            bound = {f"new__{n}": each for n, each in enumerate(written.values())}
            bound |= {f"key__{n}": each for n, each in enumerate(key.values())}
            result = self._execute(connection, statement, bound, **{VERIFIED: True})
        _is_one(table, result.rowcount)
        changed = {column.key: value for column, value in values.items()}
        now = {name: changed.get(name, value) for name, value in key.items()}
        self._check(connection, table, now, {}, "edit")

    def update_all(
        self,
        connection: Connection,
        table: Table,
        changes: Sequence[tuple[Mapping[str, Any], Mapping[Column[Any], Any]]],
    ) -> None:
        """Change several records, each given by its key and the values of the same
        columns, in as few exchanges as the driver can. Only for a user whose right to
        edit does not depend on the record. Raises AccessDenied, or ChangeDenied for
        fields that may not be entered."""
        key, written = tuple(changes[0][0]), tuple(changes[0][1])
        self._admit_several(table, "edit", changes[0][1])
        statement = _update_of(table, key, written)
        bound = [
            {f"new__{n}": values[column] for n, column in enumerate(written)}
            | {f"key__{n}": own[name] for n, name in enumerate(key)}
            for own, values in changes
        ]
        result = self._execute(connection, statement, bound, **{VERIFIED: True})
        if result.rowcount > len(changes):
            raise AmbiguousKey(table.fullname)

    def _admit_several(
        self, table: Table, right: str, values: Mapping[Column[Any], Any]
    ) -> None:
        """Refuse to change several records at once where the right to it depends on the
        record, or where it is none of the user's fields."""
        if self.everything:
            return
        holding = self.holding(right, table.fullname)
        conditions = [role.condition(right, table.fullname) for role in holding]
        if not holding or any(conditions):
            raise AccessDenied(f"{right} several of {table.fullname}")
        self._refuse_fields(holding, table, values, is_new=right == "add")

    def delete(
        self, connection: Connection, table: Table, key: Mapping[str, Any]
    ) -> bool:
        """Delete the record with this key; tell whether there was one. Raises
        AccessDenied when the user may not."""
        self._refuse_beyond(connection, table, key, "delete", {})
        statement = delete(table).where(_is(table, key))
        result = self._execute(connection, statement, **{VERIFIED: True})
        return _is_one(table, result.rowcount)

    def mark(
        self,
        connection: Connection,
        table: Table,
        key: Mapping[str, Any],
        values: Mapping[Column[Any], Any],
    ) -> bool:
        """Mark the record with this key as deleted, or no more, by writing `values`;
        tell whether there was one. Raises AccessDenied when the user may not delete
        it."""
        self._refuse_beyond(connection, table, key, "delete", {})
        statement = update(table).where(_is(table, key)).values(dict(values))
        result = self._execute(connection, statement, **{VERIFIED: True})
        return _is_one(table, result.rowcount)

    def _refuse_beyond(
        self,
        connection: Connection,
        table: Table,
        key: Mapping[str, Any],
        right: str,
        values: Mapping[Column[Any], Any],
    ) -> None:
        if self.everything:
            return
        roles = self.reaching(connection, table, key, right)
        if not roles:
            raise AccessDenied(f"{right} {table.fullname}")
        self._refuse_fields(roles, table, values, is_new=False)

    def _refuse_fields(
        self,
        roles: Sequence[Role],
        table: Table,
        values: Mapping[Column[Any], Any],
        is_new: bool,
    ) -> None:
        keys = [column.key for column in values]
        beyond = set(keys) - {*self.enterable(roles, table.fullname, keys, is_new)}
        if beyond:
            raise ChangeDenied(", ".join(sorted(beyond)))

    def _check(
        self,
        connection: Connection,
        table: Table,
        key: Mapping[str, Any],
        values: Mapping[Column[Any], Any],
        right: str,
    ) -> None:
        """Check the record just written; the exception ends the transaction."""
        if self.everything:
            return
        roles = self.reaching(connection, table, key, right)
        if not roles:
            raise ChangeDenied("")
        self._refuse_fields(roles, table, values, is_new=True)


def _update_of(
    table: Table, key: tuple[str, ...], written: tuple[Column[Any], ...]
) -> Update:
    """Return the statement that writes some columns of one record, built once."""
    known: dict[Any, Update] = table.info.setdefault(_UPDATES, {})
    wanted = (key, tuple(column.key for column in written))
    if wanted not in known:
        matches = [table.c[k] == bindparam(f"key__{n}") for n, k in enumerate(key)]
        new: dict[Any, Any] = {
            each: bindparam(f"new__{n}") for n, each in enumerate(written)
        }
        known[wanted] = update(table).where(*matches).values(new)
    return known[wanted]


def _is_one(table: Table, count: int) -> bool:
    """Tell whether a change found its record. Raises AmbiguousKey for more than one."""
    if count > 1:
        raise AmbiguousKey(table.fullname)
    return count > 0


def _is(table: Table, key: Mapping[str, Any]) -> Any:
    return and_(*[table.c[name] == value for name, value in key.items()])


UNBOUNDED = Reach(everything=True)
"""For the few statements that must see past the user: whether a value is taken, what depends on a record. Whoever uses it answers for what it lets show."""


def reach_of(
    names: Iterable[str],
    roles: Mapping[str, Role],
    attributes: Mapping[str, str | None] | None = None,
    is_impersonated: bool = False,
) -> Reach:
    """Return the reach of a user who has the roles of these names."""
    held = tuple(roles[name] for name in sorted(set(names)) if name in roles)
    return Reach(held, attributes or {}, is_impersonated=is_impersonated)
