"""Questions about one column: its label, its kind, whether it is hidden or
read-only."""

from lumet.design.dependent_lookups import lookup_reference
from lumet.facts.model import Column, Reference
from lumet.inference.glued_words import is_word
from lumet.inference.kinds import FLAG_VERBS, code_list_of, is_in_cents
from lumet.inference.labels_from_names import (
    KEY_WORDS,
    split_words,
    to_singular,
    unit_of,
)
from lumet.inference.polymorphic import type_column_of
from lumet.inference.rules import Choice, ColumnRule, Subject
from lumet.inference.secrets import is_secret
from lumet.inference.stamps import is_of_creation, is_stamp, is_stamp_of
from lumet.kit.contract import NEW_UUID

MOST_GAPS = 100  # numbers for each row of a key that a program counted
_SURROGATES = frozenset({"id", "key", "pk", "oid", "uid", "sk", "ident", "identifier", "recid", "rowid"})  # fmt: skip
_COUNTING = ("serial", "identity", "autoinc", "counter")  # in a type's name
_VERSION_NAMES = frozenset(
    {"version", "row_version", "lock_version", "rev", "revision"}
)
# of a reference, what says nothing of the record
_NOTHING = frozenset({"ref", "fk", "rel", "rec", "record", "obj", "key", "id", "our", "uid", "int", "no", "num"})  # fmt: skip
COLOURS: dict[str, tuple[str, ...]] = {
    "green": ("passed", "ok", "good", "done", "active", "working", "approved", "closed",
             "repaired", "valid", "complete", "completed", "lit"),
    "red": ("failed", "bad", "severe", "rejected", "broken", "out", "overdue", "critical",
            "cancelled", "invalid", "dark", "urgent"),
    "amber": ("findings", "partial", "minor", "moderate", "pending", "dim", "due", "late",
             "warning", "unsure", "suspended"),
    "blue": ("planned", "draft", "new", "open", "scheduled", "unknown", "none"),
}  # fmt: skip


def label_of_reference(subject: Subject, column: Column) -> Choice | None:
    """A reference is labelled by the referenced table: `station_id` is "Station"."""
    reference = lookup_reference(subject.table, column.name)
    if reference is None:
        return None
    words = subject.without_own(split_words(column.worded))
    stem = words[:-1] if len(words) > 1 and words[-1] in (*KEY_WORDS, "uid") else words
    singular = subject.answers.get((reference.referred_table, "singular"))
    if singular is not None and _says_no_more(subject, column, stem, reference):
        return Choice(singular.value, "the name of the referenced table")
    return Choice(
        subject.label(stem) or column.name, f"refers to {reference.referred_table}"
    )


def _says_no_more(
    subject: Subject, column: Column, stem: list[str], reference: Reference
) -> bool:
    """Tell whether a column says no more than the table that it refers to: it has the
    table's name, that of a key, or the name of the referenced key, whose prefix is no
    word: `gus_id` of `g_user_session`."""
    referred = subject.about(reference.referred_table)
    plain = tuple(to_singular(word) for word in stem)
    if plain == referred.words or stem == split_words(referred.table.worded):
        return True
    if set(stem) <= _NOTHING:
        return True
    # empty where it refers to a table without a key
    keys = [each.casefold() for each in reference.referred_columns[-1:]]
    same = keys == [column.name.casefold()]
    if same and tuple(plain[:-1]) == referred.words and plain[-1] == "name":
        return True
    return same and len(stem) == 1 and stem[0] not in referred.words and not is_word(stem[0])  # fmt: skip


def label_of_polymorphic(subject: Subject, column: Column) -> Choice | None:
    """A key of one of several tables drops the word for a key: `subject_id` is
    "Subject"."""
    if type_column_of(subject, column) is None:
        return None
    words = subject.without_own(split_words(column.worded))
    return Choice(subject.label(words[:-1]) or column.name, "a key of several tables")


