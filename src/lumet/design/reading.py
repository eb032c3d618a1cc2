"""Reading decision files, checking them against the facts, and yours over inferred."""

import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any
from zoneinfo import available_timezones

from lumet.design.decision_schema import (
    AUTOMATIC_VALUES,
    COLOURS,
    EMPTY,
    FIELD_KINDS,
    GENERATED,
    KIND_WORDS,
    LAYOUTS,
    LIST_EDITS,
    PAGE_KINDS,
    TITLE_PART,
    TOTALS,
    UNINDEXED,
    WIDTHS,
    Entry,
    FieldDecisions,
    ListDecisions,
    PageDecisions,
    Refer,
    TableDecisions,
    keys_of,
)
from lumet.design.dependent_lookups import columns_followed, lookup_reference
from lumet.design.details import DetailReader, details_of, listed
from lumet.design.toml_statements import (
    BYTE_ORDER_MARK,
    Path,
    Statement,
    scan,
    without_doubled,
)
from lumet.errors import Mistake
from lumet.evidence.storage_format_detection import SPELLINGS
from lumet.expressions.conditions import check_expression
from lumet.facts.dialects import server_of
from lumet.facts.model import Column, Database, Table

TABLE_PATTERN, TYPE_PATTERN, COMMENT_PATTERN = "table:", "type:", "comment:"
_ROOT = keys_of(TableDecisions)
_LIST = keys_of(ListDecisions)
_PAGE = keys_of(PageDecisions)
_FIELD = keys_of(FieldDecisions)
_PAGES = ("record", "add", "edit")
_SECTIONS = ("list", *_PAGES, "sections", "details", "references", "field")
_FOR_MANY = ("include", "group", "pages")  # what can be decided for many tables at once
_FORMULA = ("formula", "label", "kind", "help", "choices", "colours", "unit")


@dataclass(frozen=True)
class DecisionFile:
    """One file that a person edits: its name in the project, and its text."""

    name: str
    text: str

    @cached_property
    def scanned(self) -> list[Statement]:
        """All its statements."""
        return scan(self.text.removeprefix(BYTE_ORDER_MARK))

    def values(self, mistakes: list[Mistake]) -> dict[str, Any]:
        """Return the plain values; a broken file is one mistake and no values."""
        try:
            return tomllib.loads(self._without_doubled())
        except tomllib.TOMLDecodeError as error:
            mistakes.append(self._syntax_mistake(str(error)))
            return {}

    def _without_doubled(self) -> str:
        """Return the text without superfluous headings, each line where it was."""
        kept = {id(statement) for statement in without_doubled(self.scanned)}
        return "".join(
            each.text if id(each) in kept else "\n" * each.text.count("\n")
            for each in self.scanned
        )

    def _syntax_mistake(self, said: str) -> Mistake:
        found = re.search(r"at line (\d+)", said)
        line = int(found[1]) if found else self.text.rstrip("\n").count("\n") + 1
        lines = self.text.split("\n")
        quoted = lines[line - 1].strip() if line <= len(lines) else ""
        problem = re.sub(r"\s*\(at .*\)$", "", said)
        if "declare" in problem and "twice" in problem:
            problem += '; remove the heading that ends in "#~"'
        problem = f"This is not TOML: {problem}."
        return Mistake(self.name, line, quoted, problem, is_broken=True)

    def statements(self) -> list[Statement]:
        """Return the person's own statements that carry a key."""
        return [each for each in self.scanned if each.path and not each.machine]


NOTHING: Mapping[str, str] = {}


