"""The question of one column's kind: how the column is displayed and entered."""

from collections.abc import Iterator, Sequence

from lumet.design.dependent_lookups import columns_followed, lookup_reference
from lumet.evidence.model import ColumnProfile
from lumet.evidence.patterns import ENOUGH
from lumet.evidence.storage_format_detection import SPELLINGS, YES_NO
from lumet.facts.dialects import server_of
from lumet.facts.model import Column, Database, Reference, Table
from lumet.inference.labels_from_names import ABBREVIATIONS, KEY_WORDS, split_words
from lumet.inference.rules import Choice, ColumnRule, Subject
from lumet.inference.stamps import is_stamp
from lumet.kinds import KIND_OF, KINDS
from lumet.kinds import kind_of_type as usual_kind
from lumet.kit.contract import DATES

LONG_WORDS = frozenset(
    {"remark", "remarks", "note", "notes", "comment", "comments", "description",
     "desc", "memo", "body", "text", "details"}
)  # fmt: skip
# of a text without a short limit, as its last word
_LONG_ENDS = frozenset(
    {"data", "content", "contents", "vars", "variables", "preferences", "config",
     "configuration", "parameters", "params", "attributes", "attrs", "attr", "metadata",
     "signature", "template", "script", "html", "markdown", "xml", "yaml", "vcard",
     "certificate", "headers", "sql", "rule", "args", "arguments", "error", "output",
     "info", "context", "trace", "stacktrace", "cache", "json", "payload", "resources",
     "properties", "prefs", "errors", "log", "env", "environment", "regexp", "errstr", "vtimezone", "ical", "expression", "value"}
)  # fmt: skip
# of a text of any length that is a line all the same
_SHORT_ENDS = frozenset(
    {"name", "title", "hostname", "host", "path", "protocol", "format", "url", "uri", "email",
     "mail", "phone", "code", "locator", "repository", "subject", "username", "login", "type",
     "status", "state", "kind", "address", "version", "label"}
)  # fmt: skip
_LONG_BEGINS = frozenset({"html", "xml", "json", "markdown"})
_LONG_PAIRS = frozenset({("public", "key"), ("private", "key"), ("error", "message")})
_LONG_TYPES = ("mediumtext", "longtext", "clob", "ntext", "nclob")
FLAG_VERBS = frozenset({"is", "has", "can", "was", "does", "should", "may"})
# words of flags in whole numbers, which are no counts
_FLAG_ENDS = ("enabled", "disabled", "deleted", "archived", "locked", "hidden", "visible",
              "approved", "confirmed", "readonly", "frozen", "published", "active",
              "inactive", "mandatory", "required", "suspended", "obsolete")  # fmt: skip
# and of those in the smallest ones, which a default of 0 or 1 confirms
_SMALL_FLAG_ENDS = frozenset(
    {"del", "standard", "valid", "important", "fatal", "confidential", "private", "public",
     "admin", "operator", "allowed", "present", "primary", "main", "default", "current",
     "html", "last", "first", "paid", "sent", "read", "done", "finished", "completed",
     "complete", "closed", "open", "checked", "verified", "selected", "favourite",
     "favorite", "subscribed", "notify", "rollback", "blocked", "flag", "passwords",
     "validator", "online", "printed", "merged", "down", "up", "allow", "forbid"}
)  # fmt: skip
_NO_FLAG_ENDS = frozenset({"to", "from", "in", "by", "at", "on", "for", "number", "count", "size", "level",
                           "id", "limit", "days", "time", "interval"})  # fmt: skip
_FLAG_BEGINS = frozenset({"auto", "use", "show", "enable", "disable", "allow", "send", "include", "exclude",
                          "ignore", "force", "keep", "hide", "display", "track", "require", "with"})  # fmt: skip
_NOUNS_IN_ED = frozenset(
    {"speed", "breed", "table", "cable", "variable", "timetable", "watershed"}
)
_SMALL_TYPES = ("tinyint", "smallint", "bit", "int2")
FLAG_WORDS = frozenset({"flag", "flg", "yn", "enabled", "disabled", "active", "inactive",
                        "deleted", "archived", "locked", "visible", "hidden", "default",
                        "valid", "approved", "confirmed"})  # fmt: skip
