"""The types of formulas, by the fields that show them."""

from typing import Any

from sqlalchemy.types import NullType, TypeEngine

from ..db.column_types import Date, DateTime, Decimal, Time, YesNo
from ..forms.date_fields import DateField, DateTimeField, TimeField
from ..forms.fields import YesNoField
from ..forms.number_fields import DecimalField


def formula_type(field: Any) -> TypeEngine[Any]:
    """Return the type of a formula that is shown as `field`."""
    for kind, made in (
        (DateField, Date()),
        (DateTimeField, DateTime()),
        (TimeField, Time()),
        (YesNoField, YesNo()),
        (DecimalField, Decimal()),
    ):
        if isinstance(field, kind):
            return made
    return NullType()