class Checker:
    """Check one file's values, collecting every mistake with its line."""

    def __init__(self, file: DecisionFile, mistakes: list[Mistake]) -> None:
        self.file = file
        self.mistakes = mistakes
        self.values = file.values(mistakes)
        self._statements = file.statements()

    def wrong(self, path: Path, problem: str) -> None:
        """Report a mistake at the statement that holds `path`."""
        above = [e for e in self._statements if e.path == path[: len(e.path)]]
        below = [e for e in self._statements if e.path[: len(path)] == path]
        nearest_above = max(above, key=lambda e: len(e.path), default=None)
        best = nearest_above if nearest_above else next(iter(below), None)
        line = best.line if best else 1
        quoted = best.text.strip().split("\n")[0] if best else ".".join(path)
        self.mistakes.append(Mistake(self.file.name, line, quoted, problem))

    def known(
        self,
        path: Path,
        name: str,
        names: Iterable[str],
        what: str,
        others: Mapping[str, str] = NOTHING,
    ) -> bool:
        """Report unless `name` is one of `names`; the nearest one is offered, also that
        of which `others` have another word."""
        choices = list(names)
        if name in choices:
            return True
        self.wrong(path, f'{what} "{name}". {nearest(name, choices, others)}')
        return False

    def text(self, path: Path, value: Any) -> bool:
        """Report unless `value` is a text that is not empty."""
        if isinstance(value, str) and value.strip():
            return True
        self.wrong(path, f'{path[-1]} takes a text, as in {path[-1]} = "…".')
        return False

    def texts(self, path: Path, value: Any) -> tuple[str, ...] | None:
        """Return a list of texts; report anything else and return None."""
        if isinstance(value, list) and all(isinstance(item, str) for item in value):
            return tuple(value)
        self.wrong(path, f'{path[-1]} takes a list of texts, as in ["…", "…"].')
        return None


def nearest(
    name: str, names: Iterable[str], others: Mapping[str, str] = NOTHING
) -> str:
    """Say which of `names` comes closest to `name`, or name the first few; `others` are
    words that people have for some of them."""
    choices = list(names)
    by_folded = {**others, **{each.casefold(): each for each in choices}}
    close = get_close_matches(name.casefold(), by_folded, n=1, cutoff=0.5)
    if close:
        return f"Nearest: {by_folded[close[0]]}."
    listed = ", ".join(choices[:8])
    return f"There are: {listed}." if listed else "There is none."


def read_table_file(
    checker: Checker, table: Table, database: Database
) -> dict[Path, Any]:
    """Return a person's decisions about `table` by path, those that hold."""
    values: dict[Path, Any] = {}
    reader = _TableReader(checker, table, database)
    for key, value in checker.values.items():
        if key in _ROOT:
            reader.leaf((key,), value, _ROOT[key].takes, values)
        elif key in _SECTIONS and isinstance(value, dict):
            reader.section(key, value, values)
        elif key in _SECTIONS:
            checker.wrong((key,), f"{key} is a section: write [{key}] above its keys.")
        else:
            checker.known((key,), key, (*_ROOT, *_SECTIONS), "There is no key")
    return values


def sections_in_order(file: DecisionFile) -> tuple[str, ...]:
    """Return the names of the sections in the order of the file, the inferred ones
    included."""
    found = [
        each.path[1]
        for each in file.scanned
        if len(each.path) == 2 and each.path[0] == "sections"
    ]
    return tuple(dict.fromkeys(found))


def read_patterns(checker: Checker) -> dict[str, dict[str, Any]]:
    """Return the decisions by pattern: "table.column", "type:…" and "comment:…"
    patterns to field decisions, "table:…" patterns to decisions about whole tables."""
    patterns: dict[str, dict[str, Any]] = {}
    for key, value in checker.values.items():
        if key not in ("field", "table") or not isinstance(value, dict):
            checker.known((key,), key, ("field", "table"), "There is no section")
            continue
        if key == "table":
            for pattern, decisions in value.items():
                patterns[TABLE_PATTERN + pattern] = _read_table_pattern(
                    checker, pattern, decisions
                )
            continue
        for pattern, decisions in value.items():
            found: dict[Path, Any] = {}
            reader = _TableReader(checker, None, None)
            if isinstance(decisions, dict):
                reader.field(("field", pattern), decisions, found)
            else:
                example = f'["field"."{pattern}"]'
                checker.wrong(("field", pattern), f"Write {example} above its keys.")
            patterns[pattern] = {path[-1]: item for path, item in found.items()}
    return patterns