_CODE_WORDS = frozenset(
    {
        "year",
        "yr",
        "id",
        "no",
        "nr",
        "number",
        "code",
        "cd",
        "key",
        "ref",
        "position",
        "flags",
        "mask",
        "bitmask",
        "netmask",
        "period",
        "yyyymm",
        "yearmonth",
    }
)
DATE_WORDS = frozenset(
    {"date", "dt", "day", "on", "at", "time", "ts", "stamp", "timestamp", "since", "until",
     "from", "to", "born", "utc", "datetime", "login", "logon", "seen", "visit", "activity",
     "access", "expires", "expiry", "expiration", "start", "end", "begin", "started", "ended",
     "finished", "sent", "received", "created", "updated", "modified", "changed", "posted",
     "deadline", "due", "checked", "registered", "approved", "closed", "opened", "timemodified",
     "timecreated"}
)  # fmt: skip
MANY_DAYS = 10  # different ones
_USUAL = {"date": ("YYYY-MM-DD",), "datetime": ("YYYY-MM-DD hh:mm:ss",)}
CERTAIN = 0.98  # confidence; below, nothing is used that could refuse an entry
ENOUGH_OF_SMALL, ENOUGH_OF_ANY = 10, 40  # rows; in fewer a quantity may be 0 or 1
LONG_TEXT = 80  # characters; a longer text gets more than a line
BRIEF = 40  # characters; a description that stays below is a line
MAX_CHOICES = 12  # different values; more are no choice
MAX_CODES = 100  # of a group in a table of codes
MAX_CHOICE_LENGTH = 30  # characters
SOME_DIGITS = 2  # behind the point, of fractions
MANY_A_VALUE = 20  # rows; where fewer share a value, its repeating says little
CHOICE_WORDS = frozenset(
    {"status", "state", "type", "kind", "category", "level", "grade", "class", "priority",
     "severity", "condition", "result", "mode", "gender", "sex", "unit", "colour", "color",
     "phase", "stage", "role", "reason", "method", "source", "currency", "frequency", "rating",
     "typ", "stat", "cat", "outcome", "shift", "size", "quality", "channel", "language",
     "st", "sts", "flag", "ind", "indicator", "material", "shape", "direction", "title",
     "salutation", "weather", "season", "tier", "format", "scope", "place", "side"}
)  # fmt: skip
# of those, what numbers stand for; a grade or a size may well be a measured number
_NUMBERED_CHOICES = frozenset(
    {"status", "state", "type", "kind", "category", "class", "priority", "severity",
     "condition", "mode", "gender", "sex", "phase", "stage", "role", "reason", "method",
     "typ", "stat", "cat", "outcome", "sts", "ind", "indicator", "scope", "visibility",
     "access", "stt", "knd"}
)  # fmt: skip
_YEAR_WORDS = frozenset({"since", "built", "founded", "established", "vintage", "season",
                         "born", "until", "from", "erected", "launched"})  # fmt: skip
_TELLING_ELSE = frozenset({"host", "server", "domain", "template", "digest", "port", "reader",
                           "type", "kind", "status", "name", "title", "size", "format", "id",
                           "code", "count", "flag", "note", "remark", "sent", "subject", "body",
                           "text", "message", "content", "language", "footer", "header", "prefix",
                           "user", "username", "login", "scheme", "uid", "verified", "path"})  # fmt: skip
_CENTS = frozenset({"cents", "cent", "pence", "centimes"})
CURRENCIES = frozenset({"eur", "usd", "gbp", "chf", "euro", "euros", "dollars", "pounds", "sek",
                        "nok", "dkk", "pln", "jpy"})  # fmt: skip
ARRAY_ELEMENTS = frozenset({"text", "character varying", "character", "integer", "smallint",
                            "bigint", "numeric"})  # fmt: skip
NO_MONEY = frozenset({"percent", "rate", "quantity", "count", "hours", "kg", "weight", "pct",
                      "number", "days", "litres", "time"})  # fmt: skip


def kind_of_reference(subject: Subject, column: Column) -> Choice | None:
    """A declared reference of one column is a lookup. Example: `station_id`."""
    reference = subject.table.reference_of(column.name)
    if reference is None or not _exists(subject, reference):
        return None
    referred = f"{reference.referred_table}.{reference.referred_columns[0]}"
    if found := subject.found.get((subject.table.name, (column.name,))):
        return Choice("lookup", f"refers to {referred}", found.confidence)
    rule = f" (on delete: {reference.on_delete})" if reference.on_delete else ""
    return Choice("lookup", f"declared reference to {referred}{rule}")


def kind_of_part(subject: Subject, column: Column) -> Choice | None:
    """The last column of a reference over several is a lookup, that follows the others.
    Example: `light_no` of (`station_id`, `light_no`)."""
    reference = lookup_reference(subject.table, column.name)
    if reference is None or not _exists(subject, reference):
        return None
    ends = ", ".join(reference.columns)
    return Choice("lookup", f"({ends}) refers to {reference.referred_table}")


