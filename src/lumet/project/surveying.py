"""The survey: read the database, infer, and write the project's files."""

import os
import secrets
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase
from functools import partial
from pathlib import Path

from sqlalchemy import Engine

from lumet.design.decision_schema import (
    DOUBTFUL,
    ENTRIES,
    SEVERITIES,
    Entry,
    severity_of,
)
from lumet.design.declared_keys import Declared
from lumet.design.reading import fitting_patterns
from lumet.design.rewriting import Edited, rewrite, table_comment
from lumet.errors import LumetError, Mistake, Mistakes
from lumet.evidence.agreeing import find_agreements
from lumet.evidence.code_lists import CodeLists
from lumet.evidence.inclusion_dependencies import (
    COUNTED_ROWS,
    find_by_values,
    test_candidates,
)
from lumet.evidence.model import Evidence
from lumet.evidence.sampling import read_samples
from lumet.evidence.violations import count_duplicates, count_orphans
from lumet.facts.comparing import Difference, compare
from lumet.facts.connecting import Address, open_for_reading, parse_address
from lumet.facts.connection_errors import saying_why
from lumet.facts.model import Database
from lumet.facts.reading import read_database
from lumet.facts.server_listing import other_databases, schemas_with_tables
from lumet.facts.table_selection import choose_tables
from lumet.generation.merge_writer import Change, apply
from lumet.inference.cards import cards_of_front
from lumet.inference.engine import infer, infer_access, subjects_of
from lumet.inference.glued_words import with_words_apart
from lumet.inference.kinds import followable
from lumet.inference.references import (
    Proposer,
    find_keys,
    find_references,
    with_found,
)
from lumet.inference.relations import Junction, junction_of
from lumet.inference.rules import RULES_VERSION
from lumet.project import project_files as files
from lumet.project.decisions import (
    OwnDecisions,
    read_decisions,
    read_glossary,
    with_declarations,
)
from lumet.project.identity import OtherDatabase, kept_settings, refuse_other
from lumet.project.previewing import FileChange, preview_survey
from lumet.project.queries import with_queries
from lumet.project.renames import (
    RenameReport,
    open_questions,
    read_renames,
    settle,
)
from lumet.project.surveyfile import (
    Question,
    Survey,
    read_survey,
    to_entries,
    to_inferred,
    write_survey,
)

_ACCESS_COMMENT = (
    "# Who may do what: view, add, edit, delete, export; by table, by pattern, or by\n"
    '# menu group ("group:Reference data"). "*" is every table; the nearest one decides.\n'
    "# A role is a section [role.NAME]; its rules on rows are [role.NAME.rows], those on\n"
    "# what may be changed [role.NAME.changes], limits on fields [role.NAME.fields].\n"
    '# Lines with "#~" are inferred. Write a line without it to decide yourself.\n'
)
_FRONT_COMMENT = (
    "# The first page: its cards, in the order of this file. Further pages are written the\n"
    "# same, in design/pages/NAME.toml, with label, group and roles. For example:\n"
    "#\n"
    "#     [cards]\n"
    '#     open = { kind = "number", table = "repair", filter = "status.is=reported" }\n'
    '#     days = { kind = "line", table = "repair", by = "done_on", every = "year" }\n'
    "#\n"
    "# A filter is the query of a list, as the address has it behind the ?.\n"
    '# Lines with "#~" are inferred. Write a line without it to decide yourself; NAME =\n'
    "# false removes a card.\n"
)
_PATTERNS_COMMENT = (
    "# Decisions by pattern, for all tables at once; a table's own file wins.\n"
    "# For example, to hide every column called created_at:\n"
    "#\n"
    '#     [field."*.created_at"]\n'
    "#     hidden = true\n"
    "#\n"
    "# Words of names that stand for others in labels; an empty one is left out:\n"
    "#\n"
    "#     [glossary]\n"
    '#     stn = "coast station"\n'
)


@dataclass(frozen=True, slots=True)
class Doubt:
    """An inferred decision that a person should look at first."""

    place: str
    reason: str
    severity: str = ENTRIES


@dataclass(slots=True)
class SurveyReport:
    """The result of a survey and its written files."""

    folder: Path
    address: Address
    survey: Survey
    seconds: float = 0.0
    written: list[str] = field(default_factory=list)
    edited: list[tuple[str, Edited]] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    is_first: bool = True
    differences: tuple[Difference, ...] = ()
    misfits: list[Mistake] = field(default_factory=list)
    contradictions: list[Doubt] = field(default_factory=list)
    junctions: list[Junction] = field(default_factory=list)
    unanalysed: tuple[str, ...] = ()
    unread: tuple[str, ...] = ()
    keyed: frozenset[str] = frozenset()  # tables whose key was declared by hand
    renames: RenameReport | None = None
    preview: list[FileChange] = field(default_factory=list)
    questions: tuple[Question, ...] = ()


