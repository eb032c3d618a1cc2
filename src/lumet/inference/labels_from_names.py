"""From the names in a database to the words that people use."""

import re
from collections.abc import Iterable, Mapping
from functools import lru_cache

import inflection

# a word begins with a capital behind a small letter, or before one, but not before the
# "s" of a plural: `SaveJPEGs`
_CAMEL = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z](?!s(?:[^a-z]|$))[a-z])")
_CAPITALS = re.compile(r"(?<![A-Z])[A-Z]{2,6}s?(?=[A-Z][a-z]|[^A-Za-z]|$)")
_SEPARATORS = re.compile(r"[\W_]+")

Glossary = Mapping[str, str]  # words of names, in lower case, to what they stand for
NO_GLOSSARY: Glossary = {}
# Abbreviations that mean the same in every trade; others stay as they are.
ABBREVIATIONS = {
    "no": "number",
    "nr": "number",
    "num": "number",
    "qty": "quantity",
    "amt": "amount",
    "dt": "date",
    "desc": "description",
    "descr": "description",
    "addr": "address",
    "tel": "telephone",
    "cd": "code",
    "flg": "flag",
    "pct": "percent",
    "nm": "name",
    "rmk": "remark",
    "rmks": "remarks",
    "stn": "station",
    "dept": "department",
    "mgr": "manager",
    "cat": "category",
    "yr": "year",
    "nbr": "number",
    "cnt": "count",
    "tot": "total",
    "typ": "type",
    "sts": "status",
    "stat": "status",
    "stats": "statistics",
    "grp": "group",
    "org": "organisation",
    "loc": "location",
    "lang": "language",
    "msg": "message",
    "usr": "user",
    "emp": "employee",
    "acct": "account",
    "bal": "balance",
    "seq": "sequence",
    "prev": "previous",
    "freq": "frequency",
    "wt": "weight",
    "wgt": "weight",
    "ht": "height",
    "vol": "volume",
    "ver": "version",
    "val": "value",
    "brth": "birth",
    "eff": "effective",
    "insp": "inspection",
    "maint": "maintenance",
    "equip": "equipment",
    "cert": "certificate",
    "chk": "check",
    "upd": "updated",
    "crt": "created",
    "img": "image",
    "doc": "document",
    "spec": "specification",
    "sched": "schedule",
    "dist": "district",
    "cntry": "country",
    "curr": "currency",
    "txt": "text",
    "tm": "time",
    "mth": "month",
    "wk": "week",
    "wrk": "work",
    "hrs": "hours",
    "lat": "latitude",
    "lon": "longitude",
    "lng": "longitude",
    "passwd": "password",
    "pwd": "password",
    "mins": "minutes",
}
KEY_WORDS = frozenset({"id", "code", "cd", "no", "nr", "key", "fk", "ref", "num"})
TABLE_PREFIXES = frozenset(
    {"tbl", "t", "tab", "table", "vw", "v", "tb", "mst", "tx", "trn", "trx"}
)
ACRONYMS = frozenset(
    {"id", "url", "uri", "ip", "vat", "iso", "gps", "utc", "pdf", "uuid"}
)
# Units behind the name of a number; "nm" behind a word is nautical miles.
UNITS = {
    "pct": "%",
    "percent": "%",
    "eur": "€",
    "usd": "$",
    "gbp": "£",
    "nm": "nm",
    "km": "km",
    "cm": "cm",
    "mm": "mm",
    "kg": "kg",
    "kw": "kW",
    "kwh": "kWh",
    "ah": "Ah",
    "mah": "mAh",
    "hz": "Hz",
    "khz": "kHz",
    "mhz": "MHz",
    "db": "dB",
    "hpa": "hPa",
    "deg": "°",
    "degrees": "°",
    "rpm": "rpm",
    "seconds": "s",
    "secs": "s",
    "ms": "ms",
    "millis": "ms",
    "milliseconds": "ms",
    "bytes": "B",
    "kb": "KB",
    "mb": "MB",
    "gb": "GB",
}
# A single letter is a unit only behind a word that it measures.
MEASURES = {
    "m": ("m", {"height", "depth", "length", "width", "elevation", "distance"}),
    "v": ("V", {"voltage", "battery", "volts"}),
    "a": ("A", {"current"}),
    "w": ("W", {"power"}),
    "c": ("°C", {"temperature", "temp"}),
    "h": ("h", {"duration"}),
    "s": ("s", {"duration", "period", "interval"}),
}
_SINGULAR_WITH_S = frozenset(
    {
        "lens",
        "gas",
        "canvas",
        "atlas",
        "chassis",
        "corps",
        "alias",
        "bias",
        "basis",
        "data",
        "metadata",
        "media",
        "stats",
    }
)
# behind another word, of all that a table holds: an error log, the file storage
UNCOUNTED = frozenset({"log", "history", "storage", "cache", "info", "information", "config", "configuration",
                        "data", "metadata", "audit", "journal", "equipment", "archive", "queue",
                        "backlog", "store", "content", "usage", "traffic"})  # fmt: skip