def follows_parts(subject: Subject, column: Column) -> Choice | None:
    """A lookup over several columns depends on those before its own. Example:
    `light_no` follows `station_id`."""
    reference = lookup_reference(subject.table, column.name)
    if (
        reference is None
        or len(reference.columns) == 1
        or not _is_lookup(subject, column)
    ):
        return None
    others = [each for each in reference.columns if each != column.name]
    return Choice(others, "parts of the same reference")


def follows_parent(subject: Subject, column: Column) -> Choice | None:
    """A lookup follows another to a record that its own always belongs to, where nearly
    all rows that have both agree. Example: `light_id` follows `station_id`, since each
    light belongs to a station."""
    if not _is_lookup(subject, column):
        return None
    needed = {
        ours: found.expected
        for ours, _theirs in followable(subject.table, column.name, subject.database)
        if (found := subject.evidence.agreement(subject.table.name, column.name, ours))
        and found.expected >= CERTAIN
    }
    if not needed:
        return None
    looked = min(
        found.checked
        for ours in needed
        if (found := subject.evidence.agreement(subject.table.name, column.name, ours))
    )
    reason = f"each belongs to one, as {looked:,} rows agree"
    return Choice([*needed], reason, round(min(needed.values()), 2))


def followable(
    table: Table, column: str, database: Database
) -> Iterator[tuple[str, str]]:
    """Yield the columns that a lookup of one column might follow, each with the column
    of the record it refers to: neither a stamp nor one that may be empty there."""
    reference = table.reference_of(column)
    if reference is None or reference.referred_table not in database.by_name:
        return
    target = database.table(reference.referred_table)
    for ours, theirs in columns_followed(table, column, database).items():
        is_by = split_words(ours)[-1:] == ["by"]
        if (
            not (is_by or is_stamp(table.column(ours)))
            and not target.column(theirs).nullable
        ):
            yield ours, theirs


def _is_lookup(subject: Subject, column: Column) -> bool:
    return bool(subject.answer(column.name, "kind") == "lookup")


DEPENDS_ON_RULES: tuple[ColumnRule, ...] = (follows_parts, follows_parent)


def _exists(subject: Subject, reference: Reference) -> bool:
    names = {table.name for table in subject.database.tables}
    return reference.referred_table in names and bool(reference.referred_columns)


def kind_of_spelled_flag(subject: Subject, column: Column) -> Choice | None:
    """Two values that say yes and no, by the rows or by a check constraint: "Y" and
    "N"."""
    spelling = _flag_spelling(subject, column)
    if not spelling:
        return None
    return Choice(
        "yes/no", f"its values are {' and '.join(spelling.split('/'))}", CERTAIN
    )


def _flag_spelling(subject: Subject, column: Column) -> str:
    """Return how a column that is no number spells yes and no, "" when it does not."""
    profile = subject.column_profile(column.name)
    if column.type.kind not in ("text", "boolean") or column.type.values:
        return ""
    found = profile.spelling if profile else ""
    if "/" in found and found not in SPELLINGS:
        return found
    allowed = {value.casefold(): value for value in subject.one_of(column.name)}
    for name in YES_NO:
        yes, no = name.casefold().split("/")
        if len(allowed) == 2 and {yes, no} == {*allowed}:
            return f"{allowed[yes]}/{allowed[no]}"
    return ""


def kind_of_spelled_date(subject: Subject, column: Column) -> Choice | None:
    """Texts that are all dates or moments in one spelling; whole numbers that are, only
    where the name says so too, the column is declared as one, or many different ones are
    all days of a calendar. Zeros stand for none. Example: `24.12.2026` in a text,
    `20261224` in `due_on`."""
    profile = subject.column_profile(column.name)
    spelling = profile.spelling if profile else ""
    if spelling not in SPELLINGS:
        return None
    declared = column.type.kind in ("date", "datetime")
    named = bool(DATE_WORDS.intersection(split_words(column.worded)[-1:]))
    is_plain = column.type.kind in ("text", "date", "datetime")
    if not is_plain and not named and not _are_all_days(subject, column):
        return None
    if spelling == "julian day":
        kind = "datetime" if column.type.kind == "datetime" else "date"
    else:
        kind = "date" if spelling in DATES else "datetime"
    sure = 1.0 if declared else 0.95 if named else 0.8
    if declared and spelling in _USUAL.get(kind, ()):
        return None  # as its type has it
    return Choice(kind, f"its values are dates as {spelling}", sure)


def _are_all_days(subject: Subject, column: Column) -> bool:
    """Tell whether many different numbers are days as YYYYMMDD, of which but one in 250
    numbers of eight digits is any; none that count something within a day or a year."""
    profile = subject.column_profile(column.name)
    if profile is None or profile.spelling != "YYYYMMDD" or profile.unique:
        return False
    filled = subject.profile.sampled * (1 - profile.empty)
    is_key = column.name in subject.table.primary_key
    return not is_key and profile.distinct * filled >= MANY_DAYS


