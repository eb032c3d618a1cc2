"""The question of a record's title: the columns that name one record to a person."""

from collections import Counter
from collections.abc import Iterable, Iterator
from itertools import combinations

from lumet.design.decision_schema import TITLE_DEPTH as DEPTH
from lumet.evidence.model import ColumnProfile
from lumet.facts.model import Column, Reference, Table
from lumet.inference.kinds import CHOICE_WORDS, LONG_TEXT, is_named_long
from lumet.inference.labels_from_names import split_words
from lumet.inference.name_similarity import Words, abbreviates, plain_words, table_words
from lumet.inference.relations import junction_of
from lumet.inference.rules import Choice, Subject, TableRule
from lumet.inference.secrets import is_secret
from lumet.inference.stamps import is_actor, is_stamp

NAME_WORDS = ("name", "title", "label", "caption", "designation", "headline", "subject",
              "summary", "heading", "topic", "fullname", "displayname", "nickname", "hostname",
              "term", "bezeichnung", "nom", "nombre", "nome", "naam", "navn", "namn", "titel")  # fmt: skip
TELLING_WORDS = (*NAME_WORDS, "description", "message", "text", "keyword", "number", "serial",
                 "plate", "registration", "reference", "login", "username", "email", "telephone",
                 "phone", "filename", "code", "key", "event")  # fmt: skip
# in a list that belongs to a record they say more than a line's number
_LINE_WORDS = (*NAME_WORDS, "email", "telephone", "phone", "url", "address", "description", "text")  # fmt: skip
_LOGINS = frozenset({"username", "login", "user", "account"})
_ENDS_OF_TIME = frozenset({"expires", "expiry", "expiration", "until", "end", "deadline", "due",
                           "granted", "expire"})  # fmt: skip
MANY_PARTS = 4  # columns of a key; more are no title that people would read
OF_ALL = 3  # tables whose names are told apart by one and the same owner
CODE_WORDS = frozenset({"number", "code", "serial", "plate", "registration", "reference", "tag",
                        "barcode", "isbn", "callsign", "symbol", "key"})  # fmt: skip
NO_NAME = frozenset(
    {"table", "file", "user", "login", "path", "host", "schema", "image", "photo", "plugin"}
)  # fmt: skip
# of texts that programs make
_TELLS_NOTHING = frozenset({"value", "key", "hash", "digest", "checksum", "fingerprint", "signature",
                            "certificate", "cert", "etag", "nonce", "path", "agent", "ip", "uuid",
                            "guid"})  # fmt: skip
_OF_PROGRAMS = ("uuid", "hash")  # patterns of texts that say nothing to a person
MAX_OF_CODE = 6  # columns; a table of codes has few
NEVER = 99  # as the depth of a title that goes in a circle
ENOUGH = 30  # rows; fewer prove nothing
_FIRST = ("first name", "given name", "forename", "firstname", "fore name", "vorname", "prenom",
          "fname", "f name", "givenname", "christian name", "given")  # fmt: skip
_LAST = ("last name", "family name", "surname", "lastname", "sur name", "nachname", "lname",
         "l name", "familyname", "family")  # fmt: skip


def title_of_person(subject: Subject) -> Choice | None:
    """First and last name together name a person. Example: `{first_name} {last_name}`
    of a keeper."""
    by_words = {" ".join(_own_words(subject, c)): c.name for c in subject.table.columns}
    given = next((by_words[each] for each in _FIRST if each in by_words), "")
    family = next((by_words[each] for each in _LAST if each in by_words), "")
    whole = by_words.get("name", "")
    if whole and _is_filled(subject, subject.table.column(whole)):
        return None  # it is written out in one
    if given and family:
        return Choice(f"{{{given}}} {{{family}}}", "a person's names")
    return None


def title_of_code_list(subject: Subject) -> Choice | None:
    """In a table of all codes, the label says what a code means. Example: `{label}` in
    `code (kind, value, label)`."""
    label = subject.profile.code_lists.label
    return Choice(f"{{{label}}}", "the labels of its codes", 0.85) if label else None


