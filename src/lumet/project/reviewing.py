"""The review: every decision with its value, where it comes from, why and how sure it
is."""

from collections.abc import Iterator
from dataclasses import dataclass, field, fields
from difflib import get_close_matches
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

from lumet.design.cards import CARDS, DecidedPage
from lumet.design.decision_file import DecisionFile, nearest
from lumet.design.decision_schema import DOUBTFUL, Entry, severity_of
from lumet.design.details import details_of
from lumet.design.indexes import Wanted, wanted_indexes
from lumet.design.reading import (
    decide,
    fitting_patterns,
)
from lumet.design.value_types import TITLE_PART
from lumet.errors import LumetError, Mistake, Mistakes
from lumet.facts.model import Database
from lumet.inference.engine import subjects_of
from lumet.inference.glued_words import with_words_apart
from lumet.inference.references import (
    FoundKey,
    FoundReference,
    find_keys,
    find_references,
    with_found,
)
from lumet.inference.relations import Junction, hierarchy_of, junction_of
from lumet.project import project_files as files
from lumet.project.decisions import (
    OwnDecisions,
    read_decisions,
    with_declarations,
    with_glossary,
)
from lumet.project.queries import with_queries
from lumet.project.surveyfile import Survey, read_survey, to_entries

YOURS = "yours"
INFERRED = "inferred"


@dataclass(frozen=True, slots=True)
class Reviewed:
    """One decision in effect: its path in the table's file, its value, who decided
    ("inferred", "yours", or the pattern), why, how sure, and the line it stands in."""

    path: tuple[str, ...]
    value: Any
    source: str
    reason: str = ""
    confidence: float = 1.0
    line: int = 0

    @property
    def is_doubtful(self) -> bool:
        """Tell whether a person should look at it."""
        return self.source == INFERRED and self.confidence < DOUBTFUL

    @property
    def severity(self) -> str:
        """What it would cost if it were wrong."""
        return severity_of(self.path)


@dataclass(frozen=True, slots=True)
class ReviewedReference:
    """A reference, declared or found, used or only proposed."""

    table: str
    columns: tuple[str, ...]
    referred_table: str
    referred_columns: tuple[str, ...]
    declared: bool
    used: bool
    confidence: float
    orphan_fraction: float | None
    reason: str


@dataclass(slots=True)
class ReviewedTable:
    """One table with its decisions, in the order of its file."""

    name: str
    file: str
    is_included: bool
    kind: str
    decisions: list[Reviewed] = field(default_factory=list)
    proposals: list[Reviewed] = field(default_factory=list)

    def of_column(self, column: str) -> list[Reviewed]:
        """Return the decisions about one column."""
        return [d for d in self.decisions if d.path[:2] == ("field", column)]

    def value(self, *path: str) -> Any:
        """Return a decision's value, None where there is none."""
        return next((d.value for d in self.decisions if d.path == path), None)


@dataclass(frozen=True, slots=True)
class ReviewedPage:
    """A page of cards, with its cards in order; the first page has no `name`."""

    name: str
    file: str
    cards: tuple[Reviewed, ...]


@dataclass(slots=True)
class Review:
    """All that was decided."""

    tables: list[ReviewedTable]
    references: list[ReviewedReference]
    junctions: list[Junction]
    hierarchies: list[tuple[str, str]] = field(default_factory=list)
    unlooked: tuple[str, ...] = ()
    indexes: list[Wanted] = field(default_factory=list)
    pages: list[ReviewedPage] = field(default_factory=list)


def review(folder: Path) -> Review:
    """Return the decisions of the project in `folder`. Raises Mistakes when one of them
    is wrong."""
    survey = read_survey(folder)
    mistakes: list[Mistake] = []
    survey = with_queries(folder, with_glossary(folder, survey), mistakes)
    own = read_decisions(folder, survey, mistakes)
    if mistakes:
        raise Mistakes(tuple(mistakes))
    catalogue = survey.database
    survey, _ = with_declarations(survey, own)
    paths = files.table_files(survey.database.tables)
    tables = [_table(folder, paths[n], survey, own, n) for n in survey.tables]
    found = find_references(_keyed(catalogue, survey), survey.evidence)
    _add_proposals(tables, find_keys(catalogue, survey.evidence), found)
    subjects = list(subjects_of(survey.database, survey.evidence))
    return Review(
        tables,
        list(_references(catalogue, survey.database, found, own)),
        [j for s in subjects if (j := junction_of(s)) is not None],
        [(s.table.name, parent) for s in subjects if (parent := hierarchy_of(s))],
        survey.evidence.cut,
        [
            each
            for name in survey.tables
            for each in wanted_indexes(
                survey.database,
                survey.database.table(name),
                decide(
                    survey.database.table(name),
                    survey.entries(name),
                    own.tables.get(name, {}),
                    own.patterns,
                ),
                survey.rows(name),
            )
        ],
        [_page(folder, page, survey) for page in own.card_pages],
    )