_TRAILING_ADJECTIVES = frozenset(
    {
        "old",
        "new",
        "archived",
        "deleted",
        "current",
        "shared",
        "pending",
        "removed",
        "disabled",
    }
)


def split_words(name: str) -> list[str]:
    """Split a name at separators and at changes of case, in lower case."""
    return list(_split(name))


@lru_cache(maxsize=50_000)
def _split(name: str) -> tuple[str, ...]:
    spaced = name if name.isupper() else _CAMEL.sub(" ", name)
    return tuple(word.lower() for word in _SEPARATORS.split(spaced) if word)


def acronyms_in(names: Iterable[str]) -> dict[str, str]:
    """Return the words that names write in capitals beside small letters, by their
    small letters: "RTSP" of `RTSPStreamName`. Names all in capitals say nothing."""
    found: dict[str, str] = {}
    for name in names:
        if name != name.upper() and name != name.lower():
            for each in _CAPITALS.findall(name):
                found.setdefault(each.lower(), each)
    return found


def label_from(
    words: list[str], numeric: bool = False, glossary: Glossary = NO_GLOSSARY
) -> str:
    """Join words to a label: "Inspected on", "Light number"; without the unit behind
    the name of a `numeric` column: "Range". The glossary comes before the abbreviations
    of every trade; what it has no word for is left out."""
    if numeric and unit_of(words):
        words = words[:-1]
    spoken = [
        glossary[word] if word in glossary
        else word.upper() if word in ACRONYMS
        else ABBREVIATIONS.get(word, word)
        for word in words
    ]  # fmt: skip
    text = " ".join(word for word in spoken if word)
    return text if is_spelled(text) else text[:1].upper() + text[1:]


def noun_label(words: list[str], glossary: Glossary = NO_GLOSSARY) -> str:
    """Return the label of one record of a table with these words: "Coastal light" for
    `coastal_lights`."""
    meant = glossary.get(words[-1], "").split() if words else []
    if meant:  # the word stands for a noun, which bends
        noun = " ".join([*meant[:-1], to_singular(meant[-1])])
        return label_from(words, glossary={**glossary, words[-1]: noun})
    return label_from(nouns_of(words)[0], glossary=glossary)


def plural_label(singular: str, is_counted: bool = False) -> str:
    """Return the label of several records from that of one; `is_counted`: also of what
    is rarely counted, such as a log."""
    words = singular.split()
    if is_counted and words:
        return " ".join([*words[:-1], to_plural(words[-1])])
    return " ".join(nouns_of(words)[1] or [singular])


def is_spelled(text: str) -> bool:
    """Tell whether the first word has a spelling of its own, as "AtoN" has."""
    first = text.partition(" ")[0]
    return first[1:] != first[1:].lower()


def unit_of(words: list[str]) -> str:
    """Return the unit behind the name of a number, "" for none: "nm" of `range_nm`."""
    if len(words) < 2:
        return ""
    if words[-1] in MEASURES:
        unit, measured = MEASURES[words[-1]]
        return unit if measured.intersection(words[:-1]) else ""
    return UNITS.get(words[-1], "")


_VOWELS = frozenset("aeiouyäöüéèêáóíú")


@lru_cache(maxsize=50_000)
def to_singular(word: str) -> str:
    """Return the singular of an English noun, the noun itself if it is one, or so short
    that it may be initials: `gus`."""
    if len(word) <= 3 and word != "ids":
        return word
    if not _VOWELS.intersection(word):
        return word  # initials, and no plural of them: `gpgrs`
    if word in _SINGULAR_WITH_S or word.endswith("ss"):
        return word
    if word.endswith("es") and word[:-2] in _SINGULAR_WITH_S:
        return word[:-2]
    return str(inflection.singularize(word))


def to_plural(word: str) -> str:
    """Return the plural of an English noun in the singular; a number stays."""
    if word[-1:].isdigit():
        return word
    if word in _SINGULAR_WITH_S and word not in ("chassis", "corps", "basis"):
        return word + "es"
    return str(inflection.pluralize(word))


def nouns_of(words: list[str]) -> tuple[list[str], list[str]]:
    """Return the singular and the plural of a table's words; only its last one bends.

    An adjective at the end comes to the front: "logbook old" is an old logbook.
    """
    if len(words) > 1 and words[-1] in _TRAILING_ADJECTIVES:
        words = [words[-1], *words[:-1]]
    if not words:
        return words, words
    last = to_singular(words[-1])
    if last == words[-1] and last in UNCOUNTED and len(words) > 1:
        return words, words
    return [*words[:-1], last], [*words[:-1], to_plural(last)]