def title_of_unique_name(subject: Subject) -> Choice | None:
    """A column named like a name, unique by constraint or in all rows that were read.
    Example: `{name}` of a station."""
    for column in _named(subject, NAME_WORDS):
        if subject.table.is_unique((column.name,)):
            return _single(column, "unique by constraint", 1.0)
        if subject.profile.sampled >= ENOUGH and _is_proven(subject, column) and (
            not _is_part(subject, column)
        ):  # fmt: skip
            return _single(column, "unique and never empty", 0.95)
    return None


def title_of_unique_parts(subject: Subject) -> Choice | None:
    """A unique constraint over a reference and a name, a date or a number. Example:
    `{station_id} · {name}` of a light. A name says enough without an account, a parent
    of its own kind, or more than one other part."""
    for columns in (unique.columns for unique in subject.table.uniques):
        if len(columns) > MANY_PARTS:
            continue
        found = [subject.table.column(name) for name in columns]
        lookups = [c for c in found if _is_shallow_lookup(subject, c)]
        others = [c for c in found if c not in lookups]
        name = _name_among(subject, others)
        if name is None and _has_plain_name(subject):
            continue
        is_owned = len(found) > 2 or any(_is_owner(subject, c) for c in lookups)
        if name is not None and is_owned:
            return _single(name, "named like a name; unique together with others", 0.85)
        if _says_more(subject, others):
            continue
        if lookups and others and all(_can_tell(subject, c) for c in others):
            return Choice(_joined(columns), "unique together", 0.8)
    return None


def _says_more(subject: Subject, others: list[Column]) -> bool:
    """Tell whether a line has a text that says more than its number."""
    is_line = all(column.type.kind == "integer" for column in others)
    return is_line and any(_named(subject, _LINE_WORDS))


def _name_among(subject: Subject, columns: list[Column]) -> Column | None:
    """Return the column of these that is named like a name."""
    named = _named(subject, (*NAME_WORDS, "filename"))
    return next((c for c in named if c in columns), None)


def _has_plain_name(subject: Subject) -> bool:
    """Tell whether a column is called just a name."""
    plain = {("name",), ("title",), ("label",), ("caption",)}
    return any(_own_words(subject, c) in plain for c in _named(subject, NAME_WORDS))


def _is_owner(subject: Subject, column: Column) -> bool:
    """Tell whether a reference leads to an account, or to a parent of the same kind."""
    reference = subject.table.reference_of(column.name)
    if reference is None:
        return False
    words = subject.about(reference.referred_table).words
    is_account = bool({"user", "account", "usr", "login"} & set(words[-1:]))
    is_parent = plain_words(column.worded)[0] == "parent"
    is_own = reference.referred_table == subject.table.name
    return is_account or is_parent or is_own or _owns_all(subject, reference)


def _owns_all(subject: Subject, reference: Reference) -> bool:
    """Tell whether several tables are told apart by the same owner: an organisation, of
    which most installations have one."""
    place = ("", "owners")
    if place not in subject.answers:
        counts = Counter(
            part.referred_table
            for table in subject.database.tables
            for unique in table.uniques
            if len(unique.columns) == 2
            for column in unique.columns
            if (part := table.reference_of(column)) is not None
            and any(
                split_words(table.column(other).worded)[-1:] == ["name"]
                for other in unique.columns
            )
        )
        subject.answers[place] = Choice(counts, "")
    counted: Counter[str] = subject.answers[place].value
    return counted[reference.referred_table] >= OF_ALL


def title_of_name(subject: Subject) -> Choice | None:
    """A column named like a name, though it may repeat. Example: `{summary}` of a
    finding."""
    for column in _named(subject, NAME_WORDS):
        return _single(column, "named like a name; may repeat", 0.8)
    return None


