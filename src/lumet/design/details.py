"""Reading decisions about the records that refer to a record: `[details]`."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from lumet.design.decision_schema import (
    DETAIL_EDITS,
    EDIT_CHOSEN,
    EDIT_ROWS,
    Detail,
)
from lumet.facts.model import Column, Database, Reference, Table

if TYPE_CHECKING:
    from lumet.design.decision_file import Checker

Path = tuple[str, ...]
_KEYS = ("by", "label", "edit", "position")


def joined_reference(table: Table, by: tuple[str, ...]) -> Reference | None:
    """Return the other reference of a junction table: the one beside that of
    the columns `by`; of several the one that is part of the key. None where there is
    none."""
    others = [r for r in table.references if not set(r.columns) & set(by)]
    unique = [table.primary_key, *(each.columns for each in table.uniques)]
    keyed = [r for r in others if any(set(key) == {*by, *r.columns} for key in unique)]
    found = keyed or others
    return found[0] if len(found) == 1 else None


def columns_of_its_own(
    table: Table, joined: Reference, by: tuple[str, ...]
) -> list[str]:
    """Return the required columns of a junction table beside its references."""
    held = {*by, *joined.columns}
    return [
        column.name
        for column in table.columns
        if column.name not in held and not _fills_itself(table, column)
    ]


def _fills_itself(table: Table, column: Column) -> bool:
    alone = table.primary_key == (column.name,) and column.type.kind == "uuid"
    return column.is_filled or column.nullable or alone


class DetailReader:
    """Checks the decided details of one table."""

    def __init__(self, checker: "Checker", table: Table, database: Database) -> None:
        self.checker = checker
        self.table = table
        self.database = database

    def read(self, path: Path, value: Any) -> tuple[Detail, ...] | None:
        """Return one detail, or a list of such; () for false, None for a mistake, which
        is reported."""
        if value is False:
            return ()
        tables = [table.name for table in self.database.tables]
        if not self.checker.known(path, path[1], tables, "There is no table"):
            return None
        items = value if isinstance(value, list) else [value]
        details = [self._one(path, path[1], item) for item in items]
        found = tuple(each for each in details if each is not None)
        return found if len(found) == len(details) else None

    def _one(self, path: Path, name: str, item: Any) -> Detail | None:
        if not isinstance(item, dict) or not set(item) <= set(_KEYS):
            self.checker.wrong(path, 'Write a detail as { by = "column" }.')
            return None
        child = self.database.table(name)
        columns = listed(item.get("by"))
        referring = [
            reference.columns
            for reference in child.references
            if reference.referred_table == self.table.name
        ]
        if columns not in referring:
            choices = [" + ".join(each) for each in referring]
            what = f"table {name} does not refer to {self.table.name} by"
            self.checker.known(path, " + ".join(map(str, columns)), choices, what)
            return None
        detail = _made(name, item)
        problem = self._problem(child, detail)
        if problem:
            self.checker.wrong(path, problem)
            return None
        return detail

    def _problem(self, child: Table, detail: Detail) -> str:
        """Return the problem of a detail, "" for none."""
        if detail.edit not in ("", *DETAIL_EDITS):
            known = " or ".join(f'"{each}"' for each in DETAIL_EDITS)
            return f"edit takes {known}, or is left out."
        if detail.position:
            numbers = [c.name for c in child.columns if c.type.kind == "integer"]
            if detail.position not in numbers:
                return f"position takes a column of {child.name} that counts."
            if detail.edit != EDIT_ROWS:
                return f'position goes with edit = "{EDIT_ROWS}".'
        if detail.edit == EDIT_CHOSEN:
            joined = joined_reference(child, detail.by)
            if joined is None:
                return f"{child.name} is not a junction table: nothing can be chosen."
            own = columns_of_its_own(child, joined, detail.by)
            if own:
                return (
                    f"{child.name} has required columns ({', '.join(own)}):"
                    f' edit = "{EDIT_ROWS}" lets them be entered.'
                )
        return ""


def listed(value: Any) -> tuple[str, ...]:
    """Return one name, or several, as a tuple."""
    if isinstance(value, str):
        return (value,)
    return tuple(map(str, value)) if isinstance(value, list | tuple) else ()


def details_of(name: str, value: Any) -> tuple[Detail, ...]:
    """Return the details in the TOML `value` of table `name`."""
    if isinstance(value, tuple) and all(isinstance(item, Detail) for item in value):
        return value
    items = value if isinstance(value, list | tuple) else [value]
    return tuple(_made(name, item) for item in items)


def _made(name: str, item: Mapping[str, Any]) -> Detail:
    rest = {key: str(item[key]) for key in _KEYS[1:] if key in item}
    return Detail(table=name, by=listed(item.get("by")), **rest)
