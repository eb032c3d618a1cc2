"""How much a column is named like a key of another table, whatever the rows say."""

from dataclasses import dataclass
from functools import lru_cache

from lumet.inference.labels_from_names import (
    ABBREVIATIONS,
    TABLE_PREFIXES,
    split_words,
    to_singular,
)

KEYS = frozenset(
    {"id", "code", "number", "key", "ref", "reference", "fk", "uuid", "guid", "pk", "oid",
     "ident", "identifier", "symbol", "uid", "kuerzel", "kennung", "nummer"}
)  # fmt: skip
# behind a stem they say of which table a key is: `subject_type` beside `subject_id`
TABLE_SAYERS = ("type", "kind", "table", "class", "model", "entity")
BEGINS = 0.93
SAME, TABLE, ROLE, PART, SHORT, SOME, HINT = 1.0, 0.97, 0.92, 0.85, 0.82, 0.75, 0.3
KEY_OF_PART = 0.79  # less than the table that a part belongs to
FAINT = 0.25  # only worth something where the values speak for themselves
_VOWELS = frozenset("aeiou")
_PERSONS = frozenset(
    {"person", "keeper", "employee", "user", "member", "staff", "contact", "customer",
     "client", "editor", "operator", "officer", "agent", "people", "individual", "party",
     "patient", "doctor", "physician", "nurse", "teacher", "student", "author", "driver",
     "player", "account", "crew", "technician", "engineer", "personnel", "resident",
     "tenant", "volunteer", "donor", "owner", "farmer", "clerk", "practitioner", "guest",
     "mitarbeiter", "benutzer", "firefighter", "ranger", "pilot", "scientist"}
)  # fmt: skip
_PERSON_ROLES = frozenset(
    {"supervisor", "manager", "inspector", "author", "owner", "captain", "master", "skipper",
     "pilot", "driver", "operator", "creator", "editor", "reviewer", "approver", "assignee",
     "reporter", "responsible", "contact", "signer", "keeper", "lead", "leader", "head",
     "chief", "by", "boss", "mentor", "referee", "coach", "sender", "receiver", "recipient",
     "witness", "examiner", "surveyor", "auditor", "technician", "attendant", "guardian",
     "teacher", "tutor", "doctor", "surgeon", "physician", "clerk", "buyer", "seller",
     "translator", "photographer", "artist", "spouse", "mother", "father", "dam", "sire",
     "deputy", "officer", "requester", "holder", "beneficiary", "host", "user", "assigned",
     "who", "person", "employee", "member", "staff", "vorgesetzter", "vorgesetzte", "leiter",
     "checker", "verifier", "observer", "handler", "caller", "visitor"}
)  # fmt: skip
_PLACES = frozenset(
    {"station", "port", "harbour", "harbor", "place", "location", "site", "city", "town",
     "airport", "stop", "depot", "warehouse", "room", "berth", "building", "area", "region",
     "district", "address", "branch", "office", "field", "plot", "country", "venue", "node",
     "shelf", "bay", "zone", "facility", "yard", "terminal"}
)  # fmt: skip
_PLACE_ROLES = frozenset(
    {"origin", "destination", "from", "to", "source", "target", "departure", "arrival",
     "start", "end", "home", "base", "pickup", "dropoff", "delivery", "birthplace", "via"}
)  # fmt: skip
_PARENTS = frozenset(
    {"parent", "super", "superior", "predecessor", "successor", "previous", "prev", "next",
     "original", "clone", "root", "replaces", "replaced", "replacement", "supersedes", "superseded",
     "belongs", "reports", "supervisor", "manager", "boss", "upper", "above", "report", "belong", "replace", "master",
     "mother", "father", "dam", "sire", "main", "ancestor", "partof", "group", "vorgesetzter", "vorgesetzte"}
)  # fmt: skip
_PARENT_ENDS = _PARENTS | {"of", "by", "to"}
QUANTITIES = frozenset(
    {"count", "total", "quantity", "amount", "year", "age", "level", "line", "position",
     "seq", "sequence", "sort", "rank", "rating", "version", "size", "length", "width",
     "height", "depth", "weight", "duration", "minute", "hour", "day", "price", "cost", "rate",
     "percent", "month", "week", "second", "score", "value", "limit", "capacity", "balance",
     "priority", "counter", "attempt", "tries", "times", "rows", "pages", "floor", "index", "step", "latitude", "longitude", "flag"}
)  # fmt: skip