def label_of_key(subject: Subject, column: Column) -> Choice | None:
    """The table's name, and a word that nearly all of its columns begin with, say
    nothing: `station_no` is "Number", `KPR_GIVEN_NAME` beside `KPR_NO` and `KPR_PHONE`
    "Given name"."""
    words = split_words(column.worded)
    rest = subject.without_own(words)
    if rest != words:
        numeric = _is_number(column)
        label = subject.label(_without_size(column, rest), numeric) or column.name
        left_out = " ".join(words[: len(words) - len(rest)])
        return Choice(label, f'"{left_out}" is left out')
    return None


def label_of_flag(subject: Subject, column: Column) -> Choice | None:
    """A yes or no drops its verb: `is_automated` is "Automated"."""
    words = subject.without_own(split_words(column.worded))
    if len(words) > 1 and words[0] in FLAG_VERBS and (
        column.type.kind in ("boolean", "integer")
    ):  # fmt: skip
        return Choice(subject.label(words[1:]) or column.name, "the verb is left out")
    return None


def label_of_words(subject: Subject, column: Column) -> Choice | None:
    """Else the words of the name, abbreviations written out. Example: `lit_since` is
    "Lit since", `range_nm` is "Range"."""
    words = _without_size(column, split_words(column.worded))
    label = subject.label(words, _is_number(column)) or column.name
    return Choice(label, "")


def _without_size(column: Column, words: list[str]) -> list[str]:
    """Return the words of an amount without those that say in what it is stored: "Fee"
    of `fee_in_cents`."""
    if not is_in_cents(column):
        return words
    rest = words[:-1]
    return rest[:-1] if rest[-1:] == ["in"] and len(rest) > 1 else rest


def unit_of_name(subject: Subject, column: Column) -> Choice | None:
    """The unit that a number's name ends in. Example: `range_nm` in nm, `cost_eur` in
    €."""
    unit = unit_of(split_words(column.worded)) if _is_number(column) else ""
    if not unit or subject.answer(column.name, "kind") == "lookup":
        return None
    return Choice(unit, "by its name")


def unit_of_percent(subject: Subject, column: Column) -> Choice | None:
    """A percentage says so. Example: `discount_percentage`."""
    if subject.answer(column.name, "kind") == "percent":
        return Choice("%", "a percentage")
    return None


UNIT_RULES: tuple[ColumnRule, ...] = (unit_of_name, unit_of_percent)


def _is_number(column: Column) -> bool:
    return column.type.kind in ("integer", "decimal", "float")


LABEL_RULES: tuple[ColumnRule, ...] = (
    label_of_reference,
    label_of_polymorphic,
    label_of_flag,
    label_of_key,
    label_of_words,
)


def hidden_surrogate(subject: Subject, column: Column) -> Choice | None:
    """A key that numbers itself says nothing to a person, unless it is a reference.
    Example: `id` of a station."""
    if column.automatic and subject.table.reference_of(column.name) is None:
        return Choice(True, "a number the database gives")
    if is_surrogate_key(subject, column) and next_of_key(subject, column) is not None:
        return Choice(True, "a number that says nothing", 0.8)
    return None


def hidden_uuid(subject: Subject, column: Column) -> Choice | None:
    """A key that is a UUID says nothing to a person, where the database or the
    application makes it. Example: `id uuid DEFAULT gen_random_uuid()`."""
    table = subject.table
    if table.primary_key != (column.name,) or table.reference_of(column.name) is not None:  # fmt: skip
        return None
    profile = subject.column_profile(column.name)
    is_spelled = profile is not None and profile.pattern == "uuid"
    is_made = column.is_filled and (column.type.kind == "uuid" or is_spelled)
    if is_made or uuid_of_key(subject, column) is not None:
        return Choice(True, "a UUID, which says nothing", 0.9)
    return None


def is_surrogate_key(subject: Subject, column: Column) -> bool:
    """Whether a column is a key that says nothing to a person: a whole number, named
    for its table and as a key, or as a key alone. Example: `VSLKEY` of `TVSL`, `id`;
    not `station_no`."""
    table = subject.table
    if table.primary_key != (column.name,) or column.type.kind != "integer":
        return False
    if table.reference_of(column.name) is not None:
        return False
    return set(subject.without_own(split_words(column.worded))) <= _SURROGATES


def hidden_secret(subject: Subject, column: Column) -> Choice | None:
    """Columns named like a secret, or with values that only programs make, are not
    shown; a required one can be entered. Example: `api_token`."""
    if _is_secret_here(subject, column) and not _is_entered(column):
        return Choice(True, "named like a secret", 0.9)
    return None


