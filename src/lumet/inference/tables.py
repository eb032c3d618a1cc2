"""Questions about one table: its names, its title, its place, what its pages show."""

from lumet.facts.model import Column, Table
from lumet.inference.columns import KEY_WORDS, LONG_TEXT, is_stamp
from lumet.inference.rules import Choice, Subject, TableRule
from lumet.inference.words import label_from, nouns_of, split_words

_NAME_WORDS = ("name", "title", "label", "caption", "subject", "summary", "designation")
_TELLING_WORDS = (
    *_NAME_WORDS,
    "description",
    "code",
    "number",
    "no",
    "nr",
    "reference",
)
_TECHNICAL_WORDS = frozenset(
    {"migration", "migrations", "session", "sessions", "queue"}
)
_TECHNICAL_NAMES = frozenset({"schema_version", "schema_info", "db_version"})
_PREFIXES = frozenset({"tbl", "t", "tab", "table", "vw", "v"})
LARGE = 100_000  # rows; above, an order is only chosen where an index serves it
ENOUGH = 30  # rows; fewer prove nothing
SMALL = 100  # rows; up to here a table that others refer to may be reference data
LIST_COLUMNS = 6
TITLE_DEPTH = 2  # references that a title may reach through


def table_words(subject: Subject, table: Table) -> list[str]:
    """Return the words of a table's name without a prefix that says "table"."""
    words = split_words(table.name)
    return words[1:] if len(words) > 1 and words[0] in _PREFIXES else words


def singular_of_owned(subject: Subject) -> Choice | None:
    """A table that begins with the name of the one it belongs to drops it:
    `inspection_finding`, deleted with its inspection, is a finding."""
    words = table_words(subject, subject.table)
    for reference in subject.table.references:
        owner = split_words(reference.referred_table)
        rest = words[len(owner) :]
        if rest and words[: len(owner)] == owner and reference.on_delete == "cascade":
            name = "_".join(rest)
            if all(name != other.name.casefold() for other in subject.database.tables):
                singular = label_from(nouns_of(rest)[0])
                return Choice(singular, f"belongs to {reference.referred_table}")
    return None


def singular_of_name(subject: Subject) -> Choice | None:
    """Else the words of the table's name, the last one in the singular."""
    words = nouns_of(table_words(subject, subject.table))[0]
    return Choice(label_from(words) or subject.table.name, "from the table's name")


SINGULAR_RULES: tuple[TableRule, ...] = (singular_of_owned, singular_of_name)


def plural_of_singular(subject: Subject) -> Choice | None:
    """The plural of the singular."""
    singular = str(subject.answer("singular"))
    words = nouns_of(singular.split())[1] or [singular]
    return Choice(" ".join(words), "")


PLURAL_RULES: tuple[TableRule, ...] = (plural_of_singular,)


def technical_by_name(subject: Subject) -> Choice | None:
    """Migrations, sessions and queues are for programs: left out of the application."""
    words = split_words(subject.table.name)
    named = subject.table.name.casefold() in _TECHNICAL_NAMES
    if not (named or _TECHNICAL_WORDS.intersection(words)):
        return None
    if subject.table.references or subject.database.referring_to(subject.table.name):
        return None
    return Choice(False, "a table for programs, by its name", 0.8)


def included(subject: Subject) -> Choice | None:
    """Every other table with a column is part of the application."""
    return Choice(True, "")


INCLUDE_RULES: tuple[TableRule, ...] = (technical_by_name, included)


def title_of_person(subject: Subject) -> Choice | None:
    """First and last name together name a person."""
    by_words = {tuple(split_words(c.name)): c.name for c in subject.table.columns}
    for first in ("first", "given", "fore"):
        for last in ("last", "family", "sur"):
            given = by_words.get((first, "name")) or by_words.get((first + "name",))
            family = by_words.get((last, "name")) or by_words.get((last + "name",))
            if given and family:
                return Choice(f"{{{given}}} {{{family}}}", "a person's names")
    return None


def title_of_unique_name(subject: Subject) -> Choice | None:
    """A column named like a name, unique by constraint or in all rows that were read."""
    for column in _named(subject, _NAME_WORDS):
        if subject.table.is_unique((column.name,)):
            return _single(column, "unique by constraint", 1.0)
        profile = subject.column_profile(column.name)
        proven = profile is not None and profile.unique and profile.empty == 0
        if (
            proven
            and subject.profile.sampled >= ENOUGH
            and not _is_part(subject, column)
        ):
            return _single(column, "unique and never empty", 0.9)
    return None


