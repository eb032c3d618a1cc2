"""Form fields: how a value is entered, checked and shown.

Every field keeps what was typed when it cannot be understood, and takes a value that the
database holds already as it is, even one that it would not take from a person.
"""

import json
import re
from collections.abc import Mapping, Sequence
from datetime import date, datetime, time
from decimal import Decimal, InvalidOperation
from functools import cache, lru_cache
from typing import Any
from urllib.parse import quote

from flask_babel import get_locale
from flask_babel import lazy_gettext as _
from wtforms import Field
from wtforms.validators import StopValidation, ValidationError

from .formats import date_text, moment_text, number_text, plain_text, time_text
from .reading import Ambiguous, read_date, read_number

KEPT = "~"  # stands in a form for a reference whose key the user may not see
LONGEST_NUMBER = 20  # characters of a whole number; no database keeps more


class ValueField(Field):
    """One column in a form. `numeric` fields are aligned right in lists; `control`
    names the macro that draws the field."""

    control = "line"
    html_type = "text"
    html_takes = re.compile(r".*", re.DOTALL)  # what the browser's control can hold
    numeric = False
    wide = False
    suggestions: Sequence[str] = ()

    def __init__(
        self,
        label: Any = None,
        validators: Sequence[Any] | None = None,
        *,
        help: Any = "",
        **rest: Any,
    ) -> None:
        super().__init__(label, list(validators or ()), description=help, **rest)

    def parse(self, text: str) -> Any:
        """Return the value that `text`, which is not empty, stands for.

        Raises ValueError with a message for people.
        """
        return text

    def to_text(self, value: Any) -> str:
        """Return what the control holds for `value`."""
        return "" if value is None else plain_text(value)

    def from_default(self, text: str) -> str:
        """Return what the control of a new record holds for the column's default."""
        return text

    def show(self, value: Any, language: str) -> str:
        """Return `value`, which is not None, as pages show it."""
        return plain_text(value)

    def process_formdata(self, valuelist: list[Any]) -> None:
        if not valuelist:
            return
        text = self.clean(str(valuelist[0]))
        if self.is_unchanged(text):
            self.data = self.object_data
        elif not text:
            self.data = None
        else:
            self.data = self.parse(text)

    def clean(self, text: str) -> str:
        """Return what was typed without what nobody meant."""
        return text.strip()

    def is_unchanged(self, text: str) -> bool:
        """Tell whether `text` is what the control held for the stored value."""
        return text == self.clean(self.to_text(self.object_data))

    def pre_validate(self, form: Any) -> None:
        stored = self.object_data is not None and self.data is self.object_data
        if stored and not self.process_errors and not form.is_new:
            raise StopValidation()  # what the database holds is not refused here

    def _value(self) -> str:
        return str(self.raw_data[0]) if self.raw_data else self.to_text(self.data)

    def input_type(self) -> str:
        """Return the type of the control. A stored value that is no date, say, must
        not vanish from a control that takes only dates."""
        text = self._value()
        return self.html_type if not text or self.html_takes.fullmatch(text) else "text"

    @property
    def required(self) -> bool:
        """Tell whether the form must have a value here."""
        return bool(self.flags.required)


class TextField(ValueField):
    """A line of text."""

    def to_text(self, value: Any) -> str:
        return "" if value is None else plain_text(value)


class LinkedField(TextField):
    """A line of text that leads somewhere."""

    @staticmethod
    def address(text: str) -> str:
        """Return where a text leads, "" for nowhere."""
        return ""


class EmailField(LinkedField):
    """An e-mail address."""

    html_type = "email"
    html_takes = re.compile(r"[^@\s]+@[^@\s]+\.[^@\s]+")

    def parse(self, text: str) -> str:
        if not self.html_takes.fullmatch(text):
            raise ValueError(_("Enter an e-mail address, such as name@example.org."))
        return text

    @staticmethod
    def address(text: str) -> str:
        return "mailto:" + quote(text, safe="@") if "@" in text else ""


