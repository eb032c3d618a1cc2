"""The types of decided values: each checks a value with its messages, and knows its
JSON Schema."""

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any
from zoneinfo import available_timezones

from lumet.design.decision_file import Checker
from lumet.design.dependent_lookups import columns_followed, lookup_reference
from lumet.design.icons import icon_names
from lumet.design.toml_statements import Path
from lumet.evidence.storage_format_detection import SPELLINGS
from lumet.expressions.conditions import check_expression
from lumet.facts.dialects import server_of
from lumet.facts.model import Column, Database, Table
from lumet.kinds import KIND_OF, SYNONYMS
from lumet.kit.contract import (
    AUTOMATIC_VALUES,
    GENERATED,
    MAX_WIDTH,
    MIN_WIDTH,
    NEXT_NUMBER,
    SCALES,
    TITLE_COLUMN,
    TOTALS,
)

TITLE_PART = re.compile(r"\{([^{}]+)\}")  # a column in a title
_TEXTS = {"type": "array", "items": {"type": "string"}}
_FOLDER = re.compile(r"[\w-][\w.-]*(/[\w-][\w.-]*)*")
_WHOLE = re.compile(r"-?[0-9]+")
_MAX_WORD = 10  # characters of a word for no


class Scope:
    """The table whose file is read, and where mistakes are reported; without a table,
    names go unchecked."""

    def __init__(
        self, checker: Checker, table: Table | None, database: Database | None
    ) -> None:
        self.checker = checker
        self.table = table
        self.database = database
        self.columns = [column.name for column in table.columns] if table else []

    def column(self, path: Path, name: str) -> bool:
        """Report unless the table has a column of this name."""
        if self.table is None:
            return True
        message = f"table {self.table.name} has no column"
        return self.checker.known(path, name, self.columns, message)

    def lookup_column(self, path: Path, lookup: str, column: str) -> bool:
        """Report unless the table that a lookup refers to has a column of this name."""
        assert self.table is not None and self.database is not None
        reference = self.table.reference_of(lookup)
        if reference is None:
            self.checker.wrong(path, f"{self.table.name}.{lookup} refers to no table.")
            return False
        referred = self.database.table(reference.referred_table)
        names = [each.name for each in referred.columns]
        message = f"table {referred.name} has no column"
        return self.checker.known(path, column, names, message)

    def shown_column(self, path: Path, name: str) -> bool:
        """Report unless a list can show `name`: a column, a formula, or a column of a
        record that a lookup refers to."""
        if self.table is None or name in self.columns:
            return True
        fields = self.checker.values.get("field")
        given = fields.get(name) if isinstance(fields, dict) else None
        if isinstance(given, dict) and "formula" in given:
            return True
        lookup, dot, column = name.partition(".")
        if dot and lookup in self.columns:
            return self.lookup_column(path, lookup, column)
        return self.column(path, name)

    def decided_column(self, path: Path) -> Column | None:
        """Return the column that a field's key is about, None where that is not
        known."""
        is_field = self.table is not None and path[0] == "field"
        if not is_field or path[1] not in self.columns:
            return None
        assert self.table is not None
        return self.table.column(path[1])


class ValueType:
    """A type of decided values: a text. `by_column`: whether it fits depends on the
    column; `can_be_emptied`: false empties what was inferred."""

    name = "text"
    schema: Mapping[str, Any] = {"type": "string", "minLength": 1}
    by_column = False
    can_be_emptied = True

    def read(self, scope: Scope, path: Path, value: Any) -> Any:
        """Return the value that holds, None for one that does not, which is
        reported."""
        return value if scope.checker.text(path, value) else None

    def code(self, value: Any) -> str:
        """Return the value as code."""
        return repr(value)


class _Text(ValueType):
    """A text that users read, which can be translated."""

    def code(self, value: Any) -> str:
        return f"_({value!r})"


class _YesNo(ValueType):
    name = "yes/no"
    schema = {"type": "boolean"}
    can_be_emptied = False

    def read(self, scope: Scope, path: Path, value: Any) -> bool | None:
        if isinstance(value, bool):
            return value
        scope.checker.wrong(path, f"{path[-1]} takes true or false.")
        return None


