"""The rows of a list on a map, by their latitudes and longitudes."""

from math import isfinite
from typing import Any

from sqlalchemy import Connection

from ..contract import FILLED
from ..queries.filters import Filter
from .list_entries import narrowed, read_entries
from .list_request import ListRequest

MOST_POINTS = 5_000


class MapPoints:
    """The points of one request."""

    def __init__(self, asked: ListRequest) -> None:
        self.asked = asked
        self.has_more = False
        self.unplaced = 0  # rows whose numbers are no position

    def read(self, connection: Connection) -> list[list[Any]]:
        """Return the latitude, the longitude, the title, the address and the colour of
        each row that has a position."""
        latitude, longitude = self.asked.pages.list.map
        filled = [Filter(key, FILLED, ("1",), ()) for key in (latitude, longitude)]
        asked = narrowed(self.asked, filled)
        entries, self.has_more = read_entries(asked, connection, (latitude, longitude), MOST_POINTS)  # fmt: skip
        found = []
        for entry in entries:
            try:
                place = [float(entry.values[key]) for key in (latitude, longitude)]
            except (TypeError, ValueError):
                place = [float("nan")] * 2
            if not _is_position(*place):
                self.unplaced += 1
                continue
            found.append([*place, entry.title, entry.address, entry.colour])
        return found


def _is_position(latitude: float, longitude: float) -> bool:
    """Tell whether two numbers are a position. Two zeros, a place in the open sea, are
    what columns that take no NULL hold instead of one."""
    is_there = isfinite(latitude) and isfinite(longitude)
    is_zero = latitude == longitude == 0
    return is_there and not is_zero and abs(latitude) <= 90 and abs(longitude) <= 180
