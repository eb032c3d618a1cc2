"""Undeclared references and keys: names, types and keys propose, rows refute.

What is found is used from USED on; below it is proposed to a person.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from heapq import nsmallest
from itertools import product

from lumet.evidence.inclusion_dependencies import Candidate
from lumet.evidence.model import ColumnProfile, Containment, Evidence, TableProfile
from lumet.expressions.joins import joined_columns
from lumet.facts.model import Column, Database, Reference, Table
from lumet.inference.glued_words import is_word, with_words_apart
from lumet.inference.labels_from_names import split_words, to_singular
from lumet.inference.name_similarity import (
    HINT,
    KEYS,
    NONE,
    PART,
    QUANTITIES,
    ROLES,
    TABLE_SAYERS,
    Ends,
    Likeness,
    Words,
    abbreviates,
    likeness,
    plain_words,
    split_together,
    table_words,
    without_digits,
    without_keys,
)
from lumet.inference.secrets import is_secret
from lumet.inference.stamps import is_actor

WHO = 0.9  # a stamp of who did it, where there is one table of accounts
USED = 0.7  # confidence; at 0.6 and at 0.8 F1 falls from 1.000 to 0.998
# Scores of names, from `name_similarity`. Each lies in a range in which the labelled
# databases give the same F1, measured by python -m bench.thresholds
SAME = 0.9  # the key's or the table's own name, at most with a role before it
JOINED = 0.95  # by a view; who wrote that knew what refers to what
CLEAR = 0.8  # tolerates a few orphans
TOLERANT = 0.74  # the lowest name that tolerates orphans; at 0.85 F1 falls to 0.998
SIMILAR = 0.65  # believed where all values are in the key
LOOSE = 0.5  # believed with texts, or with numbers that reach far into the key
# Reach of whole numbers into the key's range; small numbers are in every key.
FAR, WIDE, SOME = 0.6, 0.4, 0.3
RIVAL_NAME = 0.05  # of a name's score; a table further behind is no other choice
RIVAL = 0.5  # of the best reach; a rival below it is no other choice
MAX_NEAR = 60  # targets that one column's name is compared with
MAX_ORPHANS = 0.2  # of the rows; at 0.05 F1 falls to 0.998, at 0.4 it is the same
FEW_ROWS = 3  # rows; fewer do not even show that a first column may be one
ENOUGH_ROWS = 30  # rows; a key of fewer may be one by chance. 10 to 100: the same
DISTINCTIVE = 4  # letters, on average, of texts that are not shared by chance
MANY = 10  # different values; 5 to 20: the same
SEVERAL = 3  # declared references of columns with one name say what others refer to
BEGINNING = (
    0.6  # of the columns begin with one word; the others are those of other tables
)
FEW = 5  # different values; 2 to 10: the same
_PERSON_NAMES = frozenset({"first", "last", "given", "family", "sur", "fore", "surname",
                           "forename", "firstname", "lastname", "familyname", "vorname", "nachname", "prenom"})  # fmt: skip
_OWNERS = frozenset({("owner",), ("assignee",), ("requestor",), ("reviewer",), ("editor",), ("author",)})  # fmt: skip
_LOGINS = frozenset({"login", "username", "user", "initial", "account", "badge"})
_BARE = frozenset({"type", "kind", "status", "class", "mode", "state", "category", "level",
                   "group", "grade"})  # fmt: skip
# the last word of a table that links records of another with each other
_LINKS = frozenset({"relationship", "relation", "link", "edge", "closure", "path", "hierarchy", "dependency",
                    "pair", "association", "tree", "map", "mapping"})  # fmt: skip
_ENDS = frozenset({"subject", "object", "parent", "child", "source", "target", "from", "to", "ancestor",
                   "descendant", "predecessor", "successor", "first", "second", "left", "right",
                   "origin", "destination", "one", "other"})  # fmt: skip
_LIKE_INTEGERS = frozenset({"integer", "decimal"})


@dataclass(frozen=True, slots=True)
class FoundReference:
    """An undeclared reference, with its evidence. `orphans` is the
    fraction of the rows without a partner; `none` the value that stands for no
    record, "" for none."""

    table: str
    columns: tuple[str, ...]
    referred_table: str
    referred_columns: tuple[str, ...]
    confidence: float
    reason: str
    orphans: float = 0.0
    none: str = ""

    @property
    def is_used(self) -> bool:
        """Tell whether it is sure enough to count as real."""
        return self.confidence >= USED


@dataclass(frozen=True, slots=True)
class FoundKey:
    """An undeclared key."""

    table: str
    columns: tuple[str, ...]
    confidence: float
    reason: str

    @property
    def is_used(self) -> bool:
        """Tell whether it is sure enough to count as real."""
        return self.confidence >= USED


def find_keys(database: Database, evidence: Evidence) -> tuple[FoundKey, ...]:
    """A table or view without a key gets the columns of a unique constraint that are
    never empty; else one column that is unique and never empty in its rows and is
    named like a key (`id`, `station_no`) or stands first; else the first two or
    three columns that are so together, where each is a code, a number or a date.
    What more rows refute is no key. Example: `ENTRY_NO`, unique in 1,800 rows."""
    database = with_words_apart(database)
    shared = shared_word(database)
    names = {table_words(table.worded, shared) for table in database.tables}
    found = (
        _find_key(table, evidence, names)
        for table in database.tables
        if not table.primary_key
    )
    return tuple(key for key in found if key is not None)


def _find_key(table: Table, evidence: Evidence, names: set[Words]) -> FoundKey | None:
    for unique in table.uniques:
        if all(not table.column(name).nullable for name in unique.columns):
            return FoundKey(table.name, unique.columns, 0.95, "unique and never empty")
    if table.name in evidence.repeated:
        return None
    profile = evidence.table(table.name)
    best = _find_single_key(table, profile, names)
    if best is not None and best.is_used:
        return best
    return _composite_key(table, profile) or best


def _find_single_key(
    table: Table, profile: TableProfile, names: set[Words]
) -> FoundKey | None:
    """Return the column that most likely is the key, None where none can be."""
    own = table_words(table.worded)
    best: FoundKey | None = None
    for place, column in enumerate(table.columns):
        seen = profile.columns.get(column.name)
        if seen is None or not seen.unique or seen.empty or not _could_be_key(column):
            continue
        sure = _key_sureness(column, place, seen, profile.sampled, own)
        if without_keys(plain_words(column.worded)) in names - {own}:
            sure = 0.6  # it refers to another table, once each by chance
        if profile.sampled < FEW_ROWS and _is_named_key(column, own) < 2:
            sure -= 0.1
        if best is None or sure > best.confidence:
            read = _of_rows(profile.rows, profile.sampled)
            reason = f"unique and never empty in {read}"
            best = FoundKey(table.name, (column.name,), sure, reason)
    return best


def _key_sureness(
    column: Column, place: int, seen: ColumnProfile, rows: int, own: Words
) -> float:
    """Return how sure a unique column is the key: by its name, else by being the first
    of many rows and short."""
    named = _is_named_key(column, own)
    if named:
        return 0.95 if named == 2 else 0.85
    is_first = place == 0 and rows >= FEW_ROWS and seen.mean_length <= 12
    return 0.75 if is_first else 0.5


def _composite_key(table: Table, profile: TableProfile) -> FoundKey | None:
    """Return the columns that are unique together, None where too few rows tell."""
    rows = profile.sampled
    if not profile.key or rows < ENOUGH_ROWS:
        return None
    telling = all(
        _is_key_part(table.column(n), plain_words(table.column(n).worded))
        for n in profile.key
    )
    sure = (0.8 if rows == profile.rows else 0.75) if telling else 0.6
    reason = f"together unique and never empty in {_of_rows(profile.rows, rows)}"
    return FoundKey(table.name, profile.key, sure, reason)


def _is_key_part(column: Column, words: Words) -> bool:
    """Tell whether a column may be a part of a key by more than chance: a code, a
    line's number, a date."""
    dated = column.type.kind in ("date", "datetime") or words[-1] in (
        "date",
        "day",
        "at",
        "on",
    )
    return dated or bool(
        {*KEYS, "line", "position", "seq", "sequence", "year"} & set(words)
    )


