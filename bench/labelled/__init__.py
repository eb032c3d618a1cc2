"""Made-up databases of different trades and naming styles, each with what a person who
knows it would say: what refers to what, what names a record, what kind a column is.

A database is a text. A table begins at the margin with its name, its number of rows and
its title (columns joined by "+", alternatives by "|"); "in PARENT" when its rows are
edited on the parent's page. Below it stand its columns: name, type, how values are made,
and the kind. "-> table.column" is a reference; "~5" leaves 5 % of its rows without a
partner; "?" leaves a fifth of them empty; "=" makes the values as said, for circles. A
line in parentheses is a reference over several columns. The databases are built without any
declaration.
"""

import random
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path

FOLDER = Path(__file__).parent
SYLLABLES = ("bar", "cor", "den", "fal", "gar", "hol", "kel", "lor", "mar", "nor", "pel", "ros",
             "sal", "tor", "var", "wen", "ash", "brim", "crow", "dun")  # fmt: skip
FIRST = ("Ada", "Bram", "Cleo", "Dov", "Edda", "Finn", "Gus", "Hild", "Ivo", "Jona", "Kit",
         "Lena", "Mats", "Nell", "Odo", "Pia", "Rolf", "Suna", "Tove", "Una")  # fmt: skip


@dataclass
class LabelledColumn:
    """A column: how it is declared and filled, and its kind as a person would say."""

    name: str
    type: str
    maker: str
    kind: str
    refers: tuple[str, str] | None = None
    orphans: int = 0
    is_sparse: bool = False
    is_made: bool = False


@dataclass
class LabelledTable:
    """A table with the titles that a person would take, and whose page its rows are
    edited on, if any."""

    name: str
    rows: int
    titles: list[tuple[str, ...]]
    parent: str = ""
    columns: list[LabelledColumn] = field(default_factory=list)
    composites: list[tuple[tuple[str, ...], str, tuple[str, ...]]] = field(
        default_factory=list
    )


def read_labelled(path: Path) -> list[LabelledTable]:
    """Read a labelled database; see the module's text."""
    tables: list[LabelledTable] = []
    for line in path.read_text().split("\n"):
        if not line.strip() or line.startswith("#"):
            continue
        if not line.startswith(" "):
            name, rows, title, *rest = line.split()
            titles = [tuple(each.split("+")) for each in title.split("|")]
            parent = rest[1] if rest[:1] == ["in"] else ""
            tables.append(LabelledTable(name, int(rows), titles, parent))
        elif line.split()[0] == "(":
            ours, theirs = line.strip(" ()").split(" -> ")
            table, _, columns = theirs.partition(".")
            end = tuple(columns.split("+"))
            tables[-1].composites.append((tuple(ours.split("+")), table, end))
        else:
            tables[-1].columns.append(_column(line))
    return tables


def _column(line: str) -> LabelledColumn:
    plain, _, end = line.partition(" -> ")
    words = plain.split()
    name, type_, maker = words[:3]
    kind = " ".join(words[3:]) or "lookup"
    found = LabelledColumn(name, type_, maker, "lookup" if end else kind)
    for word in end.split():
        if word.startswith("~"):
            found.orphans = int(word[1:])
        elif word == "=":
            found.is_made = True
        elif word == "?":
            found.is_sparse = True
        else:
            table, _, column = word.rpartition(".")
            found.refers = (table, column)
    return found


def build(tables: list[LabelledTable], path: Path) -> None:
    """Build the database, without keys or references, the same each time."""
    made: dict[tuple[str, str], list[object]] = {}
    connection = sqlite3.connect(path)
    waiting = list(tables)
    while waiting:
        for table in list(waiting):
            refers = {c.refers for c in table.columns if c.refers and not c.is_made} | {
                (t, c) for _, t, cs in table.composites for c in cs
            }
            if all(end in made or end[0] == table.name for end in refers):
                _fill(connection, table, made)
                waiting.remove(table)
    connection.commit()
    connection.close()