class WebAddressField(LinkedField):
    """An address on the web; without http:// or https:// it leads nowhere."""

    html_type = "text"

    def parse(self, text: str) -> str:
        if re.search(r"\s", text) or "." not in text:
            raise ValueError(_("Enter a web address, such as https://example.org."))
        return text

    @staticmethod
    def address(text: str) -> str:
        return text if text.lower().startswith(("http://", "https://")) else ""


class PhoneField(LinkedField):
    """A telephone number, as it is written."""

    html_type = "tel"

    @staticmethod
    def address(text: str) -> str:
        number = re.sub(r"[^\d+]", "", text)
        return f"tel:{number}" if len(number) > 3 else ""


class ColourField(TextField):
    """A colour as #rrggbb."""

    def parse(self, text: str) -> str:
        if not re.fullmatch(r"#([0-9a-fA-F]{3}|[0-9a-fA-F]{6}|[0-9a-fA-F]{8})", text):
            raise ValueError(_("Enter a colour as #2a6f97."))
        return text


class LongTextField(ValueField):
    """Text of any length."""

    control = "area"
    wide = True

    def clean(self, text: str) -> str:
        return text.replace("\r\n", "\n").strip()


def _language() -> str:
    return str(get_locale() or "en")


def _read_number(text: str, otherwise: Any) -> Decimal:
    try:
        return read_number(text, _language())
    except Ambiguous:
        raise ValueError(
            _("This may be two numbers. Write it without points between thousands.")
        ) from None
    except ValueError:
        raise ValueError(otherwise) from None


class IntegerField(ValueField):
    """A whole number."""

    html_type = "text"
    numeric = True

    def parse(self, text: str) -> int:
        if len(text) > 2 * LONGEST_NUMBER:
            raise ValueError(_("This number is too large."))
        number = _read_number(text, _("Enter a whole number, such as 12."))
        if abs(number) >= Decimal(10) ** LONGEST_NUMBER:
            raise ValueError(_("This number is too large."))
        if number != number.to_integral_value():
            raise ValueError(_("Enter a whole number, such as 12."))
        return int(number)

    def show(self, value: Any, language: str) -> str:
        if isinstance(value, int | float):
            return number_text(value, language, None)
        return plain_text(value)


class CodeField(IntegerField):
    """A whole number that names something: written without separators."""

    numeric = True

    def show(self, value: Any, language: str) -> str:
        return plain_text(value)


class DecimalField(ValueField):
    """A number with digits behind the point; `scale` of them, where it is fixed."""

    numeric = True

    def __init__(self, *positional: Any, scale: int | None = None, **rest: Any) -> None:
        super().__init__(*positional, **rest)
        self.scale = scale

    def parse(self, text: str) -> Decimal:
        number = _read_number(text, _("Enter a number, such as 12.5."))
        exponent = number.normalize().as_tuple().exponent
        if (
            self.scale is not None
            and isinstance(exponent, int)
            and -exponent > self.scale
        ):
            if self.scale == 0:
                raise ValueError(_("Enter a whole number, such as 12."))
            raise ValueError(
                _("At most %(count)s digits after the point.", count=self.scale)
            )
        return number

    def to_text(self, value: Any) -> str:
        if isinstance(value, Decimal) and value.is_finite():
            places = self.scale if self.scale is not None else None
            return f"{value:.{places}f}" if _fits(value, places) else f"{value:f}"
        return super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        if isinstance(value, Decimal | int | float):
            return _scaled_text(value, language, self.scale)
        return plain_text(value)


@lru_cache(maxsize=20_000)
def _scaled_text(value: Decimal | float, language: str, scale: int | None) -> str:
    fits = _fits(Decimal(value), scale)
    return number_text(value, language, scale if fits else None)


def _fits(value: Decimal, scale: int | None) -> bool:
    """Tell whether `value` can be written with `scale` digits without losing any."""
    if scale is None or not value.is_finite():
        return False
    exponent = value.normalize().as_tuple().exponent
    return isinstance(exponent, int) and -exponent <= scale


class FloatField(DecimalField):
    """A measured number, kept as the database keeps it."""

    def parse(self, text: str) -> Any:
        return float(super().parse(text))

    def to_text(self, value: Any) -> str:
        return "" if value is None else str(value)

    def show(self, value: Any, language: str) -> str:
        if isinstance(value, int | float):
            return number_text(value, language, None)
        return plain_text(value)