def _of_rows(rows: int, sampled: int) -> str:
    return (
        f"all {rows:,} rows"
        if sampled >= rows
        else f"the {sampled:,} rows that were read"
    )


def _could_be_key(column: Column) -> bool:
    kind = column.type.kind
    return kind in ("integer", "text", "uuid") or (
        kind == "decimal" and not column.type.scale
    )


def _is_named_key(column: Column, own: Words) -> int:
    """Tell how much a column is named like its table's own key: 2 by the table's name
    or just "id", 1 by a word for keys, 0 not at all."""
    words = plain_words(column.worded)
    stem = without_keys(words)
    if (not stem or stem == own) and len(stem) < len(words):
        return 2
    if "".join(words) in ("".join(own) + key for key in KEYS):
        return 2
    return 1 if words[-1] in KEYS and (stem == own or len(stem) <= 1) else 0


@dataclass(frozen=True, slots=True)
class _Target:
    """A table's column that others could refer to."""

    table: Table
    column: Column
    words: Words
    key: Words
    is_primary: bool
    is_person: bool


class Proposer:
    """Proposes references by names, types and keys alone."""

    def __init__(self, database: Database, evidence: Evidence) -> None:
        self.database = database
        self.evidence = evidence
        self.shared = shared_word(database)
        self.words = {
            t.name: table_words(t.worded, self.shared) for t in database.tables
        }
        held = Counter(self.words.values())
        for t in database.tables:
            if (
                held[self.words[t.name]] > 1
            ):  # `filter_actions` beside `filters2_actions`
                self.words[t.name] = plain_words(t.worded)
        self.targets = [
            target
            for t in database.tables
            if not t.is_view
            for target in self._targets(t)
        ]
        self._by_word: dict[str, list[_Target]] = {}
        for target in self.targets:
            for word in _lookup_words(target):
                self._by_word.setdefault(word, []).append(target)
        self._anyone = [t for t in self.targets if t.is_person]
        self._tables = set(self.words.values())
        self._endings: dict[Words, list[Table]] = {}
        for t in database.tables:
            words = self.words[t.name]
            for n in range(1, len(words) + 1):
                self._endings.setdefault(words[-n:], []).append(t)
        self._by_key: dict[Words, list[_Target]] = {}
        for target in self.targets:
            self._by_key.setdefault(target.key, []).append(target)
        self._by_words: dict[Words, list[_Target]] = {}
        for target in self.targets:
            self._by_words.setdefault(target.words, []).append(target)
        self._shortened: dict[str, list[_Target]] = {}
        known = {word for words in self.words.values() for word in words}
        self.vocabulary = frozenset({*known, *ROLES})
        self._known: dict[tuple[Words, Words], Sequence[_Target]] = {}
        self._column_names: dict[tuple[str, str], tuple[Words, bool]] = {}
        # refers to any table, where another column says to which, so everywhere
        self._elsewhere = _declared_by_name(database)
        self._joined = joined_columns(database)
        self._beginnings = {
            table.name: begin
            for table in database.tables
            if (begin := shared_beginning(table))
        }
        self._anything = {
            stem for table in database.tables for stem in _stems_of_any_table(table)
        }
        self._accounts = _accounts(database, self.words)
        self._of_accounts = [t for t in self.targets if t.table.name == self._accounts]

    def _is_borrowed(self, table: Table, target: _Target) -> bool:
        """Tell whether several tables have a key of one name, none of which the database
        numbers alone, and a table is not the one that it is the key of: `user_id` of
        `user_ip` and of `active_user` beside `user`."""
        stem, alike = without_keys(target.key), self._by_key[target.key]
        if not stem or target.words == stem:
            return False
        is_ending = self._is_one_of_many(table, target, stem)
        if len({each.table.name for each in alike}) < 2 and not is_ending:
            return False
        if len(self._numbered(target)) == 1:
            return False  # all are led to that one
        if any(each.table.name == self._accounts for each in alike):
            return target.table.name != self._accounts  # `username` of accounts
        if stem in self._by_words:
            return target.words != stem
        owners = [each for each in alike if each.words[-len(stem) :] == stem]
        return len(owners) != 1 or owners[0] is not target or is_ending

    def _is_one_of_many(self, table: Table, target: _Target, stem: Words) -> bool:
        """Tell whether other tables end in the same words, and are as near: `stream_id`
        beside `event_stream` and `user_stream`."""
        ending = [t for t in self._endings.get(stem, ()) if t is not table]
        if target.words == stem or len(ending) < 2:
            return False
        near = [_closeness(table, each) for each in ending]
        nearest = [t for t, each in zip(ending, near, strict=True) if each == max(near)]
        return [t.name for t in nearest] != [target.table.name]

    def is_own(self, target: _Target) -> bool:
        """Tell whether a column is the key of its table by its name, whatever was
        declared: `event.event_id`, which is but unique; or the only unique one of a table
        without a key."""
        uniques = [unique.columns for unique in target.table.uniques]
        if not target.table.primary_key and uniques == [(target.column.name,)]:
            return True
        return without_keys(target.key) == target.words and not target.column.nullable

    def _numbered(self, target: _Target) -> list[_Target]:
        """Return the keys of the same name that the database numbers."""
        alike = self._by_key[target.key]
        return [each for each in alike if _numbers_itself(each.column)]

    def _targets(self, table: Table) -> Iterator[_Target]:
        words = self.words[table.name]
        person = _is_person(table)
        profile = self.evidence.table(table.name)
        for column in table.columns:
            is_primary = table.primary_key == (column.name,)
            seen = profile.columns.get(column.name)
            proven = (
                seen is not None
                and seen.unique
                and not seen.empty
                and (_is_named_key(column, words) > 0 or (person and _is_login(column)))
            )
            if _could_be_key(column) and (
                is_primary or table.is_unique((column.name,)) or proven
            ):
                yield _Target(
                    table, column, words, plain_words(column.worded), is_primary, person
                )

    @cached_property
    def candidates(self) -> tuple[Candidate, ...]:
        """The candidates by name, each once."""
        return tuple(dict.fromkeys(self._candidates()))

    def _candidates(self) -> Iterator[Candidate]:
        """Yield candidates by name: columns that are no reference yet, and keys of the
        same type; then keys over several columns."""
        for table in self.database.tables:
            for column in table.columns:
                if not table.is_view and self._could_refer(table, column):
                    for target, weak in self._alike(table, column):
                        end = (target.table.name, (target.column.name,))
                        yield Candidate(table.name, (column.name,), *end, is_weak=weak)
                    for name, key in self._joined.get((table.name, column.name), ()):
                        yield Candidate(table.name, (column.name,), name, (key,))
        yield from self._composites()

    def _could_refer(self, table: Table, column: Column) -> bool:
        return (
            _could_be_key(column)
            and not column.generated
            and table.reference_of(column.name) is None
            and not _is_plain_secret(column)
        )

    def _alike(self, table: Table, column: Column) -> Iterator[tuple[_Target, bool]]:
        """Yield the targets that a column is named like, with whether but faintly;
        where one is named clearly, those much less alike are left out."""
        words = self.column_words(table, column)
        bare = self.bare_words(table, words)
        found = [
            (self.likeness(table, column, target).score, target)
            for target in self._near_of(table, words, bare)
            if target.column is not column and _same_type(column, target.column)
        ]
        best = max((score for score, _ in found), default=0.0)
        least = best - 0.2 if best >= CLEAR else 0.0
        for score, target in found:
            if score > least:
                yield target, score <= HINT

    def _near_of(self, table: Table, words: Words, bare: Words) -> Sequence[_Target]:
        """Return the targets near a column's name, with and without its beginning."""
        own = self.words[table.name]
        near = self._near(words, own)
        return near if bare == words else (*dict.fromkeys((*near, *self._near(bare, own))),)  # fmt: skip

    def _near(self, words: Words, own: Words) -> Sequence[_Target]:
        """Return the targets whose names could be like a column's at all."""
        if (words, own) not in self._known:
            groups: list[Sequence[_Target]]
            groups = [self._by_word.get(word, ()) for word in dict.fromkeys(words)]
            groups.append(self._by_word.get("".join(words), ()))
            groups += [self._written_out(word) for word in words]
            groups.append(self._by_words.get(own, ()))
            if own[-1:] and own[-1] in _LINKS:
                groups.append(self._by_words.get(own[:-1], ()))
            groups.append(self._declared_elsewhere(words))
            groups.append(self._anyone)
            groups.append(self._of_accounts)
            if words[-1] in KEYS and len(self.targets) <= MAX_NEAR:
                groups.append(self.targets)
            self._known[words, own] = self._nearest(groups)
        return self._known[words, own]

    def _declared_elsewhere(self, words: Words) -> Sequence[_Target]:
        end = self._elsewhere.get(words)
        return [t for t in self.targets if (t.table.name, t.column.name) == end] if end else ()  # fmt: skip

    def _nearest(self, groups: Sequence[Sequence[_Target]]) -> Sequence[_Target]:
        """Return the targets in these groups; where they are very many, as among 1,000
        tables of similar names, those that are in most of them, of the shortest
        names."""
        near = {id(target): target for group in groups for target in group}
        if len(near) <= MAX_NEAR:
            return tuple(near.values())
        counts = Counter(id(target) for group in groups for target in group)
        ranked = nsmallest(MAX_NEAR, counts, lambda i: (-counts[i], len(near[i].words)))
        return tuple(near[i] for i in ranked)

    def near(self, table: Table, column: Column) -> Iterator[_Target]:
        """Yield the targets that a column could refer to by its name and its type."""
        words = self.column_words(table, column)
        bare = self.bare_words(table, words)
        for target in self._near_of(table, words, bare):
            if target.column is not column and _same_type(column, target.column):
                yield target

    def column_words(self, table: Table, column: Column) -> Words:
        """Return the words of a column's name, those that are written together apart."""
        place = (table.name, column.name)
        if place not in self._column_names:
            words = split_together(plain_words(column.worded), self.vocabulary)
            own = self.words[table.name]
            if len(words) > 1 and words not in self._by_words:  # `environment2_id`
                words = (*(without_digits(each) for each in words[:-1]), words[-1])
            stem = without_keys(words)
            # others refer to its own key, unless it has the name of another table's
            is_none = table.primary_key == (column.name,) and (
                column.automatic or not stem or stem == own[-len(stem) :]
            )
            is_none = is_none or (
                stem not in self._by_words
                and (_names_its_table(table, words) or "".join(stem) in self._anything)
            )
            self._column_names[place] = words, is_none
        return self._column_names[place][0]

    def _links(self, own: Words, words: Words, target: _Target) -> bool:
        """Tell whether a column is an end of a table that links records of another with
        each other: `subject_id` of `feature_relationship`."""
        stem = without_keys(words)
        is_end = len(stem) == 1 and stem[0] in _ENDS and len(stem) < len(words)
        return is_end and own[-1:] != own and own[-1] in _LINKS and target.words == own[:-1]  # fmt: skip

    def bare_words(self, table: Table, words: Words) -> Words:
        """Return the words of a column without the one that most columns of its table
        begin with."""
        begins = self._beginnings.get(table.name)
        return words[1:] if begins and len(words) > 1 and words[0] == begins else words

    def _is_none(self, table: Table, column: Column) -> bool:
        """Tell whether a column is named as none that refers: it is its table's own
        key, or another says which table it refers to."""
        self.column_words(table, column)
        return self._column_names[table.name, column.name][1]

    def _written_out(self, word: str) -> Sequence[_Target]:
        """Return the targets whose name begins or ends with a word that `word`, which
        is no known one, abbreviates, or that it ends with."""
        if word in self._by_word or word in KEYS:
            return ()
        if word not in self._shortened:
            self._shortened[word] = [
                target
                for words, targets in self._by_words.items()
                if abbreviates(word, words[0])
                or abbreviates(word, words[-1])
                or (len("".join(words)) > 3 and word.endswith("".join(words)))
                or (len(words) > 1 and word == "".join(each[:1] for each in words))
                for target in targets
            ]
        return self._shortened[word]

    def likeness(self, table: Table, column: Column, target: "_Target") -> Likeness:
        """Tell how much a column is named like the target's key."""
        if self._is_none(table, column):
            return NONE
        own, words = self.words[table.name], self.column_words(table, column)
        if target.is_primary and target.table.name == self._accounts:
            is_owner = words[-1] == "uid" and bool(ROLES.intersection(words[:-1]))
            if words in _OWNERS and column.type.kind == "integer" and words not in self._by_words:  # fmt: skip
                return Likeness(CLEAR, "named for a person: an account")
            if is_owner or is_actor(column.name):
                return Likeness(WHO, "named for who did it: an account")
        if target.is_primary and self._links(own, words, target):
            return Likeness(CLEAR, "one of the two that it links")
        joined = self._joined.get((table.name, column.name), {})
        if view := joined.get((target.table.name, target.column.name), ""):
            return Likeness(JOINED, f"{view} joins them")
        if self._elsewhere.get(words) == (target.table.name, target.column.name):
            return Likeness(SAME, "declared for other columns of this name")
        found = likeness(Ends(own, words, target.words, target.key, target.is_person))
        bare = self.bare_words(table, words)
        key = self.bare_words(target.table, target.key)
        if found.score < SAME and (bare != words or key != target.key):
            # `gpga_client_id` of a table whose columns all begin with `gpga_`
            other = likeness(Ends(own, bare, target.words, key, target.is_person))
            is_bare_key = not without_keys(key) and not without_keys(bare)
            if other.score > found.score and not is_bare_key:
                words, found = bare, other
        if "name of that key" in found.reason and self._is_borrowed(table, target):
            return NONE
        stem = without_keys(words)
        if found.score <= PART and stem in self._tables and target.words != stem:
            return NONE  # `device_id` beside `device` is no `old_device`
        if found.score <= PART and self._is_one_of_many(table, target, stem):
            return replace(found, score=min(found.score, LOOSE))  # which of them?
        if words[-1] == "version" and column.type.kind != "text":
            return NONE  # which of many it is, whatever table has that name
        if not found.score or (_is_counter(words) and found.score < CLEAR):
            return NONE
        if _is_plural(column.name) and column.type.kind != "text":
            return NONE  # how many there are
        if _refers_back(target, table, column):
            return NONE
        if len(words) == 1 and words[0] in _BARE and target.words not in (
            words,
            (*own, *words),
        ):  # fmt: skip
            return NONE  # an enumeration: `type` is no key of `lamp_type`
        return found

    def _composites(self) -> Iterator[Candidate]:
        keys = [
            (table, names)
            for table in self.database.tables
            if not table.is_view
            for names in dict.fromkeys(
                [table.primary_key, *(u.columns for u in table.uniques)]
            )
            if len(names) > 1
        ]
        for referred, names in keys:
            for table in self.database.tables:
                if table is referred or table.is_view:
                    continue
                columns = self._parts(table, referred, names)
                declared = {reference.columns for reference in table.references}
                if columns and columns not in declared:
                    yield Candidate(table.name, columns, referred.name, names)

    def _parts(
        self, table: Table, referred: Table, names: Sequence[str]
    ) -> tuple[str, ...]:
        """Return the columns of `table` named like the parts of a key, () where one is
        missing."""
        words = self.words[referred.name]
        choices = []
        for name in names:
            part = referred.column(name)
            plain = plain_words(part.worded)
            fitting = [
                column.name
                for column in table.columns
                if _same_type(column, part, any_kind=True)
                and plain_words(column.worded)
                in (plain, (*words, *plain), (words[-1], *plain))
            ]
            choices.append(fitting)
        for chosen in product(*choices):
            if len(set(chosen)) == len(chosen):
                return tuple(chosen)
        return ()


