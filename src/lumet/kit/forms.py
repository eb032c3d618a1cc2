"""Forms: what a generated table module builds its form from."""

from typing import Any

from wtforms import Form

from .fields import (
    ChoiceField,
    CodeField,
    ColourField,
    DateField,
    DecimalField,
    EmailField,
    FloatField,
    IntegerField,
    JsonField,
    LongTextField,
    LookupField,
    MomentField,
    OtherField,
    PhoneField,
    TextField,
    TimeField,
    ValueField,
    WebAddressField,
    YesNoField,
    longest,
    required,
    within,
)

__all__ = [
    "ChoiceField",
    "CodeField",
    "ColourField",
    "DateField",
    "DecimalField",
    "EmailField",
    "FloatField",
    "IntegerField",
    "JsonField",
    "LongTextField",
    "LookupField",
    "MomentField",
    "OtherField",
    "PhoneField",
    "RecordForm",
    "TextField",
    "TimeField",
    "WebAddressField",
    "YesNoField",
    "longest",
    "required",
    "within",
]


class RecordForm(Form):
    """The fields of one table by the keys of its columns.

    A field that is not entered is declared all the same, for its label and for how its
    value is shown; the pages say which are read-only.
    """

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

    def mistakes(self) -> list[tuple[Any, Any, str]]:
        """Return each mistake: the field's label, the message, the control's id."""
        return [
            (field.label.text, message, f"field-{field.name}")
            for field in self._fields.values()
            for message in field.errors
        ]