MIN_LENGTH = 3  # letters; shorter names are alike by chance
_NO_KEY_NAMES = frozenset({"url", "uri", "link", "path", "address", "ip", "host", "hostname", "file",
                           "filename", "phone", "ticket"})  # fmt: skip
_GENERIC = frozenset({"name", "title", "label", "description", "type", "status", "value", "date",
                      "text", "kind", "category", "level", "state", "email"})  # fmt: skip
_SHORT_ROLES = frozenset({"insp", "supv", "spv", "opr", "oper", "resp", "appr", "asst", "capt",
                          "mstr", "offr", "engr", "techn"})  # fmt: skip
_AGENTS = ("er", "or", "eer", "ist", "ian")  # nouns of who does something
ROLES = _PERSON_ROLES | _PLACE_ROLES | _PARENTS
_SUFFIXES = ("id", "code", "no", "nr", "num", "key", "fk", "by", "to")


@dataclass(frozen=True, slots=True)
class Likeness:
    """The similarity of a name (0 to 1), and its reason; `is_role`: it only says
    what part the other record plays."""

    score: float
    reason: str
    is_role: bool = False


NONE = Likeness(0.0, "")
Words = tuple[str, ...]


@lru_cache(maxsize=100_000)
def plain_words(name: str) -> Words:
    """Return the words of a name, written out and in the singular; at least one."""
    written = (ABBREVIATIONS.get(word, word) for word in split_words(name))
    return tuple(to_singular(word) for word in written) or (name.casefold(),)


@lru_cache(maxsize=100_000)
def split_together(words: Words, vocabulary: frozenset[str]) -> Words:
    """Return the words of a name that was written as one, where its parts are known:
    `homehutid` beside a table `hut`."""
    if len(words) != 1:
        return words
    for suffix in _SUFFIXES:
        rest = words[0].removesuffix(suffix)
        if rest == words[0] or len(rest) < 3:
            continue
        ending = (ABBREVIATIONS.get(suffix, suffix),)
        if rest in vocabulary or (suffix == "by" and rest.endswith("ed")):
            return (rest, *ending)
        for place in range(3, len(rest) - 2):
            if rest[place:] in vocabulary and rest[:place] in ROLES:
                return (rest[:place], rest[place:], *ending)
    return words


@lru_cache(maxsize=20_000)
def table_words(name: str, shared: str = "") -> Words:
    """Return the words of a table's own name, without a prefix that says "table" or
    that nearly all tables share."""
    words = tuple(without_digits(word) for word in plain_words(name))
    while len(words) > 1 and (words[0] in TABLE_PREFIXES or words[0] == shared):
        words = words[1:]
    if len(words) > 1 and len(words[0]) == 1:  # a letter says nothing: `g_user`
        words = words[1:]
    return words


def without_digits(word: str) -> str:
    """Return the singular of a word without the digits of a second table of its kind:
    `filters2`."""
    bare = word.rstrip("0123456789")
    return to_singular(bare) if len(bare) > 2 else word


def without_keys(words: Words) -> Words:
    """Return the words without those for "key", at the end or the beginning."""
    while words and words[-1] in KEYS:
        words = words[:-1]
    while len(words) > 1 and words[0] in KEYS:
        words = words[1:]
    return words


@lru_cache(maxsize=200_000)
def abbreviates(short: str, word: str) -> bool:
    """Tell whether `short` abbreviates `word`: its beginning, or its first letter and
    others in their order, consonants above all."""
    if not 2 <= len(short) < len(word) or short[0] != word[0]:
        return False
    if word.startswith(short):
        return len(short) >= 3
    rest = iter(word)
    if not all(letter in rest for letter in short):
        return False
    bones = [letter for letter in word[1:] if letter not in _VOWELS]
    own = [letter for letter in short[1:] if letter not in _VOWELS]
    vowels = len(short) - 1 - len(own)
    return own[:1] == bones[:1] and vowels <= 1 and len(short) * 4 >= len(word)