def _fill(
    connection: sqlite3.Connection,
    table: LabelledTable,
    made: dict[tuple[str, str], list[object]],
) -> None:
    chance = random.Random(table.name)
    values: dict[str, list[object]] = {}
    for ours, other, theirs in table.composites:
        rows = list(zip(*(made[other, name] for name in theirs), strict=True))
        picked = [chance.choice(rows) for _ in range(table.rows)]
        for place, name in enumerate(ours):
            values[name] = [row[place] for row in picked]
    for column in table.columns:
        if column.name not in values:
            values[column.name] = list(_values(table, column, chance, made, values))
        made[table.name, column.name] = values[column.name]
    listed = ", ".join(f'"{c.name}" {c.type}' for c in table.columns)
    connection.execute(f'CREATE TABLE "{table.name}" ({listed})')
    marks = ", ".join("?" * len(table.columns))
    rows = zip(*(values[c.name] for c in table.columns), strict=True)
    connection.executemany(f'INSERT INTO "{table.name}" VALUES ({marks})', rows)


def _values(
    table: LabelledTable,
    column: LabelledColumn,
    chance: random.Random,
    made: dict[tuple[str, str], list[object]],
    values: dict[str, list[object]],
) -> Iterator[object]:
    owners = []
    if column.refers and not column.is_made:
        is_self = column.refers[0] == table.name
        owners = values.get(column.refers[1], []) if is_self else made[column.refers]
    counts: dict[object, int] = {}
    parent = column.maker.removeprefix("lines:")
    for number in range(1, table.rows + 1):
        if column.refers and not column.is_made:
            yield _reference(column, owners, chance)
        elif column.maker.startswith("lines:"):
            owner = values[parent][number - 1]
            counts[owner] = counts.get(owner, 0) + 1
            yield counts[owner]
        else:
            yield _value(column.maker, number, chance)


def _reference(
    column: LabelledColumn, owners: list[object], chance: random.Random
) -> object:
    if column.is_sparse and chance.random() < 0.2:
        return None
    if chance.random() * 100 < column.orphans:
        return "X-99" if isinstance(owners[0], str) else 987_654 + chance.randint(1, 50)
    return chance.choice(owners)


def _name(chance: random.Random, parts: int = 3) -> str:
    return "".join(chance.choice(SYLLABLES) for _ in range(parts)).capitalize()


def _value(maker: str, number: int, chance: random.Random) -> object:
    what, _, rest = maker.partition(":")
    day = date(2018, 1, 1) + timedelta(days=chance.randint(0, 3000))
    if what == "int":
        low, high = rest.split("..")
        return chance.randint(int(low), int(high))
    if what in ("pick", "sparse"):
        found = chance.choice(rest.split(","))
        return None if what == "sparse" and chance.random() < 0.5 else found
    if what == "code":
        return f"{rest}{number:03d}"
    simple = {
        "seq": lambda: number,
        "name": lambda: f"{_name(chance)} {_name(chance, 2)} {number}",
        "label": lambda: f"{_name(chance)} {_name(chance, 2)}",
        "first": lambda: chance.choice(FIRST),
        "last": lambda: _name(chance),
        "email": lambda: f"{_name(chance).lower()}{number}@example.org",
        "phone": lambda: f"+47 {chance.randint(200, 999)} {chance.randint(10000, 99999)}",
        "url": lambda: f"https://{_name(chance).lower()}.example.org",
        "image": lambda: f"pictures/{_name(chance).lower()}{number}.jpg",
        "file": lambda: f"papers/{_name(chance).lower()}{number}.pdf",
        "hex": lambda: f"#{chance.randint(0, 0xFFFFFF):06x}",
        "flag": lambda: chance.randint(0, 1),
        "yn": lambda: chance.choice("YN"),
        "money": lambda: round(chance.uniform(5, 900), 2),
        "num": lambda: round(chance.uniform(1, 400), 1),
        "pct": lambda: chance.randint(0, 100),
        "lat": lambda: round(chance.uniform(54, 62), 5),
        "lon": lambda: round(chance.uniform(-9, 12), 5),
        "year": lambda: chance.randint(1900, 2025),
        "date": day.isoformat,
        "dmy": lambda: day.strftime("%d.%m.%Y"),
        "ymd": lambda: int(day.strftime("%Y%m%d")),
        "moment": lambda: f"{day.isoformat()} {chance.randint(0, 23):02d}:{chance.randint(0, 59):02d}:00",
        "time": lambda: f"{chance.randint(0, 23):02d}:{chance.randint(0, 59):02d}",
        "text": lambda: " ".join(_name(chance, 2).lower() for _ in range(chance.randint(12, 30))),
        "json": lambda: f'{{"a": {number}}}',
    }  # fmt: skip
    return simple[what]()
