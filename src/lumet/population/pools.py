"""Words of every day by their meaning, in a language: some hundred of each are made once
and drawn from."""

import random
from collections.abc import Callable, Collection, Iterator
from typing import Any

from faker import Faker
from faker.config import AVAILABLE_LOCALES

SIZE = 400  # words of a pool
PEOPLE = frozenset(
    [
        "user",
        "person",
        "people",
        "employee",
        "member",
        "contact",
        "author",
        "staff",
        "crew",
        "keeper",
        "patient",
        "officer",
        "inspector",
        "engineer",
        "worker",
        "student",
        "teacher",
        "client",
        "customer",
        "guest",
        "owner",
        "driver",
        "pilot",
        "captain",
        "account",
        "subscriber",
        "participant",
        "personne",
        "nutzer",
        "benutzer",
        "mitarbeiter",
        "kunde",
    ]
)
COMPANIES = frozenset(
    [
        "company",
        "supplier",
        "organisation",
        "organization",
        "vendor",
        "firm",
        "agency",
        "institution",
        "employer",
        "manufacturer",
        "contractor",
        "operator",
        "carrier",
        "bank",
        "firma",
        "lieferant",
        "hersteller",
    ]
)
PLACES = frozenset(
    ["city", "town", "place", "location", "site", "station", "port", "harbour", "harbor", "village", "region", "area", "district", "island", "ort", "stadt", "hafen"]
)  # fmt: skip
_MEANINGS: tuple[tuple[str, str], ...] = (  # words of a column's name; the first that fits
    ("given_name", "given firstname forename fname vorname prenom christian"),
    ("family_name", "surname lastname lname family nachname nom familyname"),
    ("person", "fullname realname displayname contactname keeper author"),
    ("login", "username login nick nickname userid uname benutzername"),
    ("company", "company organisation organization employer firma supplier vendor"),
    ("job", "job profession occupation position beruf"),
    ("street", "street address address1 addr strasse road adresse"),
    ("place", "city town place location village port harbour ort stadt"),
    ("postcode", "postcode zip zipcode postal plz"),
    ("country", "country land nation"),
    ("country_code", "countrycode"),
    ("language", "language lang locale sprache"),
    ("currency", "currency waehrung"),
    ("host", "host hostname domain server fqdn origin realm"),
    ("ip", "ip ipaddr ipaddress ipv4 remote"),
    ("mac", "mac macaddr"),
    ("iban", "iban"),
    ("mime", "mime mimetype contenttype"),
    ("file", "file filename filepath path"),
    ("agent", "useragent agent"),
    ("hash", "hash md5 sha1 sha256 digest checksum fingerprint token secret password passwd pwd salt etag"),
    ("uuid", "uuid guid"),
    ("zone", "timezone tz"),
    ("version", "version"),
    ("colour", "colour color farbe"),
    ("mail", "email mail"),
    ("url", "url uri website homepage link"),
    ("phone", "phone telephone mobile tel fax telefon"),
    ("code", "code abbr abbreviation short kuerzel ref reference number num nummer nr no sku key serial callsign"),
    ("sentence", "subject headline summary betreff heading caption"),
    ("text", "description descr desc comment comments note notes remark remarks text body content message details info reason bemerkung beschreibung purpose"),
)  # fmt: skip
_MEANING = {word: name for name, words in reversed(_MEANINGS) for word in words.split()}


def meaning_of(words: Collection[str], table_words: Collection[str]) -> str:
    """Return the meaning of a text column by the words of its name, "" for an unknown
    one."""
    joined = "".join(words)
    if joined in _MEANING:
        return _MEANING[joined]
    found = [_MEANING[word] for word in words if word in _MEANING]
    if {"first", "name"} <= set(words):
        return "given_name"
    if {"last", "name"} <= set(words):
        return "family_name"
    if {"user", "name"} <= set(words):
        return "login"
    if found:
        return found[-1]
    glued = [w for w in _MEANING if len(w) > 3 and joined.endswith(w)]  # homephone
    if glued:
        return _MEANING[max(glued, key=len)]
    if {"name", "title", "label", "titel", "bezeichnung"} & {*words}:
        subject = {each.removesuffix("s") for each in (*table_words, *words)}
        for name, known in (("person", PEOPLE), ("company", COMPANIES), ("place", PLACES)):  # fmt: skip
            if subject & known:
                return name
        return "name"
    return ""