def _read_table_pattern(checker: Checker, pattern: str, value: Any) -> dict[str, Any]:
    """Return the decisions for tables by pattern: those without a column."""
    found: dict[Path, Any] = {}
    reader = _TableReader(checker, None, None)
    path = ("table", pattern)
    if not isinstance(value, dict):
        checker.wrong(path, f'Write ["table"."{pattern}"] above its keys.')
        return {}
    for key, item in value.items():
        if checker.known((*path, key), key, _FOR_MANY, "A table's pattern has no key"):
            reader.leaf((*path, key), item, _ROOT[key].takes, found)
    return {each[-1]: item for each, item in found.items()}


class _TableReader:
    """Reads the sections of one table's file; without a table, names go unchecked."""

    def __init__(
        self, checker: Checker, table: Table | None, database: Database | None
    ) -> None:
        self.checker = checker
        self.table = table
        self.database = database
        self.columns = [column.name for column in table.columns] if table else []
        self.formulas: list[str] = []

    def section(self, name: str, value: dict[str, Any], into: dict[Path, Any]) -> None:
        if name == "list":
            for key, item in value.items():
                if self.checker.known((name, key), key, _LIST, "[list] has no key"):
                    takes = "shown" if key.endswith("columns") else _LIST[key].takes
                    self.leaf((name, key), item, takes, into)
        elif name in _PAGES:
            for key, item in value.items():
                if self.checker.known((name, key), key, _PAGE, f"[{name}] has no key"):
                    self.leaf((name, key), item, _PAGE[key].takes, into)
            self.needed(name, into)
        elif name == "sections":
            for key, item in value.items():
                columns = self._read_columns((name, key), item)
                if columns is not None:
                    into[name, key] = columns
        elif name == "details":
            for key, item in value.items():
                self.detail((name, key), item, into)
        elif name == "references":
            for key, item in value.items():
                self.refer((name, key), item, into)
        else:
            for key, item in value.items():
                if item == {}:
                    continue  # a heading alone, perhaps the machine's, decides nothing
                if isinstance(item, dict) and "formula" in item:
                    self.formula((name, key), key, item, into)
                elif self.column((name, key), key):
                    if isinstance(item, dict):
                        self.field((name, key), item, into)
                    else:
                        self.checker.wrong((name, key), f"Write [field.{key}] instead.")

    def needed(self, name: str, decided: Mapping[Path, Any]) -> None:
        """Report a form for new records that leaves out a column that needs a value."""
        chosen = decided.get((name, "columns"))
        if name != "add" or not chosen or self.table is None:
            return
        for column in self.table.columns:
            fills_itself = column.automatic or column.default or column.generated
            if not (column.nullable or fills_itself or column.name in chosen):
                problem = f"{column.name} needs a value, and is not on the form."
                self.checker.wrong((name, "columns"), problem)

    def field(self, path: Path, value: dict[str, Any], into: dict[Path, Any]) -> None:
        for key, item in value.items():
            if self.checker.known((*path, key), key, _FIELD, "A field has no key"):
                takes = "choosable" if key == "where" else _FIELD[key].takes
                self.leaf((*path, key), item, takes, into)

    def formula(
        self, path: Path, name: str, value: dict[str, Any], into: dict[Path, Any]
    ) -> None:
        """Check a field that is no column: a name of its own, a value, how it is
        shown."""
        if name in self.columns:
            problem = f"{name} is a column: give the formula another name."
            self.checker.wrong((*path, "formula"), problem)
            return
        if not (name.isascii() and name.isidentifier()) or name.startswith("_"):
            problem = (
                f'"{name}" is not a name for a formula: use letters, digits and _.'
            )
            self.checker.wrong((*path, "formula"), problem)
            return
        for key in set(value) - set(_FORMULA):
            what = "A field that is no column has no key"
            self.checker.known((*path, key), key, _FORMULA, what)
        known = {key: item for key, item in value.items() if key in _FORMULA}
        self.formulas.append(name)
        self.field(path, known, into)

    def column(self, path: Path, name: str) -> bool:
        if self.table is None:
            return True
        what = f"table {self.table.name} has no column"
        return self.checker.known(path, name, self.columns, what)

    def leaf(self, path: Path, value: Any, takes: str, into: dict[Path, Any]) -> None:
        """Check one value; `takes` is its kind in the vocabulary. False empties what
        was inferred, but for a yes/no."""
        if value is False and takes != "yes/no":
            into[path] = EMPTY[path[-1]]
            return
        read = getattr(self, "_read_" + takes.replace("/", "_"))
        result = read(path, value)
        if result is not None:
            into[path] = result

    def _read_text(self, path: Path, value: Any) -> str | None:
        return value if self.checker.text(path, value) else None

    def _read_yes_no(self, path: Path, value: Any) -> bool | None:
        if isinstance(value, bool):
            is_optional = path[-1] == "required" and not value
            return value if not is_optional or self._takes_empty(path) else None
        self.checker.wrong(path, f"{path[-1]} takes true or false.")
        return None

    def _takes_empty(self, path: Path) -> bool:
        """Report a column that cannot stay empty: only a text can, without NULL."""
        if path[0] != "field" or self.table is None or path[1] not in self.columns:
            return True
        column = self.table.column(path[1])
        fills_itself = column.automatic or column.generated or column.default
        if column.nullable or fills_itself or column.type.kind == "text":
            return True
        self.checker.wrong(path, f"{path[1]} takes no NULL: a value is required.")
        return False

    def _read_kind(self, path: Path, value: Any) -> str | None:
        known = self.checker.known(
            path, str(value), FIELD_KINDS, "There is no kind", KIND_WORDS
        )
        if not known:
            return None
        table = self.table
        if value == "lookup" and table and lookup_reference(table, path[1]) is None:
            self.checker.wrong(path, f"{table.name}.{path[1]} refers to no table.")
            return None
        return str(value)

    def _read_storage_format(self, path: Path, value: Any) -> str | None:
        """Check a spelling: one of those known, or two words for yes and no."""
        if not self.checker.text(path, value):
            return None
        yes, separator, no = str(value).partition("/")
        if separator and yes != no and yes.isalnum() and 0 < len(no) < 10:
            return str(value)
        known = self.checker.known(path, value, SPELLINGS, "There is no storage format")
        return str(value) if known else None

    def _read_total(self, path: Path, value: Any) -> str | None:
        known = self.checker.known(path, str(value), TOTALS, "There is no total")
        if not known:
            return None
        if self.table is not None and value in ("sum", "avg"):
            kind = self.table.column(path[1]).type.kind
            if kind not in ("integer", "decimal", "float"):
                self.checker.wrong(
                    path, f"{path[1]} is not a number: there is no {value}."
                )
                return None
        return str(value)

    def _read_title(self, path: Path, value: Any) -> str | None:
        if not self.checker.text(path, value):
            return None
        parts = TITLE_PART.findall(value)
        if not parts:
            self.checker.wrong(path, "A title names columns in braces: {name}.")
            return None
        good = [self.column(path, part) for part in parts]
        return str(value) if all(good) else None

    def _read_reference(self, path: Path, value: Any) -> str | None:
        """Check "table.column", one of the surveyed tables and its columns."""
        if not self.checker.text(path, value):
            return None
        if self.database is None:
            return str(value)
        ends = [
            f"{table.name}.{column.name}"
            for table in self.database.tables
            for column in table.columns
        ]
        if not self.checker.known(path, value, ends, "There is no column"):
            return None
        if self.table is not None and path[1] in self.columns:
            ours = self.table.column(path[1])
            theirs = next(
                column
                for table in self.database.tables
                for column in table.columns
                if f"{table.name}.{column.name}" == value
            )
            server = server_of(self.database.dialect)
            if not server.compares(ours.type, theirs.type):
                self.checker.wrong(
                    path,
                    f"{path[1]} is {_spelled(ours)} and {value} {_spelled(theirs)}: they cannot be compared.",
                )
                return None
        return str(value)

    def _read_columns(self, path: Path, value: Any) -> tuple[str, ...] | None:
        columns = self.checker.texts(path, value)
        good = [self.column(path, column) for column in columns or ()]
        return columns if all(good) else None

    def _read_shown(self, path: Path, value: Any) -> tuple[str, ...] | None:
        """Check the columns of a list: own ones, formulas, and borrowed ones."""
        columns = self.checker.texts(path, value)
        good = [self._shown(path, column) for column in columns or ()]
        return columns if all(good) else None

    def _shown(self, path: Path, name: str) -> bool:
        if self.table is None or name in self.columns:
            return True
        fields = self.checker.values.get("field")
        given = fields.get(name) if isinstance(fields, dict) else None
        if isinstance(given, dict) and "formula" in given:
            return True
        lookup, dot, column = name.partition(".")
        if dot and lookup in self.columns:
            return self._borrowed(path, lookup, column)
        return self.column(path, name)

    def _borrowed(self, path: Path, lookup: str, column: str) -> bool:
        assert self.table is not None and self.database is not None
        reference = self.table.reference_of(lookup)
        if reference is None:
            problem = f"{self.table.name}.{lookup} refers to no table."
            self.checker.wrong(path, problem)
            return False
        referred = self.database.table(reference.referred_table)
        names = [each.name for each in referred.columns]
        what = f"table {referred.name} has no column"
        return self.checker.known(path, column, names, what)

    def _read_borrowed(self, path: Path, value: Any) -> tuple[str, ...] | None:
        columns = self.checker.texts(path, value)
        if self.table is None:
            return columns
        good = [self._borrowed(path, path[1], column) for column in columns or ()]
        return columns if all(good) else None

    def _read_value(self, path: Path, value: Any) -> str | None:
        return self._read_expression(path, value, is_condition=False)

    def _read_layouts(self, path: Path, value: Any) -> tuple[str, ...] | None:
        words = self.checker.texts(path, value)
        what = "There is no layout"
        good = [self.checker.known(path, word, LAYOUTS, what) for word in words or ()]
        return words if all(good) and words else None

    def _read_edit(self, path: Path, value: Any) -> str | None:
        known = self.checker.known(path, str(value), LIST_EDITS, "edit takes no")
        return str(value) if known else None

    def _read_unindexed(self, path: Path, value: Any) -> str | None:
        known = self.checker.known(path, str(value), UNINDEXED, "unindexed takes no")
        return str(value) if known else None

    def _read_width(self, path: Path, value: Any) -> str | None:
        known = self.checker.known(path, str(value), WIDTHS, "width takes no")
        return str(value) if known else None

    def _read_automatic(self, path: Path, value: Any) -> str | None:
        known = self.checker.known(
            path, str(value), AUTOMATIC_VALUES, "automatic takes no"
        )
        if not known or self.table is None:
            return str(value) if known else None
        kind = self.table.column(path[1]).type.kind
        wanted = ("date", "datetime", "text") if value.endswith(" at") else ("text",)
        if kind not in wanted:
            self.checker.wrong(path, f"{path[1]} is of another type than {value}.")
            return None
        return str(value)

    def _read_parent(self, path: Path, value: Any) -> str | None:
        """Check a column by which records refer to others of their table; "" for
        none."""
        if value == "" or self.table is None:
            return str(value)
        own = [
            each.columns[-1]
            for each in self.table.references
            if each.referred_table == self.table.name
        ]
        what = f"{self.table.name} does not refer to itself by"
        return str(value) if self.checker.known(path, str(value), own, what) else None

    def _read_mark(self, path: Path, value: Any) -> str | None:
        """Check a column that can mark what is deleted; "" for none."""
        if value == "" or self.table is None:
            return str(value)
        if not self.column(path, str(value)):
            return None
        column = self.table.column(str(value))
        kind = column.type.kind
        is_moment = kind in ("date", "datetime")
        if is_moment and not column.nullable:
            self.checker.wrong(path, f"{value} cannot be empty: it marks every record.")
            return None
        if not is_moment and kind not in ("boolean", "integer", "text"):
            self.checker.wrong(path, f"{value} is neither a date nor a yes/no column.")
            return None
        return str(value)

    def _read_time_zone(self, path: Path, value: Any) -> str | None:
        zones = sorted(available_timezones())
        known = self.checker.known(path, str(value), zones, "There is no time zone")
        return str(value) if known else None

    def _read_folder(self, path: Path, value: Any) -> str | None:
        """Check a folder among the uploads: relative, and not above them."""
        if not self.checker.text(path, value):
            return None
        if re.fullmatch(r"[\w-][\w.-]*(/[\w-][\w.-]*)*", str(value)):
            return str(value)
        problem = "folder takes a path within the uploads: letters, digits, - and /."
        self.checker.wrong(path, problem)
        return None

    def _read_depends_on(self, path: Path, value: Any) -> tuple[str, ...] | None:
        """Check columns that a lookup can follow; an empty list lets it follow none."""
        columns = self.checker.texts(path, value)
        if columns is None or self.table is None or self.database is None:
            return columns
        possible = columns_followed(self.table, path[1], self.database)
        what = f"{self.table.name}.{path[1]} cannot follow"
        good = [self.checker.known(path, each, possible, what) for each in columns]
        return columns if all(good) else None

    def _read_choosable(self, path: Path, value: Any) -> str | None:
        """Check a condition over the table that a lookup refers to."""
        if self.table is None or self.database is None:
            return self._read_text(path, value)
        reference = lookup_reference(self.table, path[1])
        if reference is None:
            problem = f"{self.table.name}.{path[1]} refers to no table."
            self.checker.wrong(path, problem)
            return None
        referred = self.database.table(reference.referred_table)
        return self._read_expression(path, value, is_condition=True, table=referred)

    def _read_generated(self, path: Path, value: Any) -> str | None:
        known = self.checker.known(path, str(value), GENERATED, "generated takes no")
        if not known or self.table is None:
            return str(value) if known else None
        kind = self.table.column(path[1]).type.kind
        if (kind == "integer") != (value == "max + 1") or kind not in (
            "integer",
            "uuid",
            "text",
        ):
            self.checker.wrong(path, f"{path[1]} is of another type than {value}.")
            return None
        return str(value)

    def _read_order(self, path: Path, value: Any) -> tuple[str, ...] | None:
        columns = self.checker.texts(path, value)
        good = [self.column(path, word.removeprefix("-")) for word in columns or ()]
        return columns if all(good) else None

    def _read_condition(self, path: Path, value: Any) -> str | None:
        return self._read_expression(path, value, is_condition=True)

    def _read_expression(
        self,
        path: Path,
        value: Any,
        is_condition: bool,
        table: Table | None = None,
    ) -> str | None:
        if not self.checker.text(path, value):
            return None
        if self.table is None or self.database is None:
            return str(value)
        problems = check_expression(
            value, table or self.table, self.database, is_condition=is_condition
        )
        for problem in problems:
            self.checker.wrong(path, problem)
        return None if problems else str(value)

    def _read_pages(self, path: Path, value: Any) -> tuple[str, ...] | None:
        words = self.checker.texts(path, value)
        what = "There is no kind of page"
        good = [
            self.checker.known(path, word, PAGE_KINDS, what) for word in words or ()
        ]
        return words if all(good) else None

    def _read_choices(self, path: Path, value: Any) -> dict[str, str] | None:
        if isinstance(value, list):
            return {
                each: each for each in self.checker.texts(path, value) or ()
            } or None
        if isinstance(value, dict) and all(isinstance(v, str) for v in value.values()):
            return dict(value)
        self.checker.wrong(path, 'choices takes { value = "Label", … } or a list.')
        return None

    def _read_colours(self, path: Path, value: Any) -> dict[str, str] | None:
        if not isinstance(value, dict):
            self.checker.wrong(path, 'colours takes { value = "green", … }.')
            return None
        good = [
            self.checker.known(path, str(tone), COLOURS, "There is no colour")
            for tone in value.values()
        ]
        return dict(value) if all(good) else None

    def detail(self, path: Path, value: Any, into: dict[Path, Any]) -> None:
        """Check one detail: false, a table with `by`, or a list of such."""
        assert self.table is not None and self.database is not None
        reader = DetailReader(self.checker, self.table, self.database)
        details = reader.read(path, value)
        if details is not None:
            into[path] = details

    def refer(self, path: Path, value: Any, into: dict[Path, Any]) -> None:
        """Check the references to one table: false, `by` and `to`, or a list of
        such."""
        assert self.database is not None
        if value is False:
            into[path] = ()
            return
        tables = [table.name for table in self.database.tables]
        if self.checker.known(path, path[1], tables, "There is no table"):
            items = value if isinstance(value, list) else [value]
            found = [self._one_refer(path, item) for item in items]
            if None not in found:
                into[path] = tuple(found)

    def _one_refer(self, path: Path, item: Any) -> Refer | None:
        assert self.table is not None and self.database is not None
        referred = self.database.table(path[1])
        given = item if isinstance(item, dict) else {}
        by, to = (listed(given.get(key)) for key in ("by", "to"))
        if not by or not set(given) <= {"by", "to"}:
            example = '{ by = ["station", "no"], to = ["station", "no"] }'
            self.checker.wrong(path, f"A reference is written {example}.")
            return None
        to = to or referred.primary_key
        good = [self.column(path, column) for column in by]
        names = [column.name for column in referred.columns]
        what = f"table {referred.name} has no column"
        good += [self.checker.known(path, column, names, what) for column in to]
        if not all(good):
            return None
        if len(by) != len(to):
            self.checker.wrong(path, "by and to need the same number of columns.")
            return None
        return Refer(table=referred.name, by=by, to=to)


