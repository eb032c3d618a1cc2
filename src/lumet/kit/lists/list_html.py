"""The rows of a list as HTML: most of a page, and so not a template's work."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from types import MappingProxyType
from typing import NamedTuple

from markupsafe import Markup

from ..common.formatting import MAX_DIGITS
from ..queries.cells import Cell, escape

MAX_DEPTH = 9  # levels of a tree that are set in


@dataclass(frozen=True, slots=True)
class Branch:
    """The level of the rows in a tree, which of them can be opened, by their
    keys, and the address that opens one, with `*` for its key."""

    level: int
    openable: Collection[str]
    address: str
    words: str  # what is said of it, with `*` for the title

    def opener(self, key: str, title: str) -> str:
        """Return the button that opens the row with this key, as HTML."""
        if key not in self.openable:
            return '<span class="opener"></span>'
        address = escape(self.address.replace("*", key))
        words = escape(self.words).replace("*", title)
        return (
            f'<a class="opener" href="{address}" data-open="{self.level + 1}"'
            f' aria-label="{words}" aria-expanded="false">▸</a>'
        )


@dataclass(frozen=True, slots=True)
class Expander:
    """What opens the related records of a row within it: their address, with `*` for
    the key of the row, and what is said of it, with `*` for the title."""

    address: str
    words: str

    def opener(self, key: str, title: str) -> str:
        """Return the button that opens the row with this key, as HTML."""
        if not key:
            return '<span class="opener"></span>'
        address = escape(self.address.replace("*", key))
        words = escape(self.words).replace("*", title)
        return (
            f'<a class="opener" href="{address}" data-children aria-label="{words}"'
            ' aria-expanded="false">▸</a>'
        )


class RowAction(NamedTuple):
    """An action on a row: the right that it requires, its address with `*` for the key,
    and its label."""

    right: str
    address: str
    label: str


_KEY = "\0"  # where the key of a row stands in what all rows share


@lru_cache(maxsize=500)
def _links_to(acts: tuple[RowAction, ...]) -> str:
    """Return the cell of these actions as HTML, with _KEY for the key of the row."""
    links = [
        f'<a data-act="{right}" href="{address.replace("*", _KEY)}">{label}</a>'
        for right, address, label in acts
    ]
    return f'<td class="row-acts">{" ".join(links)}</td>'


Allowed = Mapping[str, Collection[str]]
EVERYWHERE: Allowed = MappingProxyType({})


class ListRow(NamedTuple):
    """One row of a list; `starts` are the beginnings of its cells as HTML."""

    key: str
    title: Cell
    cells: list[Cell]
    starts: Sequence[str]

    def row(
        self,
        form: str = "",
        acts: Sequence[RowAction] = (),
        branch: Branch | Expander | None = None,
        allowed: Allowed = EVERYWHERE,
        starts: Sequence[str] | None = None,
    ) -> Markup:
        """Return the row as HTML, with a box to choose it in the form of that name, and
        with links to what can be done to it: where `allowed` has a right, only on the
        rows with the keys there; with what opens its `branch` of a tree, or its related
        records. Not a
        template's work: rows are most of a page."""
        text, address, *_rest = self.title
        said = escape(text)
        box = ""
        if form and self.key:
            key = escape(self.key)
            box = (
                f'<input type="checkbox" form="{form}" name="chosen-row" value="{key}"'
                f' aria-label="{said}">'
            )
        if address:
            head = f'<a class="title" href="{escape(address)}">{said}</a>'
        else:
            head = f'<span class="title">{said}</span>'
        cells = zip(starts or self.starts, self.cells, strict=False)
        rest = "".join([f"{start}{cell.__html__()}</td>" for start, cell in cells])
        if acts:
            rest += self._links(acts, allowed)
        start = "<tr>"
        if branch is not None:
            if isinstance(branch, Branch):
                level = min(branch.level, MAX_DEPTH)
                start = f'<tr class="level-{level}" data-level="{branch.level}">'
            head = branch.opener(self.key, said) + head
        return Markup(f"{start}<td>{box}{head}</td>{rest}</tr>\n")

    def _links(self, acts: Sequence[RowAction], allowed: Allowed) -> str:
        """Return the cell of what can be done to the row, as HTML."""
        key = self.key
        if not key:
            return _links_to(())
        if allowed:
            acts = [
                each
                for each in acts
                if each.right not in allowed or key in allowed[each.right]
            ]
        return _links_to(tuple(acts)).replace(_KEY, key)


class Heading(NamedTuple):
    """The heading of a column of a list: its key, its label, its classes, the address
    that sorts by it, "" for none, and the present direction."""

    key: str
    label: str
    classes: str
    address: str = ""
    direction: str = ""

    def cell(self, select: str = "") -> str:
        """Return the heading as HTML; `select` labels the box that selects all rows."""
        label, box, more = escape(self.label), "", ""
        if select:
            words = escape(select)
            more = f' data-select="{words}"'
            box = f'<input type="checkbox" disabled data-select-page aria-label="{words}">'
        if self.direction:
            more += f' aria-sort="{self.direction}"'
        text = f"<span>{label}</span>"
        if self.address:
            place = f'href="{escape(self.address)}" id="sort-{escape(self.key)}"'
            text = f"<a {place}>{label}</a>"
        more += f' data-key="{escape(self.key)}"'
        return f'<th scope="col" class="{self.classes}"{more}>{box}{text}</th>\n'


@dataclass(frozen=True, slots=True)
class Page:
    """One page of a list. `begin` and `end` are the places before and behind it, empty
    where nothing is. The numbers of the `aligned` columns are set out by their decimal
    `point`."""

    lines: list[ListRow]
    begin: str = ""
    end: str = ""
    aligned: Sequence[int] = ()
    point: str = "."

    def body(
        self,
        form: str = "",
        acts: Sequence[RowAction] = (),
        branch: Branch | Expander | None = None,
        allowed: Allowed = EVERYWHERE,
    ) -> Markup:
        """Return the rows as HTML, as `ListRow.row` does."""
        every = self._aligned_starts()
        rows = [
            line.row(form, acts, branch, allowed, every[place] if every else None)
            for place, line in enumerate(self.lines)
        ]
        return Markup("".join(rows))

    def _aligned_starts(self) -> list[list[str]]:
        """Return the beginnings of all cells, those of aligned numbers with as much
        room behind them as the longest has more digits; none where nothing is to be
        done."""
        found: list[list[str]] = []
        for column in self.aligned:
            texts = [line.cells[column].text for line in self.lines]
            digits = [_digits_behind(text, self.point) for text in texts]
            most = max(digits, default=0)
            if most == min(digits, default=0):
                continue
            found = found or [list(line.starts) for line in self.lines]
            for starts, has in zip(found, digits, strict=True):
                room = f"pad-{min(most - has, MAX_DIGITS)}{'' if has else ' no-point'}"
                starts[column] = starts[column].replace(
                    'class="num', f'class="num {room}', 1
                )
        return found


def _digits_behind(text: str, point: str) -> int:
    """Return how many digits a number that was written has behind its point."""
    _whole, _point, rest = text.partition(point)
    return sum(map(str.isdigit, rest))