def title_of_junction(subject: Subject) -> Choice | None:
    """A junction record is titled by both records. Example: `{light_id} · {vessel_id}`
    of `light_tender`."""
    junction = junction_of(subject)
    if junction is None:
        return None
    columns = [subject.table.column(name) for name in junction.columns]
    if all(_comes_to_an_end(subject, column) for column in columns):
        return Choice(_joined(junction.columns), "what it joins", 0.85)
    return None


def title_of_description(subject: Subject) -> Choice | None:
    """In a small table of codes, the description says what the code means. Example:
    `{descr}` in `weather (code, descr)`."""
    if subject.table.references or len(subject.table.columns) > MAX_OF_CODE:
        return None
    for column in subject.table.columns:
        named = _own_words(subject, column)[-1:] == ("description",)
        if named and _is_short_text(subject, column):
            return _single(column, "the description of a code", 0.8)
    return None


def title_of_code(subject: Subject) -> Choice | None:
    """A number or a code of its own that no two records share: the word for it among
    users by, unless it is the key of lines that belong to a record. Example:
    `{serial_no}` of a lamp."""
    for column in subject.table.columns:
        words = _own_words(subject, column)
        if (
            column.type.kind != "text"
            or words[-1:] == ()
            or subject.table.reference_of(column.name)
        ):
            continue
        if (words[-1] in CODE_WORDS and _is_short_text(subject, column) and (
            subject.table.is_unique((column.name,)) or _is_proven(subject, column)
        )):  # fmt: skip
            return _single(column, "a code that no two share", 0.8)
    return None


def title_of_line(subject: Subject) -> Choice | None:
    """A line of a record is named by the record and its number. Example: `{voyage_id} ·
    {stop_no}` of a stop."""
    key, lookups, others = _key_parts(subject)
    if len(key) > MANY_PARTS or _says_more(subject, others):
        return None
    if lookups and others and all(_can_tell(subject, c) for c in others):
        return Choice(_joined(key), "its key: what it belongs to, and which one", 0.8)
    return None


def title_of_codes(subject: Subject) -> Choice | None:
    """A key of several codes that people can read. Example: `{row} · {shelf}` of a
    place in a store."""
    key, lookups, others = _key_parts(subject)
    if others and not lookups and all(_can_tell(subject, c) for c in others):
        return Choice(_joined(key), "its key, readable", 0.75)
    return None


def _key_parts(subject: Subject) -> tuple[tuple[str, ...], list[Column], list[Column]]:
    """Return a key over several columns, those of it that are references, the
    others."""
    key = subject.table.primary_key if len(subject.table.primary_key) > 1 else ()
    columns = [subject.table.column(name) for name in key]
    lookups = [c for c in columns if _comes_to_an_end(subject, c)]
    return key, lookups, [c for c in columns if c not in lookups]


def title_of_event(subject: Subject) -> Choice | None:
    """An event is titled by a reference and a date. Example:
    `{station_id} · {inspected_on}` of an inspection."""
    lookups = [c for c in subject.table.columns if _is_shallow_lookup(subject, c)
               and not is_actor(c.name)]  # fmt: skip
    dates = _dates(subject)
    if lookups and dates:
        columns = (_subject_of_event(subject, lookups).name, dates[0].name)
        return Choice(_joined(columns), "what it is about, and when", 0.8)
    return None


def _subject_of_event(subject: Subject, lookups: list[Column]) -> Column:
    """Return the reference that an event is about: one that is never empty, rather than
    a part that some person plays."""
    filled = [c for c in lookups if _is_filled(subject, c)] or lookups
    owned = [
        c
        for c in filled
        if (reference := subject.table.reference_of(c.name)) is not None
        and not subject.answers.get((reference.referred_table, "person"))
    ]
    return (owned or filled)[0]