def find_references(
    database: Database, evidence: Evidence, proposer: Proposer | None = None
) -> tuple[FoundReference, ...]:
    """Names, types and unique keys propose; rows refute. A telling name bears with rows
    without a partner, up to a fifth of them; a name that only says a part, such as
    `inspector_id`, needs values that fit and reach far; texts that are all in a key of
    another table speak for themselves where they are long and many. Numbers, counts and
    years in another table's range are chance. From 70 % on a reference is used, below
    it is proposed. Example: `inspection.station_id` holds 214 of 214 values of
    `station.id` and is named like it: used."""
    judge = _Judge(proposer or Proposer(database, evidence), evidence)
    best: dict[tuple[str, tuple[str, ...]], FoundReference] = {}
    for candidate in judge.candidates():
        found = judge.judge(candidate)
        place = (candidate.table, candidate.columns)
        if found is not None and (
            place not in best or judge.rank(found) > judge.rank(best[place])
        ):
            best[place] = found
    kept = _without_copies(_to_roots(best, judge), database)
    order = {
        t.name: {c.name: n for n, c in enumerate(t.columns)} for t in database.tables
    }
    places = {name: place for place, name in enumerate(order)}
    kept.sort(key=lambda f: (places[f.table], [order[f.table][c] for c in f.columns]))
    return tuple(kept)


