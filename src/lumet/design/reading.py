"""Reading decision files, checking them against the facts, and yours over inferred."""

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Any

from lumet.design.actions import read_action
from lumet.design.decision_file import Checker, DecisionFile, nearest
from lumet.design.decision_schema import (
    EMPTY,
    Entry,
    FieldDecisions,
    ListDecisions,
    PageDecisions,
    Refer,
    TableDecisions,
    keys_of,
)
from lumet.design.details import DetailReader, details_of, listed
from lumet.design.toml_statements import Path
from lumet.design.transitions import read_transitions
from lumet.design.value_types import COLUMNS, TITLE_PART, Scope, ValueType
from lumet.facts.model import Column, Database, Table

TABLE_PATTERN, TYPE_PATTERN, COMMENT_PATTERN = "table:", "type:", "comment:"
_ROOT = keys_of(TableDecisions)
_LIST = keys_of(ListDecisions)
_PAGE = keys_of(PageDecisions)
_FIELD = keys_of(FieldDecisions)
_PAGES = ("record", "add", "edit")
_KEYS = {"list": _LIST, **dict.fromkeys(_PAGES, _PAGE)}  # of sections
_SECTIONS = ("list", *_PAGES, "sections", "details", "references", "messages",
             "transitions", "actions", "field")  # fmt: skip
# what can be decided for many tables at once; of lists where a table has the columns
_FOR_MANY = ("include", "group", "pages", "title", "subtitle", "list", "details")
_LISTS_FOR_MANY = ("columns", "order")
_DETAILS = "details"
GLOSSARY = "glossary"
_PATTERN_SECTIONS = ("field", "table", GLOSSARY)
_WORD = re.compile(r"[^\W_]+")  # of a name, which separators and capitals split
_FORMULA = ("formula", "label", "kind", "help", "choices", "colours", "unit")


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
        if key not in _PATTERN_SECTIONS or not isinstance(value, dict):
            checker.known((key,), key, _PATTERN_SECTIONS, "There is no section")
            continue
        if key == GLOSSARY:
            continue  # it decides no key: labels are inferred by it
        if key == "table":
            for pattern, decisions in value.items():
                patterns[TABLE_PATTERN + pattern] = _read_table_pattern(
                    checker, pattern, decisions
                )
            continue
        for pattern, decisions in value.items():
            found: dict[Path, Any] = {}
            reader = _TableReader(checker, None, None)
            if isinstance(decisions, dict) and "formula" in decisions:
                problem = (
                    "A formula is no pattern: write it in a table's own file, under a"
                    " name of its own."
                )
                checker.wrong(("field", pattern, "formula"), problem)
            elif isinstance(decisions, dict):
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
        what = "A table's pattern has no key"
        if not checker.known((*path, key), key, _FOR_MANY, what):
            continue
        if key in ("list", _DETAILS):
            _read_nested(reader, (*path, key), item, found)
        else:
            reader.leaf((*path, key), item, _ROOT[key].takes, found)
    return {".".join(each[2:]): item for each, item in found.items()}


def _read_nested(
    reader: "_TableReader", path: Path, value: Any, found: dict[Path, Any]
) -> None:
    """Read the lists of a table's pattern, or the blocks of related records that it
    hides."""
    checker = reader.checker
    if not isinstance(value, dict):
        checker.wrong(path, f"{path[-1]} is a section of the pattern: write its keys.")
        return
    for key, item in value.items():
        if path[-1] == _DETAILS:
            if item is False:
                found[*path, key] = ()
            else:
                checker.wrong((*path, key), "By pattern, related records can be hidden: false.")  # fmt: skip
        elif checker.known(
            (*path, key), key, _LISTS_FOR_MANY, "[list] has here no key"
        ):
            reader.leaf((*path, key), item, _LIST[key].takes, found)


