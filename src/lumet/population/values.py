"""The values of one column: how each kind, type and name is made up."""

import json
import re
import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from io import BytesIO
from itertools import islice
from typing import Any

import numpy as np
import rstr

from lumet.design.decision_schema import FieldDecisions
from lumet.facts.dialects.base import Server
from lumet.facts.model import Column
from lumet.inference.labels_from_names import split_words
from lumet.inference.secrets import is_secret
from lumet.kit.contract import DATES, DATETIMES, SCALES
from lumet.population.limits import Limits
from lumet.population.pools import Pools, meaning_of, numbered

DAY = 86_400.0
ENOUGH_TRIES = 60  # texts that are tried against a regular expression
USES_DEFAULT = 0.8  # of the values of a column whose meaning is not known
_YEAR_ONE = datetime(1970, 1, 1)
_LATER = frozenset(["updated", "modified", "changed", "mtime", "edited", "last"])
_DUE = frozenset(["due", "expires", "expiry", "expire", "expiration", "until", "valid_to", "deadline", "next"])  # fmt: skip
_BORN = frozenset(
    ["born", "birth", "birthday", "birthdate", "dob", "geburtsdatum", "geboren"]
)
_ENDS = frozenset(["end", "ends", "ended", "closed", "finished", "till", "to", "left", "deleted", "cancelled", "canceled", "revoked", "retired"])  # fmt: skip
_POINT = frozenset(["lat", "latitude"])
_JULIAN_EPOCH = 2_440_587.5
_LETTERS = "ABCDEFGHJKLMNPQRSTUVWXYZ"  # without those that look like digits


@dataclass(slots=True)
class Batch:
    """The rows that are made now: `count` from the number `first` on, each with its
    `moments`, in seconds since 1970."""

    random: np.random.Generator
    first: int
    count: int
    moments: np.ndarray[Any, np.dtype[np.float64]]
    now: float


Draw = Callable[[Batch], list[Any]]


@dataclass(frozen=True, slots=True)
class Subject:
    """One column and what is known of it; `is_alone` where each value occurs once."""

    column: Column
    decided: FieldDecisions
    limits: Limits
    table_words: Sequence[str]
    is_alone: bool
    place: int  # among the dates of its table

    @property
    def words(self) -> list[str]:
        """The words of its name."""
        return split_words(self.column.name)


def drawing(subject: Subject, pools: Pools, server: Server) -> Draw | None:
    """Return the maker of a column's values, None for a type that has none."""
    limits, column = subject.limits, subject.column
    native = column.type.native.lower()
    if limits.choices:
        return _chosen(subject)
    if subject.decided.storage_format:
        return _spelled(subject)
    if subject.decided.kind == "yes/no" and column.type.kind in ("integer", "decimal"):
        return lambda batch: [int(each) for each in batch.random.random(batch.count) < 0.7]  # fmt: skip
    by_type: dict[str, Callable[[Subject, Pools], Draw]] = {
        "integer": _integers,
        "decimal": _decimals,
        "float": _decimals,
        "boolean": lambda subject, pools: _flags,
        "date": _dates,
        "datetime": _dates,
        "time": _times,
        "text": _texts,
        "uuid": lambda subject, pools: _uuids,
        "json": lambda subject, pools: _documents,
        "binary": _bytes,
    }
    if column.type.kind in by_type:
        return by_type[column.type.kind](subject, pools)
    if column.type.is_shape and (server.shape or native.startswith("geo")):
        return _shapes(native)
    found = _special(native, column, pools)
    return _texts(subject, pools) if found is None and server.is_untyped else found


def _chosen(subject: Subject) -> Draw:
    """Draw from a list, the first more often than the last."""
    choices: list[Any] = list(subject.limits.choices)
    if subject.column.type.kind in ("integer", "decimal", "float", "boolean"):
        choices = [_number(each) for each in choices]
    elif subject.limits.longest:
        choices = [c for c in choices if len(c) <= subject.limits.longest] or choices
    if subject.column.type.element:
        choices = [[each] for each in choices]
    weights = 1.0 / np.arange(1, len(choices) + 1) ** 0.6

    def draw(batch: Batch) -> list[Any]:
        if subject.is_alone:
            places = (batch.first + np.arange(batch.count)) % len(choices)
        else:
            places = batch.random.choice(len(choices), batch.count, p=weights / weights.sum())  # fmt: skip
        return [choices[place] for place in places]

    return draw


