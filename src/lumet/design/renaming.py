"""Following a renamed table or column through a person's decisions: the one case in
which lines that are not the machine's change, since a person has confirmed it."""

import re
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from fnmatch import fnmatchcase
from functools import partial

from lumet.design.decision_schema import AMOUNTS
from lumet.design.rewriting import Edited
from lumet.design.toml_statements import Path, Statement, format_key, format_value, scan
from lumet.expressions.renaming import Names, rename_in_sql
from lumet.facts.model import Database

_STRING = re.compile(
    r"""(?P<open>\"{3}|'{3})(?P<long>.*?)(?P=open)"""
    r"""|"(?P<basic>(?:[^"\\]|\\.)*)"|'(?P<literal>[^']*)'""",
    re.DOTALL,
)
_OF_COLUMNS = frozenset({("list", "columns"), ("list", "wide_columns"), ("list", "order"), ("list", "parent"), ("list", "filters"), ("list", "search"), ("list", "calendar"), ("list", "board"), ("list", "map"),
                         ("record", "columns"), ("add", "columns"), ("edit", "columns"), ("key",),
                         ("subtitle",), ("soft_delete",)})  # fmt: skip
Change = Callable[[str], str]


class FileKind(Enum):
    """The kinds of files that name tables and columns."""

    TABLE, PATTERNS, ACCESS, SETTINGS, CARDS = range(5)


@dataclass(frozen=True, slots=True)
class Renamed:
    """A column of `table` that was called `old` and is called `new` now; a table of
    that old name, where `table` is the new one."""

    table: str
    old: str
    new: str

    @property
    def is_table(self) -> bool:
        """Tell whether the table itself was renamed."""
        return self.table == self.new

    def __str__(self) -> str:
        before = self.old if self.is_table else f"{self.table}.{self.old}"
        return f"{before} → {self.new}"


def follow(
    text: str,
    renamed: Renamed,
    database: Database,
    owner: str = "",
    kind: FileKind = FileKind.TABLE,
) -> tuple[str, list[Edited]]:
    """Return the text of a file, the decision file of the table `owner` among them, with
    the new name, and each line of a person's that changed, as it is now. `database` is
    as it is now."""
    follower = _Follower(renamed, database, owner, kind)
    if kind is FileKind.CARDS:
        follower.tables = _tables_of_cards(text)
    statements = scan(text)
    written: list[str] = []
    changed: list[Edited] = []
    for place, statement in enumerate(statements):
        is_own = not statement.machine or _holds_own(statements, place)
        new = follower.statement(statement) if is_own else statement.text
        if new != statement.text:
            line = new.strip().split("\n")[0]
            changed.append(Edited(statement.line, line))
        written.append(new)
    return "".join(written), changed


def _holds_own(statements: list[Statement], place: int) -> bool:
    """Tell whether a heading of the machine's has a person's key below it."""
    if statements[place].kind != "heading":
        return False
    for statement in statements[place + 1 :]:
        if statement.kind == "heading":
            return False
        if statement.kind == "pair" and not statement.machine:
            return True
    return False


