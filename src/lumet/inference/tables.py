"""Questions about one table: its names, title, menu group and pages."""

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import lru_cache
from itertools import groupby
from math import ceil

from lumet.facts.model import Column, Table
from lumet.inference.columns import is_surrogate_key
from lumet.inference.communities import MOST_TOGETHER, communities
from lumet.inference.kinds import FLAG_VERBS
from lumet.inference.labels_from_names import (
    ABBREVIATIONS,
    TABLE_PREFIXES,
    UNCOUNTED,
    noun_label,
    plural_label,
    split_words,
    to_singular,
)
from lumet.inference.relations import in_place, junction_of
from lumet.inference.rules import Choice, Subject, TableRule
from lumet.inference.stamps import is_stamp_of
from lumet.inference.titles import title_columns
from lumet.kinds import KIND_OF

_TECHNICAL_WORDS = frozenset(
    {"migration", "migrations", "session", "sessions", "queue", "queues", "counter", "counters",
     "sequences", "lock", "locks", "changelog", "cache"}
)  # fmt: skip
_COPIES = frozenset({"bak", "backup", "tmp", "temp"})
_NUMBERS = frozenset(
    {"no", "nr", "number", "num", "code", "ref", "reference", "id", "key"}
)
_LOG_ENDS = frozenset({"log", "history", "audit", "journal", "hist"})
# of what programs note, in the columns of a log
_OF_PROGRAMS = frozenset(
    {"ip", "ipaddr", "agent", "useragent", "level", "operation", "action", "event", "before",
     "after", "old", "new", "payload", "request", "url", "uri", "session", "entity", "query",
     "trace", "exception", "stacktrace", "host", "hostname", "logger", "thread", "facility"}
)  # fmt: skip
_TECHNICAL_NAMES = frozenset({"schema_version", "schema_info", "db_version"})
ENOUGH_ROWS = 20  # in which a column is the same before a list leaves it out
LARGE = 100_000  # rows; above, an order is only chosen where an index serves it
SMALL = 100  # rows; up to here a table that others refer to may be reference data
LIST_COLUMNS = 6  # our choice: with the title about as much as 1280 pixels hold
MOST_FIELDS = 16  # of a section; about as many as a window shows at once
FEWEST_TOGETHER = 3  # fields that make a section of their own
RARELY = 0.95  # of the rows in which a column is empty that is rarely used
OPTIONS, MORE, RARE = "Options", "More", "Rarely used"  # sections
MOST_ENTRIES, ENTRIES = (
    20,
    15,
)  # of a menu group; above the one it is cut into parts of the other
ENOUGH_ENTRIES = 4  # tables that go on alike, of a group that is cut
WIDE_COLUMNS = 5  # more, where a window is wide; eleven fill 1920 pixels


def table_words(subject: Subject, table: Table) -> list[str]:
    """Return the words of a table's name without a prefix that says "table", or that
    nearly all tables have."""
    return _own_words(table.worded, subject.shared)


def _own_words(name: str, shared: str = "") -> list[str]:
    words = split_words(name)
    while len(words) > 1 and (words[0] in TABLE_PREFIXES or words[0] == shared):
        words = words[1:]
    if len(words) > 1 and len(words[0]) == 1:  # a letter says nothing: `g_user`
        words = words[1:]
    return words


def singular_of_owned(subject: Subject) -> Choice | None:
    """A table that begins with the name of the one it belongs to drops it:
    `inspection_finding`, deleted with its inspection, is a finding."""
    words = table_words(subject, subject.table)
    for reference in subject.table.references:
        owner = split_words(subject.database.worded(reference.referred_table))
        rest = words[len(owner) :]
        if rest and words[: len(owner)] == owner and reference.on_delete == "cascade":
            name = "_".join(rest)
            if all(name != other.name.casefold() for other in subject.database.tables):
                singular = noun_label(rest, subject.glossary)
                return Choice(singular, f"belongs to {reference.referred_table}")
    return None


def singular_of_name(subject: Subject) -> Choice | None:
    """Else the words of the table's name, the last one in the singular. Example:
    `tbl_lens_types` is "Lens type"."""
    words = table_words(subject, subject.table)
    label = noun_label(words, subject.glossary)
    return Choice(label or subject.table.own_name, "from the table's name")


SINGULAR_RULES: tuple[TableRule, ...] = (singular_of_owned, singular_of_name)


