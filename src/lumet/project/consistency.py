"""The check of a project, for continuous integration: whether the database, the survey,
the decisions and the generated files still fit each other. Nothing is written."""

from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

from lumet.errors import Mistake, Mistakes
from lumet.facts.comparing import Difference, compare
from lumet.facts.connecting import open_for_reading, parse_address
from lumet.facts.connection_errors import saying_why
from lumet.facts.model import Database
from lumet.facts.reading import read_database
from lumet.facts.server_listing import other_databases
from lumet.facts.table_selection import choose_tables
from lumet.generation.merging import CONFLICT
from lumet.project import project_files as files
from lumet.project.generating import plan
from lumet.project.previewing import FileChange, preview_generation
from lumet.project.surveyfile import Question, Survey, read_survey, to_entries
from lumet.project.surveying import known_address


@dataclass(slots=True)
class Check:
    """The findings of a check. `differences` are those of the database from the last
    survey, None where it was not looked at; `changes` are generated files that a
    generation would change; `conflicts` places of edited lines that wait to be
    settled, as PATH:LINE."""

    differences: tuple[Difference, ...] | None = None
    mistakes: tuple[Mistake, ...] = ()
    changes: list[FileChange] = field(default_factory=list)
    conflicts: list[str] = field(default_factory=list)
    questions: tuple[Question, ...] = ()

    @property
    def is_clean(self) -> bool:
        """Tell whether nothing was found."""
        found = (self.differences, self.mistakes, self.changes, self.conflicts)
        return not any((*found, self.questions))

    def as_json(self) -> dict[str, Any]:
        """Return the findings for programs."""
        differences = self.differences
        return {
            "clean": self.is_clean,
            "database": None if differences is None else [*map(asdict, differences)],
            "decisions": [asdict(each) for each in self.mistakes],
            "generated": [each.as_json() for each in self.changes],
            "conflicts": self.conflicts,
            "renames": [asdict(each) for each in self.questions],
        }


def check(folder: Path, looks_at_database: bool = True) -> Check:
    """Check the project in `folder`. Raises CannotRun where the database does not
    answer, LumetError where there is no survey."""
    survey = read_survey(folder)
    files.require_files(folder)
    found = Check(questions=survey.questions)
    if looks_at_database:
        found.differences = differences(folder, survey)
    try:
        planned = plan(folder)
    except Mistakes as error:
        found.mistakes = error.mistakes
        return found
    found.conflicts = [
        f"{each.path}:{line}"
        for each in planned.report.written.conflicts
        for line in each.lines
    ]
    open_files = {each.path for each in planned.report.written.conflicts}
    found.changes = [
        each
        for each in preview_generation(folder, planned)
        if each.path.removesuffix(CONFLICT) not in open_files
    ]
    return found


def differences(folder: Path, survey: Survey) -> tuple[Difference, ...]:
    """Return the differences of the database's catalogue from the survey; its rows are
    not read."""
    mistakes: list[Mistake] = []
    settings = files.read_settings(folder, to_entries(survey.settings), mistakes)
    address = parse_address(known_address(folder), folder)
    has_password = address.url is None or address.url.password is not None
    place = str(address.path) if address.path is not None else address.shown
    with saying_why(place, has_password, lambda: other_databases(address)):
        engine = open_for_reading(address)
        try:
            whole = read_database(engine, settings.schemas)
        finally:
            engine.dispose()
    catalogue = frozenset(table.name for table in whole.tables)
    chosen, _left_out = choose_tables(whole, settings.tables, settings.skip)
    return compare(_plain(survey.database), _plain(chosen), catalogue)


def _plain(database: Database) -> Database:
    """Return a database without the queries of the project, which no catalogue has."""
    tables = tuple(each for each in database.tables if each.kind != "query")
    return replace(database, tables=tables)