def stem_likeness(stem: Words, table: Words) -> Likeness:
    """Compare the stem of a column's name with a table's words."""
    if not stem or not table:
        return NONE
    name = "_".join(table)
    together, joined = "".join(stem), "".join(table)
    if stem == table or together == joined:
        return Likeness(TABLE, f"named like {name}")
    if stem[-len(table) :] == table:
        role = " ".join(stem[: -len(table)])
        return Likeness(ROLE, f'named like {name}, as "{role}"')
    if len(together) < MIN_LENGTH:
        return NONE
    if len(stem) > 1 and table[: len(stem)] == stem:
        # says more than that its last word is another table's name
        return Likeness(BEGINS, f"named like the beginning of {name}")
    if table[-len(stem) :] == stem:
        return Likeness(PART, f"named like the end of {name}")
    if len(joined) >= 4 and together.endswith(joined):
        return Likeness(SHORT, f"its name ends like {name}")
    return _shortened_likeness(stem, table)


def _shortened_likeness(stem: Words, table: Words) -> Likeness:
    """Compare a stem with a table's words that it shortens, or names in part."""
    name, together = "_".join(table), "".join(stem)
    ends = zip(stem[-len(table) :], table, strict=False)
    if len(stem) >= len(table) and all(a == b or abbreviates(a, b) for a, b in ends):
        score = SHORT if len(stem) == len(table) else SOME + 0.03
        return Likeness(score, f"named like {name}, shortened")
    if table[: len(stem)] == stem or stem[: len(table)] == table:
        return Likeness(SOME, f"named like a part of {name}")
    if len(table) == 1:
        return NONE
    if len(stem) > 1 and stem[-1] == table[-1]:
        return Likeness(SOME, f"ends like {name}")
    if together == "".join(word[:1] for word in table):
        return Likeness(SOME, f"the first letters of {name}")
    if len(stem) == 1 and abbreviates(stem[0], table[-1]):
        return Likeness(SOME, f"named like the end of {name}, shortened")
    return NONE


@dataclass(frozen=True, slots=True)
class Ends:
    """The names of a column and of the key that it might refer to: own table, column,
    the other table, its key column; and whether that table is about persons."""

    own: Words
    column: Words
    table: Words
    key: Words
    is_person: bool = False


@lru_cache(maxsize=200_000)
def likeness(ends: Ends) -> Likeness:
    """A column is named like a key when it has the key's own name (`icao`), the table's
    with or without a word for keys (`station_id`, `station`), a part before it
    (`from_station`), a part of a longer name (`lens_code` of `lens_type`), an
    abbreviation (`stn_cd`), or says what part a person or place plays
    (`supervisor`)."""
    own, column, table, key = ends.own, ends.column, ends.table, ends.key
    is_self = own == table
    stem = without_keys(column)
    if own and not is_self and len(stem) > len(own) and stem[: len(own)] == own:
        shorter = likeness(Ends((), column[len(own) :], table, key, ends.is_person))
        whole = likeness(Ends((), column, table, key, ends.is_person))
        if shorter.score > 0:  # `scrip_action` of `scrip` is the key of `scrip_action`
            return max(shorter, whole, key=lambda each: each.score)
    if (is_self and stem == own) or "per" in column:
        return NONE  # its own key, or a rate: `captures_per_frame`
    ends_alike = (
        len(own) > len(stem) > 0 and own[-len(stem) :] == stem == table[-len(stem) :]
    )
    before = table[: len(table) - len(stem)]
    # `server_id` of `net_class_server`, beside `net_server`
    is_beside = own[: len(before)] == before
    is_second = table == tuple(map(without_digits, own))
    if ends_alike and stem != table and not is_beside and not is_second:
        return NONE  # `member_id` of a `group_member` is no `crew_member`
    found = stem_likeness(stem, table)
    is_key = len(stem) < len(column)
    if own and stem and is_key and table == own + stem:  # `type_id` of `principal`
        found = Likeness(TABLE, f"named like {'_'.join(table)}, without its own table's name")  # fmt: skip
    if _has_key_s_name(column, key, found):
        return _of_key_s_name(ends, stem, found)
    rest = column[: len(column) - len(key)]
    if rest and column[len(rest) :] == key and not (is_self or KEYS.issuperset(key)):
        owner = stem_likeness(rest, table)  # `network_name` of `network`
        if owner.score >= PART:
            return Likeness(ROLE, f"{owner.reason}, with the name of its key")
    if not is_self and found.score < ROLE and _holds_key_s_name(column, key):
        whole = _of_key_s_name(Ends(own, key, table, key), without_keys(key), found)
        if whole.score:
            role = " ".join(word for word in column if word not in key)
            return Likeness(min(whole.score, ROLE), f'{whole.reason}, as "{role}"')
    if is_self and (found.score < ROLE or found.score == BEGINS):
        found = NONE
    if found.score:
        return _with_suffix(found, column, stem, key, table)
    if not stem and not is_self:
        return NONE
    return _by_role(ends, stem, has_key=len(stem) < len(column))


