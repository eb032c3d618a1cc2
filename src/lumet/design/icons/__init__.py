"""The icons that can be decided: the Bootstrap Icons, as one file of symbols."""

import re
from collections.abc import Iterable
from functools import cache
from importlib.resources import files

_FILE = "bootstrap-icons-1.13.2.svg"
_SYMBOL = re.compile(r'<symbol class="[^"]*" viewBox="([^"]*)" id="([^"]*)">(.*?)</symbol>')  # fmt: skip


@cache
def _symbols() -> dict[str, tuple[str, str]]:
    """Return the view box and the content of each icon, by name."""
    text = (files(__name__) / _FILE).read_text("utf-8")
    return {name: (box, content) for box, name, content in _SYMBOL.findall(text)}


def icon_names() -> Iterable[str]:
    """Return the names of all icons."""
    return _symbols().keys()


def icons_as_svg(names: Iterable[str]) -> str:
    """Return a file of symbols with some of the icons."""
    found = []
    for name in sorted({*names}):
        box, content = _symbols()[name]
        found.append(f'<symbol id="{name}" viewBox="{box}">{content}</symbol>')
    whole = "\n".join(found)
    return f'<svg xmlns="http://www.w3.org/2000/svg">\n{whole}\n</svg>\n'
