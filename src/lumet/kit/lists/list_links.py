"""The links of a list: its address with other parameters."""

from collections.abc import Mapping
from typing import Any
from urllib.parse import quote_plus, urlencode

from werkzeug.datastructures import MultiDict

_POSITION = frozenset(
    {
        "after",
        "before",
        "last",
        "n",
        "skip",
        "panel",
        "filter-by",
        "counted",
        "as-piece",
        "level",
    }
)  # not what one sees


class ListLinks:
    """The address of a list with some parameters left out or changed.

    `days` are the texts of those parameters that are days, as everybody's programs write
    them, however they were typed: a view that is shared must mean the same in another
    language.
    """

    def __init__(
        self, home: str, arguments: MultiDict[str, str], days: Mapping[str, str]
    ) -> None:
        self._home, self._arguments = home, arguments
        self._words = [
            (key, urlencode([(key, days.get(key, value))], safe=",.~"))
            for key, values in arguments.lists()
            for value in values
            if value and key not in _POSITION
        ]

    @property
    def has_parameters(self) -> bool:
        """Tell whether the address has any parameters but the position."""
        return bool(self._words)

    def address(self, *without: str, **changed: Any) -> str:
        """Return the address of this list, with some parameters left out or changed and
        the position forgotten."""
        dropped = {*without, *changed}
        words = [text for key, text in self._words if key not in dropped]
        words += [
            f"{key}={quote_plus(str(value), safe=',.~')}"
            for key, value in changed.items()
            if value != ""
        ]
        return f"{self._home}?{'&'.join(words)}" if words else self._home

    def hidden(self, *left_out: str) -> list[tuple[str, str]]:
        """Return the parameters that a form of the list sends along unseen."""
        return [
            (key, value)
            for key, values in self._arguments.lists()
            for value in values
            if value and key not in (*_POSITION, *left_out)
        ]
