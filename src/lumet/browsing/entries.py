"""What a person could enter, by what a control says of itself and by what a refusal
told."""

import io
import json
import re
from collections.abc import Callable
from datetime import date, timedelta
from decimal import Decimal
from itertools import count
from typing import Any
from urllib.parse import urlencode

from .pages import Control, Form, Page

SEARCH = "find-what"  # the parameter of a lookup's search
PICTURE = bytes.fromhex(
    "89504e470d0a1a0a0000000d49484452000000010000000108060000001f15c4890000000d4944415478"
    "9c63606060f80f00010401005fe5c34b0000000049454e44ae426082"
)
FAR = 7_000  # between the numbers of one try and of the next
_EXAMPLE = re.compile(r"\b(?:such as|as) (\S.*?)(?: or |, |\.$|\.? *$)")
_LETTERS = "abcdefghijklmnopqrstuvwxyz"


class Entries:
    """Makes values for controls, each another one; `get` opens an address."""

    def __init__(self, get: Callable[[str], Page], first: int = 1) -> None:
        self._get = get
        self._numbers = count(first)
        self.far = 0  # numbers that no record has yet

    def value(
        self, control: Control, hints: dict[str, str], typed: dict[str, Any]
    ) -> Any:
        """Return a value for a control; `hints` are what messages told, `typed` is what
        the other controls hold."""
        number, given = next(self._numbers), control.attributes
        if control.kind == "file":
            return (io.BytesIO(PICTURE), "lamp.png")
        if control.kind in ("select", "radio", "checkbox"):
            return self._chosen(control, number, typed)
        if control.name in hints:
            return hints[control.name]
        if "data-step" in given:
            return _number_within(given, number + self.far)
        if clock := given.get("data-date", ""):
            return _moment(clock, number)
        if control.kind == "email":
            return f"n{number}@example.org"
        if "data-colour" in given:
            return f"#2a6f{number % 90 + 10}"
        most = int(given.get("maxlength") or 60)
        text = f"Lamp No {number}"
        if most < len(text):
            text = _short(number, most)
        return f"{text}\nSecond line" if control.kind == "textarea" and most > 30 else text  # fmt: skip

    def _chosen(self, control: Control, number: int, typed: dict[str, Any]) -> Any:
        offered = [each for each in control.offers if each]
        led = control.attributes.get("data-follows", "").split()
        if "data-more" in control.attributes or led:
            address = control.attributes["data-lookup"]
            fit = {key: typed.get(key, "") for key in led}
            offered = []
            for word in ("",) if led else ("a", "e", "1"):
                asked = urlencode({SEARCH: word, **fit})
                found = json.loads(self._get(f"{address}?{asked}").text)
                offered += [str(each["value"]) for each in found["found"]]
        if not offered:
            return None if control.kind == "radio" else ""
        value = offered[number % len(offered)]
        return ["", value] if control.kind == "checkbox" else value


def is_led(form: Form, key: str) -> bool:
    """Tell whether a control offers what others of the form leave."""
    return "data-follows" in form.controls[key].attributes


def owners_of_messages(page: Page) -> dict[str, str]:
    """Return the messages of a page by the names of the controls that they stand at."""
    found = {}
    for node in page.tree.css(".said"):
        owner = _control_near(node)
        if owner:
            found[owner] = " ".join(node.text().split())
    return found


def example(said: str, tried: int) -> str:
    """Return the example in a message, "" where it has none."""
    if "Enter a duration" in said:
        return "01:30:00"  # as it is stored
    if found := _EXAMPLE.search(said):
        return found[1].strip().rstrip(".")
    if found := re.search(r"at most (\d+) digits? before the decimal point|multiple of (\d+)", said):  # fmt: skip
        return str(10 ** (int(found[1]) - 1) + tried) if found[1] else found[2]
    if found := re.search(r"must be less than (\d+)", said):
        return str(int(found[1]) - 1 - tried)
    told = (
        ("one number per line", "1\n2"),
        ("not valid JSON", "[1]"),
        ("in lower case", f"lamp-{tried}"),
        ("in upper case", f"LAMP-{tried}"),
    )
    return next((value for words, value in told if words in said), "")


def _control_near(node: Any) -> str:
    """Return the name of the control that a message stands at."""
    while node is not None:
        for control in node.css("[name]"):
            return control.attributes.get("name") or ""
        node = node.parent
    return ""


def _moment(clock: str, number: int) -> str:
    day = (date(2024, 1, 1) + timedelta(days=number)).isoformat()
    hour = f"{number % 24:02}:{number % 60:02}"
    return {"date": day, "time": hour}.get(clock, f"{day}T{hour}")


def _number_within(given: dict[str, str], number: int) -> str:
    step = Decimal(given.get("data-step") or 1)
    low = Decimal(given.get("data-lowest") or 0)
    if "data-highest" not in given:
        return f"{low + number:f}"
    steps = int((Decimal(given["data-highest"]) - low) / step) or 1
    return f"{low + step * (number % (steps + 1)):f}"


def _short(number: int, most: int) -> str:
    """Return a text of few characters."""
    text = ""
    while len(text) < most and (number or not text):
        text += _LETTERS[number % 26]
        number //= 26
    return text[:most]
