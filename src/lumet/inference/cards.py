"""The cards of the first page, from what the tables hold and how they were decided."""

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from math import log10
from typing import Any
from urllib.parse import urlencode

from anyascii import anyascii

from lumet.design.decision_schema import Entry
from lumet.evidence.model import ColumnProfile, Evidence
from lumet.facts.model import Column, Database, Table
from lumet.inference.kinds import DATE_WORDS
from lumet.inference.labels_from_names import split_words, to_singular
from lumet.inference.stamps import is_stamp_of
from lumet.kit.contract import (
    BARS,
    LINE,
    NUMBER,
    RECENT,
    ROWS,
    SHARES,
    TABLES,
    VIEWS,
    YEAR,
)

MOST_FIGURES = 6
MOST_OF_TABLE = 2
MOST_NUMBERS = 3
MOST_LINES = 2
MOST_DUE = 2
FEWEST_ROWS = 20  # below, a figure says no more than the list
MOST_ROWS = 500_000  # above, counting by groups takes too long for a first page
DOMINANT = 0.95  # the share of one value at which the others are hardly seen
MOSTLY_EMPTY = 0.5
FEWEST_MONTHS = 4  # of a line
ROWS_OF_MONTH = 3  # below, a line has a point for every year
FEW, MANY = 5, 14  # values that are shares; more are bars, and too many for one card
_DULL_GROUPS = frozenset({"Reference data", "Events and logs", "Technical", "Overviews"})  # fmt: skip
_OPEN = frozenset({"open", "opened", "new", "pending", "reported", "waiting", "unassigned", "draft", "submitted",
                   "requested", "planned", "scheduled", "todo", "overdue", "unpaid", "queued",
                   "failed", "blocked", "outstanding", "due", "started", "assigned",
                   "progress", "hold", "unresolved", "unconfirmed", "late"})  # fmt: skip
_DUE = frozenset({"due", "deadline"})
# what programs do next, rather than people
_OF_PROGRAMS = frozenset({"run", "runs", "attempt", "attempts", "retry", "try", "sync", "poll", "execution", "fire", "refresh", "update", "check", "scan"})  # fmt: skip
_DONE = frozenset({"done", "completed", "closed", "resolved", "finished", "returned", "paid", "settled", "fixed",
                   "received", "answered", "delivered", "fulfilled"})  # fmt: skip
SOON = 30  # days
# of what goes on: a result that failed is none, which a later one may have mended
_PROGRESS = frozenset({"state", "status", "stage", "phase"})
_STATES = frozenset(
    {"state", "status", "result", "outcome", "stage", "phase", "condition"}
)
_TYPES = frozenset({"type", "kind", "category", "class", "priority", "severity", "level", "reason", "cause"})  # fmt: skip
# of columns by which nobody asks for a number
_TECHNICAL = frozenset({"version", "revision", "locale", "language", "lang", "timezone", "format", "encoding",
                        "charset", "mime", "checksum", "hash", "deleted", "flag", "flags", "mode", "sort",
                        "position", "index", "idx", "schema", "table", "protocol", "theme", "gender", "sex", "salutation",
                        "currency", "algorithm", "os", "platform", "browser", "internal", "valid", "until",
                        "expires", "expiry", "last", "next", "seen", "login", "birth", "dob", "token", "session", "cron", "sync", "synced"})  # fmt: skip


_FLAGS = frozenset({"y", "yes", "true", "t", "on"})  # of a yes/no
_FOR_PROGRAMS = frozenset({"token", "session", "cache", "lock", "migration", "permission", "acl", "setting", "config",
                           "configuration", "preference", "metadata", "option", "attribute",
                           "property", "template", "trigger", "cron", "sequence", "counter", "hook", "pref"})  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Candidate:
    """A card that could be on the page, and how much it would tell."""

    table: str
    value: dict[str, Any]
    reason: str
    score: float

    @property
    def kind(self) -> str:
        return str(self.value["kind"])

    @property
    def grouped_by(self) -> str:
        """The column by which bars and shares are made, "" for other kinds."""
        return str(self.value["by"]) if self.kind in (BARS, SHARES) else ""

    @property
    def name(self) -> str:
        by = self.value.get("by", "")
        end = f"by_{by}" if by else self.value["filter"].partition("=")[2]
        end = "due" if self.kind == ROWS else end
        return _slug(f"{self.table}_{end}")


