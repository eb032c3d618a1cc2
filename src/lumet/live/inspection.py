"""Inspection of pages under `lumet serve`: the decisions behind a table's pages, where
they stand and why, and changes of them, shown before they are written."""

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from difflib import unified_diff
from functools import cached_property
from pathlib import Path
from typing import Any

from lumet.design.access import nearest_pattern, read_access
from lumet.design.decision_file import Checker, DecisionFile
from lumet.design.decision_schema import (
    FieldDecisions,
    ListDecisions,
    PageDecisions,
    TableDecisions,
    keys_of,
)
from lumet.design.declared_keys import declarations
from lumet.design.reading import read_table_file
from lumet.design.rewriting import set_decision
from lumet.design.toml_statements import format_key, format_value
from lumet.design.value_types import COLUMNS, SHOWN_COLUMNS, TEXT, YES_NO
from lumet.errors import LumetError, Mistake, Mistakes
from lumet.generation.merge_writer import Change, apply
from lumet.generation.model import Application
from lumet.generation.names import FIELD_NAMES, python_names
from lumet.generation.tables import module_names
from lumet.project import project_files as files
from lumet.project.access_review import in_words
from lumet.project.decisions import inferred_anew, read_decisions, with_glossary
from lumet.project.generating import load
from lumet.project.queries import with_queries
from lumet.project.reviewing import INFERRED, Review, Reviewed, ReviewedTable, review
from lumet.project.surveyfile import Survey, read_survey, to_entries

UNDECIDED = "not decided"
OFFERED: dict[str, Any] = {"help": "", "hidden": False}
# how a value is changed in the page: else as TOML
_EDITORS = {TEXT: "text", YES_NO: "yes/no", COLUMNS: "columns", SHOWN_COLUMNS: "columns"}  # fmt: skip
_KEYS = {
    "": keys_of(TableDecisions),
    "list": keys_of(ListDecisions),
    "field": keys_of(FieldDecisions),
    **dict.fromkeys(("record", "add", "edit"), keys_of(PageDecisions)),
}
_APPLICATION = ("name", "menu")  # the settings that are seen on every page


