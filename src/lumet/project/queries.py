"""Queries of the project's own: a SELECT in design/queries is shown as a view is."""

from dataclasses import replace
from pathlib import Path

from lumet.errors import Mistake
from lumet.facts.model import Database, Table
from lumet.inference.engine import infer
from lumet.project import project_files as files
from lumet.project.surveyfile import Survey, to_inferred

QUERIES = "design/queries"


def with_queries(folder: Path, survey: Survey, mistakes: list[Mistake]) -> Survey:
    """Return the survey with the queries that are in the project now: as tables in its
    facts, and with what the rules infer about those that are new or changed."""
    plain = [table for table in survey.database.tables if table.kind != "query"]
    base = replace(survey.database, tables=tuple(plain))
    found = _read(folder, base, mistakes)
    present = tuple(t for t in survey.database.tables if t.kind == "query")
    if found == present:
        return survey
    tables = tuple(sorted((*plain, *found), key=lambda table: table.name))
    database = replace(base, tables=tables)
    inferred = infer(
        database, survey.evidence, frozenset(survey.left_out), glossary=survey.glossary
    )
    known = {table.name: table for table in present}
    kept = {table.name for table in plain}
    kept |= {table.name for table in found if known.get(table.name) == table}
    entries = {
        table.name: survey.tables[table.name]
        if table.name in kept and table.name in survey.tables
        else to_inferred(inferred[table.name])
        for table in tables
        if table.name in survey.tables or table.kind == "query"
    }
    return replace(survey, database=database, tables=entries)


def _read(
    folder: Path, database: Database, mistakes: list[Mistake]
) -> tuple[Table, ...]:
    found = []
    taken = {table.name.casefold() for table in database.tables}
    for path in sorted((folder / QUERIES).glob("*.sql")):
        from lumet.expressions.queries import read_query  # slow to import

        name = f"{QUERIES}/{path.name}"
        text = files.read_text(folder, name) or ""
        if path.stem.casefold() in taken:
            problem = "There is a table of this name: give the file another."
            mistakes.append(Mistake(name, 1, path.stem, problem))
            continue
        taken.add(path.stem.casefold())
        made, problems = read_query(path.stem, text, database)
        first = text.strip().split("\n")[0]
        mistakes += [Mistake(name, 1, first, problem) for problem in problems]
        if made is not None:
            found.append(made)
    return tuple(found)