def cards_of_front(
    database: Database, evidence: Evidence, decided: Mapping[str, Sequence[Entry]]
) -> tuple[Entry, ...]:
    """The records that the user opened last; up to three numbers of records in an open
    state, and those that are due and not done; bars, shares and lines of the tables that others
    are linked with most, by states, types, small tables and the months of dates; six of
    these in all, two of a table, and one by columns of one name. None of a column that is
    hidden, a stamp or technical, constant or nearly so, mostly empty, or of numbers that
    nobody named; none of a table of under 20 rows, of over 500,000, of reference data or a
    log. The tables, where there is none of these. Example: repairs that are reported,
    inspections by result and by month."""
    found: list[_Candidate] = []
    referring = Counter(
        r.referred_table for t in database.tables for r in t.references if r.referred_table != t.name
    )  # fmt: skip
    for table in database.tables:
        answers = {each.path: each.value for each in decided.get(table.name, ())}
        found += _Cards(table, answers, database, evidence, referring).candidates()
    chosen = _chosen(sorted(found, key=lambda each: (-each.score, each.name)))
    entries = [Entry(("cards", "recent"), {"kind": RECENT}, "what the user opened or changed last")]  # fmt: skip
    numbers = [each for each in chosen if each.kind == NUMBER]
    named: set[str] = {"recent", "views", "tables"}
    made = []
    for each in (*numbers, *(c for c in chosen if c.kind != NUMBER)):
        name = each.name
        while name in named:
            name += "_2"
        named.add(name)
        made.append(Entry(("cards", name), each.value, each.reason, 0.8))
    views = Entry(("cards", "views"), {"kind": VIEWS}, "the views that the user saved")
    if not made:
        all_tables = Entry(("cards", "tables"), {"kind": TABLES}, "there is nothing to count")  # fmt: skip
        return (*entries, all_tables, views)
    return (*made[: len(numbers)], *entries, *made[len(numbers) :], views)


def _slug(text: str) -> str:
    name = re.sub(r"\W+", "_", anyascii(text)).strip("_").lower()
    return name if name[:1].isalpha() else f"card_{name}"


def _chosen(candidates: Sequence[_Candidate]) -> list[_Candidate]:
    """Return the best that go together."""
    found: list[_Candidate] = []
    per_table: Counter[str] = Counter()
    per_kind: Counter[str] = Counter()
    drawn: set[tuple[str, str]] = set()
    grouped: set[str] = set()
    most = {NUMBER: MOST_NUMBERS, LINE: MOST_LINES, ROWS: MOST_DUE}
    for each in candidates:
        is_number = each.kind in (NUMBER, ROWS)
        if len(found) == MOST_FIGURES:
            break
        if per_kind[each.kind] >= most.get(each.kind, MOST_FIGURES):
            continue
        if each.kind == LINE and (each.table, LINE) in drawn:
            continue  # by another date, or a sum: one of them will do
        if not is_number and per_table[each.table] >= MOST_OF_TABLE:
            continue
        if each.grouped_by and each.grouped_by in grouped:
            continue  # alike in another table: a type that several tables have
        found.append(each)
        per_kind[each.kind] += 1
        grouped.add(each.grouped_by)
        drawn.add((each.table, each.kind))
        per_table[each.table] += not is_number
    return found