def _to_roots(
    best: dict[tuple[str, tuple[str, ...]], FoundReference],
    judge: "_Judge",
) -> list[FoundReference]:
    """Several tables may have a key of one name, each record's parts the record's own:
    then what refers there refers to the only one that numbers itself, and that one to
    none of the others."""
    roots: dict[str, list[str]] = {}
    for target in judge.proposer.targets:
        if target.column.automatic and without_keys(target.key):
            roots.setdefault(target.column.name, []).append(target.table.name)
    found = []
    for each in best.values():
        held = roots.get(each.referred_columns[0], [])
        if len(each.columns) > 1 or len(held) != 1 or each.referred_table == held[0]:
            found.append(each)
            continue
        if each.table == held[0] and each.columns == each.referred_columns:
            continue  # it numbers itself
        there = Candidate(each.table, each.columns, held[0], each.referred_columns)
        other = judge.judge(there) if each.table != held[0] else None
        root = judge.database.table(held[0]).column(each.referred_columns[0])
        if other is None and root.nullable and each.columns == each.referred_columns:
            # a key that may be NULL is not looked into, and holds those of its parts
            reason = f"has the name of that key; {each.reason}"
            other = replace(each, referred_table=held[0], confidence=min(each.confidence, 0.8), reason=reason)  # fmt: skip
        is_better = other is not None and (other.is_used or not each.is_used)
        found.append(other if other is not None and is_better else each)
    return found


