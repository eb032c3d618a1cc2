"""Questions about one column: its label, its kind, whether it is hidden or read-only."""

from lumet.facts.model import Column, Reference
from lumet.inference.rules import Choice, ColumnRule, Subject
from lumet.inference.words import label_from, split_words

KEY_WORDS = frozenset({"id", "code", "cd", "no", "nr", "key", "fk", "ref", "num"})
_LONG_WORDS = frozenset(
    {"remark", "remarks", "note", "notes", "comment", "comments", "description",
     "desc", "memo", "body", "text", "details"}
)  # fmt: skip
_FLAG_VERBS = frozenset({"is", "has", "can", "was"})
_CODE_WORDS = frozenset(
    {"year", "yr", "id", "no", "nr", "number", "code", "cd", "key", "ref", "position"}
)
_SECRET_WORDS = frozenset({"password", "passwd", "pwd", "secret", "token", "salt"})
_VERSION_NAMES = frozenset(
    {"version", "row_version", "lock_version", "rev", "revision"}
)
_STAMP_VERBS = frozenset(
    {"created", "updated", "modified", "changed", "inserted", "imported"}
)
_STAMP_ENDS = frozenset({"at", "on", "by", "date", "time", "ts", "stamp", "utc"})
LONG_TEXT = 80  # characters; a longer text gets more than a line
TONES: dict[str, tuple[str, ...]] = {
    "good": ("passed", "ok", "good", "done", "active", "working", "approved", "closed",
             "repaired", "valid", "complete", "completed", "lit"),
    "bad": ("failed", "bad", "severe", "rejected", "broken", "out", "overdue", "critical",
            "cancelled", "invalid", "dark", "urgent"),
    "warn": ("findings", "partial", "minor", "moderate", "pending", "dim", "due", "late",
             "warning", "unsure", "suspended"),
    "calm": ("planned", "draft", "new", "open", "scheduled", "unknown", "none"),
}  # fmt: skip


def label_of_reference(subject: Subject, column: Column) -> Choice | None:
    """A reference is called by what it refers to: `station_id` is "Station"."""
    reference = subject.table.reference_of(column.name)
    if reference is None:
        return None
    words = split_words(column.name)
    stem = words[:-1] if len(words) > 1 and words[-1] in KEY_WORDS else words
    if stem == split_words(reference.referred_table):
        singular = subject.answers.get((reference.referred_table, "singular"))
        if singular is not None:
            return Choice(singular.value, "the name of the referenced table")
    return Choice(label_from(stem), f"refers to {reference.referred_table}")


def label_of_key(subject: Subject, column: Column) -> Choice | None:
    """A table's own number or code drops the table's name: `station_no` is "Number"."""
    words = split_words(column.name)
    table_words = split_words(subject.table.name)
    rest = words[len(table_words) :]
    if rest and words[: len(table_words)] == table_words:
        numeric = _is_number(column)
        return Choice(label_from(rest, numeric), "the table's name is left out")
    return None


def label_of_flag(subject: Subject, column: Column) -> Choice | None:
    """A yes or no drops its verb: `is_automated` is "Automated"."""
    words = split_words(column.name)
    if len(words) > 1 and words[0] in _FLAG_VERBS and (
        column.type.kind in ("boolean", "integer")
    ):  # fmt: skip
        return Choice(label_from(words[1:]), "the verb is left out")
    return None


def label_of_words(subject: Subject, column: Column) -> Choice | None:
    """Else the words of the name, abbreviations written out."""
    label = label_from(split_words(column.name), _is_number(column)) or column.name
    return Choice(label, "")


def _is_number(column: Column) -> bool:
    return column.type.kind in ("integer", "decimal", "float")


LABEL_RULES: tuple[ColumnRule, ...] = (
    label_of_reference,
    label_of_key,
    label_of_flag,
    label_of_words,
)


def kind_of_reference(subject: Subject, column: Column) -> Choice | None:
    """A declared reference of one column is a lookup."""
    reference = subject.table.reference_of(column.name)
    if reference is None or not _exists(subject, reference):
        return None
    referred = f"{reference.referred_table}.{reference.referred_columns[0]}"
    rule = f" (on delete: {reference.on_delete})" if reference.on_delete else ""
    return Choice("lookup", f"declared reference to {referred}{rule}")


def _exists(subject: Subject, reference: Reference) -> bool:
    names = {table.name for table in subject.database.tables}
    return reference.referred_table in names and bool(reference.referred_columns)


def kind_of_check(subject: Subject, column: Column) -> Choice | None:
    """An enumeration, or a check constraint that lists the values, makes a choice."""
    values = subject.one_of(column.name)
    if not values:
        return None
    if column.type.values:
        return Choice("choice", f"declared as {column.type.native}")
    return Choice("choice", f"a check constraint lists its {len(values)} values")


def kind_of_flag(subject: Subject, column: Column) -> Choice | None:
    """Declared as boolean, or a whole number that is only ever 0 or 1."""
    if column.type.kind == "boolean":
        return Choice("yes/no", f"declared as {column.type.native}")
    profile = subject.column_profile(column.name)
    if column.type.kind != "integer" or profile is None or not profile.flag:
        return None
    named = bool(_FLAG_VERBS.intersection(split_words(column.name)[:1]))
    if named or subject.profile.rows >= 10:
        sure = 0.95 if named else 0.75
        return Choice("yes/no", "only 0 and 1 were found", sure)
    return None