def title_of_part(subject: Subject) -> Choice | None:
    """A one-to-one part is titled by its record, whose key it has, which is the
    name. Example: `{station_id}` of a station's landing."""
    key = subject.table.primary_key
    if len(key) != 1 or not _is_shallow_lookup(subject, subject.table.column(key[0])):
        return None
    return Choice(f"{{{key[0]}}}", "what it belongs to, one at most to each", 0.8)


def title_of_key(subject: Subject) -> Choice | None:
    """A key that people can read: a text. Example: `{code}` of a table that has only
    codes."""
    uniques = [unique.columns for unique in subject.table.uniques]
    for columns in (subject.table.primary_key, *uniques):
        if len(columns) == 1 and subject.table.column(columns[0]).type.kind == "text" and (
            subject.table.reference_of(columns[0]) is None
            and not is_secret(subject.table.column(columns[0]))
        ):  # fmt: skip
            return _single(subject.table.column(columns[0]), "a readable key", 0.8)
    return None


def title_of_telling(subject: Subject) -> Choice | None:
    """A column with a telling name, else the first short text that is no choice.
    Example: `{description}` of a repair."""
    for column in _named(subject, TELLING_WORDS):
        if _is_letter(subject, column):
            continue
        return _with_date(subject, column, "the most readable name", 0.75)
    for column in subject.table.columns:
        is_mark = column.type.length in (1, 2)
        if _is_short_text(subject, column) and _is_filled(subject, column) and (
            not is_mark and not subject.choices(column.name)
            and not is_named_long(subject, column)
            and plain_words(column.worded)[-1] not in _TELLS_NOTHING
            and not _is_letter(subject, column)
            and not (NO_NAME.intersection(plain_words(column.worded)[:-1]))
            and not CHOICE_WORDS.intersection(plain_words(column.worded)[-1:])
        ):  # fmt: skip
            proven = subject.profile.sampled >= ENOUGH and _is_proven(subject, column)
            reason = "the first short text" + (", unique" if proven else "")
            return _with_date(subject, column, reason, 0.75 if proven else 0.65)
    return None


def _is_letter(subject: Subject, column: Column) -> bool:
    """Tell whether a text is what somebody wrote, rather than its heading."""
    is_letter = plain_words(column.worded)[-1] in ("text", "message", "body", "content")
    return is_letter and column.type.length is None and _read(subject, column) is None


def _with_date(
    subject: Subject, column: Column, reason: str, confidence: float
) -> Choice:
    """Return a title of a column; of somebody's login with the date beside it, since
    many records have it."""
    dates = _dates(subject)
    if dates and _is_login(subject, column):
        return Choice(_joined([column.name, dates[0].name]), "who, and when", confidence)  # fmt: skip
    lookups = [c for c in subject.table.columns if _is_shallow_lookup(subject, c)]
    if lookups and _is_login(subject, column):
        return Choice(_joined([lookups[0].name, column.name]), "what, and who", confidence)  # fmt: skip
    return _single(column, reason, confidence)


def title_of_one_reference(subject: Subject) -> Choice | None:
    """A record without a name is titled by the record that it belongs to and its
    number. Example: `{vessel_id} · {light_id}` of a tender's round."""
    lookups = [c for c in subject.table.columns if _is_shallow_lookup(subject, c)]
    filled = [c for c in lookups if _is_filled(subject, c) and not is_actor(c.name)]
    pairs = [
        pair for pair in combinations(filled, 2) if len({*_ends(subject, pair)}) == 1
    ]
    if len(filled) >= 2:
        filled = [*pairs[0]] if pairs else filled
        names = [column.name for column in filled[:2]]
        return Choice(_joined(names), "what it links", 0.65)
    return None