def _without_copies(
    found: list[FoundReference], database: Database
) -> list[FoundReference]:
    """Leave out names copied beside a reference: `station_name` beside `station_id`."""
    kept = []
    for each in found:
        table = database.table(each.table)
        others = [r.referred_table for r in table.references]
        others += [f.referred_table for f in found if f.table == each.table and f.is_used
                   and f is not each]  # fmt: skip
        key = database.table(each.referred_table).primary_key
        named = database.table(each.referred_table).column(each.referred_columns[0])
        is_name = "name" in plain_words(named.worded)[-1:]
        if is_name and each.referred_columns != key and each.referred_table in others:
            continue
        kept.append(each)
    return kept


class _Judge:
    """Weighs names against rows."""

    def __init__(self, proposer: Proposer, evidence: Evidence) -> None:
        self.proposer = proposer
        self.database = proposer.database
        self.evidence = evidence
        self.contained = {(c.table, c.columns, *c.end): c for c in evidence.contained}
        self._by_start: dict[tuple[str, tuple[str, ...]], list[Containment]] = {}
        for each in evidence.contained:
            self._by_start.setdefault((each.table, each.columns), []).append(each)
        self.targets = {(t.table.name, t.column.name): t for t in proposer.targets}

    def candidates(self) -> Iterable[Candidate]:
        """Return the candidates by name, and those tested for their values."""
        named = self.proposer.candidates
        tested = [
            Candidate(c.table, c.columns, c.referred_table, c.referred_columns)
            for c in self.evidence.contained
            if self._is_open(c)
        ]
        return dict.fromkeys([*named, *tested])

    def rank(self, found: FoundReference) -> tuple[float, float, tuple[int, int], str]:
        """Return the sort key of the targets of one column: how sure it
        is, how near its name is, how many words its table's name begins with that ours
        does."""
        theirs = self.database.table(found.referred_table)
        shared = _closeness(self.database.table(found.table), theirs)
        target = self.targets.get((found.referred_table, found.referred_columns[0]))
        score = 0.0
        if target is not None and len(found.columns) == 1:
            table = self.database.table(found.table)
            score = self.proposer.likeness(
                table, table.column(found.columns[0]), target
            ).score
        return (found.confidence, score, shared, found.referred_table)

    def _is_open(self, tested: Containment) -> bool:
        table = self.database.by_name.get(tested.table)
        if table is None or tested.referred_table not in self.database.by_name:
            return False
        return not any(r.columns == tested.columns for r in table.references)

    def judge(self, candidate: Candidate) -> FoundReference | None:
        """Return a candidate with how sure it is, None where it is refuted."""
        place = (candidate.table, candidate.columns, candidate.referred_table,
                 candidate.referred_columns)  # fmt: skip
        tested = self.contained.get(place)
        if len(candidate.columns) > 1:
            return self._judge_composite(candidate, tested)
        table = self.database.table(candidate.table)
        if table.is_view:
            return None
        column = table.column(candidate.columns[0])
        end = (candidate.referred_table, candidate.referred_columns[0])
        target = self.targets.get(end)
        if target is None:
            return None
        name = self.proposer.likeness(table, column, target)
        if _refers_back(target, table, column) or self._means_key(table, column, target):  # fmt: skip
            return None
        if table.primary_key == (column.name,) and not self._is_part(
            table, column, name
        ):
            return None
        if tested is None or not tested.checked:
            return self._by_name_alone(candidate, tested, name, target)
        sure = self._sureness(name, tested, column, target)
        if sure <= 0:
            return None
        return FoundReference(
            *place,
            confidence=round(min(sure, 0.99), 2),
            reason=_reason(tested, name),
            orphans=tested.orphans,
            none=tested.none,
        )

    def _means_key(self, table: Table, column: Column, target: _Target) -> bool:
        """Tell whether a number that has the name of a unique one refers to the table's
        key, since it has the table's name as well: `rating` beside `rating.id` and
        `rating.rating`."""
        key = target.table.primary_key
        if target.is_primary or len(key) != 1 or column.type.kind != "integer":
            return False
        other = self.targets.get((target.table.name, key[0]))
        if other is None or other.column.type.kind != "integer":
            return False
        return self.proposer.likeness(table, column, other).score >= CLEAR

    def _is_part(self, table: Table, column: Column, name: Likeness) -> bool:
        """Tell whether a table's key has the name of another table's: there is one
        record at most to each of its."""
        own = self.proposer.words[table.name]
        stem = without_keys(self.proposer.column_words(table, column))
        is_own = not stem or stem == own or stem == own[-len(stem) :]
        return name.score >= CLEAR and not column.automatic and not is_own

    def _by_name_alone(
        self,
        candidate: Candidate,
        tested: Containment | None,
        name: Likeness,
        target: _Target,
    ) -> FoundReference | None:
        """Without a row to ask, only a telling name of a table's own key counts."""
        read = self.evidence.table(candidate.table).sampled >= FEW_ROWS
        if read and tested is None:
            return None  # the rows refuted it, or it could not be looked at
        is_own = target.is_primary or self.proposer.is_own(target)
        is_named = is_own or self._is_login(candidate, name, target)
        if name.score < SIMILAR or not is_named:
            return None
        is_only = self._is_only(candidate, name, target)
        if not (is_only or is_own):
            return None
        table = self.database.table(candidate.table)
        column = table.column(candidate.columns[0])
        if name.score < CLEAR and not is_only:
            return None
        sure = 0.98 if name.score >= SAME and is_own else 0.88 if is_only else 0.6  # fmt: skip
        words = self.proposer.column_words(table, column)
        is_alike = column.type.length is not None and column.type.length == target.column.type.length  # fmt: skip
        is_joined = name.score == JOINED
        is_alike = is_alike or is_joined or "name of that key" in name.reason
        if column.type.kind == "text" and not (KEYS & {*words} or is_alike):
            sure = min(sure, 0.6)  # a text of any length may be one about the other
        why = "no row has a value" if read else "no row was read"
        why += "; no other table is named like it" if is_only and not is_joined else ""
        return FoundReference(
            candidate.table, candidate.columns, candidate.referred_table,
            candidate.referred_columns, sure, f"{name.reason}; {why}",
            none=tested.none if tested is not None else _none_by_default(column),
        )  # fmt: skip

    def _is_login(self, candidate: Candidate, name: Likeness, target: _Target) -> bool:
        """Tell whether a column has the name of a unique key by which accounts are
        known: `gpga_username`, `gu_username`. Other unique names are copied as often as
        they are referred to."""
        table, end = self.database.table(candidate.table), (target.column.name,)
        key = without_keys(self.proposer.bare_words(target.table, target.key))
        is_own = bool(key) and key == target.words[-len(key) :]  # `gc_client_id`
        is_alike = name.score >= SAME and (is_own or bool(_LOGINS.intersection(target.key)))  # fmt: skip
        is_theirs = target.table.is_unique(end) and not table.is_unique(
            candidate.columns
        )
        return is_alike and is_theirs

    def _is_only(self, candidate: Candidate, name: Likeness, target: _Target) -> bool:
        """Tell whether a column is named for a key, or a parent, and no other table's
        name is nearly as much like it."""
        table = self.database.table(candidate.table)
        column = table.column(candidate.columns[0])
        words = self.proposer.column_words(table, column)
        is_role = bool(ROLES & {words[0], "".join(words)})  # `parent`, `part_of`
        if name.score < CLEAR and not (KEYS & {words[-1]} or is_role):
            return False
        near = _closeness(table, target.table)
        rivals = (
            self.proposer.likeness(table, column, other).score
            for other in self.proposer.near(table, column)
            if other.table is not target.table
            and (other.is_primary or not target.is_primary)
            and _closeness(table, other.table) >= near
        )
        return all(score < name.score - RIVAL_NAME for score in rivals)

    def _sureness(
        self, name: Likeness, tested: Containment, column: Column, target: _Target
    ) -> float:
        profile = self.evidence.column(tested.table, column.name)
        if profile is not None and profile.flag and name.score < SAME:
            return 0.0
        if tested.found < tested.checked:
            return _with_orphans(name, tested)
        is_text = column.type.kind in ("text", "uuid")
        length = profile.mean_length if profile else 0
        telling = is_text and tested.checked >= MANY and length >= DISTINCTIVE
        if name.score >= CLEAR:
            return 0.98 if tested.checked >= 3 else 0.9
        if name.score >= SIMILAR:
            return _of_similar(name, tested, is_text, telling)
        if name.score >= LOOSE:
            return _of_loose(name, tested, is_text, telling, column.name)
        if name.score >= HINT:
            return self._of_unknown_stem(tested, telling, target)
        return _of_values(telling, target)

    def _of_unknown_stem(
        self, tested: Containment, telling: bool, target: _Target
    ) -> float:
        """A column named like a key of nothing we know: believed where its values leave
        no other choice."""
        if telling:
            return 0.85 if target.is_primary else 0.7
        rivals = [
            other
            for other in self._by_start[tested.table, tested.columns]
            if other.found == other.checked and other.end != tested.end
        ]
        fits = tested.checked >= MANY and tested.reach >= FAR
        if (
            fits
            and target.is_primary
            and all(r.reach < RIVAL * tested.reach for r in rivals)
        ):
            return 0.72 if not rivals else 0.6
        return 0.4 if fits else 0.0

    def _judge_composite(
        self, candidate: Candidate, tested: Containment | None
    ) -> FoundReference | None:
        if tested is None or tested.orphans > MAX_ORPHANS:
            return None
        own_key = self.database.table(candidate.table).primary_key
        referred = set(self.proposer.words[candidate.referred_table])
        own = set(self.proposer.words[candidate.table])
        if own_key == candidate.columns and not referred < own:
            return None
        sure = self._composite_sureness(candidate, tested)
        return FoundReference(
            candidate.table, candidate.columns, candidate.referred_table,
            candidate.referred_columns, sure, _reason(tested, Likeness(sure, "names agree")),
            tested.orphans,
        )  # fmt: skip

    def _composite_sureness(self, candidate: Candidate, tested: Containment) -> float:
        ours = self.database.table(candidate.table)
        names = [plain_words(ours.column(n).worded) for n in candidate.columns]
        theirs = self.database.table(candidate.referred_table)
        keys = [
            plain_words(theirs.column(n).worded) for n in candidate.referred_columns
        ]
        words = set(self.proposer.words[candidate.referred_table])
        specific = any(words & set(name) for name in (*names, *keys))
        if not tested.found == tested.checked > 0:
            if specific:
                return 0.8 if tested.checked else 0.6
            return 0.5
        target = self.database.table(candidate.referred_table)
        shared = any(target.reference_of(key) for key in candidate.referred_columns)
        sure = 0.92 if specific else 0.85 if shared else 0.5
        is_long = names == keys and len(names) > 2 and tested.checked >= MANY
        return max(sure, 0.78) if is_long else sure