class Pools:
    """The words of one language, the same for a seed."""

    def __init__(self, language: str, seed: int) -> None:
        self.faker: Any = Faker(locale_of(language))
        # in English, words that people use: most locales have but Latin ones
        self.words: Any = Faker("en_US") if language.startswith("en") else self.faker
        for each in (self.faker, self.words):
            each.seed_instance(seed)
        self.random = random.Random(seed)
        self._known: dict[str, list[str]] = {}

    def of(self, meaning: str) -> list[str]:
        """Return words of a meaning, each once, the shortest included."""
        if meaning not in self._known:
            make = _MAKERS[meaning]
            found = dict.fromkeys(str(make(self)) for _ in range(SIZE))
            self._known[meaning] = list(found)
        return self._known[meaning]

    def fitting(
        self, meaning: str, longest: int | None, shortest: int = 0
    ) -> list[str]:
        """Return words of a meaning that are neither too long nor too short; what is too
        long is cut between words where nothing else is left."""
        words = self.of(meaning)
        fit = [w for w in words if shortest <= len(w) <= (longest or len(w))]
        if len(fit) >= min(20, len(words)) or not longest:
            return fit or words
        cut = dict.fromkeys(_cut(word, longest) for word in words)
        return [*dict.fromkeys([*fit, *(w for w in cut if shortest <= len(w))])]


_MAKERS: dict[str, Callable[["Pools"], Any]] = {
    "name": lambda pools: " ".join(pools.words.words(pools.random.choice((1, 2, 2, 3)))).capitalize(),
    "word": lambda pools: str(pools.words.word()).capitalize(),
    "given_name": lambda pools: str(pools.faker.first_name()),
    "family_name": lambda pools: str(pools.faker.last_name()),
    "person": lambda pools: _full_name(pools),
    "login": lambda pools: str(pools.faker.user_name()),
    "company": lambda pools: str(pools.faker.company()),
    "job": lambda pools: str(pools.faker.job()),
    "street": lambda pools: str(pools.faker.street_address()).replace("\n", ", "),
    "place": lambda pools: str(pools.faker.city()),
    "postcode": lambda pools: str(pools.faker.postcode()),
    "country": lambda pools: str(pools.faker.country()),
    "country_code": lambda pools: str(pools.faker.country_code()),
    "language": lambda pools: str(pools.faker.language_code()),
    "currency": lambda pools: str(pools.faker.currency_code()),
    "host": lambda pools: f"{_ascii(pools.faker.domain_word())}.example.org",
    "ip": lambda pools: f"192.0.2.{pools.random.randrange(1, 255)}",  # RFC 5737: for documentation
    "mac": lambda pools: str(pools.faker.mac_address()),
    "iban": lambda pools: str(pools.faker.iban()),
    "mime": lambda pools: str(pools.faker.mime_type()),
    "file": lambda pools: ( f"{_ascii(pools.faker.word())}.{pools.random.choice(('pdf', 'txt', 'csv'))}" ),
    "agent": lambda pools: str(pools.faker.user_agent()),
    "hash": lambda pools: f"{pools.random.getrandbits(256):064x}",
    "uuid": lambda pools: str(pools.faker.uuid4()),
    "zone": lambda pools: str(pools.faker.timezone()),
    "version": lambda pools: f"{pools.random.randrange(1, 9)}.{pools.random.randrange(20)}",
    "colour": lambda pools: f"#{pools.random.getrandbits(24):06x}",
    "mail": lambda pools: f"{_ascii(_full_name(pools))}@example.org",
    "url": lambda pools: f"https://example.org/{_ascii(pools.faker.word())}-{pools.random.randrange(1000)}",
    "phone": lambda pools: str(pools.faker.phone_number()),
    "code": lambda pools: f"{''.join(pools.random.choices('ABCDEFGHKLMNPRSTVW', k=2))}-{pools.random.randrange(1, 1000):03d}",
    "sentence": lambda pools: str(pools.words.sentence(nb_words=5)).rstrip("."),
    "text": lambda pools: pools.words.text(max_nb_chars=pools.random.choice((40, 90, 200))).replace("\n", " "),
}  # fmt: skip


def _full_name(pools: Pools) -> str:
    return f"{pools.faker.first_name()} {pools.faker.last_name()}"


def locale_of(language: str) -> str:
    """Return the locale of made-up words for a language, English for one that there is
    nothing in."""
    near = (each for each in sorted(AVAILABLE_LOCALES) if each.startswith(language[:2]))
    return language if language in AVAILABLE_LOCALES else next(near, "en_GB")


def _ascii(text: str) -> str:
    from anyascii import anyascii

    kept = (
        c for c in anyascii(text).lower().replace(" ", ".") if c.isalnum() or c in ".-"
    )
    return "".join(kept) or "x"


def _cut(text: str, longest: int) -> str:
    if len(text) <= longest:
        return text
    head = text[:longest]
    return (head.rsplit(" ", 1)[0] if " " in head else head).rstrip(" ,.-") or head


def numbered(base: list[str], longest: int | None, first: int) -> Iterator[str]:
    """Yield texts that never repeat, from the number `first` on: the words of a pool, and
    when they are used up with a number behind them."""
    number = first
    while True:
        turn, place = divmod(number, len(base))
        text, end = base[place], f" {turn + 1}" if turn else ""
        if "@" in text and end:
            name, _, host = text.partition("@")
            text, end = f"{name}{turn + 1}@{host}", ""
        if end and " " not in text:
            end = f"-{turn + 1}"
        yield (text[: longest - len(end)] if longest else text) + end
        number += 1