class _TableReader(Scope):
    """Reads the sections of one table's file."""

    def section(self, name: str, value: dict[str, Any], into: dict[Path, Any]) -> None:
        """Check the keys of one section."""
        keys = _KEYS.get(name)
        for key, item in value.items():
            path = (name, key)
            if keys is not None:
                if self.checker.known(path, key, keys, f"[{name}] has no key"):
                    self.leaf(path, item, keys[key].takes, into)
            elif name == "sections":
                if (columns := COLUMNS.read(self, path, item)) is not None:
                    into[path] = columns
            elif name == "details":
                self.detail(path, item, into)
            elif name == "references":
                self.refer(path, item, into)
            elif name == "messages":
                self.message(path, item, into)
            elif name == "transitions":
                if (found := read_transitions(self, path, item)) is not None:
                    into[path] = found
            elif name == "actions":
                if (action := read_action(self, path, item)) is not None:
                    into[path] = action
            else:
                self.one_field(path, item, into)
        if name in _PAGES:
            self.needed(name, into)

    def one_field(self, path: Path, item: Any, into: dict[Path, Any]) -> None:
        """Check the keys of one column, or of a field that is none."""
        if item == {}:
            return  # a heading alone, perhaps the machine's, decides nothing
        if isinstance(item, dict) and "formula" in item:
            self.formula(path, path[-1], item, into)
        elif self.column(path, path[-1]):
            if isinstance(item, dict):
                self.field(path, item, into)
            else:
                self.checker.wrong(path, f"Write [field.{path[-1]}] instead.")

    def needed(self, name: str, decided: Mapping[Path, Any]) -> None:
        """Report a form for new records that leaves out a column that needs a value."""
        chosen = decided.get((name, "columns"))
        if name != "add" or not chosen or self.table is None:
            return
        for column in self.table.columns:
            if not (column.nullable or column.is_filled or column.name in chosen):
                problem = f"{column.name} needs a value, and is not on the form."
                self.checker.wrong((name, "columns"), problem)

    def field(self, path: Path, value: dict[str, Any], into: dict[Path, Any]) -> None:
        for key, item in value.items():
            if self.checker.known((*path, key), key, _FIELD, "A field has no key"):
                self.leaf((*path, key), item, _FIELD[key].takes, into)

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
        self.field(path, known, into)

    def leaf(
        self, path: Path, value: Any, takes: ValueType, into: dict[Path, Any]
    ) -> None:
        """Check one value. False empties what was inferred, but for a yes/no."""
        if value is False and takes.can_be_emptied:
            into[path] = EMPTY[path[-1]]
            return
        result = takes.read(self, path, value)
        if result is not None:
            into[path] = result

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

    def message(self, path: Path, value: Any, into: dict[Path, Any]) -> None:
        """Check the message of one constraint."""
        assert self.table is not None
        names = self.table.constraint_names
        what = f"table {self.table.name} has no check or unique constraint"
        known = self.checker.known(path, path[1], names, what)
        if known and self.checker.text(path, value):
            into[path] = value

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


def _by_column(path: Path) -> bool:
    key = _FIELD.get(path[-1]) if path[0] == "field" else None
    return key is not None and key.takes.by_column


def check_patterns(
    checker: Checker,
    patterns: Mapping[str, Mapping[str, Any]],
    database: Database,
    may_idle: bool = False,
) -> None:
    """Report each decision by pattern that does not fit a column which its pattern
    fits, at the first such column; and each pattern that fits nothing, unless it
    `may_idle`, as one that projects share."""
    if not may_idle:
        _report_idle(checker, patterns, database)
    told: set[tuple[str, str]] = set()
    for table in database.tables:
        for path, pattern, value in fitting_patterns(table, patterns):
            place = (pattern, path[-1])
            is_empty = value in ("", EMPTY.get(path[-1]))
            if not _by_column(path) or place in told or is_empty:
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