def _spelled(column: Column) -> str:
    """Return a column's type as the database spells it."""
    return column.type.native or column.type.kind


_CHECKED_BY_PATTERN = (
    "automatic",
    "generated",
    "total",
    "kind",
    "depends_on",
    "required",
)


class _PatternChecker(Checker):
    """Reports what does not fit a column that a pattern fits, at the pattern's line."""

    def __init__(self, checker: Checker, pattern: str, place: str) -> None:
        self.file = checker.file
        self.mistakes = checker.mistakes
        self.values = checker.values
        self._statements = checker.file.statements()
        self._pattern, self._place = pattern, place

    def wrong(self, path: Path, problem: str) -> None:
        at = ("field", self._pattern, path[-1])
        super().wrong(at, f"For {self._place}: {problem}")


def check_patterns(
    checker: Checker,
    patterns: Mapping[str, Mapping[str, Any]],
    database: Database,
) -> None:
    """Report each decision by pattern that does not fit a column which its pattern
    fits, at the first such column."""
    told: set[tuple[str, str]] = set()
    for table in database.tables:
        for path, pattern, value in fitting_patterns(table, patterns):
            place = (pattern, path[-1])
            if path[-1] not in _CHECKED_BY_PATTERN or place in told or value == "":
                continue
            named = f"{table.name}.{path[1]}"
            own = _PatternChecker(checker, pattern, named)
            before = len(own.mistakes)
            _TableReader(own, table, database).leaf(
                path, list(value) if isinstance(value, tuple) else value,
                _FIELD[path[-1]].takes, {},
            )  # fmt: skip
            if len(own.mistakes) > before:
                told.add(place)


