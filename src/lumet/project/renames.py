"""Renamed tables and columns: questions that stay open until a person answers them, and
what follows from an answer in all files of the project."""

import re
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from lumet.design.decision_file import DecisionFile
from lumet.design.renaming import FileKind, Renamed, follow
from lumet.design.rewriting import (
    Edited,
    rewrite,
    table_comment,
    without_machine_lines,
)
from lumet.errors import LumetError, Mistake
from lumet.expressions.renaming import Names, rename_in_sql
from lumet.facts.comparing import Difference
from lumet.facts.model import Database
from lumet.generation.merge_writer import Change, apply
from lumet.generation.names import FIELD_NAMES, MODULE_NAMES, python_names
from lumet.generation.renamed_modules import EditedModules
from lumet.project import project_files as files
from lumet.project.decisions import read_decisions, with_declarations
from lumet.project.queries import QUERIES, with_queries
from lumet.project.surveyfile import (
    Question,
    Survey,
    read_survey,
    to_entries,
    write_survey,
)

_WORD = r"(?<!\w){}(?!\w)"


@dataclass(slots=True)
class RenameReport:
    """What followed from renames: each changed line with its file, and the places in
    own code that name what was renamed, which only a person can change."""

    renames: tuple[Renamed, ...] = ()
    changed: list[tuple[str, Edited]] = field(default_factory=list)
    own_code: list[tuple[str, Edited]] = field(default_factory=list)
    moved: dict[str, str] = field(default_factory=dict)  # files, by their new path
    kept: list[str] = field(default_factory=list)  # files that could not be joined


def open_questions(
    before: Survey, differences: Sequence[Difference], database: Database
) -> tuple[Question, ...]:
    """Return the renames that a person has to confirm: those of this survey, and those
    of surveys before that were not answered and still can be."""
    found = [
        Question(each.table, each.before, each.after, each.confidence)
        for each in differences
        if each.kind == "renamed"
    ]
    known = {(each.table, each.new) for each in found}
    found += [
        each
        for each in before.questions
        if (each.table, each.new) not in known and _is_possible(each, database)
    ]
    return tuple(found)


def _is_possible(question: Question, database: Database) -> bool:
    """Tell whether the old name of a question is gone, and the new one there."""
    if question.is_table:
        return question.new in database.by_name and question.old not in database.by_name
    table = database.by_name.get(question.table)
    has = table.has_column if table is not None else lambda name: False
    return has(question.new) and not has(question.old)


def read_renames(
    folder: Path, texts: Sequence[str], before: Survey | None, database: Database
) -> tuple[Renamed, ...]:
    """Return the renames that a command line names: OLD=NEW for a table,
    TABLE.OLD=NEW for a column. Raises LumetError for one that cannot be: the new name
    is in the database, and the old one only in the last survey or in decisions."""
    found: list[Renamed] = []

    def is_column(text: str) -> bool:
        read = _read_rename(text, database, ())
        return read is None or not read.is_table

    # tables first: a column may be named by its table's old name
    for text in sorted(texts, key=is_column):
        renamed = _read_rename(text, database, found)
        if renamed is None or before is None:
            raise LumetError(
                f"--renamed {text}: the database does not fit.",
                "Write OLD=NEW for a table, TABLE.OLD=NEW for a column: the new name is"
                " in the database, the old one no longer.",
            )
        if not _is_known(folder, renamed, before, database):
            raise LumetError(
                f"--renamed {text}: neither the last survey nor a decision names"
                f" {text.partition('=')[0].strip()}.",
                "Check how it is spelled.",
            )
        found.append(renamed)
    return tuple(found)


def _read_rename(
    text: str, database: Database, others: Sequence[Renamed]
) -> Renamed | None:
    """Return the renaming of a text, None where the database does not fit."""
    old, _, new = (part.strip() for part in text.partition("="))
    if new in database.by_name and old and old not in database.by_name:
        return Renamed(new, old, new)
    table, _, column = old.rpartition(".")
    now = {each.old: each.new for each in others if each.is_table}.get(table, table)
    if now not in database.by_name:
        return None
    new = new.removeprefix(f"{table}.").removeprefix(f"{now}.")
    held = database.table(now)
    is_fitting = held.has_column(new) and not held.has_column(column)
    return Renamed(now, column, new) if is_fitting else None


