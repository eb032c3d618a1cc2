"""Figures that were read a short time ago: those of cards, and numbers in the menu."""

from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any, TypeVar

from cachetools import TTLCache

SECONDS = 60
KEPT = 2_000

F = TypeVar("F")


class FigureCache:
    """A cache of figures with an expiry. A key must determine its figure: whoever has
    the key gets it."""

    def __init__(self, seconds: float = SECONDS) -> None:
        self._kept: TTLCache[Hashable, object] = TTLCache(KEPT, seconds)
        self._lock = Lock()  # the cache itself is not safe among threads

    def __contains__(self, key: Hashable) -> bool:
        with self._lock:
            return key in self._kept

    def peek(self, key: Hashable) -> Any:
        """Return the figure of this key, None where none is kept."""
        with self._lock:
            return self._kept.get(key)

    def put(self, key: Hashable, figure: object) -> None:
        """Keep a figure."""
        with self._lock:
            self._kept[key] = figure

    def forget(self, key: Hashable) -> None:
        """Forget the figure of this key."""
        with self._lock:
            self._kept.pop(key, None)

    def get(self, key: Hashable, read: Callable[[], F]) -> F:
        """Return the figure of this key, what `read` returns where none is kept."""
        with self._lock:
            if key in self._kept:
                found: F = self._kept[key]  # type: ignore[assignment]
                return found
        made = read()
        self.put(key, made)
        return made