class _Follower:
    """Follows one renaming through the statements of one file."""

    def __init__(
        self, renamed: Renamed, database: Database, owner: str, kind: FileKind
    ) -> None:
        self.renamed, self.database = renamed, database
        self.owner, self.kind = owner, kind
        self.tables: dict[str, str] = {}  # of cards, by their names
        self.is_its_own = owner == renamed.table and kind is FileKind.TABLE
        old, new, table = renamed.old, renamed.new, renamed.table
        self.names = Names(table, old, new, renamed.is_table, database)

    def statement(self, statement: Statement) -> str:
        """Return the text of a statement with the new name."""
        text, path = statement.text, statement.path
        if not path:
            return text
        new_path = self._path(path)
        if statement.kind == "heading":
            if new_path == path:
                return text
            start, end = text.index("["), text.rindex("]")
            return f"{text[: start + 1]}{format_key(new_path)}{text[end:]}"
        key, _, value = text.partition("=")
        inner = len(statement.section)
        if new_path[inner:] != path[inner:]:
            blank = key[: len(key) - len(key.lstrip())]
            tail = key[len(key.rstrip()) :]
            key = blank + format_key(new_path[inner:]) + tail
        return f"{key}={self._value(value, path)}"

    def _path(self, path: Path) -> Path:
        """Return the path of a key with the new name in it."""
        if self.kind is FileKind.ACCESS:
            if path[0] != "role" or len(path) < 4:
                return path
            change = self._column_of_table if path[2] == "fields" else self._table
            return (*path[:3], change(path[3]), *path[4:])
        if self.kind is FileKind.CARDS:
            return path
        if self.kind is FileKind.PATTERNS:
            if path[0] == "field" and len(path) > 1:
                return ("field", self._column_of_table(path[1]), *path[2:])
            return path
        if path[0] == "field" and self.is_its_own and len(path) > 1:
            return ("field", self._column(path[1]), *path[2:])
        if path[0] == "transitions" and self.is_its_own and len(path) > 1:
            return ("transitions", self._column(path[1]), *path[2:])
        if path[0] in ("details", "references") and len(path) > 1:
            return (path[0], self._table(path[1]), *path[2:])
        return path

    def _table(self, name: str) -> str:
        is_meant = self.renamed.is_table and name == self.renamed.old
        return self.renamed.new if is_meant else name

    def _column(self, name: str) -> str:
        is_meant = not self.renamed.is_table and name == self.renamed.old
        return self.renamed.new if is_meant else name

    def _column_of_table(self, name: str) -> str:
        """Return TABLE.COLUMN with the new name."""
        old, new, table = self.renamed.old, self.renamed.new, self.renamed.table
        if self.renamed.is_table:
            rest = name.removeprefix(f"{old}.")
            return f"{new}.{rest}" if rest != name else name
        return f"{table}.{new}" if name == f"{table}.{old}" else name

    def _value(self, value: str, path: Path) -> str:
        if self.kind is FileKind.SETTINGS:
            if path not in (("tables",), ("skip",), ("private",)):
                return value
            change = self._column_of_table if path == ("private",) else self._table
            return _in_strings(value, change)
        if self.kind is FileKind.ACCESS:
            return self._access_value(value, path)
        if self.kind is FileKind.CARDS:
            return self._card_value(value, path)
        if path[0] == "field" and path[-1] == "references":
            return _in_strings(value, self._column_of_table)
        if self.kind is FileKind.PATTERNS:
            return value
        if path[0] in ("details", "references") and not self.renamed.is_table:
            return self._of_relation(value, path)
        if path[0] == "transitions":
            over = partial(self._sql, over=self.owner)
            changed = _PART_WHERE.sub(lambda found: over(found[0]), value)
            return _in_part(changed, "fields", self._shown)
        return self._table_value(value, path)

    def _access_value(self, value: str, path: Path) -> str:
        """Change a condition: of the table that its pattern names, of none where the
        pattern is for several tables of which others keep the name."""
        if len(path) < 4 or path[2] not in ("rows", "changes"):
            return value
        fitting = [name for name in self.database.by_name if fnmatchcase(name, path[3])]
        over = self._table(path[3])
        if over not in self.database.by_name:
            over = fitting[0] if len(fitting) == 1 else ""
        return self._sql(value, over) if over else value

    def _card_value(self, value: str, path: Path) -> str:
        """Change the table of a card, or the columns of a card over the table."""
        if path[0] != "cards" or len(path) < 2:
            return value
        if self.renamed.is_table:
            return self._card_part(value, path, "table", self._table)
        if self.tables.get(path[1]) != self.renamed.table:
            return value
        for key in ("by", *AMOUNTS):
            value = self._card_part(value, path, key, self._column)
        return self._card_part(value, path, "filter", self._filter)

    def _card_part(self, value: str, path: Path, key: str, change: Change) -> str:
        """Change one key of a card, which is written in one line or has a section."""
        if path[-1] == key and len(path) == 3:
            return _in_strings(value, change)
        return _in_part(value, key, change) if len(path) == 2 else value

    def _filter(self, text: str) -> str:
        """Return the query of a list with the new name of a column."""
        old, new = self.renamed.old, self.renamed.new
        return re.sub(rf"(^|&){re.escape(old)}(?=\.\w+=)", rf"\g<1>{new}", text)

    def _of_relation(self, value: str, path: Path) -> str:
        """Change the columns of a relation: those of the other table in a block of
        related records, those of both in a reference over several columns."""
        is_other = path[1:2] == (self.renamed.table,)
        if path[0] == "details":
            if not is_other:
                return value
            return _in_part(_in_part(value, "by", self._column), "position", self._column)  # fmt: skip
        if self.is_its_own:
            value = _in_part(value, "by", self._column)
        return _in_part(value, "to", self._column) if is_other else value

    def _table_value(self, value: str, path: Path) -> str:
        if path == ("where",):
            return self._sql(value, self.owner)
        if path[0] == "field" and path[-1] in ("formula", "rule"):
            return self._sql(value, self.owner)
        if path == ("list", "expand"):
            return _in_strings(value, self._table)
        if path[:2] == ("list", "column_widths"):
            return _KEY_OF_PAIR.sub(lambda found: self._named(found[0]), value)
        if path[0] == "field" and path[-1] in ("where", "lookup_columns"):
            referred = self._referred(path[1])
            if path[-1] == "where":
                return self._sql(value, referred) if referred else value
            is_other = referred == self.renamed.table
            return _in_strings(value, self._column) if is_other else value
        if path[0] == "field" and path[-1] == "type_tables":
            return _OF_VALUE.sub(
                lambda found: _in_strings(found[0], self._table), value
            )
        is_of_columns = path[-1] in ("depends_on", "type_column")
        if path in _OF_COLUMNS or path[0] == "sections" or is_of_columns:
            return _in_strings(value, self._shown)
        is_with_columns = path == ("title",) or path[0] == "actions"
        if is_with_columns and self.is_its_own and not self.renamed.is_table:
            old, new = f"{{{self.renamed.old}}}", f"{{{self.renamed.new}}}"
            return _in_strings(value, lambda text: text.replace(old, new))
        return value

    def _named(self, key: str) -> str:
        """Return the key of a pair in an inline table with the new name of a column."""
        name = tomllib.loads(f"key = {key}")["key"] if key[0] in "\"'" else key
        new = self._shown(name)
        return format_key((new,)) if new != name else key

    def _shown(self, name: str) -> str:
        """Return a column of a list with the new name: "-" before it for the largest
        first; LOOKUP.COLUMN for one of the record that a lookup refers to."""
        mark = "-" if name.startswith("-") else ""
        lookup, dot, column = name.removeprefix("-").partition(".")
        if dot and self._referred(lookup) == self.renamed.table:
            column = self._column(column)
        if self.is_its_own:
            lookup = self._column(lookup)
        return f"{mark}{lookup}{dot}{column}"

    def _referred(self, lookup: str) -> str:
        """Return the table that a lookup refers to, "" for none."""
        table = self.database.by_name.get(self.owner)
        name = self._column(lookup) if self.is_its_own else lookup
        reference = table.reference_of(name) if table is not None else None
        return reference.referred_table if reference is not None else ""

    def _sql(self, value: str, over: str) -> str:
        return _in_strings(value, partial(rename_in_sql, names=self.names, over=over))


