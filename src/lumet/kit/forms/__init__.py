"""Forms and their fields: what a generated table module builds its form from."""

from . import rules
from .base import RecordForm
from .date_fields import DateField, DateTimeField, DurationField, TimeField
from .fields import (
    ChoiceField,
    ColourField,
    EmailField,
    JsonField,
    LongTextField,
    LookupField,
    MultipleChoiceField,
    OtherField,
    PhoneField,
    SecretField,
    TextField,
    ValueField,
    WebAddressField,
    YesNoField,
)
from .file_fields import FileField, PictureField
from .number_fields import (
    CodeField,
    DecimalField,
    DegreesField,
    FloatField,
    IntegerField,
)
from .rules import Rule
from .validators import MaxBytes, MaxLength, NumberRange, Required, Uuid

__all__ = [
    "ChoiceField",
    "CodeField",
    "ColourField",
    "DateField",
    "DateTimeField",
    "DecimalField",
    "DegreesField",
    "DurationField",
    "EmailField",
    "FileField",
    "FloatField",
    "IntegerField",
    "JsonField",
    "LongTextField",
    "LookupField",
    "MaxBytes",
    "MaxLength",
    "MultipleChoiceField",
    "NumberRange",
    "OtherField",
    "PhoneField",
    "PictureField",
    "RecordForm",
    "Required",
    "Rule",
    "SecretField",
    "TextField",
    "TimeField",
    "Uuid",
    "ValueField",
    "WebAddressField",
    "YesNoField",
    "rules",
]