@cache
def _yes_no(value: bool, language: str) -> str:
    return str(_("Yes")) if value else str(_("No"))


class YesNoField(ValueField):
    """Yes or no; neither, where the column may be empty. `whole`: stored as 1 or 0."""

    control = "buttons"

    def __init__(self, *positional: Any, whole: bool = False, **rest: Any) -> None:
        super().__init__(*positional, **rest)
        self.whole = whole

    def parse(self, text: str) -> Any:
        if text not in ("yes", "no"):
            raise ValueError(_("Choose yes or no."))
        return int(text == "yes") if self.whole else text == "yes"

    def to_text(self, value: Any) -> str:
        if value in (0, 1):
            return "yes" if value else "no"
        return super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        return _yes_no(bool(value), language) if value in (0, 1) else plain_text(value)

    def from_default(self, text: str) -> str:
        return "yes" if text.lower() in ("1", "true") else "no"

    @property
    def options(self) -> list[tuple[str, Any, str]]:
        """The buttons: value, label, tone."""
        found = [("yes", _("Yes"), ""), ("no", _("No"), "")]
        return found if self.required else [("", _("Not known"), ""), *found]


class DateField(ValueField):
    """A date, entered as the browser lets one enter dates."""

    html_type = "date"
    html_takes = re.compile(r"\d{4}-\d\d-\d\d")

    def parse(self, text: str) -> date:
        try:
            return read_date(text, _language())
        except ValueError:
            raise ValueError(_("Enter a date as 2026-11-17.")) from None

    def to_text(self, value: Any) -> str:
        return value.isoformat() if isinstance(value, date) else super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        if isinstance(value, date):
            return date_text(value, language)
        return plain_text(value)


class TimeField(ValueField):
    """A time of day."""

    html_type = "time"
    html_takes = re.compile(r"\d\d:\d\d(:\d\d(\.\d{1,3})?)?")

    def parse(self, text: str) -> time:
        try:
            return time.fromisoformat(text)
        except ValueError:
            raise ValueError(_("Enter a time as 09:40.")) from None

    def to_text(self, value: Any) -> str:
        if isinstance(value, time):
            return value.isoformat("auto" if value.second else "minutes")
        return super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        return (
            time_text(value, language) if isinstance(value, time) else plain_text(value)
        )


class MomentField(ValueField):
    """A date and a time of day."""

    html_type = "datetime-local"
    html_takes = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d{1,3})?)?")

    def parse(self, text: str) -> datetime:
        try:
            return datetime.fromisoformat(text)
        except ValueError:
            pass
        day, _blank, hour = text.strip().replace(", ", " ").rpartition(" ")
        try:
            return datetime.combine(
                read_date(day, _language()), time.fromisoformat(hour)
            )
        except ValueError:
            raise ValueError(
                _("Enter a date and a time as 2026-11-17 09:40.")
            ) from None

    def to_text(self, value: Any) -> str:
        if isinstance(value, datetime):
            whole = value.second or value.microsecond
            return value.isoformat("T", "auto" if whole else "minutes")
        return super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        if isinstance(value, datetime):
            return moment_text(value, language)
        return plain_text(value)