class _Number(ValueType):
    """A bound of a number."""

    name = "number"
    schema = {"type": "number"}
    by_column = True

    def read(self, scope: Scope, path: Path, value: Any) -> int | float | None:
        if isinstance(value, bool) or not isinstance(value, int | float):
            scope.checker.wrong(path, f"{path[-1]} takes a number.")
            return None
        column = scope.decided_column(path)
        if column is None or column.type.kind in ("integer", "decimal", "float"):
            return value
        scope.checker.wrong(path, f"{path[1]} is not a number.")
        return None


class _Regex(ValueType):
    """A regular expression that whole texts match."""

    name = "pattern"
    by_column = True

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if not scope.checker.text(path, value):
            return None
        try:
            re.compile(value)
        except re.error as error:
            scope.checker.wrong(path, f"This is no regular expression: {error}.")
            return None
        column = scope.decided_column(path)
        if column is None or column.type.kind == "text":
            return str(value)
        scope.checker.wrong(path, f"{path[1]} is not a text.")
        return None


class _Scalar(ValueType):
    """A text, a number, or yes or no, as the database writes it."""

    name = "default"
    schema = {"type": ["string", "number", "boolean"]}

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if isinstance(value, bool):
            return str(int(value))
        if isinstance(value, int | float) or scope.checker.text(path, value):
            return str(value)
        return None


class _Required(_YesNo):
    by_column = True

    def read(self, scope: Scope, path: Path, value: Any) -> bool | None:
        found = super().read(scope, path, value)
        column = scope.decided_column(path)
        if found is not False or column is None:
            return found
        if column.nullable or column.is_filled or column.type.kind == "text":
            return found
        scope.checker.wrong(path, f"{path[1]} takes no NULL: a value is required.")
        return None


class Words(ValueType):
    """One of a few words; `fits` may tell why a column cannot have one."""

    def __init__(
        self,
        name: str,
        words: Iterable[str],
        unknown: str,
        synonyms: Mapping[str, str] | None = None,
        fits: Callable[[Table, str, Column, str], str] | None = None,
    ) -> None:
        self.name = name
        self.words = tuple(words)
        self.schema = {"enum": list(self.words)}
        self.by_column = fits is not None
        self._unknown, self._synonyms, self._fits = unknown, synonyms or {}, fits

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        word = str(value)
        if not scope.checker.known(
            path, word, self.words, self._unknown, self._synonyms
        ):
            return None
        column = scope.decided_column(path)
        if self._fits is None or column is None or scope.table is None:
            return word
        if problem := self._fits(scope.table, path[1], column, word):
            scope.checker.wrong(path, problem)
            return None
        return word


class WordList(ValueType):
    """A list of words out of a few."""

    def __init__(
        self, name: str, words: Iterable[str], unknown: str, least: int = 0
    ) -> None:
        self.name = name
        self.words = tuple(words)
        self.schema = {"type": "array", "items": {"enum": list(self.words)}}
        if least:
            self.schema = {**self.schema, "minItems": least}
        self._unknown, self._least = unknown, least

    def read(self, scope: Scope, path: Path, value: Any) -> tuple[str, ...] | None:
        given = scope.checker.texts(path, value)
        known = scope.checker.known
        good = [known(path, each, self.words, self._unknown) for each in given or ()]
        return given if all(good) and (given or not self._least) else None


class _Columns(ValueType):
    name = "columns"
    schema = _TEXTS

    def read(self, scope: Scope, path: Path, value: Any) -> tuple[str, ...] | None:
        given = scope.checker.texts(path, value)
        good = [self.is_good(scope, path, each) for each in given or ()]
        return given if all(good) else None

    def is_good(self, scope: Scope, path: Path, name: str) -> bool:
        return scope.column(path, name)


class _Column(ValueType):
    name = "column"

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        is_good = scope.checker.text(path, value) and scope.column(path, value)
        return str(value) if is_good else None


