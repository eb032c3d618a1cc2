"""Numbers in forms: whole ones, exact ones, measured ones, and degrees."""

from decimal import Decimal
from functools import lru_cache
from math import copysign
from typing import Any

from flask_babel import lazy_gettext as _
from flask_babel import lazy_ngettext

from ..common import locale
from ..common.formatting import number_text, plain_text
from ..common.parsing import Ambiguous, read_degrees, read_number
from .fields import ValueField
from .operators import OF_NUMBERS

__all__ = ["CodeField", "DecimalField", "DegreesField", "FloatField", "IntegerField"]


_NUMBERS = (Decimal, int, float)  # asked of every cell: a union is made anew each time
MAX_NUMBER_LENGTH = 20  # characters of a whole number; no database keeps more


def _is_negative(value: Decimal | float) -> bool:
    """Tell whether a number is below zero; one that is none cannot be compared."""
    return copysign(1, value) < 0


def _read_number(text: str, otherwise: Any) -> Decimal:
    try:
        return read_number(text, locale.language())
    except Ambiguous:
        raise ValueError(
            _("This number is ambiguous. Enter it without thousands separators.")
        ) from None
    except ValueError:
        raise ValueError(otherwise) from None


class NumberField(ValueField):
    """The base of number fields: a step, of the arrow keys, and bounds."""

    numeric = True

    @property
    def keyboard(self) -> str:  # type: ignore[override]
        """Digits alone, but where the sign may be needed: some devices have none
        there."""
        lowest, value = self.bounds[0], self.data
        is_below = isinstance(value, Decimal | int | float) and _is_negative(value)
        if is_below or (lowest is not None and lowest < 0):
            return "text"
        return "decimal" if getattr(self, "scale", 0) != 0 else "numeric"

    @property
    def step(self) -> str:
        """How far an arrow key goes."""
        return "1"

    @property
    def bounds(self) -> tuple[Any, Any]:
        """The lowest and the highest number, None for none."""
        flags = self.flags
        return getattr(flags, "lowest", None), getattr(flags, "highest", None)


class IntegerField(NumberField):
    """A whole number."""

    operators = OF_NUMBERS

    def parse(self, text: str) -> int:
        if len(text) > 2 * MAX_NUMBER_LENGTH:
            raise ValueError(_("This number is too large."))
        number = _read_number(text, _("Enter a whole number, such as 12."))
        if abs(number) >= Decimal(10) ** MAX_NUMBER_LENGTH:
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

    def show(self, value: Any, language: str) -> str:
        return plain_text(value)


class DecimalField(NumberField):
    """A number with digits behind the point; `scale` of them, where it is fixed, of
    `precision` in all."""

    operators = OF_NUMBERS

    def __init__(
        self,
        *positional: Any,
        precision: int | None = None,
        scale: int | None = None,
        **rest: Any,
    ) -> None:
        super().__init__(*positional, **rest)
        self.precision = precision
        self.scale = scale

    @property
    def step(self) -> str:
        """One of the last digit."""
        return f"{Decimal(1).scaleb(-self.scale):f}" if self.scale else "1"

    def parse(self, text: str) -> Any:
        number = _read_number(text, _("Enter a number, such as 12.5."))
        before, behind = _digits(number)
        if self.precision is not None:
            self._check_size(number, before, self.precision - (self.scale or 0))
        if self.scale is None or behind <= self.scale:
            return number
        if self.scale < 0:  # PostgreSQL keeps some in hundreds, say
            if not number % Decimal(1).scaleb(-self.scale):
                return number
            raise ValueError(_("Enter a multiple of %(step)s.", step=self.step))
        if self.scale == 0:
            raise ValueError(_("Enter a whole number, such as 12."))
        raise ValueError(
            lazy_ngettext(
                "Enter at most %(num)s digit after the decimal point.",
                "Enter at most %(num)s digits after the decimal point.",
                self.scale,
            )
        )

    def _check_size(self, number: Decimal, before: int, most: int) -> None:
        if most < 0 and abs(number) >= Decimal(1).scaleb(most):
            small = f"{Decimal(1).scaleb(most):f}"
            raise ValueError(_("Enter a number below %(small)s.", small=small))
        if before > max(most, 0):
            raise ValueError(
                lazy_ngettext(
                    "Enter at most %(num)s digit before the decimal point.",
                    "Enter at most %(num)s digits before the decimal point.",
                    most,
                )
            )

    def to_text(self, value: Any) -> str:
        if isinstance(value, Decimal) and value.is_finite():
            places = self.scale if self.scale is not None else None
            return f"{value:.{places}f}" if _fits(value, places) else f"{value:f}"
        return super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        if isinstance(value, _NUMBERS):
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
    return _digits(value)[1] <= scale


def _digits(value: Decimal) -> tuple[int, int]:
    """Return how many digits a finite number has before and behind its point, however
    many that are: Python's own arithmetic would round it."""
    _sign, digits, exponent = value.as_tuple()
    if not isinstance(exponent, int) or not any(digits):
        return 0, 0
    trailing = len(digits) - len("".join(map(str, digits)).rstrip("0"))
    return max(0, len(digits) + exponent), max(0, -(exponent + trailing))


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


class DegreesField(DecimalField):
    """A latitude or a longitude in degrees, also entered as 61° 12.24′ N; kept with
    `scale` digits, or `measured`, as a float keeps it."""

    keyboard = "text"  # degrees have signs and letters
    PLACES = 7  # digits behind the point, of one without a scale: a centimetre

    def __init__(
        self, *positional: Any, axis: str, measured: bool = False, **rest: Any
    ) -> None:
        super().__init__(*positional, **rest)
        self.axis = axis
        self.measured = measured

    @property
    def step(self) -> str:
        """A minute, nearly."""
        return "0.01"

    @property
    def placeholder(self) -> str:
        """How it may be written."""
        return self._placeholder or f"61.204, 61° 12.24′ {self._sides[0]}"

    @placeholder.setter
    def placeholder(self, text: Any) -> None:
        self._placeholder = text

    @property
    def _sides(self) -> str:
        return "NS" if self.axis == "latitude" else "EW"

    def parse(self, text: str) -> Any:
        try:
            found = read_degrees(text, self._sides)
        except ValueError:
            message = _("Enter degrees, such as 61.204 or 61° 12.24′.")
            raise ValueError(message) from None
        if found is None:
            found = super().parse(text)
        else:
            places = self.PLACES if self.scale is None else self.scale
            found = round(found, places)
        return float(found) if self.measured else found

    def to_text(self, value: Any) -> str:
        return str(value) if isinstance(value, float) else super().to_text(value)

    def show(self, value: Any, language: str) -> str:
        if not isinstance(value, Decimal | int | float):
            return plain_text(value)
        side = self._sides[1 if _is_negative(value) else 0]
        return f"{number_text(abs(value), language, None)}° {side}"