def _keyed(catalogue: Database, survey: Survey) -> Database:
    worded = with_words_apart(catalogue)
    return with_found(worded, find_keys(worded, survey.evidence), ())


def _table(
    folder: Path, path: str, survey: Survey, own: OwnDecisions, name: str
) -> ReviewedTable:
    table = survey.database.table(name)
    lines = _lines(folder, path)
    entries: dict[tuple[str, ...], Entry] = {e.path: e for e in survey.entries(name)}
    patterns = {
        p: (pattern, value)
        for p, pattern, value in fitting_patterns(table, own.patterns)
    }
    for block in [p for p in patterns if p[0] == "details"]:
        hidden = patterns.pop(block)
        blocks = [
            e for e in entries if e[0] == "details" and fnmatchcase(e[1], path[1])
        ]
        patterns.update(dict.fromkeys(blocks, hidden))
    mine = own.tables.get(name, {})
    decisions = []
    for each in _in_order(entries, patterns, mine):
        line = lines.get(each, 0)
        if each in mine:
            decisions.append(Reviewed(each, _plain(mine[each]), YOURS, line=line))
        elif each in patterns:
            pattern, value = patterns[each]
            decisions.append(
                Reviewed(each, value, f'pattern "{pattern}" in {own.origins[pattern]}')
            )
        else:
            e = entries[each]
            decisions.append(
                Reviewed(each, e.value, INFERRED, e.reason, e.confidence, line)
            )
    made = ReviewedTable(name, path, True, table.kind, decisions)
    made.is_included = made.value("include") is not False
    return made


def _page(folder: Path, page: DecidedPage, survey: Survey) -> ReviewedPage:
    lines = _lines(folder, page.file)
    inferred = {} if page.name else {e.path: e for e in to_entries(survey.front)}
    cards = []
    for card in page.cards:
        path = (CARDS, card.name)
        value = {
            each.name: _plain(held)
            for each in fields(card.decided)
            if (held := getattr(card.decided, each.name)) not in ("", (), None)
        }
        line, guess = lines.get(path, 0), inferred.get(path)
        if card.is_own or guess is None:
            cards.append(Reviewed(path, value, YOURS, line=line))
        else:
            cards.append(Reviewed(path, value, INFERRED, guess.reason, guess.confidence, line))  # fmt: skip
    return ReviewedPage(page.name, page.file, tuple(cards))


def _lines(folder: Path, path: str) -> dict[tuple[str, ...], int]:
    """Return the line of each key in a decision file, a person's before the
    machine's."""
    text = files.read_text(folder, path) or ""
    scanned = [s for s in DecisionFile(path, text).scanned if s.path]
    return {s.path: s.line for s in sorted(scanned, key=lambda s: not s.machine)}


def _in_order(*sources: Any) -> Iterator[tuple[str, ...]]:
    """Yield each path once: those of the first source in its order, those of others
    behind them."""
    yield from dict.fromkeys(path for source in sources for path in source)


def _plain(value: Any) -> Any:
    """Return a person's decision as JSON can hold it."""
    if isinstance(value, tuple):
        return [_plain(item) for item in value]
    if hasattr(value, "by"):
        return {
            key: _plain(getattr(value, key))
            for key in value.__slots__
            if getattr(value, key)
        }
    return value


def _add_proposals(
    tables: list[ReviewedTable],
    keys: tuple[FoundKey, ...],
    found: tuple[FoundReference, ...],
) -> None:
    by_name = {table.name: table for table in tables}
    for key in keys:
        table = by_name.get(key.table)
        if table is not None and not key.is_used and table.value("key") is None:
            value = list(key.columns)
            table.proposals.append(
                Reviewed(("key",), value, INFERRED, key.reason, key.confidence)
            )
    for each in found:
        if each.is_used or len(each.columns) > 1 or each.table not in by_name:
            continue
        path = ("field", each.columns[0], "references")
        if by_name[each.table].value(*path) is None:
            end = f"{each.referred_table}.{each.referred_columns[0]}"
            proposal = Reviewed(path, end, INFERRED, each.reason, each.confidence)
            by_name[each.table].proposals.append(proposal)