class _Tables(ValueType):
    """Tables by words, those whose key is one column."""

    name = "tables"
    schema = {"type": "object", "additionalProperties": {"type": "string"}}

    def read(self, scope: Scope, path: Path, value: Any) -> dict[str, str] | None:
        if not isinstance(value, dict) or not all(isinstance(v, str) for v in value.values()):  # fmt: skip
            scope.checker.wrong(path, f'{path[-1]} takes {{ value = "table", … }}.')
            return None
        if scope.database is None:
            return dict(value)
        tables = scope.database.by_name
        for name in value.values():
            if not scope.checker.known(path, name, tables, "There is no table"):
                return None
            if len(tables[name].primary_key) != 1:
                scope.checker.wrong(path, f"The key of {name} is not one column.")
                return None
        return dict(value)


class _Names(ValueType):
    name = "names"
    schema = _TEXTS

    def read(self, scope: Scope, path: Path, value: Any) -> tuple[str, ...] | None:
        return scope.checker.texts(path, value)


class _ShownColumns(_Columns):
    def is_good(self, scope: Scope, path: Path, name: str) -> bool:
        return scope.shown_column(path, name)


class _ColumnWidths(ValueType):
    """Widths in pixels by the columns of a list, of its titles by TITLE_COLUMN."""

    name = "column widths"
    schema = {
        "type": "object",
        "additionalProperties": {"type": "integer", "minimum": MIN_WIDTH, "maximum": MAX_WIDTH},
    }  # fmt: skip

    def read(self, scope: Scope, path: Path, value: Any) -> dict[str, int] | None:
        if not isinstance(value, dict):
            scope.checker.wrong(path, "column_widths takes { column = pixels, … }.")
            return None
        for name, width in value.items():
            if isinstance(width, bool) or not isinstance(width, int) or not MIN_WIDTH <= width <= MAX_WIDTH:  # fmt: skip
                scope.checker.wrong(path, f"The width of {name} is a number of pixels, from {MIN_WIDTH} to {MAX_WIDTH}.")  # fmt: skip
                return None
        named = [each for each in value if each != TITLE_COLUMN]
        good = [scope.shown_column(path, each) for each in named]
        return dict(value) if all(good) else None


class _Order(_Columns):
    name = "order"

    def is_good(self, scope: Scope, path: Path, name: str) -> bool:
        return scope.column(path, name.removeprefix("-"))


class _LookupColumns(_Columns):
    name = "lookup columns"

    def is_good(self, scope: Scope, path: Path, name: str) -> bool:
        return scope.table is None or scope.lookup_column(path, path[1], name)


class _DependsOn(ValueType):
    name = "depends_on"
    schema = _TEXTS
    by_column = True

    def read(self, scope: Scope, path: Path, value: Any) -> tuple[str, ...] | None:
        given = scope.checker.texts(path, value)
        if given is None or scope.table is None or scope.database is None:
            return given
        possible = columns_followed(scope.table, path[1], scope.database)
        message = f"{scope.table.name}.{path[1]} cannot follow"
        good = [scope.checker.known(path, each, possible, message) for each in given]
        return given if all(good) else None


class _Title(ValueType):
    name = "title"
    schema = {"type": "string", "pattern": r"\{[^{}]+\}"}

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if not scope.checker.text(path, value):
            return None
        parts = TITLE_PART.findall(value)
        if not parts:
            scope.checker.wrong(path, "A title names columns in braces: {name}.")
            return None
        good = [scope.column(path, part) for part in parts]
        return str(value) if all(good) else None


class _Reference(ValueType):
    """ "table.column", one of the surveyed tables and its columns."""

    name = "reference"
    schema = {"anyOf": [{"type": "string"}, {"const": False}]}
    by_column = True

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if not scope.checker.text(path, value):
            return None
        if scope.database is None:
            return str(value)
        ends = {
            f"{table.name}.{column.name}": column
            for table in scope.database.tables
            for column in table.columns
        }
        if not scope.checker.known(path, value, ends, "There is no column"):
            return None
        ours, theirs = scope.decided_column(path), ends[value]
        server = server_of(scope.database.dialect)
        if ours is None or server.compares(ours.type, theirs.type):
            return str(value)
        scope.checker.wrong(
            path,
            f"{path[1]} is {_spelled(ours)} and {value} {_spelled(theirs)}: they cannot be compared.",
        )
        return None


def _spelled(column: Column) -> str:
    return column.type.native or column.type.kind


