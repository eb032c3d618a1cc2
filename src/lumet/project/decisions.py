"""The decisions of a project, read from all its files at once."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from lumet.design.access import read_access
from lumet.design.cards import DecidedPage, read_card_page
from lumet.design.decision_file import Checker, DecisionFile
from lumet.design.decision_schema import Entry
from lumet.design.declared_keys import Declared, declarations, with_declared
from lumet.design.reading import (
    check_glossary,
    check_patterns,
    fitting_patterns,
    glossary_of,
    read_patterns,
    read_table_file,
    sections_in_order,
)
from lumet.errors import Mistake
from lumet.facts.model import Database
from lumet.inference.engine import infer
from lumet.inference.glued_words import with_words_apart
from lumet.inference.labels_from_names import split_words
from lumet.project import project_files as files
from lumet.project.surveyfile import Survey, to_entries, to_inferred

Patterns = dict[str, dict[str, object]]
Own = dict[str, dict[tuple[str, ...], object]]


@dataclass(slots=True)
class OwnDecisions:
    """The decisions of a project: by table, by pattern, and about access."""

    tables: Own
    patterns: Patterns
    access: dict[tuple[str, ...], object]
    card_pages: tuple[DecidedPage, ...] = ()
    sections: dict[str, tuple[str, ...]] = field(default_factory=dict)  # in their order
    origins: dict[str, str] = field(default_factory=dict)  # of patterns: their files

    def declaring(self, database: Database) -> Own:
        """Return the decisions by table, with the references that patterns declare."""
        found: Own = {}
        for name, mine in self.tables.items():
            by_pattern = {
                path: value
                for path, _pattern, value in fitting_patterns(
                    database.table(name), self.patterns
                )
                if path[-1] == "references" and path not in mine
            }
            found[name] = {**by_pattern, **mine}
        return found


def read_decisions(folder: Path, made: Survey, mistakes: list[Mistake]) -> OwnDecisions:
    """Read and check every decision file, collecting the mistakes. What is decided may
    rest on keys and references that are declared in other files."""
    opened = {
        name: DecisionFile(path, files.read_text(folder, path) or "")
        for name, path in files.table_files(made.database.tables).items()
    }
    shared = [*_shared_patterns(folder, mistakes)]
    text = files.read_text(folder, files.PATTERNS) or ""
    checker = Checker(DecisionFile(files.PATTERNS, text), mistakes)
    mine = read_patterns(checker)
    patterns, origins = _joined([*shared, (checker, mine)])
    first = OwnDecisions(_read_tables(opened, made.database, []), patterns, {})
    declared = _merged(made, first.declaring(made.database))
    database = with_declared(made.database, declared)
    own = _read_tables(opened, database, mistakes)
    groups = {}
    for name in made.tables:
        inferred = {entry.path: entry.value for entry in made.entries(name)}
        groups[name] = str(own[name].get(("group",), inferred.get(("group",))))
    words = _words_of_names(database) if read_glossary(folder) else frozenset()
    for other, found in shared:
        check_patterns(other, found, database, may_idle=True)
        check_glossary(other, words, may_idle=True)
    check_patterns(checker, mine, database)
    check_glossary(checker, words)
    text = files.read_text(folder, files.ACCESS) or ""
    checker = Checker(DecisionFile(files.ACCESS, text), mistakes)
    access = read_access(checker, database, groups)
    card_pages = tuple(_card_pages(folder, made, database, mistakes))
    sections = {
        name: sections_in_order(file)
        for name, file in opened.items()
        if any(path_[0] == "sections" for path_ in own[name])
    }
    return OwnDecisions(own, patterns, access, card_pages, sections, origins)


def _card_pages(
    folder: Path, made: Survey, database: Database, mistakes: list[Mistake]
) -> Iterator[DecidedPage]:
    """Yield the first page and the further pages of cards."""
    text = files.read_text(folder, files.FRONT) or ""
    checker = Checker(DecisionFile(files.FRONT, text), mistakes)
    yield read_card_page(checker, "", database, to_entries(made.front))
    for path in sorted((folder / files.CARD_PAGES).glob("*.toml")):
        name = f"{files.CARD_PAGES}/{path.name}"
        checker = Checker(DecisionFile(name, files.read_text(folder, name) or ""), mistakes)  # fmt: skip
        if not path.stem.replace("-", "_").isidentifier() or not path.stem.isascii():
            checker.wrong((), f'"{path.stem}" is not a name of a page: use letters, digits, _ and -.')  # fmt: skip
        yield read_card_page(checker, path.stem, database)


def _words_of_names(database: Database) -> frozenset[str]:
    """Return the words of all names, as they are written and taken apart."""
    names: list[str] = []
    for table in with_words_apart(database).tables:
        names += [table.own_name, table.worded]
        names += [n for each in table.columns for n in (each.name, each.worded)]
    return frozenset(word for name in names for word in split_words(name))


def read_glossary(folder: Path) -> dict[str, str]:
    """Return the glossary of the project: of design/patterns.toml, over the files that
    lumet.toml includes. Its mistakes are reported by `read_decisions`."""
    glossary: dict[str, str] = {}
    for name in (*files.included_files(folder), files.PATTERNS):
        text = files.read_text(folder, name) or ""
        glossary |= glossary_of(DecisionFile(name, text).values([]))
    return glossary


def with_glossary(folder: Path, survey: Survey) -> Survey:
    """Return the survey with labels by the glossary as it is now."""
    glossary = read_glossary(folder)
    if glossary == survey.glossary:
        return survey
    left_out = frozenset(survey.left_out)
    inferred = infer(survey.database, survey.evidence, left_out, glossary=glossary)
    tables = {name: to_inferred(entries) for name, entries in inferred.items()}
    return replace(survey, tables=tables, glossary=glossary)


def _shared_patterns(
    folder: Path, mistakes: list[Mistake]
) -> Iterator[tuple[Checker, Patterns]]:
    """Yield the files of patterns that lumet.toml includes, in their order, with what
    they decide."""
    for name in files.included_files(folder):
        text = files.read_text(folder, name)
        if text is None:
            own = Checker(
                DecisionFile(files.SETTINGS, files.read_text(folder, files.SETTINGS) or ""), mistakes
            )  # fmt: skip
            own.wrong(("include",), f"There is no file {name}.")
            continue
        checker = Checker(DecisionFile(name, text), mistakes)
        yield checker, read_patterns(checker)


def _joined(
    found: Sequence[tuple[Checker, Patterns]],
) -> tuple[Patterns, dict[str, str]]:
    """Return the patterns of several files, of which the later win, and the file of
    each."""
    patterns: Patterns = {}
    origins: dict[str, str] = {}
    for checker, decided in found:
        for pattern, decisions in decided.items():
            patterns[pattern] = {**patterns.pop(pattern, {}), **decisions}
            origins[pattern] = checker.file.name
    return patterns, origins


def _read_tables(
    opened: Mapping[str, DecisionFile], database: Database, mistakes: list[Mistake]
) -> Own:
    return {
        name: read_table_file(Checker(file, mistakes), database.table(name), database)
        for name, file in opened.items()
    }


def _merged(made: Survey, own: Own) -> tuple[Declared, ...]:
    """Return the keys and references that are inferred, or a person's where there
    are."""
    merged: Own = {}
    for name in made.tables:
        inferred = {entry.path: entry.value for entry in made.entries(name)}
        mine = own.get(name, {})
        kept = {
            path: value
            for path, value in inferred.items()
            if not (path == ("include",) or path in mine)
        }
        merged[name] = kept | mine
    return declarations(merged, made.database)


def inferred_anew(
    survey: Survey, declared: tuple[Declared, ...]
) -> dict[str, tuple[Entry, ...]]:
    """Return the decisions that the rules infer now, by table, where a person declared
    keys and references."""
    return infer(
        with_declared(survey.database, declared),
        survey.evidence,
        frozenset(survey.left_out),
        frozenset(each for each in declared if each.is_denied),
        survey.glossary,
    )


def with_declarations(
    survey: Survey, own: OwnDecisions
) -> tuple[Survey, tuple[Declared, ...]]:
    """Return the survey with the keys and references in its facts that a person
    declared or that were inferred, and with what the rules infer from them; and those
    that a person declared."""
    mine = own.declaring(survey.database)
    declared = declarations(mine, survey.database)
    if declared:
        inferred = inferred_anew(survey, declared)
        tables = {name: to_inferred(entries) for name, entries in inferred.items()}
        survey = replace(survey, tables=tables)
    whole = with_declared(survey.database, _merged(survey, mine))
    return replace(survey, database=whole), declared