def _number(text: str) -> Any:
    value = Decimal(text) if re.fullmatch(r"-?\d+(\.\d+)?", text) else text
    if isinstance(value, Decimal) and value == value.to_integral():
        return int(value)
    return value


def _flags(batch: Batch) -> list[Any]:
    return [bool(each) for each in batch.random.random(batch.count) < 0.7]


# numbers


def _integers(subject: Subject, pools: Pools) -> Draw:
    limits, words = subject.limits, {*subject.words}
    low, high = int(limits.lowest or 0), int(limits.highest or 0)
    if subject.is_alone:
        start = max(low, 1) if high >= 1 else low
        return lambda batch: [*range(start + batch.first, start + batch.first + batch.count)]  # fmt: skip
    usual = _usual_default(subject)
    if words & {"year", "jahr", "annee"} or subject.column.type.native.lower().startswith("year"):  # fmt: skip
        return _between(max(low, 1960), min(high, datetime.now(UTC).year))
    for known, first, last in (
        ({"age", "alter"}, 18, 90), ({"month", "monat"}, 1, 12), ({"day", "tag"}, 1, 28),
        ({"hour", "stunde"}, 0, 23), ({"minute"}, 0, 59), ({"percent", "pct"}, 0, 100),
        ({"rating", "score", "priority", "level", "rank", "grade", "stars"}, 1, 5),
        ({"port"}, 1024, 60000), ({"position", "sort", "order", "seq", "pos", "ordinal", "line"}, 1, 20),
    ):  # fmt: skip
        if words & known:
            return _between(max(low, first), min(high, last))
    middle = {"size": 40_000, "bytes": 40_000, "amount": 200, "price": 100, "cost": 200,
              "salary": 40_000, "population": 8_000}  # fmt: skip
    typical = next((middle[word] for word in words if word in middle), 12)
    return _skewed(low, high, typical, 0, usual, bounded=_is_bounded(subject))


def _is_bounded(subject: Subject) -> bool:
    """Tell whether more than the type limits the numbers."""
    low, high = subject.limits.lowest, subject.limits.highest
    is_near = low is not None and high is not None and high - low < 100_000
    return is_near and subject.limits.is_ruled


def _between(low: int, high: int) -> Draw:
    high = max(low, high)
    return lambda batch: batch.random.integers(low, high + 1, batch.count).tolist()


def _skewed(
    low: float | None, high: float | None, typical: float, scale: int, usual: Any,
    bounded: bool,
) -> Draw:  # fmt: skip
    """Draw many small numbers and few large ones, or between near bounds as many of
    each."""

    if low is not None and high is not None:
        high = max(low, high)  # no row can keep such rules, and the database says so

    def draw(batch: Batch) -> list[Any]:
        if bounded and low is not None and high is not None:
            found = batch.random.uniform(low, high, batch.count)
        else:
            start = low if low is not None and low > 0 else 0
            found = start + typical * batch.random.lognormal(0, 0.9, batch.count)
            if high is not None and high <= start:
                found = high - typical * batch.random.lognormal(0, 0.9, batch.count)
            found = np.clip(found, low, high)
        rounded = np.round(found, scale)
        values: list[Any] = (
            rounded.astype(np.int64).tolist() if scale == 0 else rounded.tolist()
        )
        if usual is not None:
            kept = batch.random.random(batch.count) < USES_DEFAULT
            values = [usual if k else v for k, v in zip(kept, values, strict=True)]
        return values

    return draw


def _usual_default(subject: Subject) -> Any:
    """Return the constant that the database itself would write, None where the name of
    the column tells more."""
    default = subject.column.default
    if default is None or not default.literal:
        return None
    if subject.column.type.kind in ("integer", "decimal", "float"):
        value = _number(default.text)
        return None if isinstance(value, str) else value
    return default.text


