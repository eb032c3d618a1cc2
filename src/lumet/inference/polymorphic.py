"""References to one of several tables: a column that says of which, and one with the
key there. Example: `subject_type` with "Station" and "Vessel" beside `subject_id`."""

import re
from collections.abc import Iterator

from lumet.facts.model import Column, Table
from lumet.inference.labels_from_names import split_words
from lumet.inference.name_similarity import (
    KEYS,
    TABLE_SAYERS,
    plain_words,
    without_keys,
)
from lumet.inference.rules import Choice, Subject

KNOWN = 0.5  # of the values of the type are names of tables
_LAST = re.compile(r".*(?:::|[.\\/:])")  # what stands before the name of a class


def type_column_of(subject: Subject, column: Column) -> Choice | None:
    """A key beside a text that names tables refers to one of them. Example:
    `subject_id` beside `subject_type`."""
    found = _found(subject, column)
    if found is None:
        return None
    return Choice(found[0], f"{found[0]} says of which table", 0.85)


def type_tables_of(subject: Subject, column: Column) -> Choice | None:
    """The values of that text are matched with the tables that they name, in whatever
    style. Example: `Skerry::FogSignal` and `fog_signals` are `fog_signal`."""
    found = _found(subject, column)
    return Choice(found[1], "named like them", 0.85) if found is not None else None


def tables_of_leads(subject: Subject, column: Column) -> Choice | None:
    """A text that holds the name of a table and a key there refers to one of several.
    Example: `about` with `vessel:17` and `station:3`."""
    profile = subject.column_profile(column.name)
    refers = any(column.name in each.columns for each in subject.table.references)
    if column.type.kind != "text" or profile is None or not profile.leads or refers:
        return None
    tables = {
        lead: name
        for lead in profile.leads
        if (name := _named(subject, None, lead[:-1]))
    }
    if not tables or len(tables) < KNOWN * len(profile.leads):
        return None
    return Choice(tables, "its texts begin with their names", 0.85)


def _found(subject: Subject, column: Column) -> tuple[str, dict[str, str]] | None:
    """Return the column that says of which table a key is, and its values with their
    tables; None for a column that is no such key."""
    table = subject.table
    words = plain_words(column.worded)
    stem = "".join(without_keys(words))
    is_key = len(words) > 1 and words[-1] in KEYS and bool(stem)
    if not is_key or any(column.name in each.columns for each in table.references):
        return None
    for sayer in _sayers(table, stem):
        values = subject.choices(sayer.name)
        tables = {value: name for value in values if (name := _named(subject, column, value))}  # fmt: skip
        if tables and len(tables) >= KNOWN * len(values):
            return sayer.name, tables
    return None


def _sayers(table: Table, stem: str) -> Iterator[Column]:
    """Yield the texts that are named for a stem and a word for tables."""
    wanted = {stem + word for word in TABLE_SAYERS}
    for column in table.columns:
        if column.type.kind == "text" and "".join(plain_words(column.worded)) in wanted:
            yield column


def _named(subject: Subject, column: Column | None, value: str) -> str:
    """Return the table that a value names, whose key is of the column's type, where
    there is one; "" for none."""
    last = "".join(plain_words(_LAST.sub("", value)))
    whole = "".join(split_words(value))
    for table in subject.database.tables:
        if table.is_view or len(table.primary_key) != 1:
            continue
        names = {"".join(subject.about(table.name).words), "".join(plain_words(table.worded))}  # fmt: skip
        spelled = ("".join(split_words(table.worded)), "".join(split_words(table.own_name)))  # fmt: skip
        is_same = last in names or whole in spelled
        kind = table.column(table.primary_key[0]).type.kind
        if is_same and (column is None or kind == column.type.kind):
            return table.name
    return ""