def kind_of_secret(subject: Subject, column: Column) -> Choice | None:
    """A secret that a new record needs is entered, and never shown. Example:
    `password_hash` that takes no NULL."""
    if _is_secret_here(subject, column) and _is_entered(column):
        return Choice("secret", "named like a secret, and needed", 0.9)
    return None


def _is_secret_here(subject: Subject, column: Column) -> bool:
    """Tell whether a column is a secret, and no reference: `session_id` may be one."""
    refers = any(column.name in each.columns for each in subject.table.references)
    is_key = subject.words[-2:] == ("api", "key") and column.name.casefold() in ("key", "hash")  # fmt: skip
    is_pass = column.type.kind == "text" and split_words(column.worded) == ["pass"]
    others = (
        {each.name.casefold() for each in subject.table.columns} if is_pass else set()
    )
    is_beside = bool(others & {"user", "username", "login", "host"})  # of an account
    return (is_secret(column) or is_key or is_beside) and not refers


def _is_entered(column: Column) -> bool:
    """Tell whether a new record requires a value from its user."""
    return not (column.nullable or column.is_filled)


def hidden_version(subject: Subject, column: Column) -> Choice | None:
    """A counter that programs use to notice changes. Example: `row_version`."""
    is_version = column.name.casefold() in _VERSION_NAMES
    if column.type.kind == "integer" and is_version and not _is_entered(column):
        return Choice(True, "a counter for programs", 0.9)
    return None


HIDDEN_RULES: tuple[ColumnRule, ...] = (
    hidden_surrogate,
    hidden_uuid,
    hidden_secret,
    hidden_version,
)


def read_only_generated(subject: Subject, column: Column) -> Choice | None:
    """Computed columns are not entered. Example: `full_name` generated from
    two others."""
    if column.generated:
        return Choice(True, "computed by the database")
    return None


def read_only_denied(subject: Subject, column: Column) -> Choice | None:
    """Columns that the database's user may not write are not entered. Example: a column
    without a right to update."""
    if column.denied:
        return Choice(True, "the database's user may not write it")
    return None


def read_only_stamp(subject: Subject, column: Column) -> Choice | None:
    """Time and user of the creation or last change of a record; only where it may stay
    empty or the database fills it in. Example: `created_at`."""
    if automatic_stamp(subject, column) is not None:
        return None  # the application writes it
    is_filled = column.nullable or column.default is not None
    if is_filled and is_stamp_of(subject.table, column):
        return Choice(True, "an automatic value", 0.9)
    return None


def read_only_other(subject: Subject, column: Column) -> Choice | None:
    """Columns that no control can enter safely. Example: a geometry."""
    if subject.answer(column.name, "kind") == "other":
        return Choice(True, f"{column.type.native or 'this type'} is not entered here")
    return None


READ_ONLY_RULES: tuple[ColumnRule, ...] = (
    read_only_generated,
    read_only_denied,
    read_only_stamp,
    read_only_other,
)


def choices_of(subject: Subject, column: Column) -> Choice:
    """The labels of a choice's values: their own words where a list confirms them, such
    as "In repair" for `in_repair`; else the values as they are, and always for what
    holds a digit or a capital: 13.86 is no "13 86"."""
    is_told = bool(column.type.values or subject.one_of(column.name))
    if not is_told and (told := code_list_of(subject, column)):
        table, group, codes = told
        return Choice(codes, f'the labels of "{group}" in {table}')
    values = column.type.values or subject.one_of(column.name)
    values = values or subject.few_numbers(column.name) or subject.choices(column.name)
    labels = {value: subject.label(split_words(value)) or value for value in values}
    is_listed = bool(column.type.values or subject.one_of(column.name))
    if (
        not is_listed
        or len(set(labels.values())) < len(labels)
        or any(_is_code(v) for v in values)
    ):
        return Choice({value: value for value in values}, "the values as they are")
    return Choice(labels, "the values' own words")


def _is_code(value: str) -> bool:
    return any(not (each.islower() or each in "_-") for each in value)