def _decimals(subject: Subject, pools: Pools) -> Draw:
    limits, type_ = subject.limits, subject.column.type
    scale = type_.scale if type_.scale is not None else 2
    low = float(limits.lowest) if limits.lowest is not None else None
    high = float(limits.highest) if limits.highest is not None else None
    words, kind = {*subject.words}, subject.decided.kind
    if kind in ("latitude", "longitude") or words & _POINT:
        most = 70.0 if kind == "latitude" or words & _POINT else 179.0
        low = max(low, -most) if low is not None else -most
        high = min(high, most) if high is not None else most
        return _as_decimals(_skewed(low, high, 1, max(scale, 0) if type_.kind == "decimal" else 5, None, True), type_.kind)  # fmt: skip
    if kind == "percent" and not (low is not None and low > 0):
        low, high = 0.0, min(high, 100.0) if high is not None else 100.0
        return _as_decimals(_skewed(low, high, 1, scale, None, True), type_.kind)
    typical = 120.0 if kind == "money" else 14.0
    if high is not None and high < typical * 4:
        typical = max(high / 8, 0)
    if subject.is_alone:
        step = 10.0**-scale
        return _as_decimals(lambda batch: [round((low if low and low > 0 else 1) + (batch.first + i) * step, scale) for i in range(batch.count)], type_.kind)  # fmt: skip
    made = _skewed(
        low, high, typical, scale, _usual_default(subject), _is_bounded(subject)
    )
    return _as_decimals(made, type_.kind)


def _as_decimals(draw: Draw, kind: str) -> Draw:
    if kind == "float":
        return lambda batch: [float(each) for each in draw(batch)]
    return lambda batch: [Decimal(str(each)) for each in draw(batch)]


# dates


def moments(subject: Subject, batch: Batch) -> Any:
    """Return when what a column tells happens, in seconds: after the row came to be, in
    the order of the columns; a birth long before, what is due later."""
    words = {*subject.words}
    count, random = batch.count, batch.random
    if words & _BORN:
        found = batch.now - random.uniform(18, 75, count) * 365.25 * DAY
    elif words & _DUE:
        found = batch.moments + random.uniform(20, 400, count) * DAY
    elif {"to", "till"} & words and not words & _LATER:
        found = batch.moments + random.uniform(1, 90, count) * DAY + subject.place * DAY
    else:
        gap = random.exponential(1.5, count) * subject.place * DAY
        found = batch.moments + gap + subject.place * 3600
        if words & _ENDS and subject.place:
            found = found + random.exponential(60, count) * DAY
        if words & _LATER:
            found = found + random.exponential(30, count) * DAY
        if not words & _ENDS:
            found = np.minimum(found, batch.now - 60 + subject.place)
    return _within_dates(subject.limits, found)


def _within_dates(limits: Limits, found: Any) -> Any:
    for text, side in ((limits.earliest, np.maximum), (limits.latest, np.minimum)):
        try:
            bound = (datetime.fromisoformat(text).replace(tzinfo=None) - _YEAR_ONE).total_seconds()  # fmt: skip
        except ValueError:
            continue
        found = side(found, bound)
    return found


def _dates(subject: Subject, pools: Pools) -> Draw:
    is_date = subject.column.type.kind == "date"

    def draw(batch: Batch) -> list[Any]:
        if subject.is_alone:  # one a day, or a minute
            step = DAY if is_date else 60.0
            start = batch.now - 3 * 365 * DAY
            seconds = start + (batch.first + np.arange(batch.count)) * step
        else:
            seconds = moments(subject, batch)
        return [_day(each) if is_date else _moment(each) for each in seconds.tolist()]

    return draw


def _moment(seconds: float) -> datetime:
    return _YEAR_ONE + timedelta(seconds=int(seconds))


def _day(seconds: float) -> date:
    return _moment(seconds).date()


