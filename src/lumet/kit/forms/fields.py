"""Form fields: how a value is entered, checked and shown. Those of numbers, of dates
and of files have modules of their own.

Every field keeps what was typed when it cannot be understood, and takes a value that
the database holds already as it is, even one that it would not take from a person.
"""

import json
import re
from collections.abc import Callable, Mapping, Sequence
from decimal import InvalidOperation
from functools import cache
from hashlib import sha256
from typing import Any
from urllib.parse import quote

from flask_babel import lazy_gettext as _
from wtforms import Field
from wtforms.validators import StopValidation

from ..common.formatting import plain_text
from ..contract import NARROW, WIDE
from .operators import OF_CHOICES, OF_PRESENCE, OF_TEXTS

__all__ = [
    "ChoiceField",
    "ColourField",
    "EmailField",
    "JsonField",
    "LongTextField",
    "LookupField",
    "MultipleChoiceField",
    "OtherField",
    "PhoneField",
    "SecretField",
    "TextField",
    "ValueField",
    "WebAddressField",
    "YesNoField",
]


MAX_TEXT_LENGTH = 8 * 1024 * 1024  # characters: as long as a form may be
MAX_DEPTH = 20  # levels of JSON that are set in
KEPT = "~"  # in a form, a reference whose key the user may not see