def title_of_state(subject: Subject) -> Choice | None:
    """A record without a name is titled by what it belongs to and its type or state.
    Example: `{light_id} · {state}` of a light's states."""
    lookups = [c for c in subject.table.columns if _is_shallow_lookup(subject, c)
               and not is_actor(c.name)]  # fmt: skip
    lookups = lookups or [c for c in subject.table.columns if _is_login(subject, c)]
    if not lookups:
        return None
    states = [
        c
        for c in _plain_texts(subject)
        if _is_state(c) and c not in lookups and not _says_which_table(subject, c)
    ]
    about = _subject_of_event(subject, lookups)
    if states:
        columns = [about.name, states[0].name]
        return Choice(_joined(columns), "what it is about, and its state", 0.65)
    filled = [c for c in lookups if _is_filled(subject, c)]
    if len(filled) > 1 or any(_says_something(subject, c) for c in _plain_texts(subject)):  # fmt: skip
        return None
    return Choice(f"{{{about.name}}}", "what it is about", 0.6)


def _says_something(subject: Subject, column: Column) -> bool:
    """Tell whether a text may say what a record is: no state, no login, no name of
    another table or of a program's part."""
    return not (
        _is_state(column)
        or _is_login(subject, column)
        or _says_which_table(subject, column)
        or is_named_long(subject, column)
        or column.type.length in (1, 2)
        or NO_NAME.intersection(plain_words(column.worded))
    )


def title_of_rest(subject: Subject) -> Choice | None:
    """Else a text, whatever it says. Example: `{rule}` of a table of rules."""
    texts = [*_plain_texts(subject)]
    if not texts:
        return None
    named = [c for c in texts if plain_words(c.worded)[-1:] == subject.words[-1:]]
    own = named or [c for c in texts if _says_something(subject, c)] or texts
    return _single(own[0], "the first text", 0.6)


def _plain_texts(subject: Subject) -> Iterator[Column]:
    """Yield the texts that a person may read, long ones and those of a choice too."""
    for column in subject.table.columns:
        refers = any(column.name in each.columns for each in subject.table.references)
        if column.type.kind == "text" and not refers and not is_secret(column):
            profile = _read(subject, column)
            is_read = profile is None or (
                profile.empty < 0.5
                and not profile.constant
                and profile.pattern not in _OF_PROGRAMS
            )
            if is_read and plain_words(column.worded)[-1] not in _TELLS_NOTHING:
                yield column


def _says_which_table(subject: Subject, column: Column) -> bool:
    """Tell whether a text says of which table the number beside it is:
    `object_type`."""
    stem = plain_words(column.worded)[:-1]
    return bool(stem) and any(
        plain_words(each.worded) == (*stem, "id")
        and each.name not in subject.table.primary_key
        for each in subject.table.columns
    )


def _is_state(column: Column) -> bool:
    return bool(CHOICE_WORDS.intersection(plain_words(column.worded)[-1:]))


def _is_login(subject: Subject, column: Column) -> bool:
    """Tell whether a text is the login of somebody in a table of something else."""
    words = _own_words(subject, column)
    return (
        column.type.kind == "text"
        and bool(_LOGINS.intersection(words[-1:]))
        and not subject.table.is_unique((column.name,))
        and not is_secret(column)
    )


def _ends(subject: Subject, columns: Iterable[Column]) -> Iterator[str]:
    """Yield the tables that references lead to."""
    for column in columns:
        reference = subject.table.reference_of(column.name)
        yield reference.referred_table if reference is not None else column.name


def title_of_only_value(subject: Subject) -> Choice | None:
    """A number that no two records share, or a version. Example: `{version}` of
    `schema_version (id, version)`, `{rating}` of a rating."""
    saying = [
        c
        for c in subject.table.columns
        if c.name not in subject.table.primary_key
        and subject.table.reference_of(c.name) is None
        and not (is_stamp(c) or is_secret(c))
        and split_words(c.worded) not in (["rev"], ["row", "version"])
        and c.type.kind in ("integer", "decimal")
    ]
    unique = [c for c in saying if subject.table.is_unique((c.name,))]
    versions = [c for c in saying if split_words(c.worded)[-1:] == ["version"]]
    if telling := unique or versions:
        return _single(telling[0], "the only one that tells it", 0.65)
    return None