def _reason(tested: Containment, name: Likeness) -> str:
    end = f"{tested.referred_table}.{' + '.join(tested.referred_columns)}"
    if not tested.checked:
        return f"{name.reason}; no row has a value"
    if tested.found == tested.checked:
        told = f"all {tested.checked:,} values looked at are in {end}"
    else:
        told = f"{tested.found:,} of {tested.checked:,} values looked at are in {end}"
    if tested.none:
        told += f"; {tested.none} stands for none"
    orphans = f"; {tested.orphans:.1%} of the rows without" if tested.orphans else ""
    return f"{told}{orphans}" + (f"; {name.reason}" if name.reason else "")


def shared_word(database: Database) -> str:
    """Return the word that nearly all tables begin with, "" where there is none, or where
    it says no less than what is behind it: `TX01`, `TX02`."""
    named = [plain_words(t.worded) for t in database.tables if not t.is_view]
    counts = Counter(words[0] for words in named if words)
    best = max(counts, key=lambda word: (counts[word], word), default="")
    behind = ["".join(words[1:]) for words in named if words[:1] == (best,)]
    numbers = sum(each.isdigit() for each in behind)
    is_name = counts[best] >= 0.8 * counts.total() and numbers < 0.5 * len(behind)
    return best if counts.total() > 3 and is_name else ""