class ValueField(Field):
    """One column in a form. `numeric` fields are aligned right in lists; `empty_text`:
    what is left empty is stored as an empty text, where the column takes no NULL."""

    operators: tuple[str, ...] = OF_TEXTS  # of filters
    longest = 1_000  # characters that are looked at; more is refused before
    drawn = "line"  # the macro that draws it, see `control`
    spoken = ""  # in a row: what the control is called, without a label of its own
    hint = ""  # what the page may offer beside the control
    html_type = "text"
    html_takes = re.compile(r".*", re.DOTALL)  # what the browser's control can hold
    numeric = False
    wide = False
    narrow = False
    date_kind = ""  # of dates and times, see `ClockField`
    keyboard = ""  # what a device without keys shows to write with
    more = False  # of a lookup: whether there are others to choose
    is_given = False  # its value was not entered, see `give`
    suggestions: Sequence[tuple[str, str]] = ()

    def __init__(
        self,
        label: Any = None,
        validators: Sequence[Any] | None = None,
        *,
        help: Any = "",
        unit: str = "",
        placeholder: Any = "",
        width: str = "",
        empty_text: bool = False,
        **rest: Any,
    ) -> None:
        super().__init__(label, list(validators or ()), description=help, **rest)
        self.unit = unit
        self.empty_text = empty_text
        self.placeholder = placeholder
        if width:
            self.wide, self.narrow = width == WIDE, width == NARROW

    @property
    def control(self) -> str:
        """The macro that draws the field: a line drops the breaks of what it holds, so
        that a text with some has an area."""
        if self.drawn != "line":
            return self.drawn
        text = self._value()
        return "area" if "\n" in text or "\r" in text else "line"

    def parse(self, text: str) -> Any:
        """Return the value of the input `text`, which is not empty.

        Raises ValueError with a message for people.
        """
        return text

    def filter_value(self, text: str) -> Any:
        """Return the value that a filter by the text of an address looks for. Raises
        ValueError."""
        return self.parse(text)

    def to_text(self, value: Any) -> str:
        """Return the text of the control for `value`."""
        return "" if value is None else plain_text(value)

    def from_default(self, text: str) -> str:
        """Return the initial text of a new record's control for the column's
        default."""
        return text

    def show(self, value: Any, language: str) -> str:
        """Return `value`, which is not None, as pages show it."""
        return plain_text(value)

    def process_formdata(self, valuelist: list[Any]) -> None:
        if not valuelist:
            return
        gathered = self.gather(valuelist)
        if len(gathered) > self.longest:
            raise ValueError(
                _("Enter at most %(count)s characters.", count=self.longest)
            )
        text = self.clean(gathered)
        if self.is_unchanged(text) and self.object_data is not None:
            self.data = self.object_data
        elif not text:
            self.data = self.nothing
        else:
            self.data = self._with_breaks(self.parse(text))

    def _with_breaks(self, value: Any) -> Any:
        """Return a text with line breaks as those that the database has."""
        stored = self.object_data
        if not (isinstance(value, str) and isinstance(stored, str)):
            return value
        return value.replace("\n", "\r\n") if "\r\n" in stored else value

    @property
    def nothing(self) -> Any:
        """The value of a field that was left empty."""
        return "" if self.empty_text else None

    def gather(self, values: Sequence[Any]) -> str:
        """Return the one text of what a form sent under the field's name."""
        return str(values[0]) if values else ""

    def trace(self, value: Any) -> str:
        """Return a text that differs when the stored value has changed since it was
        shown."""
        return self.clean(self.to_text(value))

    def clean(self, text: str) -> str:
        """Return the entered text without blanks around it, its line breaks as one
        character each: forms send two."""
        return text.replace("\r\n", "\n").replace("\r", "\n").strip()

    def plain(self, text: str) -> str:
        """Return an entered text as `to_text` has it, where people write it
        otherwise."""
        return text

    def is_unchanged(self, text: str) -> bool:
        """Tell whether `text` is what the control held for the stored value."""
        return text == self.clean(self.to_text(self.object_data))

    def give(self, value: Any) -> None:
        """Set a value that nobody entered, and that needs no look."""
        self.data, self.process_errors, self.is_given = value, [], True

    def pre_validate(self, form: Any) -> None:
        if self.is_given:
            raise StopValidation()
        stored = self.object_data is not None and self.data is self.object_data
        if stored and not self.process_errors and not form.is_new:
            raise StopValidation()  # what the database holds is not refused here

    def _value(self) -> str:
        return self.gather(self.raw_data) if self.raw_data else self.to_text(self.data)

    @property
    def is_asked(self) -> bool:
        """Tell whether the browser is to insist on a value: not where the database has
        none, in spite of its own rule."""
        if self.spoken:
            return False  # a row that nobody touched is none
        return self.required and (self.object_data is None or bool(self._value()))

    def input_type(self) -> str:
        """Return the type of the control. A stored value that is no date, say, must
        not vanish from a control that takes only dates."""
        text = self._value()
        return self.html_type if not text or self.fits_control(text) else "text"

    def fits_control(self, text: str) -> bool:
        """Tell whether the browser's control of this type can hold a text."""
        return bool(self.html_takes.fullmatch(text))

    @property
    def required(self) -> bool:
        """Tell whether the form must have a value here."""
        return bool(self.flags.required)


class TextField(ValueField):
    """A line of text."""

    longest = MAX_TEXT_LENGTH

    def to_text(self, value: Any) -> str:
        return "" if value is None else plain_text(value)


class LinkedField(TextField):
    """A line of text that leads somewhere."""

    longest = 4_000

    @staticmethod
    def address(text: str) -> str:
        """Return where a text leads, "" for nowhere."""
        return ""


class EmailField(LinkedField):
    """An e-mail address."""

    html_type = "email"
    # each part ends where the next begins, so that a long text takes no longer for its
    # dots; the length is that of RFC 5321, 4.5.3.1
    html_takes = re.compile(r"[^@\s]+@[^@\s.]+(\.[^@\s.]+)+")
    MAX_LENGTH = 320

    def fits_control(self, text: str) -> bool:
        return len(text) <= self.MAX_LENGTH and super().fits_control(text)

    def parse(self, text: str) -> str:
        if not self.fits_control(text):
            raise ValueError(_("Enter an e-mail address, such as name@example.org."))
        return text

    @staticmethod
    def address(text: str) -> str:
        return "mailto:" + quote(text, safe="@") if "@" in text else ""