def kind_of_alike_date(subject: Subject, column: Column) -> Choice | None:
    """A number without a row to look at, named like a moment, is one where those that
    have rows are, all in one format. Example: `closed_at`, where `opened_at` and
    `seen_at` elsewhere hold seconds."""
    if not _may_be_alike(subject, column):
        return None
    spelling = _format_of_all(subject)
    if not spelling:
        return None
    kind = "date" if spelling in DATES or spelling == "julian day" else "datetime"
    return Choice(kind, f"named like the others, which hold {spelling}", 0.8)


def _may_be_alike(subject: Subject, column: Column) -> bool:
    profile = subject.column_profile(column.name)
    is_read = profile is not None and profile.distinct > 0
    words = split_words(column.worded)
    named = len(words) > 1 and bool(DATE_WORDS.intersection(words[-1:]))
    return column.type.kind == "integer" and not is_read and named


def _format_of_all(subject: Subject) -> str:
    """Return the one format in which whole numbers named like moments hold them, in the
    tables that were read; "" where there are fewer than two, or several formats."""
    place = ("", "format of moments")
    if place not in subject.answers:
        found = [
            profile.spelling
            for table in subject.database.tables
            for column in table.columns
            if column.type.kind == "integer"
            and (profile := subject.evidence.column(table.name, column.name))
            and profile.distinct > 0
            and DATE_WORDS.intersection(split_words(column.worded)[-1:])
            and profile.spelling in SPELLINGS
        ]
        is_one = len(found) > 1 and len(set(found)) == 1
        subject.answers[place] = Choice(found[0] if is_one else "", "")
    return str(subject.answers[place].value)


def none_of_date(subject: Subject, column: Column) -> Choice | None:
    """Zeros, nines or blanks stand for no date where the others are dates in a format.
    Example: `0` or `99999999` beside `20261224`."""
    profile = subject.column_profile(column.name)
    spelled = subject.answers.get((subject.table.name, column.name, "storage_format"))
    is_dated = spelled is not None and spelled.value in SPELLINGS
    is_key = column.name in subject.table.primary_key
    if profile is None or not is_dated or is_key:
        return None
    if not profile.none:
        return (
            Choice("", "stands for no date") if is_blank_none(subject, column) else None
        )
    is_number = column.type.kind in ("integer", "decimal", "float")
    value = int(profile.none) if is_number else profile.none
    return Choice(value, "stands for no date")


def is_blank_none(subject: Subject, column: Column) -> bool:
    """Whether a text without a character stands for none in a column: it is in its rows,
    or the default of one that takes no NULL; not in a key."""
    if column.type.kind != "text" or column.name in subject.table.primary_key:
        return False
    profile, default = subject.column_profile(column.name), column.default
    is_default = default is not None and default.literal and not default.text.strip()
    return (profile is not None and profile.blank) or (
        is_default and not column.nullable
    )


def stored_as_alike(subject: Subject, column: Column) -> Choice | None:
    """A number that is a moment as others are is stored as they are."""
    is_dated = subject.answer(column.name, "kind") in ("date", "datetime")
    if is_dated and _may_be_alike(subject, column):
        return Choice(_format_of_all(subject), "as the others hold it", 0.8)
    return None


def stored_in_cents(subject: Subject, column: Column) -> Choice | None:
    """An amount in a whole number that is named for it is stored in cents. Example:
    `fee_cents`."""
    if subject.answer(column.name, "kind") == "money" and is_in_cents(column):
        return Choice("cents", "by its name")
    return None


def is_in_cents(column: Column) -> bool:
    """Whether a whole number is named for an amount in hundredths: `fee_cents`."""
    words = split_words(column.worded)
    return column.type.kind == "integer" and len(words) > 1 and words[-1] in _CENTS


def stored_as_fraction(subject: Subject, column: Column) -> Choice | None:
    """A percentage whose values are all below one, with digits behind the point, is
    stored as a fraction. Example: `humidity_pct` of 0.62."""
    profile = subject.column_profile(column.name)
    if profile is None or subject.answer(column.name, "kind") != "percent":
        return None
    is_below = profile.magnitude <= 1 and profile.scale >= SOME_DIGITS
    many = subject.profile.sampled >= MANY_A_VALUE and profile.distinct > 0
    if column.type.kind in ("decimal", "float") and is_below and many and not profile.negative:  # fmt: skip
        return Choice("fraction", "all its values are below one", 0.8)
    return None


