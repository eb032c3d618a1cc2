"""Validators of fields, each with its message."""

import re
from decimal import Decimal
from math import isnan
from typing import Any
from uuid import UUID

from flask_babel import lazy_gettext as _
from flask_babel import lazy_ngettext
from wtforms.validators import StopValidation, ValidationError

from .fields import ValueField

__all__ = ["Matches", "MaxBytes", "MaxLength", "NumberRange", "Required", "Uuid"]


def Required() -> Any:
    """The column needs a value."""

    def check(form: Any, field: ValueField) -> None:
        if field.data is None and not field.process_errors:
            raise StopValidation(_("Enter a value."))

    check.field_flags = {"required": True}  # type: ignore[attr-defined]
    return check


def MaxLength(count: int) -> Any:
    """The column takes at most `count` characters."""

    def check(form: Any, field: ValueField) -> None:
        if isinstance(field.data, str) and len(field.data) > count:
            raise ValidationError(
                lazy_ngettext(
                    "Enter at most %(num)s character; this has %(found)s.",
                    "Enter at most %(num)s characters; this has %(found)s.",
                    count,
                    found=len(field.data),
                )
            )

    check.field_flags = {"maxlength": count}  # type: ignore[attr-defined]
    return check


def MaxBytes(count: int) -> Any:
    """The column takes at most `count` bytes, as UTF-8 has them."""

    def check(form: Any, field: ValueField) -> None:
        if isinstance(field.data, str) and len(field.data.encode()) > count:
            raise ValidationError(
                lazy_ngettext(
                    "Enter at most %(num)s byte; this has %(found)s.",
                    "Enter at most %(num)s bytes; this has %(found)s.",
                    count,
                    found=len(field.data.encode()),
                )
            )

    check.field_flags = {"maxlength": count}  # type: ignore[attr-defined]
    return check


def Uuid() -> Any:
    """The column takes a UUID, in any of its spellings."""

    def check(form: Any, field: ValueField) -> None:
        if not isinstance(field.data, str):
            return
        try:
            UUID(field.data)
        except ValueError:
            example = "0b9a6c1e-52d7-4f0e-9d3c-7f1f5a3e8c24"
            raise ValidationError(
                _("Enter a UUID, such as %(example)s.", example=example)
            ) from None

    check.field_flags = {"uuid": True}  # type: ignore[attr-defined]
    return check


def Matches(pattern: str, message: Any = "") -> Any:
    """The whole text matches a regular expression."""
    compiled = re.compile(pattern)

    def check(form: Any, field: ValueField) -> None:
        if isinstance(field.data, str) and not compiled.fullmatch(field.data):
            raise ValidationError(message or _("This is not written as it should be."))

    return check


def NumberRange(lowest: Any = None, highest: Any = None) -> Any:
    """The number lies between `lowest` and `highest`; None is no bound."""

    def check(form: Any, field: ValueField) -> None:
        number = field.data
        if number is None or isinstance(number, str | bytes) or isnan(number):
            return
        low = lowest is not None and number < Decimal(str(lowest))
        high = highest is not None and number > Decimal(str(highest))
        if not (low or high):
            return
        unit = f"\u00a0{field.unit}" if field.unit else ""
        least, most = f"{lowest}{unit}", f"{highest}{unit}"
        if lowest is not None and highest is not None:
            raise ValidationError(
                _("Enter a value between %(low)s and %(high)s.", low=lowest, high=most)
            )
        if low:
            raise ValidationError(_("Enter %(low)s or more.", low=least))
        raise ValidationError(_("Enter %(high)s or less.", high=most))

    check.field_flags = {"lowest": lowest, "highest": highest}  # type: ignore[attr-defined]
    return check