class WebAddressField(LinkedField):
    """An address on the web; without http:// or https:// it leads nowhere."""

    html_type = "text"
    keyboard = "url"

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
    """A colour as #rrggbb; `bare`: stored without the mark, as a column of six
    characters has it."""

    hint = "colour"

    def __init__(self, *positional: Any, bare: bool = False, **rest: Any) -> None:
        super().__init__(*positional, **rest)
        self.bare = bare

    def parse(self, text: str) -> str:
        digits = text.removeprefix("#")
        if not re.fullmatch(r"[0-9a-fA-F]{3}|[0-9a-fA-F]{6}|[0-9a-fA-F]{8}", digits):
            raise ValueError(_("Enter a colour, such as #2a6f97."))
        return digits if self.bare else f"#{digits}"

    def to_text(self, value: Any) -> str:
        text = super().to_text(value)
        return f"#{text}" if self.bare and re.fullmatch(r"[0-9a-fA-F]+", text) else text

    def show(self, value: Any, language: str) -> str:
        return self.to_text(value)


class LongTextField(ValueField):
    """Text of any length."""

    longest = MAX_TEXT_LENGTH
    drawn = "area"
    wide = True


@cache
def _yes_no(value: bool, language: str) -> str:
    return str(_("Yes")) if value else str(_("No"))


class YesNoField(ValueField):
    """Yes or no; neither, where the column may be empty. `whole`: stored as 1 or 0."""

    operators: tuple[str, ...] = OF_CHOICES

    drawn = "buttons"

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
        """The buttons: value, label, colour."""
        found = [("yes", _("Yes"), ""), ("no", _("No"), "")]
        return found if self.required else [("", _("Unknown"), ""), *found]


class ChoiceField(ValueField):
    """One of a few values, each with a label and perhaps a colour: green, amber, red or
    blue news. Few are buttons, more are a list; with `others` these are but
    suggestions."""

    MAX_BUTTONS = 4
    MAX_WIDTH = 340  # pixels, of one column of a form

    def __init__(
        self,
        *positional: Any,
        choices: Mapping[str, Any],
        colours: Mapping[str, str] | None = None,
        other_values: bool = False,
        whole: bool = False,
        **rest: Any,
    ) -> None:
        super().__init__(*positional, **rest)
        self.choices = choices
        self.colours = colours or {}
        self.other_values = other_values
        self.whole = whole
        self.by_value = {self._value_of(text): text for text in choices}
        self.by_value = {v: choices[text] for v, text in self.by_value.items()}
        self.is_labelled = any(str(label) != text for text, label in choices.items())

    @property
    def numeric(self) -> bool:  # type: ignore[override]
        """Choices are words, whatever their values."""
        return False

    @property
    def operators(self) -> tuple[str, ...]:  # type: ignore[override]
        """The operators of filters: by value, where no others can be entered or they
        are numbers."""
        return OF_TEXTS if self.other_values and not self.whole else OF_CHOICES

    def _value_of(self, text: str) -> Any:
        """Return the value of a choice: a number, where the column holds
        whole ones."""
        try:
            return int(text) if self.whole else text
        except ValueError:
            return text

    @property
    def control(self) -> str:
        if self.other_values:
            return super().control
        count = len(self.choices) + (not self.required)
        letters = sum(len(str(label)) for label in self.choices.values())
        width = 7.5 * letters + 30 * count  # of the letters, of the space around them
        few = count <= self.MAX_BUTTONS and width <= self.MAX_WIDTH
        return "buttons" if few else "select"

    def parse(self, text: str) -> Any:
        if text not in self.choices and not self.other_values:
            raise ValueError(_("Choose one from the list."))
        value = self._value_of(text)
        if self.whole and not isinstance(value, int):
            raise ValueError(_("Enter a whole number, such as 12."))
        return value

    def filter_value(self, text: str) -> Any:
        value = self._value_of(text)  # rows may hold others than can be chosen
        if self.whole and self.other_values and not isinstance(value, int):
            raise ValueError(text)
        return value

    @property
    def suggestions(self) -> Sequence[tuple[str, str]]:  # type: ignore[override]
        """The values that are offered while typing, with their labels."""
        if not self.other_values:
            return ()
        return [(value, str(label)) for value, label in self.choices.items()]

    def show(self, value: Any, language: str) -> str:
        try:
            return str(self.by_value.get(value, value))
        except TypeError:  # of no kind that a choice can be
            return plain_text(value)

    def colour(self, value: Any) -> str:
        """Return the colour of `value`, "" for one without."""
        return self.colours.get(self.to_text(value), "")

    @property
    def options(self) -> list[tuple[str, Any, str]]:
        """The values to choose from: value, label, colour."""
        found = [
            (value, label, self.colour(value)) for value, label in self.choices.items()
        ]
        stored = self.to_text(self.object_data)
        if stored and stored not in self.choices:
            found.append((stored, stored, ""))
        if not self.required:
            empty = _("None") if self.control == "buttons" else "–"
            found.insert(0, ("", empty, ""))
        return found