def decide(
    table: Table,
    inferred: Iterable[Entry],
    own: Mapping[Path, Any],
    patterns: Mapping[str, Mapping[str, Any]],
    sections: Sequence[str] = (),
) -> TableDecisions:
    """Put a person's decisions about `table` over the inferred ones: yours for the
    table, else yours by pattern (the later pattern wins), else inferred. `sections`:
    the order in which the file names them."""
    values: dict[Path, Any] = {entry.path: entry.value for entry in inferred}
    for path, _, value in fitting_patterns(table, patterns):
        values[path] = value
    _give_up_claimed(values, own)
    values.update(own)
    if any(path[0] == "sections" for path in own):
        for name in sections:
            if ("sections", name) in values:  # in the order of the file
                values["sections", name] = values.pop(("sections", name))
    if ("list", "columns") in own and ("list", "wide_columns") not in own:
        values.pop(
            ("list", "wide_columns"), None
        )  # whoever decides the columns means these
    return _assemble(table, values)


def fitting_patterns(
    table: Table, patterns: Mapping[str, Mapping[str, Any]]
) -> Iterator[tuple[Path, str, Any]]:
    """Yield the decisions by pattern about a table: the path, the pattern, the value;
    what comes later wins."""
    for pattern, decisions in patterns.items():
        if pattern.startswith(TABLE_PATTERN):
            if fnmatchcase(table.name, pattern.removeprefix(TABLE_PATTERN)):
                for key, value in decisions.items():
                    yield (key,), pattern, value
            continue
        for column in table.columns:
            if _fits(table, column, pattern):
                for key, value in decisions.items():
                    yield ("field", column.name, key), pattern, value