def _has_key_s_name(column: Words, key: Words, found: Likeness) -> bool:
    """Tell whether a column has the name of the key, which says more than "key"."""
    if "".join(column) != "".join(key) or not without_keys(key):
        return False
    if column[-1] in _NO_KEY_NAMES:
        return False
    return bool(found.score) or not _GENERIC.issuperset(column)


def _holds_key_s_name(column: Words, key: Words) -> bool:
    """Tell whether a column has the name of a key of several words behind or before a
    part that its record plays: `first_int_id`, `job_id_required`."""
    if len(key) < 2 or len(column) <= len(key) or not KEYS.intersection(key[-1:]):
        return False
    return column[-len(key) :] == key or column[: len(key)] == key


def _of_key_s_name(ends: Ends, stem: Words, found: Likeness) -> Likeness:
    """Return the likeness of a column that has the name of the key."""
    if without_keys(ends.key) == stem == ends.own:
        return NONE  # named for its own table
    named, is_self = without_keys(ends.key), ends.own == ends.table
    is_last = ends.table[-len(named) :] == named
    if named and set(named) <= set(ends.table) and not (is_last or is_self):
        # `class_id` is the key of a `client_class`, not of a `client_class_order`
        return Likeness(KEY_OF_PART, "has the name of that key, which is another's")
    if not found.score and is_self:
        return NONE
    sure = SAME if found.score >= PART else 0.88 if found.score else 0.9
    return Likeness(sure, "has the name of that key")


def _with_suffix(
    found: Likeness, column: Words, stem: Words, key: Words, table: Words
) -> Likeness:
    """Weigh whether column and key end in the same word for a key."""
    ending = set(column[len(stem) :]) | set(column[: len(column) - len(stem)]) & KEYS
    rest = key[len(table) :] if key[: len(table)] == table else key
    other = set(rest) & KEYS
    if not ending and ("shortened" in found.reason or found.score <= SOME):
        return Likeness(
            FAINT, found.reason
        )  # "on_hand" is no handler, "frame_skip" no frame
    if not ending:
        if column == table or stem == column:
            return Likeness(found.score * 0.9, found.reason)
        return found
    if (
        ending & other
        or not rest
        or {"fk", "ref", "reference", "key"} & (ending | other)
    ):
        return found
    if other:
        return Likeness(found.score * 0.72, f"{found.reason}, though not like its key")
    return Likeness(found.score * 0.8, found.reason)


def _by_role(ends: Ends, stem: Words, has_key: bool) -> Likeness:
    """A name may give the role of the other record, and nothing of its table."""
    words, table = set(stem), set(ends.table)
    is_person = ends.is_person or bool(table & _PERSONS)
    acts = bool(stem) and len(stem[-1]) > 5 and stem[-1].endswith(_AGENTS)
    is_self = ends.own == ends.table and (is_person or not words & _PERSON_ROLES)
    # `parent`, `replaced_by`, `part_of`; not `parent_delay`, nor `next_change`
    is_bare = len(stem) <= 2 and stem[-1:] != () and stem[-1] in _PARENT_ENDS
    is_parent = bool(words & _PARENTS) or "".join(stem) in _PARENTS
    is_parent = is_parent and (has_key or is_bare)
    plays = bool(words & _PERSON_ROLES) or acts
    noun = ends.table[-1] if ends.table else ""
    roles = (
        (0.7, "named like a parent of its own kind", is_self and is_parent),
        (0.55, f"shortened, a part that a {noun} plays", is_person and words & _SHORT_ROLES),
        (0.6, f"named like a part that a {noun} plays", is_person and plays),
        (0.55, f"named like a {noun} of a way", words & _PLACE_ROLES and table & _PLACES),
        (HINT, "named like a key", has_key),
    )  # fmt: skip
    held = (Likeness(score, why, is_role=True) for score, why, holds in roles if holds)
    return next(held, NONE)
