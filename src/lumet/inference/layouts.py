"""Questions about the layouts of a list: calendar, board and map."""

from itertools import combinations

from lumet.facts.model import Column
from lumet.inference.details import details_of_references
from lumet.inference.labels_from_names import split_words
from lumet.inference.name_similarity import plain_words
from lumet.inference.rules import Choice, Subject
from lumet.inference.stamps import is_stamp_of
from lumet.inference.tables import order_of_list

_BEGINS = frozenset({"begin", "begins", "began", "start", "starts", "started", "from", "first", "arrival", "arrives", "checkin", "departs", "left"})  # fmt: skip
_ENDS = frozenset({"end", "ends", "ended", "finish", "finished", "finishes", "to", "until", "till", "thru", "last", "departure", "checkout", "returned", "stop", "stopped"})  # fmt: skip
# of what goes away and comes back; a departure ends a stay, but begins a voyage
_LEAVES = frozenset({"dep", "departs", "departed", "departure", "out", "issued", "lent", "loaned", "borrowed", "opened"})  # fmt: skip
_RETURNS = frozenset({"ret", "return", "returned", "back", "arr", "arrives", "arrived", "arrival", "closed"})  # fmt: skip
_PLANNED = frozenset({"next", "due", "planned", "scheduled", "appointment", "deadline", "booked"})  # fmt: skip
_STATES = frozenset({"state", "status", "stage", "phase", "step", "progress"})
_DULL_GROUPS = frozenset({"Reference data", "Events and logs", "Technical"})
MOST_COLUMNS = 8  # of a board that one sees at once


def calendar_of_list(subject: Subject) -> Choice | None:
    """A record from one date to another, by two columns whose names say so; else by the
    date of its list's order, or by one that is planned. Example: postings from
    `begins_on` to `ends_on`, inspections by `inspected_on`."""
    dates = [column for column in subject.table.columns if _is_date(subject, column)]
    if not dates or _is_dull(subject):
        return None
    for first, second in combinations(dates, 2):
        words = [{*split_words(each.worded)} for each in (first, second)]
        for begins, ends in ((_BEGINS, _ENDS), (_LEAVES, _RETURNS)):
            if words[0] & begins and words[1] & ends:
                return Choice([first.name, second.name], "from one to the other", 0.85)
    order = order_of_list(subject).value
    main = [c for c in dates if order and order[0].removeprefix("-") == c.name]
    if main:
        return Choice([main[0].name], "by the date of its order", 0.8)
    planned = [c for c in dates if {*split_words(c.worded)} & _PLANNED]
    return Choice([planned[0].name], "when it is planned", 0.75) if planned else None


def _is_dull(subject: Subject) -> bool:
    return subject.answer("group") in _DULL_GROUPS or subject.table.is_view


def _is_hidden(subject: Subject, column: Column) -> bool:
    found = subject.answers.get((subject.table.name, column.name, "hidden"))
    return found is not None and bool(found.value)


def _is_date(subject: Subject, column: Column) -> bool:
    is_one = subject.answer(column.name, "kind") in ("date", "datetime")
    is_hidden = _is_hidden(subject, column)
    return is_one and not is_hidden and not is_stamp_of(subject.table, column)


def board_of_list(subject: Subject) -> Choice | None:
    """A choice that is named as a state and has up to eight values, or a lookup of a
    table of up to eight. Example: repairs by `status`."""
    if _is_dull(subject):
        return None
    for column in subject.table.columns:
        if not {*plain_words(column.worded)} & _STATES or _is_hidden(subject, column):  # fmt: skip
            continue
        count = _values(subject, column)
        if count is not None and 2 <= (count or 2) <= MOST_COLUMNS:
            return Choice(column.name, "a state", 0.8)
    return None


def _values(subject: Subject, column: Column) -> int | None:
    """Return the number of values of a choice or a lookup, 0 where that is not known,
    None where the column is neither."""
    kind = subject.answer(column.name, "kind")
    if kind == "choice":
        profile = subject.evidence.column(subject.table.name, column.name)
        return len(column.type.values or (profile.values if profile else ()))
    reference = subject.table.reference_of(column.name)
    if kind != "lookup" or reference is None or len(reference.columns) > 1:
        return None
    return subject.evidence.table(reference.referred_table).rows


def expand_of_list(subject: Subject) -> Choice | None:
    """The first related records that are rows of the record's form, but for those of
    which a record has one at most. Example: the findings of an inspection."""
    for name, choice in details_of_references(subject).items():
        found = choice.value if isinstance(choice.value, list) else [choice.value]
        child = subject.database.table(name)
        for detail in found:
            by = (
                (detail["by"],)
                if isinstance(detail["by"], str)
                else tuple(detail["by"])
            )
            if detail.get("edit") == "rows" and not child.is_unique(by):
                return Choice(name, "rows of its form")
    return None


def map_of_list(subject: Subject) -> Choice | None:
    """A latitude and a longitude. Example: stations by `latitude` and `longitude`."""
    found: dict[str, str] = {}
    for column in subject.table.columns:
        kind = subject.answer(column.name, "kind")
        if kind in ("latitude", "longitude") and not _is_hidden(subject, column):  # fmt: skip
            found.setdefault(kind, column.name)
    if len(found) < 2:
        return None
    return Choice([found["latitude"], found["longitude"]], "a position", 0.9)