def glossary_of(values: Mapping[str, Any]) -> dict[str, str]:
    """Return the glossary of a file of patterns, as far as it can be used: what words
    of names stand for, the words in lower case."""
    found = values.get(GLOSSARY)
    return {
        word.casefold(): " ".join(meant.split())
        for word, meant in (found if isinstance(found, dict) else {}).items()
        if _WORD.fullmatch(word) and isinstance(meant, str)
    }


def check_glossary(
    checker: Checker, words: Collection[str], may_idle: bool = False
) -> None:
    """Report the entries of a glossary that cannot be used, and each that is none of the
    `words` of names, unless it `may_idle`, as in a file that projects share."""
    found = checker.values.get(GLOSSARY)
    if not isinstance(found, dict):
        return
    for word, meant in found.items():
        path = (GLOSSARY, word)
        if not isinstance(meant, str):
            checker.wrong(path, f'{word} takes a text, as in {word} = "…"; "" leaves it out.')  # fmt: skip
        elif not _WORD.fullmatch(word):
            problem = f'"{word}" is not one word of a name: explain each by itself.'
            checker.wrong(path, problem)
        elif not may_idle and word.casefold() not in words:
            near = nearest(word, sorted(words))
            problem = f"No name of a table or a column has the word {word}. {near}"
            checker.wrong(path, problem)


def _report_idle(
    checker: Checker, patterns: Mapping[str, Any], database: Database
) -> None:
    """Report the patterns that fit no table and no column: a name may be misspelt."""
    columns = [f"{t.name}.{c.name}" for t in database.tables for c in t.columns]
    for pattern in patterns:
        is_table = pattern.startswith(TABLE_PATTERN)
        name = pattern.removeprefix(TABLE_PATTERN)
        if is_table:
            is_idle = not any(fnmatchcase(t.name, name) for t in database.tables)
        else:
            is_idle = not any(
                _fits(t, c, pattern) for t in database.tables for c in t.columns
            )
        if is_idle:
            known = [*database.by_name] if is_table else columns
            if pattern.startswith(TYPE_PATTERN):
                types = dict.fromkeys(
                    c.type.native.casefold() for t in database.tables for c in t.columns
                )
                known = [TYPE_PATTERN + each for each in types if each]
            near = "" if pattern.startswith(COMMENT_PATTERN) else nearest(name, known)
            path = ("table" if is_table else "field", name)
            what = "table" if is_table else "column"
            checker.wrong(path, f"This pattern fits no {what}. {near}".rstrip())


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
    # a number that stands for none is a text, as it is when it was read
    values: dict[Path, Any] = {
        entry.path: str(entry.value) if entry.path[-1] == "none" else entry.value
        for entry in inferred
    }
    for path, _, value in fitting_patterns(table, patterns):
        if path[0] == _DETAILS:
            hidden = (p for p in values if p[0] == _DETAILS and fnmatchcase(p[1], path[1]))  # fmt: skip
            values.update(dict.fromkeys(tuple(hidden), ()))
        else:
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
                    path = tuple(key.split(".", 1))
                    found = _of_table(table, path, value)
                    if found is not None:
                        yield path, pattern, found
            continue
        for column in table.columns:
            if _fits(table, column, pattern):
                for key, value in decisions.items():
                    yield ("field", column.name, key), pattern, value


def _of_table(table: Table, path: Path, value: Any) -> Any:
    """Return a value by pattern as it holds for a table: the columns that it has, None
    where a title names others or no column is left."""
    if path == ("title",):
        parts = TITLE_PART.findall(value)
        return value if all(map(table.has_column, parts)) else None
    if path[0] in ("list", "subtitle"):
        return tuple(n for n in value if table.has_column(n.removeprefix("-"))) or None
    return value


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
        messages=under("messages"),
        transitions=under("transitions"),
        actions=under("actions"),
        field=fields,
    )


def _tuples(values: Mapping[str, Any]) -> dict[str, Any]:
    return {k: tuple(v) if isinstance(v, list) else v for k, v in values.items()}
