"""What a person would say of schemas that nobody here wrote: read from their text, before
the rules were looked at on them. Fourteen are for tuning the rules, most of which proved
them first; four are for proving what came after.

A file is a text. A table begins at the margin: its name, its label in quotation marks
where that is not plain, "|", its titles (columns joined by "+", alternatives by commas,
"-" for the key alone), and after another "|" what it is: junction, events, reference
data or technical. Below it stand the columns of which there is more to say than their
type does: the kinds that a person would take, "stamp" for what the database's programs
note themselves, "-> table.column" for a reference that is not declared, a label in
quotation marks. "*" stands for a column of every table that has it.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

FOLDER = Path(__file__).parent
PROVING = ("address-books", "chat-server", "name-server", "network-access")
_LABEL = re.compile(r'"([^"]+)"')


@dataclass
class MirrorColumn:
    """A column: its kinds, () for that of its type, what it refers to undeclared, its
    label, and whether it is a stamp."""

    kinds: tuple[str, ...] = ()
    refers: tuple[str, str] | None = None
    label: str = ""
    is_stamp: bool = False


@dataclass
class MirrorTable:
    """A table: its titles, its label, and what it is."""

    name: str
    titles: list[tuple[str, ...]]
    label: str = ""
    role: str = ""
    columns: dict[str, MirrorColumn] = field(default_factory=dict)


@dataclass
class Mirror:
    """A schema: its tables, and the columns of any."""

    name: str
    tables: dict[str, MirrorTable] = field(default_factory=dict)
    anywhere: dict[str, MirrorColumn] = field(default_factory=dict)

    @property
    def is_proving(self) -> bool:
        """Whether the rules are not tuned on it."""
        return self.name in PROVING

    def column(self, table: str, name: str) -> MirrorColumn | None:
        """Return what is said of a column, None where its type says it all. Names are
        compared without case."""
        return self.tables[table].columns.get(name.casefold()) or self.anywhere.get(
            name.casefold()
        )


def read_mirror(path: Path) -> Mirror:
    """Read one file; see the module's text."""
    mirror = Mirror(path.stem)
    table: MirrorTable | None = None
    for line in path.read_text().splitlines():
        if not line.strip() or line.startswith("#"):
            continue
        line, spelled = line.casefold(), line
        label = found[1] if (found := _LABEL.search(spelled)) else ""
        plain = _LABEL.sub("", line)
        if line.startswith(" "):
            assert table is not None
            name, column = _column(plain.strip(), label)
            table.columns[name] = column
        elif line.startswith("* "):
            name, column = _column(plain.removeprefix("* "), label)
            mirror.anywhere[name] = column
        else:
            name, titles, *rest = (part.strip() for part in plain.split("|"))
            listed = [tuple(t.strip().split("+")) for t in titles.split(",")]
            table = MirrorTable(name, listed, label, rest[0] if rest else "")
            mirror.tables[name] = table
    return mirror


def mirrors(names: Sequence[str], proving: bool) -> list[Mirror]:
    """Return the mirrors by name, all of one half by default."""
    found = [read_mirror(path) for path in sorted(FOLDER.glob("*.txt"))]
    if names:
        return [each for each in found if each.name in names]
    return [each for each in found if each.is_proving == proving]


def _column(words: str, label: str) -> tuple[str, MirrorColumn]:
    name, _, rest = words.strip().partition(" ")
    plain, _, end = rest.partition("->")
    refers: tuple[str, str] | None = None
    if end.strip():
        table, _, column = end.strip().rpartition(".")
        refers = (table, column.split(" ")[0])
    is_stamp = plain.strip().endswith(" stamp")
    kinds = tuple(k.strip() for k in plain.strip().removesuffix(" stamp").split(",") if k.strip())  # fmt: skip
    return name, MirrorColumn(kinds, refers, label, is_stamp)
