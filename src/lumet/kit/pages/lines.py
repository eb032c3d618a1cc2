"""The rows of a list as HTML: most of a page, and so not a template's work."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from markupsafe import Markup

from .selection import Cell, escape

DEEPEST = 9  # levels of a tree that are set in


@dataclass(frozen=True, slots=True)
class Branch:
    """How deep the rows of a list stand in a tree, which of them can be opened, by their
    keys, and the address that opens one, with `*` for its key."""

    level: int
    openable: Collection[str]
    address: str
    words: str  # what is said of it, with `*` for the title

    def opener(self, key: str, title: str) -> str:
        """Return what opens the row with this key, as HTML."""
        if key not in self.openable:
            return '<span class="opener"></span>'
        address = escape(self.address.replace("*", key))
        words = escape(self.words).replace("*", title)
        return (
            f'<a class="opener" href="{address}" data-open="{self.level + 1}"'
            f' aria-label="{words}" aria-expanded="false">▸</a>'
        )


@dataclass(frozen=True, slots=True)
class Line:
    """One row of a list; `starts` are the beginnings of its cells as HTML."""

    key: str
    title: Cell
    cells: list[Cell]
    starts: list[str]

    def row(
        self,
        form: str = "",
        acts: Sequence[tuple[str, str]] = (),
        branch: Branch | None = None,
    ) -> Markup:
        """Return the row as HTML, with a box to choose it in the form of that name, and
        with `acts`, addresses with `*` for the key and their labels; in a tree, with
        what opens its `branch`. Not a template's work: rows are most of a page."""
        text, address, *_rest = self.title
        said = escape(text)
        box = ""
        if form:
            key = escape(self.key)
            box = (
                f'<input type="checkbox" form="{form}" name="chosen-row" value="{key}"'
                f' aria-label="{said}">'
            )
        if address:
            head = f'<a class="title" href="{escape(address)}">{said}</a>'
        else:
            head = f'<span class="title">{said}</span>'
        cells = zip(self.starts, self.cells, strict=False)
        rest = "".join([f"{start}{cell.__html__()}</td>" for start, cell in cells])
        if acts and self.key:
            links = [
                f'<a href="{address.replace("*", self.key)}">{label}</a>'
                for address, label in acts
            ]
            rest += f'<td class="row-acts">{" ".join(links)}</td>'
        start = "<tr>"
        if branch is not None:
            level = min(branch.level, DEEPEST)
            start = f'<tr class="level-{level}" data-level="{branch.level}">'
            head = branch.opener(self.key, said) + head
        return Markup(f"{start}<td>{box}{head}</td>{rest}</tr>\n")


@dataclass(frozen=True, slots=True)
class Page:
    """One page of a list. `begin` and `end` are the places before and behind it, empty
    where nothing is."""

    lines: list[Line]
    begin: str = ""
    end: str = ""

    def body(
        self,
        form: str = "",
        acts: Sequence[tuple[str, str]] = (),
        branch: Branch | None = None,
    ) -> Markup:
        """Return the rows as HTML, as `Line.row` does."""
        return Markup("".join([line.row(form, acts, branch) for line in self.lines]))