def _declared_by_name(database: Database) -> dict[Words, tuple[str, str]]:
    """Return the key that all declared references of columns with the same words lead
    to, where there are several: of `type_id`, say, in twenty tables."""
    ends: dict[Words, list[tuple[str, str]]] = {}
    for table in database.tables:
        for reference in table.references:
            if len(reference.columns) == 1 and reference.referred_columns:
                words = plain_words(table.column(reference.columns[0]).worded)
                end = reference.referred_table, reference.referred_columns[0]
                ends.setdefault(words, []).append(end)
    return {
        words: each[0]
        for words, each in ends.items()
        if len(each) >= SEVERAL and len(set(each)) == 1
    }


def shared_beginning(table: Table) -> str:
    """Return the word that most columns of a table begin with, and that is not its
    name's, "" where there is none: `gpga` of `gpga_id` and `gpga_issued_at`."""
    firsts = Counter(
        words[0] for c in table.columns if len(words := plain_words(c.worded)) > 1
    )
    best = max(firsts, key=lambda word: (firsts[word], word), default="")
    enough = max(3, BEGINNING * len(table.columns))
    return best if best and firsts[best] >= enough and not is_word(best) else ""


@lru_cache(maxsize=50_000)
def _likeness_of_tables(ours: str, theirs: str) -> tuple[int, int]:
    first, second = plain_words(ours), plain_words(theirs)
    shared = 0
    while shared < min(len(first), len(second)) and first[shared] == second[shared]:
        shared += 1
    digits = {*filter(str.isdigit, ours)} & {*filter(str.isdigit, theirs)}
    return shared, len(digits)


def _closeness(ours: Table, theirs: Table) -> tuple[int, int]:
    """Return how many words two names of tables begin with alike, and how many digits
    both have: `dhcp4_pool` is nearer to `dhcp4_server` than to `dhcp6_server`, and so is
    `lease4`."""
    return _likeness_of_tables(ours.worded, theirs.worded)