class LookupField(ValueField):
    """A reference, chosen by the title of the record of table `to` that it names.

    It `follows` other fields: pairs of a field of the form and the column of the
    referenced record that must hold the same. `where`: a condition, in SQL, of those
    that can be chosen. With `other_values` the column may also hold values to which no
    record belongs, as where nobody declared the reference. The page fills in `options` (value, title, and what else tells a
    record) and `more`, which tells whether there are others than these.
    """

    operators: tuple[str, ...] = OF_CHOICES

    drawn = "lookup"

    def __init__(
        self,
        *positional: Any,
        to: str,
        depends_on: Sequence[tuple[str, str]] = (),
        where: str = "",
        other_values: bool = False,
        **rest: Any,
    ) -> None:
        super().__init__(*positional, **rest)
        self.to = to
        self.other_values = other_values
        self.depends_on = depends_on
        self.where = where
        self.is_part = False  # of a key: it tells a record with what it follows alone
        self.options: Sequence[tuple[str, str, str]] = ()
        self.value_type: Callable[[str], Any] = str
        self.is_kept = False  # the present value is one that the user may not see
        self.is_offered = False  # the present value is the column's default

    @property
    def is_whole(self) -> bool:
        """Whether its values are whole numbers."""
        return self.value_type is int

    def parse(self, text: str) -> Any:
        try:
            return self.value_type(text)
        except (ValueError, TypeError, InvalidOperation):
            if self.other_values and self.is_whole:
                said = _(
                    "Choose one from the list, or enter a whole number, such as 12."
                )
                raise ValueError(said) from None
            raise ValueError(_("Choose one from the list.")) from None

    def process_formdata(self, valuelist: list[Any]) -> None:
        if valuelist and valuelist[0] == KEPT:
            self.data = self.object_data
        else:
            super().process_formdata(valuelist)

    def _value(self) -> str:
        return KEPT if self.is_kept else super()._value()


class JsonField(LongTextField):
    """JSON, checked for its form; set out in lines where it is entered, and kept as it
    was written."""

    operators: tuple[str, ...] = OF_PRESENCE

    def parse(self, text: str) -> str:
        try:
            json.loads(text, parse_constant=_refuse)
        except (ValueError, RecursionError) as error:
            raise ValueError(
                _("This is not valid JSON: %(said)s.", said=error)
            ) from None
        return text

    def to_text(self, value: Any) -> str:
        text = super().to_text(value)
        try:
            json.loads(text)
        except (ValueError, RecursionError):
            return text
        return in_lines(text)


def _refuse(word: str) -> None:
    raise ValueError(word)