def title_of_number(subject: Subject) -> Choice | None:
    """Else the word for one record and its key, or its first column. Example: "Lamp
    reading 4711"."""
    key = subject.table.primary_key or (subject.table.columns[0].name,)
    near = [
        name
        for name in key
        if subject.table.reference_of(name) is None
        or _is_shallow_lookup(subject, subject.table.column(name))
    ]
    columns = near or key[:1]  # of one too deep, the bare number
    parts = ", ".join(f"{{{name}}}" for name in columns)
    singular = subject.answer("singular")
    return Choice(f"{singular} {parts}", "no column names a record", 0.5)


TITLE_RULES: tuple[TableRule, ...] = (
    title_of_person,
    title_of_code_list,
    title_of_unique_name,
    title_of_unique_parts,
    title_of_name,
    title_of_junction,
    title_of_description,
    title_of_code,
    title_of_line,
    title_of_event,
    title_of_codes,
    title_of_part,
    title_of_key,
    title_of_telling,
    title_of_state,
    title_of_one_reference,
    title_of_rest,
    title_of_only_value,
    title_of_number,
)


def title_columns(subject: Subject) -> tuple[str, ...]:
    """Return the columns that the title of the subject's table names."""
    title = subject.answer("title")
    return tuple(c.name for c in subject.table.columns if f"{{{c.name}}}" in title)


def _own_words(subject: Subject, column: Column) -> Words:
    """Return a column's words without those of its table, or of their end, before
    them."""
    words, own = plain_words(column.worded), subject.words
    rest = subject.without_own(split_words(column.worded))
    if len(rest) < len(split_words(column.worded)) and rest != [*words]:
        words = plain_words(" ".join(rest))
    for start in range(len(own)):
        lead = own[start:]
        if len(words) > len(lead) and words[: len(lead)] == lead:
            return words[len(lead) :]
    joined = "".join(own)
    if (
        len(words) == 1
        and joined
        and words[0].startswith(joined)
        and words[0] != joined
    ):
        return (words[0][len(joined) :],)
    return words


def _named(subject: Subject, words: tuple[str, ...]) -> Iterator[Column]:
    """Yield the short text columns named by one of `words`, the best word first: just
    the word, perhaps behind the table's name, or the table's own name; then those with
    another word before it that is no other table's."""
    ranked: list[tuple[int, int, int, Column]] = []
    for place, column in enumerate(subject.table.columns):
        if not _is_short_text(subject, column):
            continue
        parts = _own_words(subject, column)
        if plain_words(column.worded) == subject.words:
            if is_named_long(subject, column):
                continue
            if subject.table.primary_key == (column.name,) and _has_description(
                subject
            ):
                continue
            ranked.append((0, 0, place, column))
        elif _is_last_word(subject, column):
            ranked.append((0, 1, place, column))
        elif parts and parts[-1] in words and not NO_NAME.intersection(parts):
            nearness = 0 if len(parts) == 1 else 2
            if nearness and _is_anothers(subject, parts[:-1]):
                continue
            ranked.append((nearness, words.index(parts[-1]), place, column))
    for *_, column in sorted(ranked, key=lambda item: item[:3]):
        yield column


def _is_last_word(subject: Subject, column: Column) -> bool:
    """Tell whether a column has the noun of its table: `channel` of `mix_channel`, not
    `state` of `light_state`."""
    words = plain_words(column.worded)
    is_noun = len(subject.words) > 1 and words == subject.words[-1:]
    is_other = bool(CHOICE_WORDS.intersection(words)) or words == ("version",)
    return is_noun and not is_other and words[0] not in _LINE_WORDS and not _has_description(subject)  # fmt: skip


def _has_description(subject: Subject) -> bool:
    return any(
        _own_words(subject, c)[-1:] == ("description",) for c in subject.table.columns
    )