@dataclass(frozen=True, slots=True)
class TableChoice:
    """The schemas to read, and shell patterns of the tables to read, and of those to
    leave out; `private`: patterns of columns, as TABLE.COLUMN, none of whose values may
    be written into the project."""

    schemas: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    private: tuple[str, ...] = ()

    def recorded(self) -> dict[str, tuple[str, ...]]:
        """Return the choices that lumet.toml is to record, by key."""
        names = ("schemas", "tables", "skip", "private")
        return {name: found for name in names if (found := getattr(self, name))}


def survey(
    folder: Path,
    text: str | None,
    *,
    read_rows: bool = True,
    password: str | None = None,
    choice: TableChoice | None = None,
    told: Callable[[str], None] = lambda place: None,
    renamed: Sequence[str] = (),
    accept: Callable[[OtherDatabase], bool] = lambda other: False,
    is_preview: bool = False,
) -> SurveyReport:
    """Read the database at the address `text`, by default the one in DATABASE_URL, and
    write the project in `folder`. Never writes to the database. `password` takes the
    place of the address's own; `choice` that of the patterns in lumet.toml; `told` is
    called with the name of what is read next; `renamed` are renames as the command line
    names them, which a person's lines then follow; `accept` is asked whether the project
    is to go on with what seems to be another database than before. A preview tells the
    changes of files and writes none.

    Raises CannotRun when the database cannot be read, Mistakes when a file that a
    person edited is wrong; then nothing was written.
    """
    began = time.monotonic()
    environment = files.read_environment(folder)
    address = _address(folder, text, environment)
    if password is not None:
        address = address.with_password(password)
    files.require_files(folder)
    before = _before(folder)
    chosen_lists = choice.recorded() if choice is not None else {}
    settings_text = kept_settings(folder, chosen_lists, address.stem, before)
    chosen = _chosen(folder, settings_text, address)
    catalogue, database, evidence, left_out = _read(
        address, read_rows, chosen, told, partial(refuse_other, before, accept)
    )
    evidence = _without_values(evidence, chosen.private)
    unanalysed, unread = evidence.unanalysed, evidence.unread
    evidence = replace(evidence, unanalysed=(), unread=())
    renames = read_renames(folder, renamed, before, database)
    mistakes: list[Mistake] = []
    glossary = read_glossary(folder)
    made = _infer(address, database, evidence, left_out, glossary)
    made = with_queries(folder, made, mistakes)
    own = read_decisions(folder, made, mistakes)
    extended, declared = with_declarations(made, own)
    made = replace(made, tables=extended.tables)  # the facts stay as they were read
    made = replace(made, front=to_inferred(cards_of_front(with_words_apart(extended.database, glossary), evidence, {name: made.entries(name) for name in made.tables})))  # fmt: skip
    differences: tuple[Difference, ...] = ()
    if before is not None:
        differences = compare(before.database, made.database, catalogue)
        questions = open_questions(before, differences, made.database)
        made = replace(made, questions=questions, renames=before.renames)
    report = SurveyReport(
        folder,
        address,
        made,
        is_first=before is None,
        unanalysed=unanalysed,
        unread=unread,
    )
    changes = _changes(
        folder, address, made, before, environment, report, settings_text
    )
    files.read_settings(folder, to_entries(made.settings), mistakes)
    broken = tuple(mistake for mistake in mistakes if mistake.is_broken)
    if broken:
        raise Mistakes(broken)
    report.keyed = frozenset(
        each.table for each in declared if not (each.referred_table or each.is_denied)
    )
    report.misfits, report.differences = mistakes, differences
    report.written = [
        change.path
        for change in changes
        if change.content is not None and not _is_same(folder, change)
    ]
    report.preview = preview_survey(folder, changes)
    if not is_preview:
        apply(folder, changes)
    report.questions = made.questions
    if renames:
        report.renames = settle(folder, renames)
        made = read_survey(folder)
        report.questions, report.misfits = made.questions, []
        own = read_decisions(
            folder, with_queries(folder, made, report.misfits), report.misfits
        )
    report.doubts = _doubts(made, own)
    subjects = subjects_of(extended.database, evidence)
    report.junctions = [j for each in subjects if (j := junction_of(each)) is not None]
    if declared and read_rows:
        report.contradictions = _contradictions(address, database, declared)
    report.seconds = time.monotonic() - began
    return report


def _address(folder: Path, text: str | None, environment: dict[str, str]) -> Address:
    if text is not None:
        return parse_address(text, Path.cwd())
    known = _known(environment)
    if not known:
        raise LumetError(
            "No database was given, and DATABASE_URL is not set.",
            "Give one: lumet survey FILE.db   or   lumet survey sqlite:///FILE.db",
        )
    return parse_address(known, folder)


