"""All questions about all tables, in the order in which they build on each other."""

from collections import deque
from collections.abc import Callable, Iterator

from lumet.design.access import GROUP_PREFIX
from lumet.design.decision_schema import Entry
from lumet.design.declared_keys import Declared
from lumet.evidence.model import Evidence
from lumet.facts.model import Column, Database
from lumet.inference import (
    columns,
    details,
    kinds,
    layouts,
    polymorphic,
    relations,
    tables,
    titles,
)
from lumet.inference.glued_words import with_words_apart
from lumet.inference.labels_from_names import NO_GLOSSARY, Glossary, acronyms_in
from lumet.inference.references import (
    FoundReference,
    find_keys,
    find_references,
    shared_word,
    with_found,
)
from lumet.inference.rules import Choice, Subject, TableRule, ask, ask_column
from lumet.kit.contract import RIGHTS

_REFERENCE_GROUP = "Reference data"
SURE_TITLE = 0.7  # confidence; below, the title is asked for again


def infer(
    database: Database,
    evidence: Evidence,
    left_out: frozenset[str] = frozenset(),
    denied: frozenset[Declared] = frozenset(),
    glossary: Glossary = NO_GLOSSARY,
) -> dict[str, tuple[Entry, ...]]:
    """Answer every question about every table, with reason and confidence. Tables that
    are `left_out` are in the application for their lookups alone; what is `denied` is
    no reference, whatever speaks for it. The `glossary` holds words for labels.

    Returns the inferred decisions by table, each in the canonical order of its file. A
    question is asked of all tables before the next, since answers build on others'.
    """
    if not database.tables:
        return {}
    database = with_words_apart(database, glossary)
    keys = find_keys(database, evidence)
    keyed = with_found(database, keys, ())
    references = [
        found
        for found in find_references(keyed, evidence)
        if not _is_denied(found, denied)
    ]
    database = with_found(keyed, (), references)
    names = [c.name for table in database.tables for c in table.columns]
    names += [table.own_name for table in database.tables]
    told = {**acronyms_in(names), **glossary}
    start = Subject(database, evidence, database.tables[0], glossary=told)
    start.shared = shared_word(database)
    start.keys.update({key.table: key for key in keys if key.is_used})
    start.found.update({(f.table, f.columns): f for f in references if f.is_used})
    subjects = [start.about(table.name) for table in database.tables if table.columns]
    per_table: tuple[tuple[str, tuple[TableRule, ...]], ...] = (
        ("include", tables.INCLUDE_RULES),
        ("singular", tables.SINGULAR_RULES),
        ("plural", tables.PLURAL_RULES),
    )
    for question, rules in per_table:
        _ask_all(subjects, question, rules)
    for name in left_out:
        subject_answer = Choice(False, "not chosen; read for its lookups")
        start.answers[name, "include"] = subject_answer
    tables.tell_labels_apart(subjects)
    # A title reaches through the titles of others: those that refer to none come first.
    for subject in _referred_first(subjects):
        subject.answers[subject.table.name, "title"] = ask(titles.TITLE_RULES, subject)
    for subject in subjects:  # in a circle some did not know what they refer to
        if subject.answers[subject.table.name, "title"].confidence < SURE_TITLE:
            again = ask(titles.TITLE_RULES, subject)
            subject.answers[subject.table.name, "title"] = again
    _ask_all(subjects, "group", tables.GROUP_RULES)
    tables.split_groups(subjects)
    for subject in subjects:
        for column in subject.table.columns:
            _ask_about(subject, column)
    return {subject.table.name: _entries(subject) for subject in subjects}


def subjects_of(database: Database, evidence: Evidence) -> Iterator[Subject]:
    """Yield each table as the rules look at it, before any question was asked; what was
    found is in the facts of `database` already."""
    database = with_words_apart(database)
    shared = shared_word(database)
    for table in database.tables:
        if table.columns:
            yield Subject(database, evidence, table, shared=shared)


def _is_denied(found: FoundReference, denied: frozenset[Declared]) -> bool:
    several = len(found.columns) > 1
    return any(
        each.table == found.table
        and (
            each.columns == found.columns
            or (
                several
                and not each.columns
                and each.referred_table == found.referred_table
            )
        )
        for each in denied
    )