def kind_of_like_a_reference(subject: Subject, column: Column) -> Choice | None:
    """Named like another table and its key, without a declaration: shown as it is, and
    marked as doubtful."""
    words = split_words(column.name)
    if len(words) < 2 or words[-1] not in KEY_WORDS:
        return None
    for table in subject.database.tables:
        if (
            table is not subject.table
            and split_words(table.name) == words[:-1]
            and len(table.primary_key) == 1
            and table.column(table.primary_key[0]).type.kind == column.type.kind
        ):
            kind = _plain_kind(subject, column)
            reason = f"named like {table.name}; no reference is declared"
            return Choice(kind, reason, 0.5)
    return None


def kind_of_few_values(subject: Subject, column: Column) -> Choice | None:
    """Few values that repeat look like a choice; without a list to confirm it, it stays
    a text, so that a new value can be entered."""
    profile = subject.column_profile(column.name)
    if (
        column.type.kind != "text"
        or profile is None
        or not 2 <= len(profile.values) <= 8
    ):
        return None
    count = len(profile.values)
    reason = f"looks like a choice ({count} values); no list confirms it"
    return Choice("text", reason, 0.6)


def kind_of_code(subject: Subject, column: Column) -> Choice | None:
    """A whole number that names something, such as a year or a line's number, is
    written without separators."""
    words = split_words(column.name)
    if column.type.kind == "integer" and words and words[-1] in _CODE_WORDS:
        return Choice("code", "a number that is a name, by its own", 0.9)
    return None


def kind_of_type(subject: Subject, column: Column) -> Choice | None:
    """Else the kind follows the type; a long text gets more than a line."""
    kind = _plain_kind(subject, column)
    native = column.type.native or "no type"
    if kind == "long text":
        return Choice(kind, f"declared as {native}; its name or its values are long")
    if kind == "other":
        return Choice(kind, f"declared as {native}: shown, not entered", 0.6)
    return Choice(kind, f"declared as {native}")


def _plain_kind(subject: Subject, column: Column) -> str:
    kind = column.type.kind
    if kind == "text":
        profile = subject.column_profile(column.name)
        short = column.type.length is not None and column.type.length <= LONG_TEXT
        long_name = bool(_LONG_WORDS.intersection(split_words(column.name)))
        long_values = profile is not None and profile.longest > LONG_TEXT
        return "long text" if not short and (long_name or long_values) else "text"
    by_type = {
        "integer": "integer",
        "decimal": "decimal",
        "float": "decimal",
        "boolean": "yes/no",
        "date": "date",
        "time": "time",
        "moment": "moment",
        "json": "json",
        "uuid": "text",
    }
    return by_type.get(kind, "other")


KIND_RULES: tuple[ColumnRule, ...] = (
    kind_of_reference,
    kind_of_check,
    kind_of_flag,
    kind_of_like_a_reference,
    kind_of_few_values,
    kind_of_code,
    kind_of_type,
)


def hidden_surrogate(subject: Subject, column: Column) -> Choice | None:
    """A key that numbers itself says nothing to a person."""
    if column.automatic:
        return Choice(True, "a number the database gives")
    return None


def hidden_secret(subject: Subject, column: Column) -> Choice | None:
    """What is named like a secret is not shown."""
    if _SECRET_WORDS.intersection(split_words(column.name)):
        return Choice(True, "named like a secret", 0.9)
    return None


def hidden_version(subject: Subject, column: Column) -> Choice | None:
    """A counter that programs use to notice changes."""
    if column.type.kind == "integer" and column.name.casefold() in _VERSION_NAMES:
        return Choice(True, "a counter for programs", 0.9)
    return None


HIDDEN_RULES: tuple[ColumnRule, ...] = (
    hidden_surrogate,
    hidden_secret,
    hidden_version,
)


def read_only_generated(subject: Subject, column: Column) -> Choice | None:
    """What the database computes is not entered."""
    if column.generated:
        return Choice(True, "computed by the database")
    return None


def read_only_stamp(subject: Subject, column: Column) -> Choice | None:
    """When and by whom a record was made or changed; only where it may stay empty or
    the database fills it in."""
    if is_stamp(column) and (column.nullable or column.default is not None):
        return Choice(True, "a stamp of the record itself", 0.9)
    return None


def is_stamp(column: Column) -> bool:
    """Tell whether a column is named like `created_at` or `modified_by`."""
    words = split_words(column.name)
    return len(words) == 2 and words[0] in _STAMP_VERBS and words[1] in _STAMP_ENDS


def read_only_other(subject: Subject, column: Column) -> Choice | None:
    """What no control can enter safely."""
    if subject.answer(column.name, "kind") == "other":
        return Choice(True, f"{column.type.native or 'this type'} is not entered here")
    return None


READ_ONLY_RULES: tuple[ColumnRule, ...] = (
    read_only_generated,
    read_only_stamp,
    read_only_other,
)


def choices_of(subject: Subject, column: Column) -> Choice:
    """The labels of a choice's values: their own words."""
    values = subject.one_of(column.name)
    labels = {value: label_from(split_words(value)) or value for value in values}
    if len(set(labels.values())) < len(labels) or any(_is_code(v) for v in values):
        labels = {value: value for value in values}
    return Choice(labels, "the values' own words")


def _is_code(value: str) -> bool:
    return any(character.isupper() for character in value) or " " in value


def tones_of(subject: Subject, column: Column) -> Choice | None:
    """Which values are good or bad news, by words that leave no doubt; only where they
    tell at least two values apart."""
    tones = {
        value: tone
        for value in subject.one_of(column.name)
        for tone in (_tone_of(value),)
        if tone
    }
    if len(set(tones.values())) < 2:
        return None
    return Choice(tones, "by the values' words", 0.8)


def _tone_of(value: str) -> str:
    words = set(split_words(value))
    for tone in ("warn", "bad", "calm", "good"):  # "passed with findings" is a warning
        if words.intersection(TONES[tone]):
            return tone
    return ""
