"""Decisions that hold one by one and do not fit each other or the facts: found before
anything is written, all at once, with file and line."""

from collections.abc import Collection, Iterator, Mapping
from pathlib import Path
from typing import Any

from lumet.design.access import unenterable
from lumet.design.decision_file import Checker, DecisionFile
from lumet.design.decision_schema import TableDecisions
from lumet.design.reading import fitting_patterns
from lumet.design.value_types import TITLE_PART
from lumet.errors import Mistake
from lumet.facts.model import Table
from lumet.generation.cards import why_unfit
from lumet.generation.layouts import unfit_layouts
from lumet.generation.model import Application
from lumet.project import project_files as files
from lumet.project.decisions import OwnDecisions
from lumet.project.surveyfile import Survey

LISTED = 0.9  # confidence in choices that a list of the database confirms


def find_misfits(
    folder: Path, application: Application, own: OwnDecisions, survey: Survey
) -> list[Mistake]:
    """Return the decisions that do not fit."""
    titled = {name for name, each in own.tables.items() if ("title",) in each}
    return [
        *_circles(folder, application, titled),
        *_hidden_titles(folder, application, titled),
        *_unaddable(folder, application),
        *_unenterable(folder, application),
        *_lacking_choices(folder, application, own, survey),
        *_unkeyed_lookups(folder, application, own),
        *_repeated_ends(folder, application, own, survey),
        *_unknown_in_menu(folder, application),
        *_unknown_folded(folder, application),
        *_unfit_formats(folder, application),
        *_unfit_transitions(folder, application),
        *_unfit_actions(folder, application),
        *_unfit_cards(folder, application),
        *_unfit_layouts(folder, application, own),
    ]


def _statement(
    folder: Path, file: str, path: tuple[str, ...], quoted: str, problem: str
) -> Mistake:
    """Return a mistake at a person's statement of `path`, or at the head of the patterns
    where the table's own file has none."""
    lines = DecisionFile(file, files.read_text(folder, file) or "").statements()
    found = [s for s in lines if path[: len(s.path)] == s.path and s.kind == "pair"]
    if not found:
        return Mistake(files.PATTERNS, 1, quoted, problem)
    best = max(found, key=lambda s: len(s.path))
    return Mistake(file, best.line, best.text.strip().split("\n")[0], problem)


def _lacking_choices(
    folder: Path, application: Application, own: OwnDecisions, survey: Survey
) -> Iterator[Mistake]:
    """Yield a mistake for each column whose own choices lack a value that the database
    allows: records that hold it could not be saved."""
    for name, decisions in application.decisions.items():
        listed: dict[str, Any] = {
            entry.path[1]: entry.value
            for entry in survey.entries(name)
            if entry.path[-1] == "choices" and entry.confidence >= LISTED
        }
        for column, values in listed.items():
            decided = decisions.field.get(column)
            if decided is None or decided.other_values or not decided.choices:
                continue
            missing = [value for value in values if value not in decided.choices]
            if missing:
                path = ("field", column, "choices")
                words = ", ".join(missing)
                yield _statement(
                    folder, application.files[name], path, f"{name}.{column}",
                    f"The database allows {words} as well: add a label for each, or set"
                    " other_values = true.",
                )  # fmt: skip


def _unkeyed_lookups(
    folder: Path, application: Application, own: OwnDecisions
) -> Iterator[Mistake]:
    """Yield a mistake for each reference to a query or a view whose key is not known:
    no record of it could be chosen."""
    for name, table in application.database.by_name.items():
        for path, value in _references(table, own):
            column = path[1]
            reference = table.reference_of(column)
            if not value or reference is None:
                continue
            referred = application.database.by_name.get(reference.referred_table)
            if referred is None or not referred.is_view or referred.primary_key:
                continue
            end = ", ".join(f'"{each}"' for each in reference.referred_columns)
            file = application.files.get(referred.name, "")
            yield _statement(
                folder, application.files[name], path, f"{name}.{column}",
                f"{referred.name} has no key, so nothing of it can be chosen. Write"
                f" key = [{end}] in {file}.",
            )  # fmt: skip


def _repeated_ends(
    folder: Path, application: Application, own: OwnDecisions, survey: Survey
) -> Iterator[Mistake]:
    """Yield a mistake for each reference to a column that several records have the same
    value in: what refers there would be listed once for each of them."""
    for name, table in application.database.by_name.items():
        for path, value in _references(table, own):
            reference = table.reference_of(path[1])
            if not value or reference is None:
                continue
            end, columns = reference.referred_table, reference.referred_columns
            referred = application.database.by_name.get(end)
            profile = survey.evidence.column(end, columns[0])
            is_known = referred is None or referred.is_unique(columns)
            if is_known or profile is None or profile.unique:
                continue
            if survey.evidence.table(end).sampled < 2:
                continue
            yield _statement(
                folder, application.files[name], path, f"{name}.{path[1]}",
                f"Several records of {end} have the same {columns[0]}, so {name} would be"
                f" listed once for each. Refer to a column that is unique, or to a query"
                f" in design/queries that selects the records meant.",
            )  # fmt: skip