def _is_anothers(subject: Subject, words: Words) -> bool:
    """Tell whether `words` name another table, perhaps shortened: `country_name` is no
    name of an artist, nor `kpr_name` beside a table of keepers."""
    others = [
        table_words(table.worded, subject.shared)
        for table in subject.database.tables
        if table is not subject.table
    ]
    return any(
        other[-len(words) :] == words or abbreviates(words[-1], other[-1])
        for other in others
    )


def _is_short_text(subject: Subject, column: Column) -> bool:
    refers = any(column.name in each.columns for each in subject.table.references)
    if column.type.kind != "text" or refers or is_secret(column):
        return False
    is_named = plain_words(column.worded)[-1] in NAME_WORDS
    too_long = column.type.length is not None and column.type.length > 4 * LONG_TEXT
    if too_long and not is_named:
        return False
    profile = _read(subject, column)
    if profile is not None and (
        profile.spelling or profile.leads or profile.pattern in _OF_PROGRAMS
    ):
        return False
    return profile is None or (profile.mean_length <= LONG_TEXT and profile.empty < 0.5)


def _read(subject: Subject, column: Column) -> ColumnProfile | None:
    return subject.column_profile(column.name)


def _is_filled(subject: Subject, column: Column) -> bool:
    """Tell whether a column is never empty, by its declaration or in the rows."""
    profile = _read(subject, column)
    return not column.nullable or (profile is not None and profile.empty == 0)


def _is_proven(subject: Subject, column: Column) -> bool:
    profile = _read(subject, column)
    return profile is not None and profile.unique and profile.empty == 0


def _is_date(subject: Subject, column: Column) -> bool:
    profile = _read(subject, column)
    spelled = profile is not None and "YYYY" in profile.spelling
    dated = column.type.kind in ("date", "datetime") or spelled
    return dated and not is_stamp(column) and _is_filled(subject, column)


def _dates(subject: Subject) -> list[Column]:
    """Return the dates of something that happened, rather than its end."""
    return [
        column
        for column in subject.table.columns
        if _is_date(subject, column)
        and not _ENDS_OF_TIME.intersection(split_words(column.worded))
    ]


def _is_part(subject: Subject, column: Column) -> bool:
    """Tell whether a constraint makes a column unique only together with others."""
    keys = [unique.columns for unique in subject.table.uniques]
    return any(column.name in key and len(key) > 1 for key in keys)


def _can_tell(subject: Subject, column: Column) -> bool:
    if is_secret(column) or any(
        column.name in each.columns for each in subject.table.references
    ):
        return False
    if column.type.kind in ("date", "datetime", "integer"):
        return not column.automatic
    return _is_short_text(subject, column)


def _is_shallow_lookup(subject: Subject, column: Column) -> bool:
    """Tell whether a title may reach through `column` without going in a circle or
    through more than DEPTH references."""
    return _depth(subject, subject.table, column.name, ()) <= DEPTH


def _comes_to_an_end(subject: Subject, column: Column) -> bool:
    """Tell whether the title that `column` refers to reaches one reference further than
    it may at most: that one is then left out of it."""
    return _depth(subject, subject.table, column.name, ()) <= DEPTH + 1


def _depth(subject: Subject, table: Table, column: str, seen: tuple[str, ...]) -> int:
    reference = table.reference_of(column)
    if reference is None or reference.referred_table in (*seen, table.name):
        return NEVER
    title = subject.answers.get((reference.referred_table, "title"))
    if title is None:
        return NEVER
    referred = subject.database.table(reference.referred_table)
    deeper = [
        _depth(subject, referred, part.name, (*seen, table.name))
        for part in referred.columns
        if f"{{{part.name}}}" in title.value and referred.reference_of(part.name)
    ]
    return 1 + max(deeper, default=0)


def _joined(columns: tuple[str, ...] | list[str]) -> str:
    return " · ".join(f"{{{name}}}" for name in columns)


def _single(column: Column, reason: str, confidence: float) -> Choice:
    return Choice(f"{{{column.name}}}", reason, confidence)