def plural_of_singular(subject: Subject) -> Choice | None:
    """The plural of the singular. Example: "Inspection" gives "Inspections"."""
    last = table_words(subject, subject.table)[-1:]
    is_counted = any(to_singular(word) in UNCOUNTED and to_singular(word) != word for word in last)  # fmt: skip
    return Choice(plural_label(str(subject.answer("singular")), is_counted), "")


PLURAL_RULES: tuple[TableRule, ...] = (plural_of_singular,)


def tell_labels_apart(subjects: Sequence[Subject]) -> None:
    """Tables with the same label are told apart: by all words of
    their names, else those that the others have not, else the name itself. The one
    whose name is that label alone keeps it. Example: beside `finding`, `survey_finding`
    is "Survey finding"."""
    alike: dict[str, list[Subject]] = defaultdict(list)
    for subject in subjects:
        if subject.answer("include"):
            alike[str(subject.answer("plural")).casefold()].append(subject)
    taken = {label for label, held in alike.items() if len(held) == 1}
    for label, held in sorted(alike.items()):
        if len(held) == 1:
            continue
        held.sort(key=lambda s: (len(split_words(s.table.worded)), s.table.name))
        for place, subject in enumerate(held):
            plain = noun_label(
                split_words(subject.table.worded),
                subject.glossary,
            )
            if (
                place == 0
                and plain.casefold() == str(subject.answer("singular")).casefold()
            ):
                taken.add(label)
                continue
            others = [each for each in held if each is not subject]
            names = _longer_names(subject, others)
            singular, plural = next(
                each for each in names if each[1].casefold() not in taken
            )
            taken.add(plural.casefold())
            reason = f"{len(others)} other table{'s' * (len(others) > 1)} would be called the same"
            name = subject.table.name
            subject.answers[name, "singular"] = Choice(singular, reason, 0.8)
            subject.answers[name, "plural"] = Choice(plural, reason, 0.8)


def _longer_names(
    subject: Subject, others: Sequence[Subject]
) -> Iterator[tuple[str, str]]:
    """Yield the singular and the plural of longer and longer names; the last is like no
    other's."""
    own = split_words(subject.table.worded)
    if whole := noun_label(own, subject.glossary):
        yield whole, plural_label(whole)
    theirs = {word for each in others for word in split_words(each.table.worded)}
    singular, plural = str(subject.answer("singular")), str(subject.answer("plural"))
    telling = " ".join(word for word in own if word not in theirs)
    for mark in (
        telling,
        subject.table.schema or "",
        subject.table.own_name,
        subject.table.name,
    ):
        if mark:
            yield f"{singular} ({mark})", f"{plural} ({mark})"


def technical_by_name(subject: Subject) -> Choice | None:
    """Migrations, sessions, queues, counters, locks and caches are for programs: left
    out of the application. Example: `schema_version`, `job_queue`."""
    words = split_words(subject.table.worded)
    named = subject.table.own_name.casefold() in _TECHNICAL_NAMES
    if not (named or _TECHNICAL_WORDS.intersection(words)):
        return None
    if subject.table.references or subject.database.referring_to(subject.table.name):
        return None
    return Choice(False, "a table for programs, by its name", 0.8)


def included(subject: Subject) -> Choice | None:
    """Every other table with a column is part of the application. Example:
    `station`."""
    return Choice(True, "")


INCLUDE_RULES: tuple[TableRule, ...] = (technical_by_name, included)


def group_of_view(subject: Subject) -> Choice | None:
    """Views are overviews. Example: `station_overview`."""
    if subject.table.is_view:
        return Choice("Overviews", "a view")
    return None


def group_of_reference_data(subject: Subject) -> Choice | None:
    """Small tables that others refer to and that refer to none hold reference data.
    Example: `lens_type`."""
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


def group_of_log(subject: Subject) -> Choice | None:
    """Logs, histories and events that nothing refers to are apart. Example:
    `audit_events`, `error_log`."""
    words = subject.words
    if subject.database.referring_to(subject.table.name) or len(words) < 2:
        return None
    if words[-1] in (*_LOG_ENDS, "event") or "audit" in words:
        return Choice("Events and logs", "a log, by its name", 0.8)
    return None