def _unknown_in_menu(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each name in the order of the menu that is neither that of a
    group nor that of a table."""
    groups = {each.group or "Tables" for each in application.decisions.values()}
    known = [*sorted(groups), *application.decisions]
    text = files.read_text(folder, files.SETTINGS) or ""
    mistakes: list[Mistake] = []
    checker = Checker(DecisionFile(files.SETTINGS, text), mistakes)
    for name in application.menu:
        checker.known(("menu",), name, known, "There is no menu group and no table")
    yield from mistakes


def _unfit_layouts(
    folder: Path, application: Application, own: OwnDecisions
) -> Iterator[Mistake]:
    """Yield a mistake for each layout that a person decided and that its columns do not
    fit."""
    for name, decisions in application.decisions.items():
        for key, problem in unfit_layouts(application.database.table(name), decisions):
            path = ("list", key)
            if path in own.tables.get(name, {}):
                file = application.files[name]
                yield _statement(folder, file, path, f"{name}: {key}", problem)


def _unfit_cards(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each of a person's cards that does not fit the decisions about
    its table, or names a role that there is not."""
    roles = [role.name for role in application.access.roles]
    for page in application.card_pages:
        mistakes: list[Mistake] = []
        file = DecisionFile(page.file, files.read_text(folder, page.file) or "")
        checker = Checker(file, mistakes)
        for role in page.decided.roles:
            checker.known(("roles",), role, roles, "There is no role")
        for card in page.cards:
            path = ("cards", card.name)
            for role in card.decided.roles:
                checker.known((*path, "roles"), role, roles, "There is no role")
            key, problem = why_unfit(application, card.decided) if card.is_own else ("", "")  # fmt: skip
            if key:
                checker.wrong((*path, key), problem)
        yield from mistakes


def _unknown_folded(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each folded section that there is not."""
    for name, decisions in application.decisions.items():
        file, mistakes = application.files[name], list[Mistake]()
        checker = Checker(
            DecisionFile(file, files.read_text(folder, file) or ""), mistakes
        )
        for each in decisions.folded:
            checker.known(("folded",), each, decisions.sections, "There is no section")
        yield from mistakes


def _unfit_formats(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each storage format of numbers that a column cannot have."""
    needed = {"cents": ("money", ("integer",), "a whole number"),
              "fraction": ("percent", ("decimal", "float"), "a number with decimals")}  # fmt: skip
    for name, decisions in application.decisions.items():
        table = application.database.table(name)
        for column, field in decisions.field.items():
            if field.storage_format not in needed:
                continue
            kind, types, words = needed[field.storage_format]
            if field.kind == kind and table.column(column).type.kind in types:
                continue
            path = ("field", column, "storage_format")
            problem = f'"{field.storage_format}" is the format of {words} of kind "{kind}": set the kind, or leave the format out.'  # fmt: skip
            file = application.files[name]
            yield _statement(folder, file, path, f"{name}.{column}", problem)


def _unfit_transitions(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each transition of a column that is no choice, of or to a
    value that is none of its choices, or by a role that there is not."""
    roles = [role.name for role in application.access.roles]
    for name, decisions in application.decisions.items():
        file = application.files[name]
        for each in (t for several in decisions.transitions.values() for t in several):
            mistakes: list[Mistake] = []
            text = files.read_text(folder, file) or ""
            checker = Checker(DecisionFile(file, text), mistakes)
            field, path = decisions.field[each.column], ("transitions", each.column, each.name)  # fmt: skip
            if field.kind != "choice":
                problem = f"{each.column} is no choice: only the values of one have transitions."
                checker.wrong(path, problem)
            elif not field.other_values:
                for value in (*each.sources, each.target):
                    checker.known(
                        path, value, field.choices, f"{each.column} has no value"
                    )
            for role in each.roles:
                checker.known(path, role, roles, "There is no role")
            yield from mistakes


def _unfit_actions(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each action for a role that there is not, or that passes an
    attribute which users do not have."""
    access = application.access
    for name, decisions in application.decisions.items():
        if not decisions.actions:
            continue
        file, mistakes = application.files[name], list[Mistake]()
        text = files.read_text(folder, file) or ""
        checker = Checker(DecisionFile(file, text), mistakes)
        for each in decisions.actions.values():
            path = ("actions", each.name)
            for role in each.roles:
                known = [role.name for role in access.roles]
                checker.known((*path, "roles"), role, known, "There is no role")
            for argument in each.arguments:
                if argument.user:
                    at = (*path, "parameters", argument.name)
                    what = "Users have no attribute"
                    checker.known(at, argument.user, access.attributes, what)
        yield from mistakes


def _references(
    table: Table, own: OwnDecisions
) -> Iterator[tuple[tuple[str, ...], Any]]:
    mine: Mapping[tuple[str, ...], Any] = own.tables.get(table.name, {})
    for path, _pattern, value in fitting_patterns(table, own.patterns):
        if path[-1] == "references" and path not in mine:
            yield path, value
    for path, value in mine.items():
        if len(path) == 3 and path[-1] == "references":
            yield path, value


def _circles(
    folder: Path, application: Application, decided: Collection[str]
) -> Iterator[Mistake]:
    """Yield a mistake for each title that comes back to a table on its way, since a
    person decided one of them. What lies too deep is left out of the title."""
    for name, decisions in application.decisions.items():
        way = _wrong_way(application, (name,))
        if not way or not any(each in decided for each in way):
            continue
        file = application.files[name]
        lines = DecisionFile(file, files.read_text(folder, file) or "").scanned
        mine = [s for s in lines if s.path == ("title",)]
        found = min(mine, key=lambda s: s.machine, default=None)
        yield Mistake(
            file,
            found.line if found else 1,
            found.text.strip() if found else decisions.title,
            f"The title refers to itself: {' → '.join(way)}. Name other columns in one of them.",
        )


def _hidden_titles(
    folder: Path, application: Application, decided: Collection[str]
) -> Iterator[Mistake]:
    """Yield a mistake for each decided title that names a column that is
    hidden."""
    for name in decided:
        table = application.database.table(name)
        fields = application.decisions[name].field
        file = DecisionFile(
            application.files[name],
            files.read_text(folder, application.files[name]) or "",
        )
        mine = [s for s in file.scanned if s.path == ("title",) and not s.machine]
        for part in TITLE_PART.findall(mine[0].text) if mine else ():
            shown = fields.get(part)
            if shown is not None and shown.hidden and part not in table.primary_key:
                yield Mistake(
                    file.name,
                    mine[0].line,
                    mine[0].text.strip(),
                    f"The title names {part}, which is hidden: whoever sees a title sees"
                    " it. Name another column, or show this one.",
                )


def _unaddable(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each column that a new record needs and that its form does
    not enter, since a person decided so."""
    for name, decisions in application.decisions.items():
        table = application.database.table(name)
        if not _takes_records(table, decisions):
            continue
        for column in table.columns:
            each = decisions.field[column.name]
            if column.nullable or column.is_filled or each.generated or each.automatic:
                continue
            key = "hidden" if each.hidden else "read_only" if each.read_only else ""
            if key and decisions.soft_delete != column.name:
                yield _unaddable_mistake(folder, application, table, column.name, key)


def _takes_records(table: Table, decisions: TableDecisions) -> bool:
    """Tell whether the application adds records to a table."""
    is_changed = decisions.include and table.is_changeable and bool(table.primary_key)
    return is_changed and "add" in decisions.pages and "add" not in table.denied


def _unaddable_mistake(
    folder: Path, application: Application, table: Table, column: str, key: str
) -> Mistake:
    file = application.files[table.name]
    lines = DecisionFile(file, files.read_text(folder, file) or "").scanned
    found = [s for s in lines if s.path == ("field", column, key)]
    mine = min(found, key=lambda s: s.machine, default=None)
    if mine is None:
        file = files.PATTERNS
    return Mistake(
        file,
        mine.line if mine else 1,
        mine.text.strip() if mine else f"{table.name}.{column}",
        f"{table.name}.{column} takes no NULL and has no default, so no record could be"
        " added. Let it be entered, set generated or automatic for it, or remove"
        ' "add" from pages.',
    )


def _unenterable(folder: Path, application: Application) -> Iterator[Mistake]:
    """Yield a mistake for each role that may add records and cannot enter what they
    need."""
    lines = DecisionFile(files.ACCESS, files.read_text(folder, files.ACCESS) or "")
    for role in application.access.roles:
        for name, decisions in application.decisions.items():
            table = application.database.table(name)
            if not (decisions.include and table.is_changeable):
                continue
            for column in unenterable(role, table, decisions.group):
                path = ("role", role.name, "fields")
                found = [s for s in lines.scanned if s.path[:3] == path]
                yield Mistake(
                    files.ACCESS,
                    found[0].line if found else 1,
                    f"{name}.{column.name}",
                    f"{role.label} may add to {name}, whose {column.name} is required and which this role cannot enter. Remove the right to add, or the limit.",
                )


def _wrong_way(application: Application, passed: tuple[str, ...]) -> tuple[str, ...]:
    """Return a way from the last of `passed` through the tables that titles name which
    comes back; () for none."""
    table = application.database.table(passed[-1])
    for column in TITLE_PART.findall(application.decisions[table.name].title):
        reference = table.reference_of(column)
        if reference is None or reference.referred_table not in application.decisions:
            continue
        way = (*passed, reference.referred_table)
        if way[-1] in passed:
            return way
        if wrong := _wrong_way(application, way):
            return wrong
    return ()