_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[\[\]{},:]|[^\s\[\]{},:"]+')


def in_lines(text: str) -> str:
    """Set JSON out in lines: its numbers, texts and names stay as they are written."""
    found: list[str] = []
    depth, before = 0, ""
    for token in _TOKEN.findall(text):
        if token in "]}":
            depth -= 1
            found.append(
                "" if before in ("[", "{") else "\n" + "  " * min(depth, MAX_DEPTH)
            )
        elif before in ("[", "{", ","):
            found.append("\n" + "  " * min(depth, MAX_DEPTH))
        if token in "[{":
            depth += 1
        found.append(": " if token == ":" else token)
        before = token
    return "".join(found)


class SecretField(ValueField):
    """A value that can be entered and never be looked at; left empty, it stays."""

    operators: tuple[str, ...] = OF_PRESENCE

    drawn = "secret"
    MASK = "••••••••"

    def to_text(self, value: Any) -> str:
        return ""

    def clean(self, text: str) -> str:
        return text

    def trace(self, value: Any) -> str:
        return "" if value is None else sha256(str(value).encode()).hexdigest()

    def show(self, value: Any, language: str) -> str:
        return self.MASK

    def _value(self) -> str:
        return str(self.raw_data[0]) if self.raw_data else ""

    @property
    def is_asked(self) -> bool:
        """Tell whether the browser is to insist on a value: not on a secret's again."""
        return self.required and self.object_data is None


class MultipleChoiceField(ValueField):
    """Several values in one column: of `choices`, or one a line. `joined`: kept as one
    text with commas between them; `each`: "number" or "text"."""

    operators: tuple[str, ...] = OF_PRESENCE

    longest = MAX_TEXT_LENGTH

    def __init__(
        self,
        *positional: Any,
        choices: Mapping[str, Any] | None = None,
        joined: bool = False,
        each: str = "text",
        nullable: bool = True,
        **rest: Any,
    ) -> None:
        super().__init__(*positional, **rest)
        self.choices = choices or {}
        self.joined = joined
        self.each = each
        self.nullable = nullable

    @property
    def control(self) -> str:
        return "ticks" if self.choices else "area"

    @property
    def nothing(self) -> Any:
        """No values: NULL, or where that may not be, an empty list."""
        if self.nullable:
            return None
        return "" if self.joined else ()

    def items(self, value: Any) -> list[str]:
        """Return the values one by one."""
        if isinstance(value, str):
            return value.split(",") if value else []
        return ["" if each is None else str(each) for each in value or ()]

    def to_text(self, value: Any) -> str:
        items = self.items(value)
        if any("\n" in each or each.startswith("[") for each in items):
            return json.dumps(items, ensure_ascii=False)
        return "\n".join(items)

    def gather(self, values: Sequence[Any]) -> str:
        return "\n".join(str(each) for each in values if str(each))

    def clean(self, text: str) -> str:
        lines = (line.strip() for line in text.replace("\r\n", "\n").split("\n"))
        return "\n".join(line for line in lines if line)

    def parse(self, text: str) -> Any:
        items = self._read(text)
        if self.choices:
            if not set(items) <= set(self.choices):
                raise ValueError(_("Choose from the list."))
            items = [each for each in self.choices if each in items]
        if self.each == "number":
            number = re.compile(r"[+-]?\d+(\.\d+)?")
            if not all(number.fullmatch(each) for each in items):
                raise ValueError(_("Enter one number per line."))
        return ",".join(items) if self.joined else tuple(items)

    @staticmethod
    def _read(text: str) -> list[str]:
        if text.startswith("["):
            try:
                found = json.loads(text)
            except ValueError:
                found = None
            if isinstance(found, list):
                return [str(each) for each in found]
        return text.split("\n")

    def show(self, value: Any, language: str) -> str:
        labels = [str(self.choices.get(each, each)) for each in self.items(value)]
        return ", ".join(labels)

    @property
    def ticked(self) -> list[str]:
        """The values that are chosen."""
        return self._value().split("\n")

    @property
    def options(self) -> list[tuple[str, Any, str]]:
        """The values to choose from: value, label, colour."""
        return [(value, label, "") for value, label in self.choices.items()]


class OtherField(ValueField):
    """A value that is shown and never entered."""

    operators: tuple[str, ...] = OF_PRESENCE

    longest = MAX_TEXT_LENGTH
