"""Columns whose values your own code works out."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ..forms.base import RecordForm
from ..forms.fields import ValueField


@dataclass(frozen=True, slots=True)
class ComputedColumn:
    """A column whose value your own code works out from columns of the same record: the
    method of its `name` gets those that it `needs`, by column. It is shown as `field`
    shows values, on the record's page and, with `in_list`, as the last of the list, to
    who sees all that it needs; lists are not sorted or filtered by it."""

    name: str
    field: Any
    needs: Sequence[str]
    in_list: bool = True


def computed_fields(columns: Sequence[ComputedColumn]) -> Mapping[str, ValueField]:
    """Return the fields that show computed columns, by name."""
    if not columns:
        return {}
    fields = {each.name: each.field for each in columns}
    form: type[RecordForm] = type("ComputedForm", (RecordForm,), fields)
    return form().value_fields()
