"""Pages as a browser reads them: links, and forms with what would be sent from them."""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from selectolax.lexbor import LexborHTMLParser, LexborNode

_ONE_LINE = {"text", "search", "tel", "url", "email", "password"}
_SHAPES = {
    "color": re.compile(r"#[0-9a-fA-F]{6}"),
    "number": re.compile(r"-?\d+(\.\d+)?([eE][-+]?\d+)?"),
}


def held_by(kind: str, value: str) -> str:
    """Return the value that a control of a type holds when a page gives it `value`: the value
    sanitization of the HTML standard, section 4.10.5.1."""
    if kind in _ONE_LINE:
        value = value.replace("\r", "").replace("\n", "")
        return value.strip() if kind in ("url", "email") else value
    shape = _SHAPES.get(kind)
    if shape is None or shape.fullmatch(value):
        return value
    return "#000000" if kind == "color" else ""


@dataclass(slots=True)
class Control:
    """The controls of one name: what they hold, what they offer, what they ask for."""

    name: str
    kind: str
    values: list[str] = field(default_factory=list)
    offers: list[str] = field(default_factory=list)
    required: bool = False
    attributes: dict[str, str] = field(default_factory=dict)

    @property
    def value(self) -> str:
        """The first of the values, "" for none."""
        return self.values[0] if self.values else ""


class Form:
    """One form of a page."""

    def __init__(self, node: LexborNode) -> None:
        self.action = node.attributes.get("action") or ""
        self.controls: dict[str, Control] = {}
        for each in node.css("input, select, textarea"):
            self._add(each)

    def _add(self, node: LexborNode) -> None:
        given = {key: value or "" for key, value in node.attributes.items()}
        name = given.get("name", "")
        if not name or "disabled" in given:
            return
        kind = given.get("type", "text") if node.tag == "input" else str(node.tag)
        if kind in ("submit", "button", "image", "reset"):
            return
        control = self.controls.setdefault(name, Control(name, kind))
        if kind != "hidden":
            control.kind = kind
        control.attributes |= given
        control.required |= "required" in given
        if kind in ("checkbox", "radio"):
            control.offers.append(given.get("value", "on"))
            if "checked" in given:
                control.values.append(given.get("value", "on"))
        elif kind == "select":
            options = node.css("option")
            values = [_option_value(each) for each in options]
            control.offers += values
            chosen = [
                value
                for value, each in zip(values, options, strict=True)
                if "selected" in each.attributes
            ]
            if "multiple" not in given:
                chosen = chosen[-1:] or values[:1]
            control.values += chosen
        elif kind == "textarea":
            control.values.append(node.text(deep=True))
        elif kind != "file":
            control.values.append(held_by(kind, given.get("value", "")))

    def sent(self, /, **changed: Any) -> dict[str, list[Any]]:
        """Return the values that a browser sends: every value, its line breaks as CR LF; a changed
        control has one value, a list of them, a file and its name, or None for nothing."""
        values: dict[str, list[Any]] = {
            name: list(each.values) for name, each in self.controls.items()
        }
        for name, value in changed.items():
            if value is None:
                values.pop(name, None)
            else:
                values[name] = value if isinstance(value, list) else [value]
        return {
            name: [_with_line_ends(each) for each in texts]
            for name, texts in values.items()
            if texts
        }


def _with_line_ends(value: Any) -> Any:
    return re.sub(r"\r\n|\r|\n", "\r\n", value) if isinstance(value, str) else value


def _option_value(node: LexborNode) -> str:
    value = node.attributes.get("value")
    return " ".join(node.text().split()) if value is None else value


class Page:
    """An answer of the application."""

    def __init__(self, answer: Any, address: str) -> None:
        self.address = address
        self.status: int = answer.status_code
        self.headers: Any = answer.headers
        self.location: str = answer.headers.get("Location", "")
        self.content_type: str = answer.mimetype or ""
        self.data: bytes = answer.get_data()
        self._tree: LexborHTMLParser | None = None

    @property
    def text(self) -> str:
        """The answer as a text."""
        return self.data.decode("utf-8", "replace")

    @property
    def tree(self) -> LexborHTMLParser:
        """The page's elements."""
        if self._tree is None:
            self._tree = LexborHTMLParser(self.text)
        return self._tree

    def form(self, selector: str = "form[data-record]") -> Form | None:
        """Return the first form that fits a selector."""
        node = self.tree.css_first(selector)
        return Form(node) if node is not None else None

    def links(self, selector: str) -> Iterator[tuple[str, str]]:
        """Yield the address and the text of each link that fits a selector."""
        for node in self.tree.css(selector):
            yield node.attributes.get("href") or "", " ".join(node.text().split())

    def words(self, selector: str) -> list[str]:
        """Return the texts of the elements that fit a selector."""
        return [" ".join(node.text().split()) for node in self.tree.css(selector)]