class _Cards:
    """The cards that one table could have."""

    def __init__(
        self,
        table: Table,
        entries: Mapping[tuple[str, ...], Any],
        database: Database,
        evidence: Evidence,
        referring: Mapping[str, int],
    ) -> None:
        self.table, self.entries = table, entries
        self.database, self.evidence = database, evidence
        self.profile = evidence.table(table.name)
        self.linked = referring.get(table.name, 0)

    def candidates(self) -> Iterator[_Candidate]:
        rows = self.profile.rows
        pages = self.entries.get(("pages",), ("list",))
        is_shown = self.entries.get(("include",), True) and "list" in pages
        words = {to_singular(word) for word in split_words(self.table.worded)}
        is_dull = self.entries.get(("group",)) in _DULL_GROUPS or self.table.is_view
        is_dull |= bool(words & _FOR_PROGRAMS)
        if is_dull or not is_shown or not FEWEST_ROWS <= rows <= MOST_ROWS:
            return
        worth = min(self.linked, 4) + 0.5 * min(len(self.table.references), 4)
        worth += 0.5 * log10(rows) + 2 * self._is_of_events()
        for column in self.table.columns:
            profile = self.evidence.column(self.table.name, column.name)
            if profile is not None and self._says_something(column, profile):
                yield from self._of_column(column, profile, worth)
        yield from self._of_due(worth)

    def _is_of_events(self) -> bool:
        """Tell whether the records happen on a day, by which their list is ordered."""
        return self._answer(self._order(), "kind") in ("date", "datetime")

    def _order(self) -> str:
        return str((self.entries.get(("list", "order")) or [""])[0]).removeprefix("-")

    def _answer(self, column: str, key: str) -> Any:
        return self.entries.get(("field", column, key))

    def _says_something(self, column: Column, profile: ColumnProfile) -> bool:
        words = {*split_words(column.worded)}
        is_technical = bool(words & _TECHNICAL) or is_stamp_of(self.table, column)
        is_decided_dull = self._answer(column.name, "hidden") or self._answer(column.name, "automatic")  # fmt: skip
        is_mark = self.entries.get(("soft_delete",)) == column.name
        is_type = any(path[-1] == "type_column" and value == column.name for path, value in self.entries.items())  # fmt: skip
        is_empty = profile.empty > MOSTLY_EMPTY
        return not (is_technical or is_decided_dull or is_mark or is_type or profile.constant or is_empty)  # fmt: skip

    def _of_column(
        self, column: Column, profile: ColumnProfile, worth: float
    ) -> Iterator[_Candidate]:
        kind = self._answer(column.name, "kind")
        words = {*split_words(column.worded)}
        if kind == "choice":
            yield from self._of_states(column, profile, worth, words)
        if profile.most > DOMINANT:
            return
        if kind == "choice":
            yield from self._of_choice(column, profile, worth, words)
        elif kind in ("date", "datetime"):
            yield from self._of_date(column, profile, worth)
        elif (reference := self.table.reference_of(column.name)) is not None:
            rows = self.evidence.table(reference.referred_table).rows
            if 2 < rows <= MANY and reference.referred_table != self.table.name:
                told = f"refers to {rows} {reference.referred_table}"
                yield self._made(BARS, {"by": column.name}, told, worth)

    def _of_choice(
        self, column: Column, profile: ColumnProfile, worth: float, words: set[str]
    ) -> Iterator[_Candidate]:
        count = len(profile.values)
        if not 2 <= count <= MANY or self._are_numbers(column, profile):
            return
        if {value.casefold() for value in profile.values} & _FLAGS:
            return
        is_state, is_type = bool(words & _STATES), bool(words & _TYPES)
        more = 2.0 if is_state else 1.0 if is_type else 0.0
        kind = SHARES if count <= FEW and not is_state else BARS
        told = f"{count} values, the most frequent in {profile.most:.0%} of the rows"
        yield self._made(kind, {"by": column.name}, told, worth + more)

    def _are_numbers(self, column: Column, profile: ColumnProfile) -> bool:
        """Tell whether the values are numbers that nobody named."""
        labels = self._answer(column.name, "choices") or {}
        named = dict(labels) if isinstance(labels, dict) else {}
        return all(str(named.get(v, v)).strip("-").isdigit() for v in profile.values)

    def _of_states(
        self, column: Column, profile: ColumnProfile, worth: float, words: set[str]
    ) -> Iterator[_Candidate]:
        labels = self._answer(column.name, "choices") or {}
        named = dict(labels) if isinstance(labels, dict) else {}
        for value in self._open_values(profile, named) if words & _STATES else ():
            query = urlencode({f"{column.name}.is": value}, safe=":")
            yield self._made(NUMBER, {"filter": query}, "an open state", worth + 3)
            return

    @staticmethod
    def _open_values(profile: ColumnProfile, named: Mapping[str, Any]) -> Iterator[str]:
        for value in profile.values:
            if _OPEN & {*split_words(str(named.get(value, value)).casefold())}:
                yield value

    def _of_due(self, worth: float) -> Iterator[_Candidate]:
        """Yield the records that are open, and due soon, or were; without an open state
        those that nobody has noted as done, or what comes next."""
        dates = [
            column
            for column in self.table.columns
            if self._answer(column.name, "kind") in ("date", "datetime")
            and not self._answer(column.name, "hidden")
        ]
        due = [c.name for c in dates if _DUE & {*split_words(c.worded)}]
        following = [
            c.name for c in dates
            if "next" in (words := {*split_words(c.worded)}) and not words & _OF_PROGRAMS
        ]  # fmt: skip
        done = [
            c.name for c in dates if _DONE & {*split_words(c.worded)} and c.nullable
        ]
        states = self._open_states()
        if due and states:
            key, values = next(iter(states.items()))
            yield self._due(
                due[0], [(key, value) for value in values], "open", worth + 4
            )
        elif due and done:
            is_open = [(f"{done[0]}.empty", "1")]
            yield self._due(due[0], is_open, f"{done[0]} is empty", worth + 4)
        elif following and not self._is_of_events():  # of those, the last one counts
            yield self._due(following[0], [], "what comes next", worth + 3)

    def _open_states(self) -> dict[str, list[str]]:
        """Return the values of open states, by the filter of their column."""
        states = {
            f"{column.name}.is": [*self._open_values(profile, dict(labels))]
            for column in self.table.columns
            if {*split_words(column.worded)} & _PROGRESS
            and self._answer(column.name, "kind") == "choice"
            and (profile := self.evidence.column(self.table.name, column.name))
            and isinstance(labels := self._answer(column.name, "choices") or {}, dict)
        }
        return {key: values for key, values in states.items() if values}

    def _due(
        self, column: str, is_open: Sequence[tuple[str, str]], why: str, score: float
    ) -> _Candidate:
        query = [*is_open, (f"{column}.to", f"today+{SOON}d"), ("sort", column)]
        plural = self.entries.get(("plural",), self.table.name)
        held = {"filter": urlencode(query, safe=":+"), "label": f"{plural} due"}
        return self._made(ROWS, held, f"{why}, and due within a month or before", score)

    def _of_date(
        self, column: Column, profile: ColumnProfile, worth: float
    ) -> Iterator[_Candidate]:
        if profile.months < FEWEST_MONTHS:
            return
        is_main = self._order() == column.name
        if not is_main and not DATE_WORDS & {*split_words(column.worded)}:
            return  # such as `email_ok`, which says that and not when
        is_sparse = self.profile.rows < ROWS_OF_MONTH * profile.months
        every = {"every": YEAR} if is_sparse else {}
        told = f"rows in some {profile.months} different months"
        more = 1.5 if is_main else -0.5
        yield self._made(LINE, {"by": column.name, **every}, told, worth + more)
        if is_main and (money := self._money()):
            value = {"by": column.name, "sum": money, **every}
            yield self._made(LINE, value, told, worth + 0.5)

    def _money(self) -> str:
        """Return the first amount of money that is nearly always there, "" for none."""
        for column in self.table.columns:
            profile = self.evidence.column(self.table.name, column.name)
            is_money = self._answer(column.name, "kind") == "money"
            if is_money and profile is not None and self._says_something(column, profile):  # fmt: skip
                return column.name
        return ""

    def _made(
        self, kind: str, value: dict[str, str], reason: str, score: float
    ) -> _Candidate:
        held = {"kind": kind, "table": self.table.name, **value}
        return _Candidate(self.table.name, held, reason, score)
