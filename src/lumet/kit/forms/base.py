"""The form of a record."""

from collections.abc import Sequence
from typing import Any, ClassVar

from wtforms import Form

from .fields import ValueField
from .rules import Rule

__all__ = ["RecordForm"]


class RecordForm(Form):
    """The fields of one table by the keys of its columns.

    A field that is not entered is declared all the same, for its label and for how its
    value is shown; the pages say which are read-only.
    """

    rules: ClassVar[Sequence[Rule]] = ()
    is_new = True

    def value_fields(self) -> dict[str, ValueField]:
        """Return the fields by key, in their order."""
        return {
            name: field
            for name, field in self._fields.items()
            if isinstance(field, ValueField)
        }

    def add_error(self, key: str, message: Any) -> None:
        """Put a message at a field."""
        field = self._fields[key]
        field.errors = [*field.errors, message]

    def check_rules(self) -> None:
        """Put what a rule says at the last of its fields that the form has, unless one
        of them is wrong already."""
        values = {
            name: field.data
            for name, field in self._fields.items()
            if isinstance(field, ValueField) and not field.errors
        }
        for rule in self.rules:
            at = [key for key in rule.at if key in values]
            if at and not rule.holds(values):
                self.add_error(at[-1], rule.message)

    def mistakes(self) -> list[tuple[Any, Any, str]]:
        """Return each mistake: the field's label, the message, the control's id."""
        return [
            (field.label.text, message, f"field-{field.name}")
            for field in self._fields.values()
            for message in field.errors
        ]
