"""The identity of a project: its name and package stay, and another database is not
taken for the same one."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from lumet.design.decision_file import DecisionFile
from lumet.design.rewriting import set_plain
from lumet.errors import LumetError
from lumet.facts.model import Database
from lumet.project import project_files as files
from lumet.project.surveyfile import Survey

_SETTINGS_COMMENT = (
    "# Settings of this project.\n"
    '# Lines with "#~" are inferred. Write a line without it to decide yourself.\n\n'
)


def kept_settings(
    folder: Path,
    choice: Mapping[str, tuple[str, ...]],
    stem: str,
    before: Survey | None,
) -> str:
    """Return the text of lumet.toml, with the `choice` of tables recorded in it. The
    name and the package are decided by the first survey, from the `stem` of the
    database's name, and stay, whatever the database is called elsewhere."""
    found = files.read_text(folder, files.SETTINGS)
    text = _SETTINGS_COMMENT if found is None else found
    known = {each.path: each.value for each in files.inferred_settings(stem)}
    if before is not None:
        known |= {each.key: each.value for each in before.settings}
    statements = DecisionFile(files.SETTINGS, text).scanned
    decided = {each.path for each in statements if not each.machine}
    for key in reversed(files.IDENTITY):
        if (key,) not in decided:
            text = set_plain(text, key, known[(key,)])
    for key in reversed(list(choice)):
        text = set_plain(text, key, choice[key])
    return text


@dataclass(frozen=True, slots=True)
class OtherDatabase:
    """What seems to be another database than the one surveyed before: the kinds of
    both servers, how many tables it has, and how many of them are known."""

    before: str
    after: str
    tables: int
    known: int

    def __str__(self) -> str:
        if self.before != self.after:
            return f"The project was surveyed on {self.before}; this is {self.after}."
        is_one = "is" if self.known == 1 else "are"
        return f"{self.known} of its {self.tables} tables {is_one} known from the last survey."


def refuse_other(
    before: Survey | None, accept: Callable[[OtherDatabase], bool], database: Database
) -> None:
    """Raise LumetError for what seems to be another database, unless that is meant:
    fewer than half of the tables are known."""
    if before is None:
        return
    known = {t.own_name.casefold() for t in before.database.tables if t.kind != "query"}
    found = {table.own_name.casefold() for table in database.tables}
    shared, fewer = len(known & found), min(len(known), len(found))
    kinds = before.database.dialect, database.dialect
    if kinds[0] == kinds[1] and shared * 2 >= fewer:
        return
    other = OtherDatabase(*kinds, len(found), shared)
    if not accept(other):
        raise LumetError(
            f"This seems to be another database. {other} Nothing was written.",
            "Check DATABASE_URL, or survey into another folder. If it is meant:"
            " lumet survey --other-database",
        )