def _is_part(subject: Subject, column: Column) -> bool:
    """Tell whether a constraint makes a column unique only together with others."""
    keys = [unique.columns for unique in subject.table.uniques]
    return any(column.name in key and len(key) > 1 for key in keys)


def title_of_unique_parts(subject: Subject) -> Choice | None:
    """A unique constraint over a reference and a name, a date or a number."""
    for columns in (unique.columns for unique in subject.table.uniques):
        found = [subject.table.column(name) for name in columns]
        lookups = [c for c in found if _is_shallow_lookup(subject, c)]
        others = [c for c in found if c not in lookups]
        if lookups and others and all(_can_tell(subject, c) for c in others):
            title = " · ".join(f"{{{name}}}" for name in columns)
            return Choice(title, "unique together", 0.9)
    return None


def title_of_name(subject: Subject) -> Choice | None:
    """A column named like a name, though it may repeat."""
    for column in _named(subject, _NAME_WORDS):
        return _single(column, "named like a name; may repeat", 0.8)
    return None


def title_of_event(subject: Subject) -> Choice | None:
    """What happened to something at some time: a reference and a date."""
    lookups = [c for c in subject.table.columns if _is_shallow_lookup(subject, c)]
    dates = [
        column
        for column in subject.table.columns
        if column.type.kind in ("date", "moment") and not is_stamp(column)
        and not column.nullable
    ]  # fmt: skip
    if lookups and dates:
        title = f"{{{lookups[0].name}}} · {{{dates[0].name}}}"
        return Choice(title, "what it is about, and when", 0.8)
    return None


def title_of_key(subject: Subject) -> Choice | None:
    """A key that people can read: a text, or a unique code."""
    for columns in (
        subject.table.primary_key,
        *(u.columns for u in subject.table.uniques),
    ):
        if len(columns) == 1 and subject.table.column(columns[0]).type.kind == "text":
            return _single(subject.table.column(columns[0]), "a readable key", 0.8)
    return None


def title_of_telling(subject: Subject) -> Choice | None:
    """A column with a telling name, else the first short text."""
    short = [c for c in subject.table.columns if _is_short_text(subject, c)]
    for column in _named(subject, _TELLING_WORDS):
        if column in short:
            return _single(column, "the most telling name", 0.7)
    for column in short:
        if not column.nullable and not subject.one_of(column.name):
            return _single(column, "the first short text", 0.65)
    return None


def title_of_number(subject: Subject) -> Choice | None:
    """Else the word for one record and its key, or its first column."""
    columns = subject.table.primary_key or (subject.table.columns[0].name,)
    parts = ", ".join(f"{{{name}}}" for name in columns)
    singular = subject.answer("singular")
    return Choice(f"{singular} {parts}", "nothing names a record", 0.5)


TITLE_RULES: tuple[TableRule, ...] = (
    title_of_person,
    title_of_unique_name,
    title_of_unique_parts,
    title_of_name,
    title_of_event,
    title_of_key,
    title_of_telling,
    title_of_number,
)


def _named(subject: Subject, words: tuple[str, ...]) -> list[Column]:
    """Return the short text columns named by one of `words`, the best word first: just
    the word, then with the table's name before it, then with any other."""
    ranked: list[tuple[int, int, int, Column]] = []
    own = [split_words(subject.table.name), table_words(subject, subject.table)]
    for column in subject.table.columns:
        parts = split_words(column.name)
        if not _is_short_text(subject, column) or parts[-1:] == [] or (
            parts[-1] not in words
        ):  # fmt: skip
            continue
        rest = parts[:-1]
        nearness = 0 if not rest else 1 if rest in own else 2
        if nearness < 2:
            ranked.append((nearness, words.index(parts[-1]), len(ranked), column))
    return [column for *_, column in sorted(ranked, key=lambda item: item[:3])]


def _is_short_text(subject: Subject, column: Column) -> bool:
    if column.type.kind != "text" or subject.table.reference_of(column.name):
        return False
    profile = subject.column_profile(column.name)
    return profile is None or (profile.mean_length <= LONG_TEXT and profile.empty < 0.5)