def stored_as_spelled(subject: Subject, column: Column) -> Choice | None:
    """Values are written in the format of the stored ones. Example: `Y/N`,
    `DD.MM.YYYY`, `julian day`."""
    kind = subject.answer(column.name, "kind")
    profile = subject.column_profile(column.name)
    spelling = profile.spelling if profile else ""
    if kind == "yes/no" and (flags := _flag_spelling(subject, column)):
        return Choice(flags, "as its values are spelled")
    usual = _USUAL.get(kind, ()) if column.type.kind == kind else ()
    if kind in ("date", "datetime") and spelling in SPELLINGS and spelling not in usual:
        return Choice(spelling, "as its values are spelled")
    return None


STORAGE_FORMAT_RULES: tuple[ColumnRule, ...] = (
    stored_as_spelled,
    stored_as_alike,
    stored_in_cents,
    stored_as_fraction,
)


def kind_of_several(subject: Subject, column: Column) -> Choice | None:
    """A set, or an array of texts or numbers, holds several values. Example:
    `set('n','e')`, `text[]`."""
    native = column.type.native
    if native.lower().startswith("set("):
        return Choice("multiple choice", f"declared as {native}")
    if column.type.element in ARRAY_ELEMENTS:
        return Choice("multiple choice", f"declared as {native}")
    return None


def kind_of_duration(subject: Subject, column: Column) -> Choice | None:
    """An interval is a duration, and a time that is named like one. Example:
    `interval`; `time_at_sea_duration` of type `time`."""
    if column.type.native.lower().startswith("interval"):
        return Choice("duration", f"declared as {column.type.native}")
    named = KIND_OF["duration"].words.intersection(split_words(column.worded)[-1:])
    if column.type.kind == "time" and named:
        return Choice("duration", "a time, named like a duration", 0.8)
    return None


def kind_of_check(subject: Subject, column: Column) -> Choice | None:
    """An enumeration, or a check constraint that lists the values, makes a choice.
    Example: `CHECK (result IN ('passed', 'failed'))`."""
    values = subject.one_of(column.name)
    if not values:
        return None
    if column.type.values:
        return Choice("choice", f"declared as {column.type.native}")
    return Choice("choice", f"a check constraint lists its {len(values)} values")


def kind_of_flag(subject: Subject, column: Column) -> Choice | None:
    """Declared as boolean, or a whole number that is only ever 0 or 1: both, in enough
    rows, or the name says it. A quantity may well be 1 everywhere. Example: `is_automated` of type
    integer."""
    if column.type.kind == "boolean":
        return Choice("yes/no", f"declared as {column.type.native}")
    profile = subject.column_profile(column.name)
    if column.type.kind != "integer" or profile is None or not profile.flag:
        return None
    words = subject.without_own(split_words(column.worded))
    named = bool(FLAG_VERBS.intersection(words[:1]) or FLAG_WORDS.intersection(words))
    if named or kind_of_flag_by_name(subject, column) is not None:
        return Choice("yes/no", "only 0 and 1 were found", CERTAIN)
    is_small = column.type.native.lower().startswith(_SMALL_TYPES)
    enough = ENOUGH_OF_SMALL if is_small else ENOUGH_OF_ANY
    if subject.profile.rows >= enough and not profile.constant:
        reason = "perhaps a yes/no: 0 and 1 were found, and nothing else"
        return Choice("integer", reason, 0.6)
    return None


def kind_of_flag_by_name(subject: Subject, column: Column) -> Choice | None:
    """Without a row to look at: a whole number named like a flag, whose type or default
    agrees. Example: `enabled SMALLINT DEFAULT 1`, `is_admin INTEGER DEFAULT 0`,
    `closed TINYINT(1)`."""
    profile = subject.column_profile(column.name)
    is_read = profile is not None and profile.distinct > 0 and not profile.flag
    if column.type.kind != "integer" or is_read or subject.table.is_view:
        return None
    words = subject.without_own(split_words(column.worded))
    native = column.type.native.lower()
    default = column.default
    is_either = default is not None and default.literal and default.text in ("0", "1")
    is_small = native.startswith(_SMALL_TYPES)
    if native.startswith(("tinyint(1)", "bit(1)")):
        return Choice("yes/no", f"declared as {column.type.native}", CERTAIN)
    is_named = bool(FLAG_VERBS.intersection(words[:1])) and len(words) > 1
    if is_named and words[0] in ("is", "should"):
        return Choice("yes/no", "named like one", CERTAIN)
    is_named = is_named or words[-1:] == ["flag"] or column.name.casefold().endswith(_FLAG_ENDS)  # fmt: skip
    if is_named and (is_small or is_either):
        return Choice(
            "yes/no", "named like one, with a default or a type of one", CERTAIN
        )
    is_like = bool(_SMALL_FLAG_ENDS.intersection((*words[-1:], *words[:1])))
    is_like = is_like or (
        is_small and (_is_done(words[-1]) or words[0] in _FLAG_BEGINS)
    )
    is_like = is_like and words[-1] not in _NO_FLAG_ENDS
    if is_like and is_either and (is_small or not column.nullable):
        return Choice("yes/no", f"named like one, {default.text if default else ''} by default", CERTAIN)  # fmt: skip
    return None