class _None(_Scalar):
    """The value that means none, of the column's type: in a reference, or in dates that
    the column spells."""

    name = "none"
    by_column = True

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        found = "" if value == "" else super().read(scope, path, value)
        column = scope.decided_column(path)
        if found is None or column is None or scope.table is None:
            return found
        fields = scope.checker.values.get("field")
        decided = fields.get(path[1], {}) if isinstance(fields, dict) else {}
        is_spelled = isinstance(decided, dict) and decided.get("storage_format") in SPELLINGS  # fmt: skip
        if lookup_reference(scope.table, path[1]) is None and not is_spelled:
            problem = f"{scope.table.name}.{path[1]} refers to no table, and holds no dates in a format of its own."  # fmt: skip
        elif column.type.kind in (
            "integer",
            "decimal",
            "float",
        ) and not _WHOLE.fullmatch(found):
            problem = f'{path[1]} is a number, and "{found}" is none.'
        elif path[1] in scope.table.primary_key:
            problem = f"{path[1]} belongs to the key, which is never none."
        else:
            return found
        scope.checker.wrong(path, problem)
        return None


class _Expression(ValueType):
    """An expression in SQL over the table, or over the one that a lookup refers to."""

    def __init__(
        self, name: str, is_condition: bool = True, of_referred: bool = False
    ) -> None:
        self.name = name
        self._is_condition, self._of_referred = is_condition, of_referred

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if not scope.checker.text(path, value):
            return None
        table = scope.table
        if table is None or scope.database is None:
            return str(value)
        if self._of_referred:
            reference = lookup_reference(table, path[1])
            if reference is None:
                problem = f"{table.name}.{path[1]} refers to no table."
                scope.checker.wrong(path, problem)
                return None
            table = scope.database.table(reference.referred_table)
        problems = check_expression(
            value, table, scope.database, is_condition=self._is_condition
        )
        for problem in problems:
            scope.checker.wrong(path, problem)
        return None if problems else str(value)


class _Icon(ValueType):
    name = "icon"
    schema = {"type": "string"}

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if not scope.checker.text(path, value):
            return None
        known = scope.checker.known(path, value, icon_names(), "There is no icon")
        return str(value) if known else None


class _StorageFormat(ValueType):
    """One of the formats of dates and numbers, or two words for yes and no."""

    name = "storage format"
    schema = {"anyOf": [{"enum": [*SPELLINGS, *SCALES]}, {"type": "string", "pattern": "^[^/]+/[^/]+$"}]}  # fmt: skip

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if not scope.checker.text(path, value):
            return None
        yes, separator, no = str(value).partition("/")
        if separator and yes != no and yes.isalnum() and 0 < len(no) < _MAX_WORD:
            return str(value)
        unknown = "There is no storage format"
        known = scope.checker.known(path, value, (*SPELLINGS, *SCALES), unknown)
        return str(value) if known else None


class _Parent(ValueType):
    """A column by which records refer to others of their table."""

    name = "parent"
    schema = {"type": "string"}

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        table = scope.table
        if value == "" or table is None:
            return str(value)
        own = [
            r.columns[-1] for r in table.references if r.referred_table == table.name
        ]
        unknown = f"{table.name} does not refer to itself by"
        return (
            str(value) if scope.checker.known(path, str(value), own, unknown) else None
        )


class _DeletionMark(ValueType):
    """A column that can mark deleted records."""

    name = "column"
    schema = {"type": "string"}

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if value == "" or scope.table is None:
            return str(value)
        if not scope.column(path, str(value)):
            return None
        column = scope.table.column(str(value))
        is_dated = column.type.kind in ("date", "datetime")
        if is_dated and not column.nullable:
            problem = f"{value} cannot be empty: it marks every record."
        elif not is_dated and column.type.kind not in ("boolean", "integer", "text"):
            problem = f"{value} is neither a date nor a yes/no column."
        else:
            return str(value)
        scope.checker.wrong(path, problem)
        return None


class _TimeZone(ValueType):
    name = "time zone"

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        zones = sorted(available_timezones())
        known = scope.checker.known(path, str(value), zones, "There is no time zone")
        return str(value) if known else None