def group_of_technical(subject: Subject) -> Choice | None:
    """Sessions, caches, queues and locks, copies with a date in their name, and
    settings of programs are technical. Example: `cache_index`, `vessel_bak_2019`."""
    words = split_words(subject.table.worded)
    is_copy = bool(_COPIES.intersection(words)) or any(len(w) == 8 and w.isdigit() for w in words)  # fmt: skip
    is_named = subject.table.own_name.casefold() in _TECHNICAL_NAMES or bool(
        _TECHNICAL_WORDS.intersection((*words[:1], *words[-1:]))
    )
    if (is_named or is_copy) and not subject.database.referring_to(subject.table.name):
        return Choice("Technical", "a table for programs, by its name", 0.75)
    return None


def group_of_schema(subject: Subject) -> Choice | None:
    """Where the database has several schemas, each is a group. Example: `stores.part`
    is in "Stores"."""
    schemas = {table.schema for table in subject.database.tables}
    if len(schemas) < 2 or not subject.table.schema:
        return None
    return Choice(subject.label(split_words(subject.table.schema)), "its schema", 0.8)


def group_of_community(subject: Subject) -> Choice | None:
    """Of many tables, those that refer to each other are together, under the name of
    the most central. Example: the tables around `inspection` are "Inspections"."""
    place = ("", "communities")
    if place not in subject.answers:
        rest = [
            each
            for table in subject.database.tables
            if (each := subject.about(table.name)) and _is_of_rest(each)
        ]
        names = [each.table.name for each in rest]
        found = (
            communities(subject.database, names) if len(names) > MOST_TOGETHER else {}
        )
        subject.answers[place] = Choice(found, "")
    centre = subject.answers[place].value.get(subject.table.name, "")
    plural = subject.answers.get((centre, "plural"))
    if not centre or plural is None:
        return None
    return Choice(str(plural.value), f"linked with {centre}", 0.65)


def _is_of_rest(subject: Subject) -> bool:
    return all(rule(subject) is None for rule in GROUP_RULES[:-2])


def group_of_prefix(subject: Subject) -> Choice | None:
    """Three tables or more whose names begin alike are a group, unless they begin
    with the name of another. Example: `stores_part`, `stores_bin` and `stores_move` are
    "Stores"."""
    words = table_words(subject, subject.table)
    if len(words) < 2:
        return None
    names = tuple(table.own_name for table in subject.database.tables)
    firsts, alone = _first_words(names, subject.shared)
    alike = firsts[words[0]]
    if alike < 3 or alike == len(names) or words[0] in alone:
        return None
    return Choice(
        subject.label(words[:1]) or words[0], f"{alike} tables begin alike", 0.7
    )


@lru_cache(maxsize=8)
def _first_words(
    names: tuple[str, ...], shared: str = ""
) -> tuple[Counter[str], frozenset[str]]:
    """Return how often a word begins the names of tables, and those that are the whole
    name of one."""
    every = [_own_words(name, shared) for name in names]
    firsts = Counter(words[0] for words in every if words)
    return firsts, frozenset(words[0] for words in every if len(words) == 1)


def group_of_rest(subject: Subject) -> Choice | None:
    """Linked tables are in the group of records; the others are in one of their own.
    Example: `inspection` is among the records, an imported list is not."""
    linked = subject.table.references or subject.database.referring_to(
        subject.table.name
    )
    if linked or len(subject.database.tables) == 1:
        return Choice("Records", "linked with other tables")
    return Choice("Other", "linked with no other table")


def split_groups(subjects: Sequence[Subject]) -> None:
    """Cut the menu groups of more than MOST_ENTRIES tables: by the word that follows
    what all begin with, where enough go on with it, and the rest by the alphabet.
    Reference data stay together, since a role has its rights by that name. Example:
    "Overviews: Light", "Other, A to L"."""
    groups: dict[str, list[Subject]] = {}
    for subject in subjects:
        if subject.answers.get((subject.table.name, "include"), Choice(True, "")).value:
            groups.setdefault(subject.answer("group"), []).append(subject)
    for name, members in groups.items():
        if len(members) > MOST_ENTRIES and name != "Reference data":
            _split(name, members)