def _is_done(word: str) -> bool:
    """Tell whether a word says what was or can be done: `emailed`, `controllable`."""
    return (
        len(word) > 4
        and word.endswith(("ed", "able", "ible"))
        and word not in _NOUNS_IN_ED
    )


def kind_of_like_a_reference(subject: Subject, column: Column) -> Choice | None:
    """Named like another table and its key, without a declaration: shown as it is, and
    marked as doubtful. Example: `keeper_id` whose values are in no keeper."""
    words = split_words(column.worded)
    if len(words) < 2 or words[-1] not in KEY_WORDS:
        return None
    for table in subject.database.tables:
        if (
            table is not subject.table
            and split_words(table.worded) == words[:-1]
            and len(table.primary_key) == 1
            and table.column(table.primary_key[0]).type.kind == column.type.kind
        ):
            kind = _plain_kind(subject, column)
            reason = f"named like {table.name}; no reference is declared"
            return Choice(kind, reason, 0.5)
    return None


def kind_of_code_list(subject: Subject, column: Column) -> Choice | None:
    """The codes of a column may stand in a table of all codes, in the group that is
    named like it; others can be entered. Example: `vessel_type` with TUG and CARGO, in
    the group `VESSEL_TYPE`."""
    if column.type.kind not in ("text", "integer"):
        return None
    found = code_list_of(subject, column)
    if not found:
        return None
    table, group, _codes = found
    profile = subject.column_profile(column.name)
    is_read = profile is not None and bool(profile.values)
    reason = f'"{group}" in {table} lists its codes'
    return Choice("choice", reason, 0.9 if is_read else 0.75)


def code_list_of(
    subject: Subject, column: Column
) -> tuple[str, str, dict[str, str]] | None:
    """Return the table of codes and the group that is named like a column and has all
    its values, and the codes with their labels; None for no such one."""
    if subject.table.primary_key == (column.name,):
        return None
    profile = subject.column_profile(column.name)
    values = {*profile.values} if profile is not None else set()
    many = profile is not None and profile.distinct > 0 and not values
    own = "".join(split_words(column.worded))
    names = {own, "".join(subject.without_own(split_words(column.worded))),
             "".join((*subject.words, own))}  # fmt: skip
    for table, held in subject.evidence.tables.items():
        lists = held.code_lists.codes
        for group, codes in lists.items() if table != subject.table.name else ():
            is_named = "".join(split_words(group)) in names
            if is_named and not many and values <= {*codes} and len(codes) <= MAX_CODES:
                return table, group, codes
    return None


def kind_of_few_values(subject: Subject, column: Column) -> Choice | None:
    """Few short values that repeat make a choice, by the name or by the rows; since no
    list confirms them, other values can be entered too. Example: `weather` with
    calm, fair and foul."""
    profile = subject.column_profile(column.name)
    if column.type.kind != "text" or profile is None:
        return None
    count, seen = len(profile.values), subject.profile.sampled * (1 - profile.empty)
    if (
        not 2 <= count <= MAX_CHOICES
        or max(map(len, profile.values)) > MAX_CHOICE_LENGTH
    ):
        return None
    if all(map(_is_number, profile.values)):
        return None  # amounts and codes that are numbers are no choice
    words = split_words(column.worded)
    named = bool(CHOICE_WORDS.intersection(words[-1:] + words[:1]))
    if seen < MANY_A_VALUE * count and not named:
        return None
    reason = f"only {count} values were found; no list confirms it"
    return Choice("choice", reason, 0.8 if named else 0.65)


def kind_of_few_numbers(subject: Subject, column: Column) -> Choice | None:
    """Few small whole numbers, in a column named like a choice, are one; they are shown
    as they are until somebody names them. Example: `severity` with 1 to 5."""
    profile = subject.column_profile(column.name)
    if column.type.kind != "integer" or profile is None:
        return None
    if not 2 <= len(profile.values) <= MAX_CHOICES:
        return None
    words = split_words(column.worded)
    if not _NUMBERED_CHOICES.intersection(words[-1:]):
        return None
    reason = f"only {len(profile.values)} numbers were found, named like a choice"
    return Choice("choice", reason, 0.75)