def known_address(folder: Path) -> str:
    """Return the address that the environment or `.env` gives, "" for none."""
    return _known(files.read_environment(folder))


def _known(environment: Mapping[str, str]) -> str:
    return os.environ.get("DATABASE_URL") or environment.get("DATABASE_URL") or ""


def _chosen(folder: Path, text: str, address: Address) -> TableChoice:
    """Return the choice that lumet.toml records. Raises Mistakes."""
    mistakes: list[Mistake] = []
    inferred = files.inferred_settings(address.stem)
    settings = files.parse_settings(text, inferred, mistakes)
    if mistakes:
        raise Mistakes(tuple(mistakes))
    return TableChoice(
        settings.schemas, settings.tables, settings.skip, settings.private
    )


def _without_values(evidence: Evidence, private: Sequence[str]) -> Evidence:
    """Return evidence that holds no values of private columns."""

    def is_private(table: str, column: str) -> bool:
        name = f"{table}.{column}".casefold()
        return any(fnmatchcase(name, pattern.casefold()) for pattern in private)

    tables = {
        table: replace(
            profile,
            code_lists=CodeLists()
            if is_private(table, profile.code_lists.column)
            else profile.code_lists,
            columns={
                name: replace(each, values=(), leads=())
                if is_private(table, name)
                else each
                for name, each in profile.columns.items()
            },
        )
        for table, profile in evidence.tables.items()
    }
    return replace(evidence, tables=tables)


def _read(
    address: Address,
    read_rows: bool,
    choice: TableChoice,
    told: Callable[[str], None],
    admit: Callable[[Database], None],
) -> tuple[frozenset[str], Database, Evidence, frozenset[str]]:
    """Return the names of all tables, those that are chosen, what their rows tell, and
    the names of those that are read for their lookups alone. `admit` is called with all
    tables before any row is read."""
    has_password = address.url is None or address.url.password is not None
    place = str(address.path) if address.path is not None else address.shown
    with saying_why(place, has_password, lambda: other_databases(address)):
        engine = open_for_reading(address)
        try:
            database = read_database(engine, choice.schemas)
            if not any(table.columns for table in database.tables):
                raise _no_table(place, address)
            admit(database)
            catalogue = frozenset(table.name for table in database.tables)
            database, left_out = choose_tables(database, choice.tables, choice.skip)
            if len(left_out) == len(database.tables):
                raise LumetError(
                    f"{place}: no table fits the patterns in {files.SETTINGS}.",
                    "Use shell patterns: --tables 'station*'.",
                )
            evidence = _read_rows(engine, database, told) if read_rows else Evidence()
        finally:
            engine.dispose()
    return catalogue, database, evidence, left_out


def _read_rows(
    engine: Engine, database: Database, told: Callable[[str], None]
) -> Evidence:
    """Read rows: a profile of each table, undeclared keys, and what refers to what."""
    evidence, sketches = read_samples(engine, database, told)
    database = with_words_apart(database)
    keys = [key for key in find_keys(database, evidence) if key.is_used]
    repeated = []
    for key in keys:
        profile = evidence.table(key.table)
        if profile.sampled < profile.rows <= COUNTED_ROWS:
            told(key.table)
            if count_duplicates(engine, database.table(key.table), key.columns):
                repeated.append(key.table)
    evidence = replace(evidence, repeated=tuple(repeated))
    keyed = with_found(database, find_keys(database, evidence), ())
    proposer = Proposer(keyed, evidence)
    candidates = [*proposer.candidates, *find_by_values(keyed, sketches)]
    told("references")
    contained = test_candidates(
        engine,
        keyed,
        evidence,
        sketches,
        dict.fromkeys(candidates),
        {key.table for key in keys},
    )
    evidence = replace(evidence, contained=contained)
    references = find_references(keyed, evidence, proposer)
    whole = with_found(keyed, (), references)
    pairs = [
        (table, table.reference_of(column.name), ours, theirs)
        for table in whole.tables
        if not table.is_view
        for column in table.columns
        for ours, theirs in followable(table, column.name, whole)
    ]
    known = [(t, r, o, th) for t, r, o, th in pairs if r is not None]
    return replace(evidence, agreements=find_agreements(engine, whole, known))


def _no_table(place: str, address: Address) -> LumetError:
    schemas = schemas_with_tables(address)
    if schemas:
        return LumetError(
            f"{place} has no table in its default schema.",
            f"There are tables in {', '.join(schemas)}. Choose: --schema {schemas[0]}",
        )
    return LumetError(
        f"{place} has no table that can be read.",
        "Check that it is the right database. Nothing was written.",
    )


def _before(folder: Path) -> Survey | None:
    return read_survey(folder) if (folder / files.SURVEY).exists() else None