def _split(name: str, members: list[Subject]) -> None:
    words = {subject.table.name: subject.words for subject in members}
    firsts = {each[:1] for each in words.values()}
    depth = 1 if len(firsts) == 1 else 0
    counts = Counter(each[depth] for each in words.values() if len(each) > depth)
    rest = []
    for subject in members:
        own = words[subject.table.name]
        word = own[depth] if len(own) > depth else ""
        if ENOUGH_ENTRIES <= counts[word] < len(members):
            _put(subject, f"{name}: {subject.label([word]) or word}", f'{counts[word]} tables go on with "{word}"')  # fmt: skip
        else:
            rest.append(subject)
    if len(rest) <= MOST_ENTRIES:
        return

    def letter(subject: Subject) -> str:
        own = " ".join(words[subject.table.name][depth:])
        return (own if depth else str(subject.answer("plural")))[:1].upper()

    rest.sort(key=lambda each: (letter(each), str(each.answer("plural"))))
    most = ceil(len(rest) / ceil(len(rest) / ENTRIES))
    parts: list[list[Subject]] = [[]]
    for _first, alike in groupby(rest, letter):
        together = [*alike]
        if parts[-1] and len(parts[-1]) + len(together) > most + FEWEST_TOGETHER:
            parts.append([])
        parts[-1] += together
    for part in parts if len(parts) > 1 else ():
        ends = f"{letter(part[0])} to {letter(part[-1])}"
        for subject in part:
            _put(subject, f"{name}, {ends}", "more than a menu group can show")


def _put(subject: Subject, group: str, reason: str) -> None:
    before = subject.answers[subject.table.name, "group"]
    subject.answers[subject.table.name, "group"] = replace(
        before, value=group, reason=f"{before.reason}; {reason}"
    )


GROUP_RULES: tuple[TableRule, ...] = (
    group_of_view,
    group_of_schema,
    group_of_reference_data,
    group_of_log,
    group_of_technical,
    group_of_prefix,
    group_of_community,
    group_of_rest,
)


def columns_of_list(subject: Subject) -> Choice:
    """Informative and short: columns that are not in the title, lookups and choices
    first when there are too many; no long text, no stamps, nothing that is nearly
    always empty. Example: of twenty columns of a station, district, kind and state."""
    titled = set(title_columns(subject))
    found = [
        column
        for column in subject.table.columns
        if column.name not in titled and _is_for_list(subject, column)
    ]
    if len(found) <= LIST_COLUMNS:
        return Choice([c.name for c in found], "short, and not in the title")
    best = sorted(
        found,
        key=lambda c: (
            KIND_OF[subject.answer(c.name, "kind")].list_rank,
            _place(subject, c),
        ),
    )[:LIST_COLUMNS]
    kept = [c.name for c in found if c in best]
    return Choice(kept, f"the most readable {LIST_COLUMNS} of {len(found)}", 0.8)


def wide_columns_of_list(subject: Subject) -> Choice:
    """Additional columns in wide windows: the other short columns, then long texts, of
    which a list shows the beginning. Example: the remarks of an inspection."""
    listed = set(columns_of_list(subject).value)
    titled = set(title_columns(subject))
    others = [
        column
        for column in subject.table.columns
        if column.name not in listed | titled
        and (_is_for_list(subject, column) or _is_long(subject, column))
    ]
    others.sort(key=lambda column: _is_long(subject, column))
    found = [column.name for column in others[:WIDE_COLUMNS]]
    return Choice(found, "for wide windows")


def _is_long(subject: Subject, column: Column) -> bool:
    profile = subject.column_profile(column.name)
    is_text = subject.answer(column.name, "kind") == "long text"
    hidden = subject.answers.get((subject.table.name, column.name, "hidden"))
    return is_text and not hidden and (profile is None or profile.empty < 0.9)


def _place(subject: Subject, column: Column) -> int:
    return subject.table.columns.index(column)


def _is_for_list(subject: Subject, column: Column) -> bool:
    profile = subject.column_profile(column.name)
    return (
        not subject.answers.get((subject.table.name, column.name, "hidden"))
        and KIND_OF[subject.answer(column.name, "kind")].is_short
        and not is_stamp_of(subject.table, column)
        and not is_surrogate_key(subject, column)
        and not _marks_deleted(subject, column)
        and (profile is None or profile.empty < 0.9)
        and not _is_same_everywhere(subject, column)
    )


def _is_same_everywhere(subject: Subject, column: Column) -> bool:
    """Tell whether a column tells no records apart, in enough rows to say so."""
    profile = subject.column_profile(column.name)
    rows = subject.profile.sampled
    return (
        profile is not None
        and rows >= ENOUGH_ROWS
        and profile.constant
        and not profile.empty
    )