def _is_number(text: str) -> bool:
    plain = text.strip().removeprefix("-").replace(",", ".", 1)
    return plain.replace(".", "", 1).isdecimal()


def others_of_few_values(subject: Subject, column: Column) -> Choice | None:
    """Where neither a list nor bounds confirm the values of a choice, others can be
    entered. Example: a new `weather` may be typed."""
    is_choice = subject.answer(column.name, "kind") == "choice"
    known = subject.one_of(column.name) or subject.few_numbers(column.name)
    if is_choice and not known:
        return Choice(True, "no list confirms the values")
    return None


def others_of_reference(subject: Subject, column: Column) -> Choice | None:
    """A lookup by a reference that nobody declared refuses nothing where it is not
    certain, or where rows hold values without a record. Example: `keeper_no` of which
    2 % are of keepers that are gone."""
    reference = lookup_reference(subject.table, column.name)
    by = reference.columns if reference is not None else ()
    found = subject.found.get((subject.table.name, by))
    if found is None or not _is_lookup(subject, column):
        return None
    if found.orphans:
        return Choice(True, "some rows hold values without a record")
    if found.confidence < CERTAIN:
        return Choice(True, "nobody declared the reference")
    return None


OTHERS_RULES: tuple[ColumnRule, ...] = (others_of_few_values, others_of_reference)


def kind_of_pattern(subject: Subject, column: Column) -> Choice | None:
    """Texts that nearly all are addresses, colours, files or JSON. Example: a text of
    `name@example.org`, or of `#2a6f97`."""
    profile = subject.column_profile(column.name)
    if column.type.kind != "text" or profile is None:
        return None
    kind = KIND_OF.get(profile.pattern)
    if kind is None or kind.pattern is None:
        return None
    if kind.is_ambiguous and not kind.words.intersection(_words(subject, column)):
        return None
    return Choice(kind.name, "nearly all its values look like it", 0.9)


def kind_of_telling_name(subject: Subject, column: Column) -> Choice | None:
    """A text named like an address, a telephone, a colour, a picture or a file, unless
    its values look otherwise. Example: `website`, `fax_no`, `photo`."""
    if column.type.kind != "text":
        return None
    words = _words(subject, column)
    profile = subject.column_profile(column.name)
    values = profile if profile is not None and profile.distinct else None
    few = values is not None and subject.profile.sampled * (1 - values.empty) < ENOUGH
    for kind in KINDS:
        # a few addresses look like nothing yet; a colour may be "red"
        held = None if few and kind.name == "e-mail" else values
        if kind.looks and kind.words.intersection([*words[-2:], "".join(words)]):
            looks = held is None or held.pattern in kind.looks
            if (
                held is None and words[-1] == "filename"
            ):  # of a file: not what uploads name
                continue
            if looks and not _TELLING_ELSE.intersection(words[-1:]):
                return Choice(kind.name, "by its name", 0.85)
    return None


def kind_of_binary(subject: Subject, column: Column) -> Choice | None:
    """Bytes that are named like a picture or a document, or that all are short texts.
    Example: `chart_image` of type blob; `wording` of type varbinary."""
    if column.type.kind != "binary":
        return None
    words = set(_words(subject, column))
    if words & KIND_OF["image"].words:
        return Choice("image", "bytes, named like a picture", 0.8)
    if words & KIND_OF["file"].words:
        return Choice("file", "bytes, named like a document", 0.8)
    profile = subject.column_profile(column.name)
    if profile is not None and profile.pattern == "text":
        return Choice("text", "bytes that are all short texts", 0.8)
    return None


_DEGREES = frozenset({"deg", "degree", "degrees", "dec", "decimal", "dd"})


def kind_of_measure(subject: Subject, column: Column) -> Choice | None:
    """A number named like money, a percentage, a latitude or a longitude. Example:
    `cost_eur`, `visibility_pct`, `latitude`."""
    if column.type.kind not in ("decimal", "float", "integer"):
        return None
    words = _words(subject, column)
    profile = subject.column_profile(column.name)
    if column.type.kind != "integer" or (profile and profile.scale):
        for name, magnitude in (("latitude", 100), ("longitude", 1000)):
            plain = [word for word in words if word not in _DEGREES] or words
            is_named = KIND_OF[name].words.intersection(plain[-1:])
            if is_named and _reaches(profile, magnitude):
                return Choice(name, "by its name and its values", 0.95)
    if KIND_OF["percent"].words.intersection(words) and _reaches(profile, 1000):
        return Choice("percent", "by its name", 0.9)
    return _money(column, words, profile)