def _is_known(
    folder: Path, renamed: Renamed, before: Survey, database: Database
) -> bool:
    """Tell whether the old name is one that the project knew: by its last survey, an
    open question, or a decision."""
    known = before.database.by_name
    if renamed.is_table:
        if renamed.old in known:
            return renamed.new not in known  # both were there at once
    elif any(table.has_column(renamed.old) for table in known.values()):
        return True
    if any((q.table, q.old) == (renamed.table, renamed.old) for q in before.questions):
        return True
    following = _Following(folder, replace(before, database=database), RenameReport())
    return bool(following.changes([renamed]))


def settle(
    folder: Path, confirmed: Sequence[Renamed], refused: Collection[Renamed] = ()
) -> RenameReport:
    """Let the project in `folder` follow the renames that are `confirmed`; the others
    are no longer asked about. Everything is written, or nothing."""
    made = read_survey(folder)
    report = RenameReport(tuple(confirmed))
    changes = _Following(folder, made, report).changes(confirmed)
    answered = {(each.table, each.old) for each in (*confirmed, *refused)}
    rest = [q for q in made.questions if (q.table, q.old) not in answered]
    settled = replace(made, questions=tuple(rest), renames=(*made.renames, *confirmed))
    changes.append(_survey_change(settled))
    apply(folder, changes)
    if confirmed:
        _write_inferred(folder)
        report.changed = [*_located(folder, report.changed)]
        report.own_code = [*_own_code(folder, made, confirmed)]
    return report


def _survey_change(made: Survey) -> Change:
    return Change(files.SURVEY, write_survey(made).encode())


class _Following:
    """Follows renames through the files of one project."""

    def __init__(self, folder: Path, made: Survey, report: RenameReport) -> None:
        self.folder, self.made, self.report = folder, made, report
        self.paths = files.table_files(made.database.tables)
        self.texts: dict[str, str] = {}
        self.gone: set[str] = set()
        self.moved = report.moved

    def changes(self, renames: Sequence[Renamed]) -> list[Change]:
        """Return the changes of all files."""
        mistakes: list[Mistake] = []
        settings = files.read_settings(
            self.folder, to_entries(self.made.settings), mistakes
        )
        modules = EditedModules(self.folder, settings.package)
        for renamed in renames:
            old, new = renamed.old, renamed.new
            if renamed.is_table:
                self._move_decisions(renamed)
                modules.rename_table(_module(old), _module(new))
            else:
                keys = (
                    python_names([old], FIELD_NAMES),
                    python_names([new], FIELD_NAMES),
                )
                modules.rename_column(
                    _module(renamed.table), keys[0][old], keys[1][new]
                )
            self._follow(renamed)
        found = modules.changes()
        for path, text in self.texts.items():
            # the machine's lines of a file that moved are another table's
            kept = without_machine_lines(text) if path in self.moved else text
            found.append(Change(path, kept.encode()))
            self.report.changed += [(path, e) for e in self._lines(path, text)]
        return found + [Change(path, None) for path in sorted(self.gone)]

    def _lines(self, path: str, text: str) -> Iterator[Edited]:
        """Yield the lines of a person's that changed."""
        old = files.read_text(self.folder, self.moved.get(path, path)) or ""
        pairs = zip(old.split("\n"), text.split("\n"), strict=False)
        for number, (before, after) in enumerate(pairs, 1):
            if before != after and not after.startswith("#"):
                yield Edited(number, after.strip())

    def _text(self, path: str) -> str | None:
        if path in self.gone:
            return None
        known = self.texts.get(path)
        return files.read_text(self.folder, path) if known is None else known

    def _move_decisions(self, renamed: Renamed) -> None:
        """Move a table's decision file to its new name; where both hold decisions, both
        stay, and a person joins them."""
        path = self.paths.get(renamed.new, "")
        before = path.rpartition("/")[0] + f"/{files.safe_name(renamed.old)}.toml"
        old = self._text(before)
        if not path or old is None:
            return
        new = self._text(path) or ""
        has_own = [
            bool(DecisionFile(each, text).statements())
            for each, text in ((path, new), (before, old))
        ]
        if all(has_own):
            self.report.kept.append(before)
            return
        if has_own[1]:
            self.texts[path] = old.replace(
                table_comment(self.made.database.table(renamed.new).kind, renamed.old),
                table_comment(self.made.database.table(renamed.new).kind, renamed.new),
            )
            self.moved[path] = before
        self.gone.add(before)

    def _follow(self, renamed: Renamed) -> None:
        database = self.made.database
        every = [(path, name, FileKind.TABLE) for name, path in self.paths.items()]
        every += [
            (files.PATTERNS, "", FileKind.PATTERNS),
            (files.ACCESS, "", FileKind.ACCESS),
            (files.SETTINGS, "", FileKind.SETTINGS),
            (files.FRONT, "", FileKind.CARDS),
        ]
        pages = sorted((self.folder / files.CARD_PAGES).glob("*.toml"))
        every += [(f"{files.CARD_PAGES}/{p.name}", "", FileKind.CARDS) for p in pages]
        for path, owner, kind in every:
            text = self._text(path)
            if text is None:
                continue
            new, _lines = follow(text, renamed, database, owner, kind)
            if new != text:
                self.texts[path] = new
        names = Names(
            renamed.table, renamed.old, renamed.new, renamed.is_table, database
        )
        for query in sorted((self.folder / QUERIES).glob("*.sql")):
            path = f"{QUERIES}/{query.name}"
            text = self._text(path) or ""
            new = rename_in_sql(text, names)
            if new != text:
                self.texts[path] = new