def _ask_all(
    subjects: list[Subject], question: str, rules: tuple[TableRule, ...]
) -> None:
    for subject in subjects:
        subject.answers[subject.table.name, question] = ask(rules, subject)


def _referred_first(subjects: list[Subject]) -> list[Subject]:
    """Return the subjects so that each comes behind those it refers to; in a circle,
    the first by name begins."""
    waiting = {subject.table.name: subject for subject in subjects}
    needs: dict[str, set[str]] = {
        name: {
            reference.referred_table
            for reference in subject.table.references
            if reference.referred_table in waiting and reference.referred_table != name
        }
        for name, subject in waiting.items()
    }
    needed_by: dict[str, list[str]] = {}
    for name, needed in needs.items():
        for each in needed:
            needed_by.setdefault(each, []).append(name)
    ready = deque(name for name, needed in needs.items() if not needed)
    ordered: list[Subject] = []
    while waiting:
        name = ready.popleft() if ready else next(iter(waiting))
        if name not in waiting:
            continue
        ordered.append(waiting.pop(name))
        for each in sorted(needed_by.get(name, ())):
            needs[each].discard(name)
            if not needs[each]:
                ready.append(each)
    return ordered


def _ask_about(subject: Subject, column: Column) -> None:
    questions = (
        ("label", columns.LABEL_RULES),
        ("kind", (columns.kind_of_secret, *kinds.KIND_RULES)),
        ("depends_on", kinds.DEPENDS_ON_RULES),
        ("type_column", (polymorphic.type_column_of,)),
        ("type_tables", (polymorphic.type_tables_of, polymorphic.tables_of_leads)),
        ("unit", columns.UNIT_RULES),
        ("total", details.TOTAL_RULES),
        ("storage_format", kinds.STORAGE_FORMAT_RULES),
        ("none", (kinds.none_of_date,)),
        ("other_values", kinds.OTHERS_RULES),
        ("hidden", columns.HIDDEN_RULES),
        ("read_only", columns.READ_ONLY_RULES),
        ("required", columns.REQUIRED_RULES),
        ("generated", columns.GENERATED_RULES),
        ("automatic", columns.AUTOMATIC_RULES),
    )
    for question, rules in questions:
        choice = ask_column(rules, subject, column)
        if choice is not None:
            subject.answers[subject.table.name, column.name, question] = choice


# of a column, by its key in the decision file
_FIELD_QUESTIONS = ("label", "kind", "depends_on", "type_column", "type_tables", "unit", "total", "storage_format", "none",
                    "other_values", "hidden", "read_only", "required", "generated", "automatic")  # fmt: skip


def _entries(subject: Subject) -> tuple[Entry, ...]:
    answers = [*_table_answers(subject)]
    for column in subject.table.columns:
        answers += _column_answers(subject, column)
    return tuple(
        Entry(
            path,
            choice.value,
            choice.reason,
            choice.confidence,
            choice.rule or _rule_of(path),
        )
        for path, choice in answers
        if choice is not None
    )


# of what no list of rules answers: by the key, or by the section it is in
_RULES: dict[str, Callable[..., object]] = {
    "pages": tables.pages_of_table,
    "soft_delete": tables.soft_delete_of,
    "key": find_keys,
    "columns": tables.columns_of_list,
    "wide_columns": tables.wide_columns_of_list,
    "order": tables.order_of_list,
    "parent": relations.hierarchy_of,
    "expand": layouts.expand_of_list,
    "calendar": layouts.calendar_of_list,
    "board": layouts.board_of_list,
    "map": layouts.map_of_list,
    "sections": tables.sections_of,
    "folded": tables.folded_sections,
    "details": details.details_of_references,
    "references": find_references,
    "choices": columns.choices_of,
    "colours": columns.tones_of,
}


def _rule_of(path: tuple[str, ...]) -> str:
    key = path[0] if path[0] in ("sections", "details", "references") else path[-1]
    rule = _RULES.get(key)
    return rule.__name__ if rule is not None else ""


Answer = tuple[tuple[str, ...], Choice | None]