def _accounts(database: Database, words: dict[str, Words]) -> str:
    """Return the table of accounts, "" where there is none, or several."""
    found = [
        table.name
        for table in database.tables
        if not table.is_view and len(table.primary_key) == 1 and (
            words[table.name][-1:] in (("user",), ("account",), ("usr",), ("login",))
        ) and len(words[table.name]) == 1
    ]  # fmt: skip
    return found[0] if len(found) == 1 else ""


def _lookup_words(target: _Target) -> set[str]:
    """Return the words under which a target is looked for."""
    return {*target.words, *target.key, "".join(target.words)} - KEYS


def _is_person(table: Table) -> bool:
    words = [plain_words(column.worded) for column in table.columns]
    if sum(bool(_PERSON_NAMES & set(each)) for each in words) >= 2:
        return True
    acts = table_words(table.worded)[-1].endswith(("er", "or", "eer", "ist", "ian"))
    return acts and any("name" in each or "surname" in each for each in words)


@lru_cache(maxsize=100_000)
def _is_plural(name: str) -> bool:
    """Tell whether a name ends in a plural: `delayed_jobs` counts them."""
    last = split_words(name)[-1:]
    return bool(last) and to_singular(last[0]) != last[0]


def _none_by_default(column: Column) -> str:
    """Return the default that stands for no record in a column that takes no NULL, ""
    for none: no row was read that has it as a key."""
    default = column.default
    if column.nullable or default is None or not default.literal:
        return ""
    return default.text if default.text in ("0", "-1") else ""


def _refers_back(target: _Target, table: Table, column: Column) -> bool:
    """Tell whether the other column refers to this one: then this one does not."""
    back = target.table.reference_of(target.column.name)
    return back is not None and (back.referred_table, back.referred_columns) == (
        table.name,
        (column.name,),
    )


def _is_plain_secret(column: Column) -> bool:
    """Tell whether a column is a secret that identifies nothing, unlike `session_id`: its
    values must not be shown as titles of others."""
    return is_secret(column) and not column.name.casefold().endswith("id")


def _is_counter(words: Words) -> bool:
    return words[-1] in QUANTITIES


def _stems_of_any_table(table: Table) -> Iterator[str]:
    """Yield the names, without a word for a key, of the columns beside which another
    says which table they refer to: "object" of `objecttype` and `objectid`."""
    names = {"".join(plain_words(column.worded)) for column in table.columns}
    for name in names:
        for sayer in TABLE_SAYERS:
            stem = name.removesuffix(sayer)
            if stem and stem != name and names & {stem + key for key in KEYS}:
                yield stem


def _names_its_table(table: Table, words: Words) -> bool:
    """Tell whether another column says which table a column refers to: `owner_type`
    beside `owner_id`; such a reference is none to any single table."""
    stem = "".join(without_keys(words))
    columns = {"".join(plain_words(column.worded)) for column in table.columns}
    return bool(stem) and any(stem + each in columns for each in TABLE_SAYERS)


def _numbers_itself(column: Column) -> bool:
    """Tell whether the database gives a number: of its own, or of a sequence."""
    default = column.default
    return column.automatic or (default is not None and not default.literal)


def _is_login(column: Column) -> bool:
    return bool(_LOGINS.intersection(plain_words(column.worded)))


def _is_codelike(target: _Target) -> bool:
    return bool(KEYS & set(target.key)) or target.is_primary


def _same_type(ours: Column, theirs: Column, any_kind: bool = False) -> bool:
    """Tell whether two columns hold values of one type: integer and bigint do, a text
    and a number do not."""
    kinds = {ours.type.kind, theirs.type.kind}
    if kinds <= _LIKE_INTEGERS:
        return not (ours.type.scale or theirs.type.scale)
    return len(kinds) == 1 and (any_kind or kinds <= {"text", "uuid"})


def with_found(
    database: Database, keys: Iterable[FoundKey], references: Iterable[FoundReference]
) -> Database:
    """Return the database with what was found and is used in its facts."""
    tables = dict(database.by_name)
    for key in keys:
        if key.is_used:
            tables[key.table] = replace(tables[key.table], primary_key=key.columns)
    for found in references:
        if found.is_used:
            table = tables[found.table]
            added = Reference(
                found.columns,
                found.referred_table,
                found.referred_columns,
                enforced=False,
            )
            ordered = sorted(
                [*table.references, added], key=lambda r: (r.columns, r.name)
            )
            tables[found.table] = replace(table, references=tuple(ordered))
    return replace(database, tables=tuple(tables.values()))


def _of_values(telling: bool, target: _Target) -> float:
    """Return how sure a reference is that values alone propose."""
    if not telling or not target.is_primary:
        return 0.0
    return 0.74 if _is_codelike(target) else 0.5


def _with_orphans(name: Likeness, tested: Containment) -> float:
    """Return how sure a reference is of which some values are in no record."""
    if name.score < TOLERANT or name.is_role or tested.orphans > MAX_ORPHANS:
        return 0.0
    return (0.95 if name.score >= CLEAR else 0.8) - tested.orphans * 0.7


def _of_similar(
    name: Likeness, tested: Containment, is_text: bool, telling: bool
) -> float:
    """Return how sure a reference is whose name is similar to its target's."""
    is_chance = not is_text and tested.checked < FEW
    if is_chance and not name.is_role:
        return 0.6
    is_wide = tested.reach >= SOME or tested.checked >= 3
    return 0.92 if telling or is_wide else 0.75


def _of_loose(
    name: Likeness, tested: Containment, is_text: bool, telling: bool, column: str
) -> float:
    """Return how sure a reference is whose name says little of its target."""
    if telling or (tested.checked >= 3 and tested.reach >= WIDE):
        return 0.82
    is_actor = name.is_role and column.casefold().endswith("by")
    if is_actor and tested.checked >= 3:
        return 0.72
    return 0.72 if tested.checked >= 2 and is_text else 0.55