def python_rename(renamed: Renamed) -> tuple[str, str]:
    """Return a rename as the application names it: TABLE, or TABLE.COLUMN, before and
    after."""
    if renamed.is_table:
        return _module(renamed.old), _module(renamed.new)
    table = _module(renamed.table)
    old, new = (
        python_names([name], FIELD_NAMES)[name] for name in (renamed.old, renamed.new)
    )
    return f"{table}.{old}", f"{table}.{new}"


def _module(table: str) -> str:
    """Return the name of the module of a table."""
    return python_names([table], MODULE_NAMES)[table]


def _write_inferred(folder: Path) -> None:
    """Bring the machine's lines up to what is inferred now that decisions have new
    names."""
    mistakes: list[Mistake] = []
    made = with_queries(folder, read_survey(folder), mistakes)
    own = read_decisions(folder, made, mistakes)
    extended, _declared = with_declarations(made, own)
    made = replace(made, tables=extended.tables)
    changes = []
    for name, path in files.table_files(made.database.tables).items():
        text = files.read_text(folder, path)
        if text is None:  # of a query that had to follow to be read
            text = table_comment(made.database.table(name).kind, name)
        done = rewrite(text, made.entries(name), made.entries(name))
        changes.append(Change(path, done.text.encode()))
    apply(folder, [*changes, _survey_change(made)])


def _located(
    folder: Path, changed: Sequence[tuple[str, Edited]]
) -> Iterator[tuple[str, Edited]]:
    """Yield changed lines with their places in the files as they are now."""
    for path, each in changed:
        lines = (files.read_text(folder, path) or "").split("\n")
        found = [n for n, line in enumerate(lines, 1) if line.strip() == each.text]
        nearest = min(found, key=lambda n: abs(n - each.line), default=each.line)
        yield path, Edited(nearest, each.text)


def _own_code(
    folder: Path, made: Survey, renames: Sequence[Renamed]
) -> Iterator[tuple[str, Edited]]:
    """Yield the lines of own code and own templates that name what was renamed."""
    mistakes: list[Mistake] = []
    settings = files.read_settings(folder, to_entries(made.settings), mistakes)
    words = {re.escape(r.old) for r in renames}
    pattern = re.compile(_WORD.format(f"(?:{'|'.join(sorted(words))})"))
    for path in sorted((folder / settings.package / "custom").rglob("*")):
        if path.suffix not in (".py", ".html", ".sql") or not path.is_file():
            continue
        name = path.relative_to(folder).as_posix()
        if pattern.search(path.stem):
            yield name, Edited(1, f"rename the file {path.name}")
        for number, line in enumerate(
            path.read_text("utf-8", "replace").split("\n"), 1
        ):
            if pattern.search(line):
                yield name, Edited(number, line.strip())