def _can_tell(subject: Subject, column: Column) -> bool:
    if column.type.kind in ("date", "moment", "integer"):
        return True
    return _is_short_text(subject, column)


def _is_shallow_lookup(subject: Subject, column: Column) -> bool:
    """Tell whether a title may reach through `column` without going in a circle or
    through more than TITLE_DEPTH references."""
    return _depth(subject, subject.table, column.name, ()) <= TITLE_DEPTH


def _depth(subject: Subject, table: Table, column: str, seen: tuple[str, ...]) -> int:
    reference = table.reference_of(column)
    if reference is None or table.name in seen:
        return TITLE_DEPTH + 1
    title = subject.answers.get((reference.referred_table, "title"))
    if title is None:
        return TITLE_DEPTH + 1
    referred = subject.database.table(reference.referred_table)
    deeper = [
        _depth(subject, referred, part.name, (*seen, table.name))
        for part in referred.columns
        if f"{{{part.name}}}" in title.value and referred.reference_of(part.name)
    ]
    return 1 + max(deeper, default=0)


def _single(column: Column, reason: str, confidence: float) -> Choice:
    return Choice(f"{{{column.name}}}", reason, confidence)


def title_columns(subject: Subject) -> tuple[str, ...]:
    """Return the columns that the title of the subject's table names."""
    title = subject.answer("title")
    return tuple(c.name for c in subject.table.columns if f"{{{c.name}}}" in title)


def group_of_view(subject: Subject) -> Choice | None:
    """Views are overviews."""
    if subject.table.kind == "view":
        return Choice("Overviews", "a view")
    return None


def group_of_reference_data(subject: Subject) -> Choice | None:
    """Small tables that others refer to and that refer to none hold reference data."""
    refers = [
        r for r in subject.table.references if r.referred_table != subject.table.name
    ]
    referring = subject.database.referring_to(subject.table.name)
    small = subject.profile.sampled == 0 or subject.profile.rows <= SMALL
    natural = any(
        not subject.table.column(name).automatic for name in subject.table.primary_key
    )
    few = len(subject.table.columns) <= 8
    known = subject.profile.sampled > 0 or natural
    if referring and not refers and small and few and known:
        return Choice("Reference data", "small, and only referred to", 0.8)
    return None


def group_of_prefix(subject: Subject) -> Choice | None:
    """Three tables or more whose names begin alike stand together."""
    words = table_words(subject, subject.table)
    if len(words) < 2:
        return None
    alike = [
        table
        for table in subject.database.tables
        if table_words(subject, table)[:1] == words[:1]
    ]
    if len(alike) < 3 or len(alike) == len(subject.database.tables):
        return None
    return Choice(label_from(words[:1]), f"{len(alike)} tables begin alike", 0.7)


def group_of_rest(subject: Subject) -> Choice | None:
    """Tables that are linked hold the records; the others stand apart."""
    linked = subject.table.references or subject.database.referring_to(
        subject.table.name
    )
    if linked or len(subject.database.tables) == 1:
        return Choice("Records", "linked with other tables")
    return Choice("Other", "linked with no other table")


GROUP_RULES: tuple[TableRule, ...] = (
    group_of_view,
    group_of_reference_data,
    group_of_prefix,
    group_of_rest,
)


def columns_of_list(subject: Subject) -> Choice:
    """Telling and short: what the title does not say, lookups and choices first when
    there are too many; no long text, no stamps, nothing that is nearly always empty."""
    titled = set(title_columns(subject))
    found = [
        column
        for column in subject.table.columns
        if column.name not in titled and _is_for_list(subject, column)
    ]
    if len(found) <= LIST_COLUMNS:
        return Choice([c.name for c in found], "short, and not said by the title")
    ranks = {"lookup": 0, "choice": 0, "date": 1, "moment": 1, "yes/no": 2}
    best = sorted(
        found,
        key=lambda c: (
            ranks.get(subject.answer(c.name, "kind"), 3),
            _place(subject, c),
        ),
    )[:LIST_COLUMNS]
    kept = [c.name for c in found if c in best]
    return Choice(kept, f"the most telling {LIST_COLUMNS} of {len(found)}", 0.8)


def _place(subject: Subject, column: Column) -> int:
    return subject.table.columns.index(column)


