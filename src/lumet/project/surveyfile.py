"""survey.json: facts and inferred decisions, in a stable order."""

import json
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

import cattrs

from lumet.design.decision_schema import Entry
from lumet.design.renaming import Renamed
from lumet.errors import LumetError
from lumet.evidence.model import Evidence
from lumet.facts.model import Database
from lumet.project.project_files import SURVEY, read_text

FORMAT = 1


@dataclass(frozen=True, slots=True)
class Inferred:
    """One inferred decision as survey.json keeps it."""

    key: tuple[str, ...]
    value: Any
    reason: str = ""
    confidence: float = 1.0


@dataclass(frozen=True, slots=True)
class Question:
    """A renaming that nobody has confirmed or refused: a column of `table`, or a table
    where that is the new name."""

    table: str
    old: str
    new: str
    confidence: float = 1.0

    @property
    def is_table(self) -> bool:
        """Tell whether the table itself may be renamed."""
        return self.table == self.new


@dataclass(frozen=True, slots=True)
class Survey:
    """The result of a survey: facts, evidence, and inferred decisions with their
    rules."""

    database: Database
    evidence: Evidence
    rules: int
    left_out: tuple[str, ...] = ()
    settings: tuple[Inferred, ...] = ()
    tables: dict[str, tuple[Inferred, ...]] = field(default_factory=dict)
    access: tuple[Inferred, ...] = ()
    front: tuple[Inferred, ...] = ()
    questions: tuple[Question, ...] = ()
    renames: tuple[Renamed, ...] = ()  # that were confirmed, in their order
    glossary: dict[str, str] = field(default_factory=dict)

    def entries(self, table: str) -> tuple[Entry, ...]:
        """Return the inferred decisions about a table."""
        return to_entries(self.tables.get(table, ()))

    def rows(self, table: str) -> int:
        """Return about how many rows a table has."""
        return max(self.evidence.table(table).rows, self.database.table(table).estimate)


def to_entries(inferred: tuple[Inferred, ...]) -> tuple[Entry, ...]:
    """Return inferred decisions as the decision files know them."""
    return tuple(Entry(i.key, i.value, i.reason, i.confidence) for i in inferred)


def to_inferred(entries: tuple[Entry, ...]) -> tuple[Inferred, ...]:
    """Return inferred decisions as survey.json keeps them."""
    return tuple(Inferred(e.path, e.value, e.reason, e.confidence) for e in entries)


def _converter() -> cattrs.Converter:
    return cattrs.Converter(omit_if_default=True, forbid_extra_keys=True)


def write_survey(survey: Survey) -> str:
    """Return the text of survey.json."""
    content = {"format": FORMAT, **_converter().unstructure(survey)}
    return _laid_out(content, "") + "\n"


def _laid_out(value: Any, indent: str) -> str:
    """Write JSON with one column, one constraint, one decision a line."""
    inner = indent + " "
    if isinstance(value, dict) and any(_is_nested(each) for each in value.values()):
        parts = [f"{json.dumps(k)}: {_laid_out(v, inner)}" for k, v in value.items()]
        return "{\n" + ",\n".join(inner + part for part in parts) + f"\n{indent}}}"
    if isinstance(value, list | tuple) and any(_is_nested(each) for each in value):
        parts = [json.dumps(each) if _is_flat(each) else _laid_out(each, inner)
                 for each in value]  # fmt: skip
        return "[\n" + ",\n".join(inner + part for part in parts) + f"\n{indent}]"
    return json.dumps(value)


def _is_nested(value: Any) -> bool:
    return (isinstance(value, dict) and bool(value)) or (
        isinstance(value, list | tuple) and any(isinstance(e, dict | list | tuple) for e in value)
    )  # fmt: skip


def _is_flat(value: Any) -> bool:
    """Tell whether a dict holds nothing deeper than one more dict or list."""
    return isinstance(value, dict) and not any(
        isinstance(inner, dict | list | tuple) and any(
            isinstance(e, dict | list | tuple)
            for e in (inner.values() if isinstance(inner, dict) else inner)
        )
        for inner in value.values()
    )  # fmt: skip


def read_survey(folder: Path) -> Survey:
    """Read survey.json. Raises LumetError when it is missing, damaged, or of a format
    that this version does not know."""
    text = read_text(folder, SURVEY)
    if text is None:
        raise LumetError(
            f"There is no {SURVEY} in {folder}.",
            "Start with: lumet survey DATABASE   (or give the folder with --project)",
        )
    return _parse(text)


@lru_cache(maxsize=1)  # lumet serve asks for the same at every change
def _parse(text: str) -> Survey:
    try:
        content = json.loads(text)
        found = content.pop("format")
    except (ValueError, AttributeError, KeyError) as error:
        raise _damaged(str(error)) from error
    if found != FORMAT:
        raise LumetError(
            f"{SURVEY} is of format {found}; this version of Lumet knows {FORMAT}.",
            "Survey again: lumet survey",
        )
    try:
        return _converter().structure(content, Survey)
    except (cattrs.BaseValidationError, TypeError, ValueError) as error:
        raise _damaged(type(error).__name__) from error


def _damaged(said: str) -> LumetError:
    return LumetError(
        f"{SURVEY} is damaged ({said}).",
        "It is generated: restore it from version control, or survey again.",
    )