def _times(subject: Subject, pools: Pools) -> Draw:
    def draw(batch: Batch) -> list[Any]:
        minutes = np.sort(batch.random.integers(0, 24 * 12, batch.count)) * 5
        if not subject.is_alone:
            batch.random.shuffle(minutes)
        return [time(each // 60, each % 60) for each in minutes.tolist()]

    return draw


def _spelled(subject: Subject) -> Draw:
    """Draw dates, and yes and no, as another type spells them."""
    spelling, kind = subject.decided.storage_format, subject.column.type.kind
    patterns = {**DATES, **DATETIMES}
    if spelling in patterns:
        pattern = patterns[spelling]
        return _of_moments(subject, lambda moment: _as_type(moment.strftime(pattern), kind))  # fmt: skip
    numbers: dict[str, Callable[[datetime], float]] = {
        "seconds": lambda moment: (moment - _YEAR_ONE).total_seconds(),
        "milliseconds": lambda moment: (moment - _YEAR_ONE).total_seconds() * 1000,
        "julian day": lambda moment: (moment - _YEAR_ONE).total_seconds() / DAY + _JULIAN_EPOCH,
    }  # fmt: skip
    if spelling in numbers:
        convert = numbers[spelling]
        is_whole = spelling != "julian day"
        return _of_moments(subject, lambda moment: int(convert(moment)) if is_whole else convert(moment))  # fmt: skip
    if spelling in SCALES:
        return _scaled(subject, spelling)
    yes, _, no = spelling.partition("/")
    return lambda batch: [
        _as_type(yes if each else no, kind) for each in batch.random.random(batch.count) < 0.7
    ]  # fmt: skip


def _scaled(subject: Subject, spelling: str) -> Draw:
    """Draw amounts in cents, and fractions of one."""
    if spelling == "cents":
        return lambda batch: [int(each) for each in batch.random.lognormal(9, 1, batch.count)]  # fmt: skip
    return lambda batch: [round(float(each), 3) for each in batch.random.random(batch.count)]  # fmt: skip


def _of_moments(subject: Subject, spell: Callable[[datetime], Any]) -> Draw:
    return lambda batch: [spell(_moment(each)) for each in moments(subject, batch).tolist()]  # fmt: skip


def _as_type(text: str, kind: str) -> Any:
    return _number(text) if kind in ("integer", "decimal", "float") else text


# texts


def _texts(subject: Subject, pools: Pools) -> Draw:
    limits, decided = subject.limits, subject.decided
    if limits.patterns or limits.likes:
        return _matching(subject, pools)
    kinds = {"e-mail": "mail", "web address": "url", "phone": "phone", "colour": "colour",
             "long text": "text", "secret": "hash", "file": "file", "image": "file"}  # fmt: skip
    meaning = kinds.get(decided.kind) or meaning_of(subject.words, subject.table_words)
    if is_secret(subject.column):  # nobody else's value, so that it is known if seen
        return lambda batch: [
            batch.random.bytes(32).hex()[: limits.longest] for _ in range(batch.count)
        ]
    if decided.kind == "json":
        return _documents
    if meaning == "uuid":
        return _uuids
    longest = limits.longest
    if subject.is_alone:
        if meaning in ("hash", "uuid") and (longest or 64) >= 32:
            return lambda batch: [each.replace("-", "")[:longest] for each in _uuids(batch)]  # fmt: skip
        return _one_each(subject, pools, meaning or "code")
    usual = _usual_default(subject)
    if usual == "":
        usual = None
    words = pools.fitting(meaning or "name", longest, limits.shortest)
    if not words:
        return _letters(limits)

    def draw(batch: Batch) -> list[Any]:
        places = batch.random.integers(0, len(words), batch.count).tolist()
        found: list[Any] = [words[place] for place in places]
        if usual is not None and not meaning:
            kept = batch.random.random(batch.count) < USES_DEFAULT
            found = [usual if k else v for k, v in zip(kept, found, strict=True)]
        return found

    return draw


def _one_each(subject: Subject, pools: Pools, meaning: str) -> Draw:
    """Draw texts that never repeat: of a short column running codes of its length."""
    limits = subject.limits
    longest = limits.longest or 0
    if 0 < longest <= 10 or meaning == "code":
        width = min(longest, 8) if longest else 6
        head = _initials(subject.table_words)
        return lambda batch: [
            _code(batch.first + i, width, head) for i in range(batch.count)
        ]
    base = pools.fitting(meaning, limits.longest, limits.shortest)
    unique = list({word.casefold().strip(): word for word in base}.values())
    pools.random.shuffle(unique)
    return lambda batch: [*islice(numbered(unique, limits.longest, batch.first), batch.count)]  # fmt: skip


def _initials(words: Sequence[str]) -> int:
    """Return where the running codes of a table begin: at two letters of its name."""
    letters = [c for c in "".join(words).upper() if c in _LETTERS]
    one, two = (*letters[:2], "A", "A")[:2]
    return _LETTERS.index(one) * len(_LETTERS) + _LETTERS.index(two)


def _code(number: int, width: int, head: int) -> str:
    """Return a running code: two letters, of which `head` is the first pair, then
    digits; in up to three characters letters and digits as they come."""
    if width <= 3:
        alphabet = _LETTERS + "0123456789"
        found = ""
        for _ in range(width):
            number, place = divmod(number, len(alphabet))
            found = alphabet[place] + found
        return found
    digits = width - 2
    turn, tail = divmod(number, 10**digits)
    one, two = divmod((head + turn) % len(_LETTERS) ** 2, len(_LETTERS))
    return f"{_LETTERS[one]}{_LETTERS[two]}{tail:0{digits}d}"


def _letters(limits: Limits) -> Draw:
    size = min(limits.longest or limits.shortest + 4, limits.shortest + 4)

    def draw(batch: Batch) -> list[Any]:
        codes = batch.random.integers(97, 123, (batch.count, max(size, 1)))
        return ["".join(map(chr, row)) for row in codes.tolist()]

    return draw


_CLASSES = {"[:alpha:]": "a-zA-Z", "[:digit:]": "0-9", "[:alnum:]": "a-zA-Z0-9",
            "[:upper:]": "A-Z", "[:lower:]": "a-z", "[:space:]": r"\s", "[:xdigit:]": "0-9a-f"}  # fmt: skip


def _matching(subject: Subject, pools: Pools) -> Draw:
    """Draw texts that match every regular expression and every pattern of LIKE."""
    limits = subject.limits
    wanted = [_python(each) for each in limits.patterns]
    wanted += ["^" + "".join(".*" if c == "%" else "." if c == "_" else re.escape(c) for c in like) + "$" for like in limits.likes]  # fmt: skip
    try:
        tests = [re.compile(each, re.DOTALL) for each in wanted]
    except re.error:
        return _letters(limits)
    maker = rstr.Rstr(pools.random)
    usual = pools.of(meaning_of(subject.words, subject.table_words) or "name")

    def fits(text: str) -> bool:
        size = limits.shortest <= len(text) <= (limits.longest or len(text))
        return size and text.isprintable() and all(test.search(text) for test in tests)

    def one() -> str:
        found = ""
        for attempt in range(ENOUGH_TRIES):
            if attempt < 3:
                found = pools.random.choice(usual)
            else:
                # few of what may repeat at will
                bounded = re.sub(r"(?<!\\)[*+](?![^\[]*\])", "{1,4}", wanted[attempt % len(wanted)])  # fmt: skip
                found = maker.xeger(bounded.replace(".{1,4}", "[a-z]{1,4}"))
            if fits(found):
                return found
        return found

    pool: list[str] = []

    def draw(batch: Batch) -> list[Any]:
        if subject.is_alone:
            return [one() for _ in range(batch.count)]
        while len(pool) < 200:
            pool.append(one())
        return [
            pool[place] for place in batch.random.integers(0, len(pool), batch.count)
        ]

    return draw


def _python(pattern: str) -> str:
    for known, plain in _CLASSES.items():
        pattern = pattern.replace(known, plain)
    return pattern


# the rest


def _uuids(batch: Batch) -> list[Any]:
    raw = batch.random.bytes(16 * batch.count)
    return [
        str(uuid.UUID(bytes=raw[i : i + 16], version=4))
        for i in range(0, len(raw), 16)
    ]  # fmt: skip


def _documents(batch: Batch) -> list[Any]:
    numbers = batch.random.integers(1, 100, batch.count).tolist()
    return [json.dumps({"number": each, "checked": each % 2 == 0}) for each in numbers]


def _bytes(subject: Subject, pools: Pools) -> Draw:
    if subject.decided.kind == "image":
        pictures = [_picture(pools.random.getrandbits(24)) for _ in range(12)]
        return lambda batch: [pictures[i % 12] for i in range(batch.count)]
    size = min(subject.limits.longest or 16, 16)
    if subject.decided.kind == "file":
        texts = [text.encode() for text in pools.of("text")]
        return lambda batch: [texts[i % len(texts)] for i in range(batch.count)]
    return lambda batch: [batch.random.bytes(size) for _ in range(batch.count)]


def _picture(colour: int) -> bytes:
    from PIL import Image

    out = BytesIO()
    rgb = colour >> 16 & 255, colour >> 8 & 255, colour & 255
    Image.new("RGB", (96, 64), rgb).save(out, "PNG")
    return out.getvalue()


def _shapes(native: str) -> Draw:
    """Draw shapes as well-known text (OGC Simple Features 1.2.1, 7)."""
    name = re.split(r"\W", native)[0].upper()
    if "(" in native:  # geometry(Polygon,4326)
        name = re.split(r"\W", native)[1].upper()

    def draw(batch: Batch) -> list[Any]:
        places = batch.random.uniform(1, 60, (batch.count, 2)).round(4).tolist()
        return [_shape(name, x, y) for x, y in places]

    return draw


def _shape(name: str, x: float, y: float) -> str:
    line = f"{x} {y}, {x + 1} {y}, {x + 1} {y + 1}"
    shapes = {
        "LINESTRING": f"LINESTRING({line})",
        "POLYGON": f"POLYGON(({line}, {x} {y}))",
        "MULTIPOINT": f"MULTIPOINT({x} {y})",
        "MULTILINESTRING": f"MULTILINESTRING(({line}))",
        "MULTIPOLYGON": f"MULTIPOLYGON((({line}, {x} {y})))",
        "GEOMETRYCOLLECTION": f"GEOMETRYCOLLECTION(POINT({x} {y}))",
    }
    return shapes.get(name, f"POINT({x} {y})")


def _special(native: str, column: Column, pools: Pools) -> Draw | None:
    """Return the maker of values of types that few servers have, as texts."""

    def numbers(spell: Callable[[int, int], Any]) -> Draw:
        def draw(batch: Batch) -> list[Any]:
            a = batch.random.integers(1, 200, batch.count).tolist()
            return [spell(each, batch.first + i) for i, each in enumerate(a)]

        return draw

    if column.type.element:
        is_number = column.type.element.startswith(("int", "small", "big", "num", "real", "double"))  # fmt: skip
        is_text = column.type.element.startswith(("text", "char", "varchar", "citext"))
        words = pools.of("word")
        if is_number:
            return numbers(lambda a, i: [a, a + 1])
        return numbers(lambda a, i: [words[a % len(words)]]) if is_text else numbers(lambda a, i: [])  # fmt: skip
    start = date.today() - timedelta(days=900)
    spelled: dict[str, Callable[[int, int], Any]] = {
        "interval": lambda a, i: f"{a} minutes",
        "inet": lambda a, i: f"192.0.2.{a}",
        "cidr": lambda a, i: f"10.{i // 256 % 256}.{i % 256}.0/24",
        "macaddr": lambda a, i: f"02:00:5e:{i >> 16 & 255:02x}:{i >> 8 & 255:02x}:{i & 255:02x}",
        "int4range": lambda a, i: f"[{i * 10},{i * 10 + 9})",
        "int8range": lambda a, i: f"[{i * 10},{i * 10 + 9})",
        "numrange": lambda a, i: f"[{i * 10},{i * 10 + 9})",
        "daterange": lambda a, i: f"[{start + timedelta(i * 3)},{start + timedelta(i * 3 + 2)})",
        "tsrange": lambda a, i: f"[{start + timedelta(i * 3)},{start + timedelta(i * 3 + 2)})",
        "tstzrange": lambda a, i: f"[{start + timedelta(i * 3)},{start + timedelta(i * 3 + 2)})",
        "point": lambda a, i: f"({a / 10},{a / 7:.2f})",
        "xml": lambda a, i: f"<value>{a}</value>",
        "tsvector": lambda a, i: f"'word{a}'",
    }  # fmt: skip
    if native.startswith("bit"):
        size = int(found[0]) if (found := re.findall(r"\d+", native)) else 1
        return numbers(lambda a, i: f"{a % 2**size:0{size}b}")
    for name in sorted(spelled, key=len, reverse=True):
        if native.startswith(name):
            return numbers(spelled[name])
    return None