def _table_answers(subject: Subject) -> Iterator[Answer]:
    """Yield the answers about the table, in the order of its file."""
    name = subject.table.name
    if not subject.answer("include"):
        yield ("include",), subject.answers[name, "include"]
    for question in ("singular", "plural", "title", "group"):
        yield (question,), subject.answers[name, question]
    yield ("pages",), tables.pages_of_table(subject)
    yield ("soft_delete",), tables.soft_delete_of(subject)
    yield ("folded",), tables.folded_sections(subject)
    if key := subject.keys.get(name):
        yield ("key",), Choice(list(key.columns), key.reason, key.confidence)
    yield ("list", "columns"), tables.columns_of_list(subject)
    wide, order = tables.wide_columns_of_list(subject), tables.order_of_list(subject)
    yield ("list", "wide_columns"), wide if wide.value else None
    yield ("list", "order"), order if order.value else None
    if parent := relations.hierarchy_of(subject):
        reason = "refers to other rows of its table"
        yield ("list", "parent"), Choice(parent, reason)
    yield ("list", "expand"), layouts.expand_of_list(subject)
    yield ("list", "calendar"), layouts.calendar_of_list(subject)
    yield ("list", "board"), layouts.board_of_list(subject)
    yield ("list", "map"), layouts.map_of_list(subject)
    for section, choice in tables.sections_of(subject).items():
        yield ("sections", section), choice
    for detail, choice in details.details_of_references(subject).items():
        yield ("details", detail), choice
    for table, choice in _refers(subject).items():
        yield ("references", table), choice


def _column_answers(subject: Subject, column: Column) -> Iterator[Answer]:
    """Yield the answers about a column."""
    table, path = subject.table.name, ("field", column.name)
    if found := subject.found.get((table, (column.name,))):
        end = f"{found.referred_table}.{found.referred_columns[0]}"
        choice = Choice(end, found.reason, found.confidence)
        yield (*path, "references"), choice
        if found.none or kinds.is_blank_none(subject, column):
            value = int(found.none) if column.type.kind == "integer" else found.none
            yield (*path, "none"), Choice(value, "stands for no record", 0.8)
    for question in _FIELD_QUESTIONS:
        yield (*path, question), subject.answers.get((table, column.name, question))
    kind = subject.answer(column.name, "kind")
    if kind == "choice" or (kind == "multiple choice" and column.type.values):
        yield (*path, "choices"), columns.choices_of(subject, column)
    if kind == "choice":
        yield (*path, "colours"), columns.tones_of(subject, column)
    if column.comment:
        yield (*path, "help"), Choice(column.comment, "the column's comment")


def _refers(subject: Subject) -> dict[str, Choice]:
    """Return the references over several columns that nobody declared."""
    grouped: dict[str, list[FoundReference]] = {}
    for (table, by), found in subject.found.items():
        if table == subject.table.name and len(by) > 1:
            grouped.setdefault(found.referred_table, []).append(found)
    return {
        name: Choice(
            [{"by": list(f.columns), "to": list(f.referred_columns)} for f in each],
            each[0].reason,
            min(f.confidence for f in each),
        )
        for name, each in grouped.items()
    }


def infer_access(inferred: dict[str, tuple[Entry, ...]]) -> tuple[Entry, ...]:
    """Return the ready roles: an administrator for everything, a worker who leaves
    reference data alone, a reader who looks and exports."""
    groups = {
        entry.value
        for entries in inferred.values()
        for entry in entries
        if entry.path == ("group",)
    }
    everything, looking = list(RIGHTS), ["view", "export"]
    found = [
        Entry(("role", "administrator", "label"), "Administrator"),
        Entry(("role", "administrator", "manage_users"), True, "manages users"),
        Entry(("role", "administrator", "read_audit_log"), True, "sees who did what"),
        Entry(
            ("role", "administrator", "share_views"), True, "shares views with others"
        ),
        Entry(("role", "administrator", "tables", "*"), everything),
        Entry(("role", "editor", "label"), "Editor"),
        Entry(("role", "editor", "tables", "*"), everything),
    ]
    if _REFERENCE_GROUP in groups:
        path = ("role", "editor", "tables", GROUP_PREFIX + _REFERENCE_GROUP)
        found.append(Entry(path, ["view"], "reference data, edited by administrators"))
    found += [
        Entry(("role", "viewer", "label"), "Viewer"),
        Entry(("role", "viewer", "tables", "*"), looking),
    ]
    return tuple(found)