class ChoiceField(ValueField):
    """One of a few values, each with a label and perhaps a tone: good, warn, bad or calm
    news. Few are buttons, more are a list; with `others` these are but suggestions."""

    MOST_BUTTONS = 4
    WIDEST_BUTTONS = 340  # pixels, of one column of a form

    def __init__(
        self,
        *positional: Any,
        choices: Mapping[str, Any],
        tones: Mapping[str, str] | None = None,
        others: bool = False,
        **rest: Any,
    ) -> None:
        super().__init__(*positional, **rest)
        self.choices = choices
        self.tones = tones or {}
        self.others = others

    @property
    def control(self) -> str:  # type: ignore[override]
        if self.others:
            return "line"
        count = len(self.choices) + (not self.required)
        letters = sum(len(str(label)) for label in self.choices.values())
        width = 7.5 * letters + 30 * count  # of the letters, of the space around them
        few = count <= self.MOST_BUTTONS and width <= self.WIDEST_BUTTONS
        return "buttons" if few else "select"

    def parse(self, text: str) -> str:
        if text not in self.choices and not self.others:
            raise ValueError(_("Choose one of the list."))
        return text

    @property
    def suggestions(self) -> Sequence[str]:  # type: ignore[override]
        """The values that are offered while typing."""
        return list(self.choices) if self.others else ()

    def show(self, value: Any, language: str) -> str:
        return str(self.choices.get(value, value))

    def tone(self, value: Any) -> str:
        """Return the tone of `value`, "" for one without."""
        return self.tones.get(value, "") if isinstance(value, str) else ""

    @property
    def options(self) -> list[tuple[str, Any, str]]:
        """The values to choose from: value, label, tone."""
        found = [
            (value, label, self.tone(value)) for value, label in self.choices.items()
        ]
        stored = self.object_data
        if isinstance(stored, str) and stored and stored not in self.choices:
            found.append((stored, stored, ""))
        if not self.required:
            empty = _("None") if self.control == "buttons" else "–"
            found.insert(0, ("", empty, ""))
        return found


class LookupField(ValueField):
    """A reference, chosen by the title of the record of table `to` that it names.

    The page fills in `options` (value and title) and `more`, which tells whether there
    are others than these.
    """

    control = "lookup"

    def __init__(self, *positional: Any, to: str, **rest: Any) -> None:
        super().__init__(*positional, **rest)
        self.to = to
        self.options: list[tuple[str, str]] = []
        self.more = False
        self.value_type: type = str
        self.fixed = False
        self.is_kept = False  # the present value is one that the user may not see

    def parse(self, text: str) -> Any:
        try:
            return self.value_type(text)
        except (ValueError, TypeError, InvalidOperation):
            raise ValueError(_("Choose one of the list.")) from None

    def process_formdata(self, valuelist: list[Any]) -> None:
        if valuelist and valuelist[0] == KEPT:
            self.data = self.object_data
        else:
            super().process_formdata(valuelist)

    def _value(self) -> str:
        return KEPT if self.is_kept else super()._value()


class JsonField(LongTextField):
    """JSON, checked for its form and kept as it was written."""

    def parse(self, text: str) -> str:
        try:
            json.loads(text)
        except ValueError as error:
            raise ValueError(_("This is not JSON: %(said)s.", said=error)) from None
        return text


class OtherField(ValueField):
    """A value that is shown and never entered."""


class PictureField(OtherField):
    """A picture, which the database holds as bytes; shown small, and not entered."""


def required() -> Any:
    """The column needs a value."""

    def check(form: Any, field: ValueField) -> None:
        if field.data is None and not field.process_errors:
            raise StopValidation(_("This is needed."))

    check.field_flags = {"required": True}  # type: ignore[attr-defined]
    return check


def longest(count: int) -> Any:
    """The column takes at most `count` characters."""

    def check(form: Any, field: ValueField) -> None:
        if isinstance(field.data, str) and len(field.data) > count:
            raise ValidationError(
                _(
                    "At most %(count)s characters; these are %(found)s.",
                    count=count,
                    found=len(field.data),
                )
            )

    check.field_flags = {"maxlength": count}  # type: ignore[attr-defined]
    return check


def within(lowest: Any = None, highest: Any = None) -> Any:
    """The number lies between `lowest` and `highest`; None is no bound."""

    def check(form: Any, field: ValueField) -> None:
        number = field.data
        if number is None or isinstance(number, str | bytes):
            return
        low = lowest is not None and number < Decimal(str(lowest))
        high = highest is not None and number > Decimal(str(highest))
        if not (low or high):
            return
        if lowest is not None and highest is not None:
            raise ValidationError(
                _("Must be between %(low)s and %(high)s.", low=lowest, high=highest)
            )
        if low:
            raise ValidationError(_("Must be %(low)s or more.", low=lowest))
        raise ValidationError(_("Must be %(high)s or less.", high=highest))

    return check