def _references(
    catalogue: Database,
    effective: Database,
    found: tuple[FoundReference, ...],
    own: OwnDecisions,
) -> Iterator[ReviewedReference]:
    by_place = {
        (f.table, f.columns, f.referred_table, f.referred_columns): f for f in found
    }
    seen = set()
    for table in effective.tables:
        declared = {
            (r.columns, r.referred_table)
            for r in catalogue.table(table.name).references
        }
        for r in table.references:
            place = (table.name, r.columns, r.referred_table, r.referred_columns)
            seen.add(place)
            guess = by_place.get(place)
            is_declared = (r.columns, r.referred_table) in declared
            if is_declared:
                yield ReviewedReference(*place, True, True, 1.0, None, "declared")
            elif guess is not None:
                yield _found(guess, used=True)
            else:
                yield ReviewedReference(
                    *place, False, True, 1.0, None, "declared by hand"
                )
    for place, guess in by_place.items():
        if place not in seen:
            yield _found(guess, used=False)


def _found(guess: FoundReference, used: bool) -> ReviewedReference:
    return ReviewedReference(
        guess.table,
        guess.columns,
        guess.referred_table,
        guess.referred_columns,
        declared=False,
        used=used,
        confidence=guess.confidence,
        orphan_fraction=guess.orphans,
        reason=guess.reason,
    )


def chosen(found: Review, place: str) -> tuple[ReviewedTable, str]:
    """Return the table that `place` names, and its column, "" for the whole table.

    Raises LumetError, with the nearest names, when there is no such one.
    """
    by_name = {table.name: table for table in found.tables}
    if place in by_name:
        return by_name[place], ""
    name, _, column = place.rpartition(".")
    if name in by_name:
        names = list(dict.fromkeys(
            d.path[1] for d in by_name[name].decisions if d.path[0] == "field"
        ))  # fmt: skip
        if column in names:
            return by_name[name], column
        raise LumetError(f'{name} has no column "{column}". {nearest(column, names)}')
    near = get_close_matches(place, by_name, n=1, cutoff=0.4)
    hint = f"Nearest: {near[0]}." if near else nearest(place, by_name)
    raise LumetError(f'There is no table "{place}". {hint}')


def as_json(found: Review) -> dict[str, Any]:
    """Return a review as programs read it. Confidences are from 0 to 1; `edit` of a
    detail is "in place" or "no"."""
    shown = [table for table in found.tables if table.is_included]
    decisions = [(table, d) for table in shown for d in table.decisions]
    return {
        "references": [
            {
                "table": r.table,
                "columns": list(r.columns),
                "referred_table": r.referred_table,
                "referred_columns": list(r.referred_columns),
                "declared": r.declared,
                "used": r.used,
                "confidence": r.confidence,
                "orphan_fraction": r.orphan_fraction,
                "reason": r.reason,
            }
            for r in found.references
        ],
        "titles": [
            {"table": t.name, "columns": TITLE_PART.findall(str(d.value)), **_why(d)}
            for t, d in decisions
            if d.path == ("title",)
        ],
        "kinds": [
            {"table": t.name, "column": d.path[1], "kind": d.value, **_why(d)}
            for t, d in decisions
            if d.path[0] == "field" and d.path[-1] == "kind"
        ],
        "details": [detail for t, d in decisions for detail in _details(t, d)],
        "junctions": [
            {"table": j.table, "columns": list(j.columns), "pure": j.is_pure, "reason": j.reason}
            for j in found.junctions
        ],
        "hierarchies": [{"table": t, "parent": c} for t, c in found.hierarchies],
        "pages": [
            {
                "page": page.name,
                "file": page.file,
                "cards": [
                    {"name": d.path[-1], "value": d.value, "source": d.source,
                     "line": d.line, "reason": d.reason or d.source}
                    for d in page.cards
                ],
            }
            for page in found.pages
        ],
        "tables": [_table_json(table) for table in found.tables],
    }  # fmt: skip


def _table_json(table: ReviewedTable) -> dict[str, Any]:
    return {
        "table": table.name,
        "file": table.file,
        "included": table.is_included,
        "decisions": [
            {"key": list(d.path), "value": d.value, "source": d.source, "line": d.line,
             **_why(d)}
            for d in table.decisions
        ],
        "proposals": [
            {"key": list(d.path), "value": d.value, **_why(d)} for d in table.proposals
        ],
    }  # fmt: skip


def _why(decision: Reviewed) -> dict[str, Any]:
    return {
        "confidence": decision.confidence,
        "severity": decision.severity,
        "reason": decision.reason or decision.source,
    }


def _details(table: ReviewedTable, decision: Reviewed) -> Iterator[dict[str, Any]]:
    if decision.path[0] != "details" or not decision.value:
        return
    for detail in details_of(decision.path[1], decision.value):
        yield {
            "table": table.name,
            "detail": detail.table,
            "columns": list(detail.by),
            "edit": detail.edit or "no",
            "reason": decision.reason or decision.source,
        }
