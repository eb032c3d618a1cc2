"""Kinds of texts."""

import json
import re

from lumet.kinds.base import FieldSource, Kind, Pattern, TextKind, matching

_PHONE = matching(r"\+?\(?\d[\d\s()./-]+(\s?(x|ext\.?)\s?\d+)?")
_MIN_PHONE_DIGITS, _MAX_PHONE_DIGITS = 6, 17


class Text(TextKind):
    """A line of text."""

    name = "text"
    meaning = "a line of text"
    synonyms = ("string", "varchar", "char")
    types = ("text", "uuid")


class LongText(TextKind):
    """A text of several lines."""

    name = "long text"
    meaning = "a text of several lines"
    field = "LongTextField"
    synonyms = ("textarea",)
    is_short = False


class Email(TextKind):
    """An e-mail address."""

    name = "e-mail"
    meaning = "an e-mail address, linked and checked"
    field = "EmailField"
    words = frozenset({"email", "mail", "e_mail", "emailaddress", "bcc", "replyto"})
    looks = ("e-mail",)
    pattern = matching(r"[^@\s<>]+@[^@\s<>]+\.[^@\s<>]{2,}")


class WebAddress(TextKind):
    """An address on the web."""

    name = "web address"
    meaning = "an address on the web, linked and checked"
    field = "WebAddressField"
    words = frozenset({"url", "website", "homepage", "link", "webpage", "www"})
    looks = ("web address",)
    pattern = matching(r"(https?://|www\.)\S+")


def is_phone(text: str) -> bool:
    """Tell whether a text looks like a telephone number."""
    digits = sum(character.isdigit() for character in text)
    spaced = text.startswith(("+", "0", "(")) or re.search(r"\d[\s/-]\d", text)
    is_long = _MIN_PHONE_DIGITS <= digits <= _MAX_PHONE_DIGITS
    return is_long and bool(spaced) and _PHONE.fits(text)


class Phone(TextKind):
    """A telephone number."""

    name = "phone"
    meaning = "a telephone number, linked"
    field = "PhoneField"
    words = frozenset({"phone", "telephone", "mobile", "cell", "fax", "tel", "telefon",
                       "handy", "cellphone", "phonenumber", "telno", "phoneno"})  # fmt: skip
    looks = ("phone", "number", "")
    pattern = Pattern(is_phone)
    is_ambiguous = True  # a run of digits may be any code


class Colour(TextKind):
    """A colour as #rrggbb."""

    name = "colour"
    meaning = "a colour such as #2a6f97, chosen and shown"
    field = "ColourField"
    words = frozenset({"colour", "color"})
    looks = ("colour",)
    pattern = matching(r"#([0-9a-f]{3}|[0-9a-f]{6}|[0-9a-f]{8})")

    def arguments(self, source: FieldSource) -> list[str]:
        return ["bare=True"] if source.column.type.length in (3, 6) else []


def is_json(text: str) -> bool:
    """Tell whether a text is an object or a list in JSON."""
    if text[:1] not in "{[" or text[-1:] not in "}]":
        return False
    try:
        json.loads(text)
    except ValueError:
        return False
    return True


class Json(Kind):
    """A value in JSON."""

    name = "json"
    meaning = "a value in JSON, checked and set in"
    field = "JsonField"
    pattern = Pattern(is_json)
    types = ("json",)
    in_rules = False
    is_short = False


class Secret(Kind):
    """A password, a token or a key."""

    name = "secret"
    meaning = "a password or a token: entered, and never shown"
    field = "SecretField"
    synonyms = ("password",)


class Other(Kind):
    """A value that is shown, and not entered."""

    name = "other"
    meaning = "shown, not entered"
    field = "OtherField"
    holds_bytes = True
    types = ("binary", "unknown")
    is_entered = False
    in_rules = False
    is_short = False


KINDS: tuple[Kind, ...] = (
    Text(), LongText(), Email(), WebAddress(), Phone(), Colour(), Json(), Secret(), Other()
)  # fmt: skip