def order_of_list(subject: Subject) -> Choice:
    """The latest first where the title holds a date, or where it is the number of a
    record that refers to others and always has a date; else by the title. A table of
    over LARGE rows is ordered only as an index allows, else by its key. Example:
    inspections by `-inspected_on`, stations by `name`."""
    columns = title_columns(subject)
    dated = [
        name for name in columns if subject.answer(name, "kind") in ("date", "datetime")
    ]
    dated = dated or _date_of_document(subject, columns)
    wanted = [f"-{dated[0]}"] if dated else list(columns)
    if subject.profile.rows <= LARGE or _has_index(
        subject, wanted[0].removeprefix("-")
    ):
        return Choice(wanted, "the latest first" if dated else "by the title")
    return Choice(
        list(subject.table.primary_key),
        "no index serves a better order of so many rows",
    )


def _date_of_document(subject: Subject, titled: tuple[str, ...]) -> list[str]:
    """Return the first date of a document that goes by its number, [] for none."""
    table = subject.table
    if len(titled) != 1 or not table.references:
        return []
    words = split_words(table.column(titled[0]).worded)
    if not _NUMBERS.intersection(words[-1:]) or table.references[0].columns == titled:
        return []
    return [
        column.name
        for column in table.columns
        if subject.answer(column.name, "kind") in ("date", "datetime")
        and not column.nullable
        and not is_stamp_of(subject.table, column)
    ][:1]


def _has_index(subject: Subject, column: str) -> bool:
    leading = [
        index.columns[0]
        for index in subject.table.indexes
        if not (index.partial or index.computed)
    ]
    leading += [unique.columns[0] for unique in subject.table.uniques]
    return column in leading or subject.table.primary_key[:1] == (column,)


_CONTACT_WORDS = frozenset(
    {"phone", "telephone", "tel", "mobile", "fax", "email", "mail", "address", "street",
     "city", "town", "postcode", "zip", "country", "website", "web"}
)  # fmt: skip
_POSITION_WORDS = frozenset({"latitude", "longitude", "lat", "lon", "lng", "elevation"})


def sections_of(subject: Subject) -> dict[str, Choice]:
    """Forms and records are read in sections: the position, contact details, long
    texts and automatic values each have one, everything else comes first; of more than
    16 fields, those whose names begin alike, those of yes or no, and those that are
    nearly always empty have their own. Example: `latitude` and `longitude` make
    "Position"; `billing_street`, `billing_town` and `billing_code` "Billing"."""
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
    if len(sections[first]) > MOST_FIELDS:
        parts = _parts_of_section(subject, sections.pop(first), set(sections))
        sections = {first: parts.pop(""), **parts, **sections}
    return {name: Choice(columns, "") for name, columns in sections.items() if columns}


def _parts_of_section(
    subject: Subject, names: list[str], taken: set[str]
) -> dict[str, list[str]]:
    """Return the parts of a section with more fields than are looked over at once: those
    whose names begin with one word, several of yes or no, and those that are nearly
    always empty; what is left, "", begins with the title."""
    titled = set(title_columns(subject))
    table = subject.table
    parts: dict[str, list[str]] = {"": []}
    firsts: dict[str, str] = {}
    for name in names:
        words = subject.without_own(split_words(table.column(name).worded))
        firsts[name] = words[0] if len(words) > 1 and name not in titled else ""
    counts = Counter(firsts.values())
    for name in names:
        first, label = firsts[name], ""
        if name in titled:
            pass
        elif _is_rare(subject, name):
            label = RARE
        elif first and counts[first] >= FEWEST_TOGETHER and first not in FLAG_VERBS:
            label = subject.label([first])
        elif subject.answer(name, "kind") == "yes/no":
            label = OPTIONS
        parts.setdefault("" if label in taken else label, []).append(name)
    few = {each for each, held in parts.items() if each and len(held) < FEWEST_TOGETHER}
    kept = [name for name in names if any(name in parts[each] for each in ("", *few))]
    found = {each: held for each, held in parts.items() if each and each not in few}
    rare = found.pop(RARE, None)
    found[""] = kept[:MOST_FIELDS] if len(kept) > MOST_FIELDS * 1.3 else kept
    if len(found[""]) < len(kept):
        found[MORE] = kept[MOST_FIELDS:]
    return {**found, RARE: rare} if rare else found


