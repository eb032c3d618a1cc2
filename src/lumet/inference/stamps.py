"""Stamps: who created or changed a record last, and when, by the names of columns."""

import re

from lumet.facts.model import Column, Table
from lumet.inference.labels_from_names import split_words

_DONE = "created|updated|modified|changed|inserted|imported|added"
_ACT = "creation|create|update|modification|modify|change|insertion|insert"
_SHORT = "crt|cre|upd|mod|chg|ins"
_LEAD = "(?:last|latest|date|time|when|on|ts?|dt|db|row|rec|record|sys)?"
_WHEN = "at|on|date|time|datetime|timestamp|stamp|ts|tm|dt|utc"
_WHO = "by|byid|byuser|user|userid|usr|uid"
# what is done needs no more in a column of moments: `created`, `t_updated`
_BARE = re.compile(rf"{_LEAD}(?P<verb>{_DONE})")
_ENDED = re.compile(
    rf"{_LEAD}(?:(?P<verb>{_DONE}|{_SHORT})(?:{_WHEN}|{_WHO})|(?P<act>{_ACT}|{_SHORT})(?:{_WHEN}|user|usr))"
)
_BY = re.compile(rf"{_LEAD}(?:(?:{_DONE}|{_SHORT})(?:{_WHO})|(?:{_ACT}|{_SHORT})(?:user|usr)|creator)(?:id)?")  # fmt: skip
_STORED = re.compile(rf"{_LEAD}(?:{_DONE}|{_ACT})(?:in|into|to)db")
# said in full, so that a number of seconds is one too
_LAST = re.compile(
    r"last(?:modified|updated|changed|modification|update|change)(?:at|on|date|time)?"
)
_FIRST = ("cre", "crt", "ins", "imp", "add")


def is_stamp(column: Column) -> bool:
    """Whether a column is a stamp by its name: `created_at`, `t_updated`,
    `LastUpdatedBy`, `kpr_upd_ts`; without a word for who or when only where it holds
    moments: `changed`."""
    words = split_words(column.worded)
    is_moment = column.type.kind in ("date", "datetime")
    whole = "".join(words)
    is_bare = _BARE.fullmatch(whole) or _STORED.fullmatch(whole)
    if _ENDED.fullmatch(whole) or _LAST.fullmatch(whole) or (is_moment and is_bare):
        return True
    return len(words) > 2 and bool(_ENDED.fullmatch("".join(words[1:])))


def is_actor(name: str) -> bool:
    """Whether a column is named for who created or changed a record: `created_by`,
    `lastupdatedby`, `Creator`."""
    words = split_words(name)
    found = _BY.fullmatch("".join(words))
    return bool(found or (len(words) > 2 and _BY.fullmatch("".join(words[1:]))))


def is_stamp_of(table: Table, column: Column) -> bool:
    """Whether a column is a stamp in its table: by its name, or as who created a record
    beside when. Example: `Creator` beside `Created`."""
    is_creator = "".join(split_words(column.worded)) in ("creator", "creatorid")
    return is_stamp(column) or (
        is_creator and any(is_stamp(c) and is_of_creation(c) for c in table.columns)
    )


def is_of_creation(column: Column) -> bool:
    """Whether a stamp is of the creation, rather than of the last change."""
    found = re.search(f"{_DONE}|{_ACT}|{_SHORT}", "".join(split_words(column.worded)))
    return found is not None and found[0].startswith(_FIRST)