def _infer(
    address: Address,
    database: Database,
    evidence: Evidence,
    left_out: frozenset[str],
    glossary: dict[str, str],
) -> Survey:
    tables = infer(database, evidence, left_out, glossary=glossary)
    return Survey(
        database=database,
        evidence=evidence,
        rules=RULES_VERSION,
        glossary=glossary,
        left_out=tuple(sorted(left_out)),
        settings=to_inferred(files.inferred_settings(address.stem)),
        tables={name: to_inferred(entries) for name, entries in tables.items()},
        access=to_inferred(infer_access(tables)),
    )


def _changes(
    folder: Path,
    address: Address,
    made: Survey,
    before: Survey | None,
    environment: dict[str, str],
    report: SurveyReport,
    settings_text: str,
) -> list[Change]:
    changes: list[Change] = []

    def bring(
        path: str, comment: str, entries: tuple[Entry, ...], last: tuple[Entry, ...]
    ) -> None:
        present = files.read_text(folder, path)
        done = rewrite(comment if present is None else present, entries, last)
        changes.append(Change(path, done.text.encode()))
        report.edited += [(path, line) for line in done.edited]

    last_settings = to_entries(before.settings) if before else ()
    done = rewrite(settings_text, to_entries(made.settings), last_settings)
    changes.append(Change(files.SETTINGS, done.text.encode()))
    report.edited += [(files.SETTINGS, line) for line in done.edited]
    for name, path in files.table_files(made.database.tables).items():
        kind = made.database.table(name).kind
        comment = table_comment(kind, name)
        bring(path, comment, made.entries(name), before.entries(name) if before else ())
    last_access = to_entries(before.access) if before else ()
    bring(files.ACCESS, _ACCESS_COMMENT, to_entries(made.access), last_access)
    bring(files.PATTERNS, _PATTERNS_COMMENT, (), ())
    last_front = to_entries(before.front) if before else ()
    bring(files.FRONT, _FRONT_COMMENT, to_entries(made.front), last_front)
    changes.append(Change(files.SURVEY, write_survey(made).encode()))
    wanted = {"DATABASE_URL": address.kept(folder)}
    if not environment.get("SECRET_KEY"):
        wanted["SECRET_KEY"] = secrets.token_urlsafe(48)
    env = files.read_text(folder, files.ENV) or ""
    changes.append(Change(files.ENV, files.with_environment(env, wanted).encode()))
    ignore = files.read_text(folder, files.IGNORE) or ""
    changes.append(Change(files.IGNORE, files.with_ignored(ignore).encode()))
    kept = files.read_text(folder, files.ATTRIBUTES) or ""
    changes.append(Change(files.ATTRIBUTES, files.with_attributes(kept).encode()))
    return changes


def _is_same(folder: Path, change: Change) -> bool:
    try:
        return (folder / change.path).read_bytes() == change.content
    except OSError:
        return False


def _contradictions(
    address: Address, database: Database, declared: tuple[Declared, ...]
) -> list[Doubt]:
    """Return contradictions between the rows and declared keys and references, with
    counts."""
    found = []
    engine = open_for_reading(address)
    try:
        for each in declared:
            place = f"{each.table}.{' + '.join(each.columns)}"
            table = database.table(each.table)
            if not each.referred_table:
                count = count_duplicates(engine, table, each.columns)
                what = "rows share this key or lack a part of it"
            else:
                referred = database.table(each.referred_table)
                count = count_orphans(
                    engine, table, each.columns, referred, each.referred_columns
                )
                what = f"rows refer to no existing {each.referred_table}"
            if count is None:
                found.append(Doubt(place, "could not be checked in time"))
            elif count:
                found.append(Doubt(place, f"{count:,} {what}"))
    finally:
        engine.dispose()
    return found


def _doubts(made: Survey, own: OwnDecisions) -> list[Doubt]:
    """Return the doubtful decisions: inferred, not sure, and not decided by
    hand or by a pattern, as `lumet review` counts it; first those that would cost most
    if they were wrong."""
    found: list[tuple[int, float, Doubt]] = []
    for table in made.tables:
        entries = made.entries(table)
        decided = set(own.tables.get(table, ()))
        facts = made.database.table(table)
        decided |= {path for path, *_ in fitting_patterns(facts, own.patterns)}
        if any(entry.path == ("include",) for entry in entries):
            continue
        for entry in entries:
            if entry.confidence < DOUBTFUL and entry.path not in decided:
                is_field = entry.path[0] == "field"
                place = f"{table}.{entry.path[1]}" if is_field else table
                what = "" if is_field else f"{entry.path[0]} {entry.value}: "
                severity = severity_of(entry.path)
                doubt = Doubt(place, f"{what}{entry.reason}", severity)
                found.append((SEVERITIES.index(severity), entry.confidence, doubt))
    found.sort(key=lambda each: each[:2])
    return [doubt for *_, doubt in found]