def required_by_empty_texts(subject: Subject, column: Column) -> Choice | None:
    """A text that takes no NULL, and has an empty text as its default or in its rows,
    may stay empty. Example: `remark VARCHAR(80) NOT NULL DEFAULT ''`."""
    if column.type.kind != "text" or column.nullable or _is_told_apart(subject, column):
        return None
    if column.type.values and "" not in column.type.values:
        return None  # a server stored it for a value that the column does not have
    default = column.default
    if default is not None and default.literal and not default.text.strip():
        return Choice(False, "an empty text is its default")
    profile = subject.column_profile(column.name)
    if profile is not None and profile.blank:
        return Choice(False, "empty texts are in its rows")
    return None


def _is_told_apart(subject: Subject, column: Column) -> bool:
    """Tell whether records are told apart by a column, or refer by it."""
    table = subject.table
    return (
        column.name in table.primary_key
        or table.is_unique((column.name,))
        or any(column.name in each.columns for each in table.references)
    )


def automatic_stamp(subject: Subject, column: Column) -> Choice | None:
    """A stamp that neither the database nor a trigger writes is written by the
    application. Example: `created` of type timestamp, without a default."""
    table = subject.table
    is_moment = column.type.kind in ("date", "datetime")
    is_filled = column.default is not None or column.generated or column.denied
    if not is_moment or is_filled or table.is_view or table.triggers:
        return None
    if not is_stamp(column) or _is_told_apart(subject, column):
        return None
    how = "created at" if is_of_creation(column) else "changed at"
    return Choice(how, "a stamp that nothing in the database writes", 0.8)


AUTOMATIC_RULES: tuple[ColumnRule, ...] = (automatic_stamp,)
REQUIRED_RULES: tuple[ColumnRule, ...] = (required_by_empty_texts,)


def next_of_key(subject: Subject, column: Column) -> Choice | None:
    """A key that is declared to count itself, and that the database does not count, is
    the next number; so is one that says nothing and was counted by a program. Example:
    `serial PRIMARY KEY` on SQLite; `VSLKEY` with 1 to 60 in 60 rows."""
    counts = column.automatic or column.generated or column.default is not None
    if subject.table.primary_key != (column.name,) or counts or subject.table.is_view:
        return None
    native = column.type.native.lower()
    if column.type.kind == "integer" and any(each in native for each in _COUNTING):
        return Choice(
            "max + 1", f"declared as {column.type.native}, which no sequence generates"
        )
    profile, rows = subject.column_profile(column.name), subject.profile.rows
    is_counted = profile is None or profile.magnitude <= MOST_GAPS * max(rows, 10)
    if is_surrogate_key(subject, column) and is_counted:
        return Choice("max + 1", "nothing in the database numbers it", 0.75)
    return None


def uuid_of_key(subject: Subject, column: Column) -> Choice | None:
    """A key of type UUID, or of sixteen bytes, that nothing in the database makes is a
    new UUID. Example: `vessel_id BINARY(16)`."""
    table = subject.table
    is_key = table.primary_key == (column.name,) and table.reference_of(column.name) is None  # fmt: skip
    if not is_key or column.is_filled or table.is_view:
        return None
    if column.type.kind == "uuid":
        return Choice(NEW_UUID, "a UUID, which nothing in the database makes", 0.9)
    if column.type.native.lower() != "binary(16)" or table.triggers:
        return None
    return Choice(NEW_UUID, "sixteen bytes, which nothing in the database makes", 0.75)


GENERATED_RULES: tuple[ColumnRule, ...] = (next_of_key, uuid_of_key)


def tones_of(subject: Subject, column: Column) -> Choice | None:
    """Which values are good or bad news, by words that leave no doubt; only where they
    tell at least two values apart."""
    tones = {
        value: tone
        for value in subject.choices(column.name)
        for tone in (_tone_of(value),)
        if tone
    }
    if len(set(tones.values())) < 2:
        return None
    return Choice(tones, "by the values' words", 0.8)


def _tone_of(value: str) -> str:
    words = set(split_words(value))
    for tone in (
        "amber",
        "red",
        "blue",
        "green",
    ):  # "passed with findings" is a warning
        if words.intersection(COLOURS[tone]):
            return tone
    return ""