@dataclass(frozen=True)
class Inspection:
    """The decisions of a project as they are now."""

    folder: Path

    @cached_property
    def _survey(self) -> Survey:
        survey = with_glossary(self.folder, read_survey(self.folder))
        return with_queries(self.folder, survey, [])

    @cached_property
    def _review(self) -> Review:
        return review(self.folder)

    @cached_property
    def _application(self) -> Application:
        return load(self.folder, read_survey(self.folder))

    @cached_property
    def _rules(self) -> Mapping[str, Mapping[tuple[str, ...], str]]:
        """The names of the rules by table and decision."""
        own = read_decisions(self.folder, self._survey, [])
        database = self._survey.database
        declared = declarations(own.declaring(database), database)
        return {
            table: {
                each.path: each.rule.replace("_", " ").removesuffix(" of")
                for each in entries
            }
            for table, entries in inferred_anew(self._survey, declared).items()
        }

    @cached_property
    def _tables(self) -> dict[str, ReviewedTable]:
        """The tables by the names of their modules."""
        modules = module_names(self._application)
        return {modules[t.name]: t for t in self._review.tables if t.name in modules}

    def table(self, module: str) -> dict[str, Any] | None:
        """Return the decisions about a table, by the name of its module: its own
        decisions, those of its columns with their keys in the code, and the rights of
        the roles; those of the whole application without a module. None where there is
        no such table."""
        if not module:
            return self._of_application()
        found = self._tables.get(module)
        if found is None:
            return None
        facts = self._application.database.table(found.name)
        decisions = self._application.decisions[found.name]
        keys = python_names([c.name for c in facts.columns], FIELD_NAMES)
        columns = [
            {
                "key": keys[column.name],
                "column": column.name,
                "label": decisions.field[column.name].label,
                "type": column.type.native,
                "decisions": self._of_column(found, column.name),
            }
            for column in facts.columns
        ]
        return {
            "table": found.name,
            "file": found.file,
            "columns": columns,
            "decisions": [
                self._told(found, each)
                for each in found.decisions
                if each.path[0] != "field"
            ],
            "rights": self._rights(found.name, decisions.group),
        }

    def _of_column(self, table: ReviewedTable, column: str) -> list[dict[str, Any]]:
        """Return the decisions about a column, those that nobody has made among them
        that are made most often."""
        found = table.of_column(column)
        known = {each.path[-1] for each in found}
        open_ = [
            Reviewed(("field", column, key), value, UNDECIDED)
            for key, value in OFFERED.items()
            if key not in known
        ]
        return [self._told(table, each) for each in (*found, *open_)]

    def _told(self, table: ReviewedTable, decision: Reviewed) -> dict[str, Any]:
        """Return a decision for the page, with who decided, and by which rule."""
        is_inferred = decision.source == INFERRED
        sure = f"{decision.confidence:.0%}" if decision.confidence < 1 else ""
        rule = self._rules.get(table.name, {}).get(decision.path, "")
        return {
            **_entry(table.file, decision.path, decision.value, decision.line),
            "by": " ".join(each for each in (decision.source, sure) if each),
            "why": decision.reason,
            "rule": rule if is_inferred else "",
        }

    def _rights(self, table: str, group: str) -> list[dict[str, Any]]:
        """Return the rights of each role on a table, and the line that decides them."""
        file = DecisionFile(files.ACCESS, self._text(files.ACCESS))
        lines = {
            each.path: each.line
            for each in sorted(file.scanned, key=lambda each: not each.machine)
            if each.path
        }
        words = in_words(self._application)
        found = []
        for role in self._application.access.roles:
            above = ("role", role.name, "tables")
            pattern = nearest_pattern(role.tables, table, group)
            line = lines.get((*above, pattern), 0)
            rights = list(role.rights_on(table, group))
            told = "; ".join(words[role.name].get(table, []))
            entry = _entry(files.ACCESS, (*above, table), rights, line)
            by = f'"{pattern}" of role {role.name}'
            found.append({**entry, "by": by, "why": told, "rule": ""})
        return found

    def _of_application(self) -> dict[str, Any]:
        """Return the settings that are seen on every page."""
        settings = files.read_settings(self.folder, self._inferred_settings, [])
        file = DecisionFile(files.SETTINGS, self._text(files.SETTINGS))
        lines = {each.path: each.line for each in file.scanned if each.path}
        decisions = [
            {
                **_entry(files.SETTINGS, (key,), value, lines.get((key,), 0)),
                "by": "yours" if (key,) in lines else UNDECIDED, "why": "", "rule": "",
            }
            for key in _APPLICATION
            for value in [getattr(settings, key)]
        ]  # fmt: skip
        return {
            "table": "application", "file": files.SETTINGS, "columns": [],
            "decisions": decisions, "rights": [],
        }  # fmt: skip

    @property
    def _inferred_settings(self) -> Any:
        return to_entries(self._survey.settings)

    def changed(
        self, module: str, path: Sequence[str], written: str
    ) -> tuple[str, str, str]:
        """Return the file of a decision, its text with another value, written as TOML,
        and the difference. Raises LumetError for a value that is none, or that does
        not hold."""
        table = self._tables.get(module)
        if not path or (module and table is None):
            raise LumetError("There is no such decision.")
        try:
            value = tomllib.loads(f"value = {written}")["value"]
        except (tomllib.TOMLDecodeError, KeyError) as error:
            raise LumetError(f"This is no value of TOML: {error}.") from error
        own = table.file if table is not None else files.SETTINGS
        name = files.ACCESS if path[0] == "role" else own
        before = self._text(name)
        after = set_decision(before, tuple(path), value)
        mistakes: list[Mistake] = []
        self._check(name, after, table, mistakes)
        if mistakes:
            raise Mistakes(tuple(mistakes))
        lines = unified_diff(
            before.splitlines(keepends=True), after.splitlines(keepends=True),
            f"a/{name}", f"b/{name}", n=1,
        )  # fmt: skip
        return name, after, "".join(lines)

    def _check(
        self, name: str, text: str, table: ReviewedTable | None, mistakes: list[Mistake]
    ) -> None:
        """Collect the mistakes in a changed file."""
        if name == files.SETTINGS:
            files.parse_settings(text, self._inferred_settings, mistakes)
            return
        checker = Checker(DecisionFile(name, text), mistakes)
        database = self._application.database
        if name == files.ACCESS:
            decided = self._application.decisions.items()
            read_access(checker, database, {n: each.group for n, each in decided})
        elif table is not None:
            read_table_file(checker, database.table(table.name), database)

    def write(self, module: str, path: Sequence[str], written: str) -> str:
        """Write another value into the file of a decision; return the difference."""
        file, text, diff = self.changed(module, path, written)
        with files.locked(self.folder):
            apply(self.folder, [Change(file, text.encode())])
        return diff

    def _text(self, path: str) -> str:
        return files.read_text(self.folder, path) or ""


def _entry(file: str, path: tuple[str, ...], value: Any, line: int) -> dict[str, Any]:
    """Return a decision for the page: the key, the value as TOML, where it stands, the
    lines to write instead, and how it is changed."""
    written = format_value(value) if value is not None else ""
    section, key = path[:-1], format_key(path[-1:])
    head = f"[{format_key(section)}]\n" if section else ""
    return {
        "path": list(path),
        "key": key,
        "value": written,
        "plain": value,
        "editor": _editor(path),
        "place": f"{file}:{line}" if line else file,
        "write": f"{head}{key} = {written}",
    }


def _editor(path: tuple[str, ...]) -> str:
    if path == ("name",) or path[0] == "sections":
        return "text" if path == ("name",) else "columns"
    key = _KEYS.get(path[0] if len(path) > 1 else "", {}).get(path[-1])
    return _EDITORS.get(key.takes, "toml") if key is not None else "toml"