def _money(
    column: Column, words: Sequence[str], profile: ColumnProfile | None
) -> Choice | None:
    """Return money for a number named by a currency, or like an amount of it."""
    if is_in_cents(column):
        return Choice("money", "named for an amount in cents", 0.9)
    if CURRENCIES.intersection(words[-1:]):
        return Choice("money", "named by a currency", 0.95)
    if not KIND_OF["money"].words.intersection(words) or NO_MONEY.intersection(words):
        return None
    scale = column.type.scale
    seen = profile.scale if profile is not None else None
    has_cents = scale == 2 or (scale is None and (seen is None or seen <= 2))
    if column.type.kind == "decimal" and has_cents:
        return Choice("money", "by its name and two decimals", 0.9)
    if column.type.kind == "float" and seen == 2:
        return Choice("money", "by its name and its decimals", 0.8)
    return None


def _reaches(profile: ColumnProfile | None, magnitude: int) -> bool:
    """Tell whether no number is beyond a power of ten, as far as they were read."""
    return profile is None or profile.magnitude <= magnitude


def _words(subject: Subject, column: Column) -> list[str]:
    """Return the words of a name with what its abbreviations stand for."""
    words = (
        subject.glossary.get(word, "") or ABBREVIATIONS.get(word, word)
        for word in split_words(column.worded)
    )
    return [part for word in words for part in word.casefold().split()]


def kind_of_code(subject: Subject, column: Column) -> Choice | None:
    """A whole number that names something, such as a year or a line's number, is
    written without separators. Example: `built_year`, `line_no`."""
    words = split_words(column.worded)
    whole = column.type.kind == "integer" or (
        column.type.kind == "decimal" and column.type.scale == 0
    )
    if not whole or not words:
        return None
    if words[-1] in _CODE_WORDS or subject.table.primary_key == (column.name,):
        return Choice("code", "a number used as a name", 0.9)
    profile = subject.column_profile(column.name)
    four = (
        profile is not None and profile.magnitude == 10_000 and profile.mean_length == 4
    )
    if four and _YEAR_WORDS.intersection(words):
        return Choice("code", "years, by its name and its values", 0.85)
    return None


def kind_of_type(subject: Subject, column: Column) -> Choice | None:
    """Else the kind follows the type; a long text gets more than a line. Example:
    `VARCHAR(30)` is a text, `TIMESTAMP` a moment."""
    kind = _plain_kind(subject, column)
    native = column.type.native or "no type"
    if kind == "long text":
        reason = f"declared as {native}; its name or its values are long"
        return Choice(kind, reason, 0.9)
    if kind == "other":
        return Choice(kind, f"declared as {native}: shown, not entered", 0.6)
    return Choice(kind, f"declared as {native}")


def _plain_kind(subject: Subject, column: Column) -> str:
    kind = column.type.kind
    if kind == "text":
        profile = subject.column_profile(column.name)
        short = column.type.length is not None and column.type.length <= LONG_TEXT
        many = subject.profile.sampled >= MANY_A_VALUE
        brief = many and profile is not None and 0 < profile.longest <= BRIEF
        long_name = is_named_long(subject, column) and not brief
        long_values = profile is not None and profile.longest > LONG_TEXT
        return "long text" if not short and (long_name or long_values) else "text"
    return usual_kind(kind).name


def is_named_long(subject: Subject, column: Column) -> bool:
    """Tell whether a text is declared, or named, like one of several lines."""
    native = column.type.native.lower()
    words = split_words(column.worded)
    server = server_of(subject.database.dialect)
    is_pair = tuple(words[-2:]) in _LONG_PAIRS
    if not is_pair and (_SHORT_ENDS.intersection(words[-1:]) or words[:1] == ["path"]):
        return native.startswith(_LONG_TYPES)
    if (
        native in server.long_texts
        or native.startswith(_LONG_TYPES)
        or LONG_WORDS.intersection(words)
    ):
        return True
    if column.type.length is not None and column.type.length < 4_000:
        return False
    if words[:1] != [] and words[0] in _LONG_BEGINS:
        return True
    return is_pair or (words[-1:] != [] and words[-1] in _LONG_ENDS)


KIND_RULES: tuple[ColumnRule, ...] = (
    kind_of_reference,
    kind_of_part,
    kind_of_spelled_flag,
    kind_of_spelled_date,
    kind_of_alike_date,
    kind_of_several,
    kind_of_duration,
    kind_of_check,
    kind_of_flag,
    kind_of_flag_by_name,
    kind_of_pattern,
    kind_of_telling_name,
    kind_of_binary,
    kind_of_measure,
    kind_of_code_list,
    kind_of_few_values,
    kind_of_few_numbers,
    kind_of_like_a_reference,
    kind_of_code,
    kind_of_type,
)
