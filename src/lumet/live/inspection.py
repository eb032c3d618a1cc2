"""Inspection of pages under `lumet serve`: the decisions behind a table's pages, where
they stand and why, and changes of them, shown before they are written."""

import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from difflib import unified_diff
from functools import cached_property
from pathlib import Path
from typing import Any

from lumet.design.decision_file import Checker, DecisionFile
from lumet.design.reading import read_table_file
from lumet.design.rewriting import set_decision
from lumet.design.toml_statements import format_key, format_value
from lumet.errors import LumetError, Mistake, Mistakes
from lumet.generation.merge_writer import Change, apply
from lumet.generation.model import Application
from lumet.generation.names import FIELD_NAMES, python_names
from lumet.generation.tables import module_names
from lumet.project import project_files as files
from lumet.project.access_review import in_words
from lumet.project.generating import load
from lumet.project.reviewing import INFERRED, Review, Reviewed, ReviewedTable, review
from lumet.project.surveyfile import read_survey

UNDECIDED = "not decided"
OFFERED: dict[str, Any] = {"help": "", "hidden": False}


@dataclass(frozen=True)
class Inspection:
    """The decisions of a project as they are now."""

    folder: Path

    @cached_property
    def _review(self) -> Review:
        return review(self.folder)

    @cached_property
    def _application(self) -> Application:
        return load(self.folder, read_survey(self.folder))

    @cached_property
    def _tables(self) -> dict[str, ReviewedTable]:
        """The tables by the names of their modules."""
        modules = module_names(self._application)
        return {modules[t.name]: t for t in self._review.tables if t.name in modules}

    def table(self, module: str) -> dict[str, Any] | None:
        """Return the decisions about a table, by the name of its module: its own
        decisions, those of its columns with their keys in the code, and the rights of
        the roles; None where there is none."""
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
                "decisions": _of_column(found, column.name),
            }
            for column in facts.columns
        ]
        return {
            "table": found.name,
            "file": found.file,
            "columns": columns,
            "decisions": [
                _told(d, found.file) for d in found.decisions if d.path[0] != "field"
            ],
            "rights": {
                role.label: in_words(self._application)[role.name].get(found.name, [])
                for role in self._application.access.roles
            },
        }

    def changed(
        self, module: str, path: Sequence[str], written: str
    ) -> tuple[str, str, str]:
        """Return the decision file of a table, its text with another value, written as
        TOML, and the difference. Raises LumetError for a value that is none, or that
        does not hold."""
        found = self._tables.get(module)
        if found is None or not path:
            raise LumetError("There is no such decision.")
        try:
            value = tomllib.loads(f"value = {written}")["value"]
        except (tomllib.TOMLDecodeError, KeyError) as error:
            raise LumetError(f"This is no value of TOML: {error}.") from error
        before = files.read_text(self.folder, found.file) or ""
        after = set_decision(before, tuple(path), value)
        mistakes: list[Mistake] = []
        database = self._application.database
        checker = Checker(DecisionFile(found.file, after), mistakes)
        read_table_file(checker, database.table(found.name), database)
        if mistakes:
            raise Mistakes(tuple(mistakes))
        lines = unified_diff(
            before.splitlines(keepends=True), after.splitlines(keepends=True),
            f"a/{found.file}", f"b/{found.file}", n=1,
        )  # fmt: skip
        return found.file, after, "".join(lines)

    def write(self, module: str, path: Sequence[str], written: str) -> str:
        """Write another value into the decision file of a table; return the
        difference."""
        file, text, diff = self.changed(module, path, written)
        with files.locked(self.folder):
            apply(self.folder, [Change(file, text.encode())])
        return diff


def _of_column(table: ReviewedTable, column: str) -> list[dict[str, Any]]:
    """Return the decisions about a column, those that nobody has made among them that
    are made most often."""
    found = table.of_column(column)
    known = {each.path[-1] for each in found}
    open_ = [
        Reviewed(("field", column, key), value, UNDECIDED)
        for key, value in OFFERED.items()
        if key not in known
    ]
    return [_told(each, table.file) for each in (*found, *open_)]


def _told(decision: Reviewed, file: str) -> dict[str, Any]:
    """Return a decision for the page: the key, the value as TOML, who decided and why,
    where it stands, and the lines to write instead."""
    value = format_value(decision.value) if decision.value is not None else ""
    section, key = decision.path[:-1], format_key(decision.path[-1:])
    head = f"[{format_key(section)}]\n" if section else ""
    by = "inferred" if decision.source == INFERRED else decision.source
    sure = f"{decision.confidence:.0%}" if decision.confidence < 1 else ""
    return {
        "path": list(decision.path),
        "key": key,
        "value": value,
        "by": " ".join(each for each in (by, sure) if each),
        "why": decision.reason,
        "place": f"{file}:{decision.line}" if decision.line else file,
        "write": f"{head}{key} = {value}",
    }
