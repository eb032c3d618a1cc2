"""Questions about tables that belong together: details edited in place, tables that
join others, hierarchies."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from lumet.facts.model import Column, Reference, Table
from lumet.inference.labels_from_names import split_words
from lumet.inference.name_similarity import Words, plain_words
from lumet.inference.rules import Choice, Subject
from lumet.inference.stamps import is_actor, is_stamp

IN_PLACE = 2.5  # points, see `in_place`; at 1.5 F1 falls from 0.974 to 0.950
MAX_IN_PLACE = 60  # rows a parent, on average; more are a list. 20 to 200: the same
_POSITIONS = frozenset({"line", "position", "pos", "seq", "sequence", "no", "nr", "number",
                        "ordinal", "item", "step", "rank", "idx", "index", "sort"})  # fmt: skip
_PARTS = frozenset({"item", "line", "detail", "entry", "part", "row", "position", "stop", "step",
                    "finding", "component", "ingredient", "member", "leg", "split"})  # fmt: skip
_RECORDS = frozenset({"log", "history", "event", "audit", "reading", "measurement", "archive",
                      "change", "movement", "snapshot", "statistic", "trace", "check", "test"})  # fmt: skip
_PARENT_WORDS = frozenset({"parent", "superior", "upper", "supervisor", "manager", "boss",
                           "part", "belong", "report", "group"})  # fmt: skip
_BESIDE_WORDS = frozenset({"next", "previous", "prior", "successor", "predecessor", "replaced",
                           "replace", "replacement", "twin", "pair", "partner", "spouse",
                           "neighbour", "neighbor", "sibling", "copy", "copied", "original",
                           "alias", "duplicate", "same", "linked", "related", "opposite"})  # fmt: skip
_STAMPS = frozenset({"created", "updated", "modified", "changed", "added", "inserted", "by",
                     "at", "on", "since"})  # fmt: skip


@dataclass(frozen=True, slots=True)
class Junction:
    """A table that joins two others (or one with itself) by `columns`, the references
    that are its key; `is_pure`: it says nothing else."""

    table: str
    columns: tuple[str, ...]
    is_pure: bool
    reason: str


def junction_of(subject: Subject) -> Junction | None:
    """A junction table is one in which two references together are the key, or are
    unique: each pair occurs once. It is pure when its only other columns are its own
    number and automatic values. Example: `light_tender (light_id, vessel_id)`."""
    table = subject.table
    if table.is_view:
        return None
    ends = _separate_references(subject)
    for key in _keys(table):
        joined = [r for r in ends if set(r.columns) <= set(key)]
        if len(joined) == 2 and {n for r in joined for n in r.columns} == set(key):
            return _junction(table, joined, ", with columns of its own")
    return _bare_pair(subject, ends)


def _separate_references(subject: Subject) -> list[Reference]:
    """Return references that share no column, the widest first."""
    ends: list[Reference] = []
    taken: set[str] = set()
    for reference in sorted(subject.table.references, key=lambda r: -len(r.columns)):
        is_known = reference.referred_table in subject.database.by_name
        if is_known and not taken & set(reference.columns):
            ends.append(reference)
            taken |= set(reference.columns)
    return ends


def _junction(table: Table, ends: Sequence[Reference], impure: str = "") -> Junction:
    """Return the junction of two references; `impure` is said of one with columns of
    its own."""
    covered = {name for r in ends for name in r.columns}
    columns = tuple(c.name for c in table.columns if c.name in covered)
    rest = [c.name for c in table.columns if c.name not in covered]
    pure = all(_says_nothing(table, name) for name in rest)
    ours = sorted(ends, key=lambda r: columns.index(r.columns[0])) if impure else ends
    names = " and ".join(dict.fromkeys(r.referred_table for r in ours))
    return Junction(table.name, columns, pure, f"joins {names}{'' if pure else impure}")


def _bare_pair(subject: Subject, ends: list[Reference]) -> Junction | None:
    """Without any key, two needed references and nothing else join as well."""
    table = subject.table
    key = table.primary_key
    if len(key) == 1 and key[0] not in {name for r in ends for name in r.columns}:
        return _numbered_pair(subject, ends)
    if len(ends) != 2:
        return None
    found = _junction(table, ends)
    first, second = (subject.about(r.referred_table).words for r in ends)
    if subject.words in (first + second, second + first):
        names = " and ".join(r.referred_table for r in ends)
        return replace(found, reason=f"joins {names}, by its name")
    return found if found.is_pure else None


def _numbered_pair(subject: Subject, ends: list[Reference]) -> Junction | None:
    """A number of its own, two needed references, and nothing else but stamps and an
    order: it joins, though no constraint keeps a pair from being there twice, so that
    its rows are edited as such."""
    table = subject.table
    ends = [r for r in ends if not any(is_actor(name) for name in r.columns)]
    needed = all(not table.column(name).nullable for r in ends for name in r.columns)
    if len(ends) != 2 or not needed or subject.database.referring_to(table.name):
        return None
    covered = {name for r in ends for name in r.columns}
    rest = [c for c in table.columns if c.name not in covered]
    if not all(_is_beside(table, column) for column in rest):
        return None
    columns = tuple(c.name for c in table.columns if c.name in covered)
    names = " and ".join(dict.fromkeys(r.referred_table for r in ends))
    return Junction(table.name, columns, False, f"joins {names}, with a number of its own")  # fmt: skip


def _is_beside(table: Table, column: Column) -> bool:
    """Tell whether a column of a junction says nothing of the pair: a stamp, a place in
    an order, a number of the row."""
    words = split_words(column.worded)
    is_order = bool(words) and words[-1] in (*_POSITIONS, "order", "sortorder")
    is_stamped = is_stamp(column) or is_actor(column.name)
    return is_order or is_stamped or _says_nothing(table, column.name)


def _keys(table: Table) -> list[tuple[str, ...]]:
    return [
        key for key in (table.primary_key, *(u.columns for u in table.uniques)) if key
    ]


def _says_nothing(table: Table, name: str) -> bool:
    column = table.column(name)
    words = set(split_words(name))
    is_own_key = table.primary_key == (name,) and column.type.kind in (
        "integer",
        "uuid",
    )
    return column.automatic or is_own_key or (bool(words) and words <= _STAMPS)


def hierarchy_of(subject: Subject) -> str:
    """A table whose rows refer to rows of the same table is a tree: the column that
    names the parent, the last of several; "" where there is none. Where several
    references do, the one that is named like it. References to previous, next or
    sibling records are no parents. Example: `parent_id`, not `replaced_by`."""
    own = [
        (reference, {word for name in reference.columns for word in plain_words(name)})
        for reference in subject.table.references
        if reference.referred_table == subject.table.name
    ]
    named = [each for each, words in own if words & _PARENT_WORDS]
    others = [each for each, words in own if not words & _BESIDE_WORDS]
    found = named or others
    return found[0].columns[-1] if found else ""


def in_place(subject: Subject, name: str, reference: Reference) -> Choice | None:
    """Rows that belong to one record are edited as rows of its form. Points:
    deleted with it 1.5, its key begins with the record's 2, its name does 1.5, its
    name is that of a part 0.5, it counts lines 1, nobody else refers to it 0.5; from
    2.5 on. Not logs, not many rows a record, nor rows that may belong to no record. A
    record that there is one of at most is edited there too, unless it is owned by
    nothing and others refer to it.
    Example: `inspection_finding` on the page of its inspection."""
    child = subject.database.table(name)
    if child.is_view or _may_belong_to_none(subject, child, reference):
        return None
    words = subject.about(name).words
    others = [t for t, _ in subject.database.referring_to(name) if t.name != name]
    begins = _begins_with(words, subject.words)
    is_owned = begins or reference.on_delete == "cascade"
    is_alone = is_owned or not others
    is_key = child.primary_key == reference.columns
    if _is_single(child, reference) and (is_alone or is_key):
        return Choice("rows", "at most one per record", 0.85)
    if not is_alone or _is_no_part(subject, child):
        return None
    first = _first_parent(subject, child)
    points, reason = _points_of_part(child, reference, words, begins, not others)
    if points < IN_PLACE or (first != subject.table.name and not begins):
        return None
    return Choice("rows", reason, 0.9 if points >= IN_PLACE + 1 else 0.75)


def _begins_with(words: Words, own: Words) -> bool:
    return len(words) > len(own) and words[: len(own)] == own


def _may_belong_to_none(subject: Subject, child: Table, reference: Reference) -> bool:
    """Tell whether rows may belong to no record, and some do; or to another of their
    own."""
    if child.name == subject.table.name:
        return True
    if set(reference.columns) <= set(child.primary_key):
        return False
    is_optional = any(child.column(c).nullable for c in reference.columns)
    return is_optional and _has_empty(subject, child, reference)


def _is_no_part(subject: Subject, child: Table) -> bool:
    """Tell whether rows are a log, too many a record, or only join."""
    about = subject.about(child.name)
    if set(about.words) & _RECORDS or _rows_each(subject, child) > MAX_IN_PLACE:
        return True
    junction = junction_of(about)
    return junction is not None and junction.is_pure


def _points_of_part(
    child: Table, reference: Reference, words: Words, begins: bool, alone: bool
) -> tuple[float, str]:
    """Return the points for rows that belong to one record, and the main reasons."""
    key, columns = child.primary_key, reference.columns
    key_begins = len(key) > len(columns) and key[: len(columns)] == columns
    reasons = [
        (1.5, "deleted with it", reference.on_delete == "cascade"),
        (2.0, "its key begins with ours", key_begins),
        (1.5, "its name begins with ours", begins),
        (0.5, "named like a part", bool(set(words[-1:]) & _PARTS)),
        (1.0, "its lines are numbered", bool(position_of(child, reference))),
        (0.5, "no other table refers to it", alone),
    ]
    held = [(weight, text) for weight, text, holds in reasons if holds]
    main = "; ".join(text for weight, text in held if weight > 0.5)
    return sum(weight for weight, _text in held), main


def _is_single(child: Table, reference: Reference) -> bool:
    """Tell whether a record has one row at most: the reference is unique, or a key."""
    return any(set(key) <= set(reference.columns) for key in _keys(child))


def _has_empty(subject: Subject, child: Table, reference: Reference) -> bool:
    """Tell whether some row belongs to no record, as far as rows were read."""
    profiles = [subject.evidence.column(child.name, c) for c in reference.columns]
    return any(profile is None or profile.empty > 0 for profile in profiles)


def _rows_each(subject: Subject, child: Table) -> float:
    rows = subject.evidence.table(child.name).rows
    return rows / max(1, subject.profile.rows) if subject.profile.rows else 0


def position_of(child: Table, reference: Reference) -> str:
    """Numbered rows are ordered by their numbers: the column with them, "" for
    none. Example: `line_no` of `inspection_finding`."""
    for column in child.columns:
        if (
            column.type.kind == "integer"
            and column.name not in reference.columns
            and set(split_words(column.worded)) & _POSITIONS
            and child.reference_of(column.name) is None
            and not column.automatic
        ):
            return column.name
    return ""


def _first_parent(subject: Subject, child: Table) -> str:
    """Return the record that a row belongs to first: the one whose name its own begins
    with, else the one that its key begins with."""
    words = subject.about(child.name).words
    for reference in child.references:
        owner = subject.about(reference.referred_table).words
        if words[: len(owner)] == owner and len(words) > len(owner):
            return reference.referred_table
    for reference in child.references:
        if child.primary_key[: len(reference.columns)] == reference.columns:
            return reference.referred_table
    return child.references[0].referred_table if child.references else ""
