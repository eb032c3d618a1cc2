"""What a person decided, read from all the files at once."""

from dataclasses import dataclass
from pathlib import Path

from lumet.design.access import read_access
from lumet.design.reading import (
    Checker,
    DecisionFile,
    read_everywhere,
    read_table_file,
)
from lumet.errors import Mistake
from lumet.project import folder as files
from lumet.project.surveyfile import Survey


@dataclass(slots=True)
class OwnDecisions:
    """What a person decided: by table, by pattern, and about access."""

    tables: dict[str, dict[tuple[str, ...], object]]
    everywhere: dict[str, dict[str, object]]
    access: dict[tuple[str, ...], object]


def read_decisions(folder: Path, made: Survey, mistakes: list[Mistake]) -> OwnDecisions:
    """Read and check every decision file, collecting the mistakes."""
    own: dict[str, dict[tuple[str, ...], object]] = {}
    groups = set()
    for name, path in files.table_files(list(made.tables)).items():
        text = files.read_text(folder, path)
        checker = Checker(DecisionFile(path, text or ""), mistakes)
        own[name] = read_table_file(checker, made.database.table(name), made.database)
        inferred = {entry.path: entry.value for entry in made.entries(name)}
        groups.add(own[name].get(("group",), inferred.get(("group",))))
    text = files.read_text(folder, files.EVERYWHERE) or ""
    everywhere = read_everywhere(
        Checker(DecisionFile(files.EVERYWHERE, text), mistakes)
    )
    text = files.read_text(folder, files.ACCESS) or ""
    checker = Checker(DecisionFile(files.ACCESS, text), mistakes)
    access = read_access(checker, made.tables, [str(group) for group in groups])
    return OwnDecisions(own, everywhere, access)