class _Folder(ValueType):
    """A folder among the uploads: relative, and not above them."""

    name = "folder"
    schema = {"type": "string", "pattern": r"^[^/].*"}

    def read(self, scope: Scope, path: Path, value: Any) -> str | None:
        if not scope.checker.text(path, value):
            return None
        if _FOLDER.fullmatch(str(value)):
            return str(value)
        problem = "folder takes a path within the uploads: letters, digits, - and /."
        scope.checker.wrong(path, problem)
        return None


class _Choices(ValueType):
    name = "choices"
    schema = {
        "anyOf": [
            _TEXTS,
            {"type": "object", "additionalProperties": {"type": "string"}},
        ]
    }

    def read(self, scope: Scope, path: Path, value: Any) -> dict[str, str] | None:
        if isinstance(value, list):
            texts = scope.checker.texts(path, value) or ()
            return {each: each for each in texts} or None
        if isinstance(value, dict) and all(isinstance(v, str) for v in value.values()):
            return dict(value)
        scope.checker.wrong(path, 'choices takes { value = "Label", … } or a list.')
        return None


class _Colours(ValueType):
    def __init__(self, words: Iterable[str]) -> None:
        self.name = "colours"
        self._words = tuple(words)
        each = {"enum": list(self._words)}
        self.schema = {"type": "object", "additionalProperties": each}

    def read(self, scope: Scope, path: Path, value: Any) -> dict[str, str] | None:
        if not isinstance(value, dict):
            scope.checker.wrong(path, 'colours takes { value = "green", … }.')
            return None
        known = scope.checker.known
        good = [
            known(path, str(each), self._words, "There is no colour")
            for each in value.values()
        ]
        return dict(value) if all(good) else None


def _fits_kind(table: Table, name: str, column: Column, word: str) -> str:
    is_lookup = word != "lookup" or lookup_reference(table, name) is not None
    return "" if is_lookup else f"{table.name}.{name} refers to no table."


def _fits_total(table: Table, name: str, column: Column, word: str) -> str:
    is_number = column.type.kind in ("integer", "decimal", "float")
    is_fitting = is_number or word not in ("sum", "avg")
    return "" if is_fitting else f"{name} is not a number: there is no {word}."


def _fits_automatic(table: Table, name: str, column: Column, word: str) -> str:
    wanted = ("date", "datetime", "text") if word.endswith(" at") else ("text",)
    is_fitting = column.type.kind in wanted
    return "" if is_fitting else f"{name} is of another type than {word}."


def _fits_generated(table: Table, name: str, column: Column, word: str) -> str:
    kind = column.type.kind
    is_fitting = (
        kind == "integer" if word == NEXT_NUMBER else kind in ("uuid", "text", "binary")
    )
    return "" if is_fitting else f"{name} is of another type than {word}."


TEXT = _Text()
YES_NO = _YesNo()
NUMBER = _Number()
REGEX = _Regex()
SCALAR = _Scalar()
NONE = _None()
REQUIRED = _Required()
KIND = Words("kind", KIND_OF, "There is no kind", SYNONYMS, fits=_fits_kind)
TOTAL = Words("total", TOTALS, "There is no total", fits=_fits_total)
GENERATED_VALUE = Words(
    "generated", GENERATED, "generated takes no", fits=_fits_generated
)
AUTOMATIC = Words(
    "automatic", AUTOMATIC_VALUES, "automatic takes no", fits=_fits_automatic
)
NAMES = _Names()
COLUMN = _Column()
TABLES = _Tables()
COLUMNS = _Columns()
SHOWN_COLUMNS = _ShownColumns()
COLUMN_WIDTHS = _ColumnWidths()
LOOKUP_COLUMNS = _LookupColumns()
ORDER = _Order()
DEPENDS_ON = _DependsOn()
TITLE = _Title()
REFERENCE = _Reference()
CONDITION = _Expression("condition")
REFERRED_CONDITION = _Expression("condition", of_referred=True)
VALUE = _Expression("value", is_condition=False)
STORAGE_FORMAT = _StorageFormat()
ICON = _Icon()
PARENT = _Parent()
DELETION_MARK = _DeletionMark()
TIME_ZONE = _TimeZone()
FOLDER = _Folder()
CHOICES = _Choices()
Colours = _Colours