def _tables_of_cards(text: str) -> dict[str, str]:
    """Return the tables of a person's cards, by their names."""
    try:
        cards = tomllib.loads(text).get("cards", {})
    except tomllib.TOMLDecodeError:
        return {}
    found = cards.items() if isinstance(cards, dict) else ()
    return {n: str(c.get("table", "")) for n, c in found if isinstance(c, dict)}


_OF_VALUE = re.compile(r"=\s*(?:\"[^\"]*\"|'[^']*')")  # in an inline table
_KEY_OF_PAIR = re.compile(r"(?:[\w-]+|\"[^\"]*\"|'[^']*')(?=\s*=)")
_PART_WHERE = re.compile(r"\bwhere\s*=\s*(?:\"[^\"]*\"|'[^']*')")


def _in_part(value: str, name: str, change: Change) -> str:
    """Change the strings behind one key of an inline table."""
    part = re.compile(rf"\b{name}\s*=\s*(?:\[[^\]]*\]|\"[^\"]*\"|'[^']*')")
    return part.sub(lambda found: _in_strings(found[0], change), value)


def _in_strings(value: str, change: Change) -> str:
    """Change the strings in a TOML value; what does not change keeps its spelling, and
    one of several lines its lines."""

    def one(found: re.Match[str]) -> str:
        long = found["long"]
        text = long if long is not None else found["basic"] or found["literal"] or ""
        new = change(text)
        if new == text:
            return found[0]
        if long is not None and found["open"] not in new:
            return f"{found['open']}{new}{found['open']}"
        return format_value(new)

    return _STRING.sub(one, value)