def _is_rare(subject: Subject, name: str) -> bool:
    """Tell whether a column is nearly always empty, in enough rows to say so, and may
    be."""
    profile = subject.column_profile(name)
    is_rare = profile is not None and profile.empty >= RARELY
    is_told = subject.profile.sampled >= ENOUGH_ROWS
    return is_rare and is_told and subject.table.column(name).nullable


def folded_sections(subject: Subject) -> Choice | None:
    """The section of what is nearly always empty is folded until somebody opens it."""
    if RARE in sections_of(subject):
        return Choice([RARE], f"nearly always empty in {subject.profile.rows:,} rows")
    return None


def _section(subject: Subject, column: Column, first: str) -> str:
    words = {ABBREVIATIONS.get(word, word) for word in split_words(column.worded)}
    if column.name in title_columns(subject):
        return first
    if words & _POSITION_WORDS and column.type.kind in ("float", "decimal", "integer"):
        name = "Position"
    elif is_stamp_of(subject.table, column) or words <= {"version", "row", "lock"}:
        name = "Record"
    elif subject.answer(column.name, "kind") == "long text":
        name = "Remarks"
    elif words & _CONTACT_WORDS and column.type.kind == "text":
        name = "Contact"
    else:
        name = first
    return name


def pages_of_table(subject: Subject) -> Choice | None:
    """A pure junction table has no pages: its rows are chosen on the others' forms.
    What joins them with columns of its own, and is entered there, has no list. Example:
    `light_tender`."""
    junction = junction_of(subject)
    if junction is None:
        return _pages_of_log(subject) or _pages_without_add(subject)
    if junction.is_pure:
        return Choice([], f"{junction.reason}: chosen on their forms")
    for reference in subject.table.references:
        parent = subject.about(reference.referred_table)
        if in_place(parent, subject.table.name, reference) is not None:
            reason = f"entered with its {subject.database.own_name(parent.table.name)}"
            return Choice(["add", "edit", "delete"], reason)
    return _pages_of_log(subject) or _pages_without_add(subject)


def _pages_of_log(subject: Subject) -> Choice | None:
    """Logs written by programs are read, and not changed: histories and audits by their
    name, a log where its columns say so too. Example: `lamp_audit`, `price_history`,
    `user_log` with an `ip_address`; not a `maintenance_log` with `remarks`."""
    words = subject.words
    if subject.table.is_view or subject.database.referring_to(subject.table.name):
        return None
    told = {word for c in subject.table.columns for word in split_words(c.worded)}
    is_log = words[-1] in ("log", "journal")
    named = "audit" in words or (len(words) > 1 and words[-1] in _LOG_ENDS)
    if not (named and not is_log) and not (is_log and told & _OF_PROGRAMS):
        return None
    return Choice(["list"], "written by programs, by its name", 0.8)


def _pages_without_add(subject: Subject) -> Choice | None:
    """A table with a required column that no form enters has no page for adding.
    Example: bytes that take no NULL."""
    if not subject.table.is_changeable or not subject.table.primary_key:
        return None
    for column in subject.table.columns:
        if column.nullable or column.is_filled:
            continue
        answers = subject.answers
        place = (subject.table.name, column.name)
        next_ = (*place, "generated") in answers
        blocked = any((*place, key) in answers for key in ("hidden", "read_only"))
        is_other = subject.answer(column.name, "kind") == "other"
        if not next_ and (blocked or is_other):
            reason = f"{column.name} is required and cannot be entered here"
            return Choice(["list", "edit", "delete"], reason, 0.65)
    return None


_DELETED = frozenset({"del", "dlt", "delete", "deleted"})
_MARKS = frozenset({"flag", "flg", "ind", "indicator", "mark", "yn"})


def soft_delete_of(subject: Subject) -> Choice | None:
    """A column named for a deletion marks deleted records: `deleted_at`, which can be
    empty, `is_deleted` or `del_flag`."""
    for column in subject.table.columns:
        if _marks_deleted(subject, column) and not subject.table.is_view:
            return Choice(column.name, "marks what is deleted, by its name", 0.8)
    return None


def _marks_deleted(subject: Subject, column: Column) -> bool:
    words = split_words(column.worded)
    kind = subject.answer(column.name, "kind")
    if kind in ("date", "datetime") and column.nullable:
        return words in (["deleted", "at"], ["deleted", "on"], ["deleted"])
    is_flag = len(words) == 2 and words[0] in _DELETED and words[1] in _MARKS
    return kind == "yes/no" and (is_flag or words in (["is", "deleted"], ["deleted"]))