def _fits(table: Table, column: Column, pattern: str) -> bool:
    """Tell whether a pattern fits a column: by "table.column", by its type, as the
    database spells it or by kind, or by its comment."""
    if pattern.startswith(TYPE_PATTERN):
        wanted = pattern.removeprefix(TYPE_PATTERN).casefold()
        spelled = (column.type.native.casefold(), column.type.kind)
        return any(fnmatchcase(each, wanted) for each in spelled)
    if pattern.startswith(COMMENT_PATTERN):
        wanted = pattern.removeprefix(COMMENT_PATTERN).casefold()
        return fnmatchcase(column.comment.casefold(), wanted)
    return fnmatchcase(f"{table.name}.{column.name}", pattern)


def _give_up_claimed(values: dict[Path, Any], own: Mapping[Path, Any]) -> None:
    """Take the columns of a person's sections out of the inferred sections."""
    claimed = {
        column for path, item in own.items() if path[0] == "sections" for column in item
    }
    for path in [path for path in values if path[0] == "sections"]:
        values[path] = [column for column in values[path] if column not in claimed]


def _assemble(table: Table, values: Mapping[Path, Any]) -> TableDecisions:
    grouped: dict[Path, dict[str, Any]] = {}
    for path, value in values.items():
        grouped.setdefault(path[:-1], {})[path[-1]] = value

    def under(*prefix: str) -> dict[str, Any]:
        return grouped.get(prefix, {})

    fields = {
        name: FieldDecisions(**_tuples(under("field", name)))
        for name in dict.fromkeys(
            [
                *(column.name for column in table.columns),
                *(path[1] for path in values if path[:1] == ("field",)),
            ]
        )
    }

    def page(name: str) -> PageDecisions:
        return PageDecisions(**{key: tuple(each) for key, each in under(name).items()})

    lists = _tuples(under("list"))
    sections = {name: tuple(item) for name, item in under("sections").items()}
    details = {name: details_of(name, item) for name, item in under("details").items()}
    root = {key: value for key, value in under().items() if key in _ROOT}
    return TableDecisions(
        **root,
        list=ListDecisions(**lists),
        record=page("record"),
        add=page("add"),
        edit=page("edit"),
        sections={name: item for name, item in sections.items() if item},
        details={name: item for name, item in details.items() if item},
        field=fields,
    )


def _tuples(values: Mapping[str, Any]) -> dict[str, Any]:
    return {k: tuple(v) if isinstance(v, list) else v for k, v in values.items()}