def _is_for_list(subject: Subject, column: Column) -> bool:
    profile = subject.column_profile(column.name)
    return (
        not subject.answers.get((subject.table.name, column.name, "hidden"))
        and subject.answer(column.name, "kind") not in ("long text", "json", "other")
        and not is_stamp(column)
        and (profile is None or profile.empty < 0.9)
    )


def order_of_list(subject: Subject) -> Choice:
    """The latest first where the title holds a date; else by the title. A table of over
    LARGE rows is ordered only as an index allows, else by its key."""
    columns = title_columns(subject)
    dated = [
        name
        for name in columns
        if subject.table.column(name).type.kind in ("date", "moment")
    ]
    wanted = [f"-{dated[0]}"] if dated else list(columns)
    if subject.profile.rows <= LARGE or _has_index(
        subject, wanted[0].removeprefix("-")
    ):
        return Choice(wanted, "the latest first" if dated else "by the title")
    return Choice(
        list(subject.table.primary_key),
        "no index serves a better order of so many rows",
    )


def _has_index(subject: Subject, column: str) -> bool:
    leading = [index.columns[0] for index in subject.table.indexes if not index.partial]
    leading += [unique.columns[0] for unique in subject.table.uniques]
    return column in leading or subject.table.primary_key[:1] == (column,)


_CONTACT_WORDS = frozenset(
    {"phone", "telephone", "tel", "mobile", "fax", "email", "mail", "address", "street",
     "city", "town", "postcode", "zip", "country", "website", "web"}
)  # fmt: skip
_POSITION_WORDS = frozenset({"latitude", "longitude", "lat", "lon", "lng", "elevation"})


def sections_of(subject: Subject) -> dict[str, Choice]:
    """Forms and records are read in sections: the position, how to reach somebody, long
    texts and the stamps each stand together, everything else comes first."""
    shown = [
        column
        for column in subject.table.columns
        if not subject.answers.get((subject.table.name, column.name, "hidden"))
    ]
    first = str(subject.answer("singular"))
    sections: dict[str, list[str]] = {first: []}
    for name in ("Position", "Contact", "Remarks", "Record"):
        sections.setdefault(name, [])
    for column in shown:
        sections[_section(subject, column, first)].append(column.name)
    for name in ("Position", "Contact"):
        if name != first and len(sections[name]) < 2:
            moved = set(sections[first] + sections.pop(name))
            sections[first] = [c.name for c in shown if c.name in moved]
    if not sections[first]:  # nothing else: no need for names
        sections = {first: [column.name for column in shown]}
    return {name: Choice(columns, "") for name, columns in sections.items() if columns}


def _section(subject: Subject, column: Column, first: str) -> str:
    words = set(split_words(column.name))
    if column.name in title_columns(subject):
        return first
    if words & _POSITION_WORDS and column.type.kind in ("float", "decimal", "integer"):
        name = "Position"
    elif is_stamp(column) or words <= {"version", "row", "lock"}:
        name = "Record"
    elif subject.answer(column.name, "kind") == "long text":
        name = "Remarks"
    elif words & _CONTACT_WORDS and column.type.kind == "text":
        name = "Contact"
    else:
        name = first
    return name


def details_of_references(subject: Subject) -> dict[str, Choice]:
    """Every reference that points here is a block of related records; those that are
    deleted with the record come first."""
    found: dict[str, list[tuple[tuple[str, ...], str]]] = {}
    for table, reference in subject.database.referring_to(subject.table.name):
        if subject.answers[table.name, "include"].value and reference.referred_columns:
            found.setdefault(table.name, []).append(
                (reference.columns, reference.on_delete)
            )
    ordered = sorted(found, key=lambda name: (found[name][0][1] != "cascade", name))
    return {name: _detail(subject, name, found[name]) for name in ordered}


def _detail(
    subject: Subject, name: str, references: list[tuple[tuple[str, ...], str]]
) -> Choice:
    plural = subject.answers[name, "plural"].value
    values = []
    for columns, _ in references:
        by = columns[0] if len(columns) == 1 else list(columns)
        value = {"by": by}
        if len(references) > 1 or name == subject.table.name:
            words = split_words(columns[0])
            stem = words[:-1] if len(words) > 1 and words[-1] in KEY_WORDS else words
            value["label"] = f"{plural} ({label_from(stem).lower()})"
        values.append(value)
    reason = "deleted with it" if references[0][1] == "cascade" else "refers to it"
    return Choice(values[0] if len(values) == 1 else values, reason)
