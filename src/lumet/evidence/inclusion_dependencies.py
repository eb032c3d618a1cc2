"""Whether the values of some columns are those of a key: in the sketches where the
whole table was read, else in the database."""

from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from sqlalchemy import Connection, Engine
from sqlalchemy.exc import DatabaseError

from lumet.evidence.model import Containment, Evidence, two_digits
from lumet.evidence.sketches import ColumnSketch, Hashes, TableSketch, hashes, in_order
from lumet.evidence.violations import count_groups, count_orphans
from lumet.facts.connecting import limited, quoted_source
from lumet.facts.model import Database

COUNTED_ROWS = 500_000  # up to here every row is looked at where not all were sampled
MAX_COUNTED = 200  # tables' references whose rows are all looked at
MAX_GROUPS = 20_000  # different values whose rows are counted
PER_QUERY = 100  # values asked for in one statement
FEW = 8
PROBES = 48  # values by which a key without a telling name is looked for
MOSTLY = 0.8  # of the values, where they alone propose it
HALF = 0.5  # of the different values; each mistyped one is another
MAX_ORPHANS = 0.25  # of the rows
MAX_HOLDERS = 20  # keys that hold the values of one column
SMALL = 5_000  # values of a key that are kept as a set
DISTINCT = 10  # different values; fewer are too few to find a key by

Sketches = Mapping[str, TableSketch]


@dataclass(frozen=True, slots=True)
class Candidate:
    """Columns of a table that might hold the values of a key of another; `is_weak`:
    only worth a look where that costs nothing."""

    table: str
    columns: tuple[str, ...]
    referred_table: str
    referred_columns: tuple[str, ...]
    is_weak: bool = field(default=False, compare=False)


def _owners(
    columns: Mapping[tuple[str, str], ColumnSketch],
) -> dict[int, list[tuple[str, str]]]:
    """Return the columns that have a value as a key, by the value's number."""
    found: dict[int, list[tuple[str, str]]] = {}
    for end, column in columns.items():
        for number in column.keys.tolist() if column.keys is not None else ():
            found.setdefault(number, []).append(end)
    return found


def find_by_values(database: Database, sketches: Sketches) -> list[Candidate]:
    """Return the candidates that values alone propose: texts of which nearly all are in
    a key of another table. Numbers are in each other's ranges by chance."""
    texts = {
        (table, name): column
        for table, sketch in sketches.items()
        if not database.table(table).is_view
        for name, column in sketch.columns.items()
        if _is_text(database, table, name)
    }
    owners = _owners(texts)
    found = []
    for (table, name), column in texts.items():
        if column.distinct < DISTINCT:
            continue
        first = in_order(value for value, _ in column.values[:FEW]).tolist()
        if sum(number in owners for number in first) < FEW // 2:
            continue  # most columns end here
        probes = in_order(value for value, _ in column.values[:PROBES]).tolist()
        met = Counter(owner for number in probes for owner in owners.get(number, ()))
        holders = [
            owner
            for owner, number in sorted(met.items())
            if number >= MOSTLY * len(probes) and owner != (table, name)
        ]
        if len(holders) <= MAX_HOLDERS:  # what is everywhere tells nothing
            found += [Candidate(table, (name,), *_end(owner)) for owner in holders]
    return found


def _end(owner: tuple[str, str]) -> tuple[str, tuple[str, ...]]:
    return owner[0], (owner[1],)


def _is_text(database: Database, table: str, column: str) -> bool:
    return database.table(table).column(column).type.kind in ("text", "uuid")


def test_candidates(
    engine: Engine,
    database: Database,
    evidence: Evidence,
    sketches: Sketches,
    candidates: Iterable[Candidate],
    assumed: Collection[str] = (),
) -> tuple[Containment, ...]:
    """Return the evidence of the rows for each candidate, without those refuted. The
    keys of the tables in `assumed` are not declared, so that no index may serve
    them."""
    tester = _Tester(engine, database, evidence, sketches, assumed)
    kept = []
    try:
        for candidate in dict.fromkeys(candidates):
            found = tester.test(candidate)
            if found is not None:
                kept.append(found)
    except KeyboardInterrupt:
        pass  # a person has waited long enough; what was found is used
    return tuple(sorted(kept, key=lambda each: (each.table, each.columns, each.end)))


class _Tester:
    def __init__(
        self,
        engine: Engine,
        database: Database,
        evidence: Evidence,
        sketches: Sketches,
        assumed: Collection[str],
    ) -> None:
        self.assumed = assumed
        self._made_hashes: dict[tuple[str, tuple[str, ...]], Hashes] = {}
        self._key_sets: dict[tuple[str, tuple[str, ...]], frozenset[int]] = {}
        self.engine = engine
        self.database = database
        self.evidence = evidence
        self.sketches = sketches
        self.counted = 0

    def test(self, candidate: Candidate) -> Containment | None:
        values = self._values(candidate)
        if not values:
            return self._made(candidate, 0, 0, 0.0)
        values = dict(values)
        missing = self._missing(candidate, list(values))
        if missing is None:
            return None
        rows = sum(values.values())
        none = self._none(candidate, values, missing)
        if none in values:
            del values[none]
            missing.remove(none)
        if not values:
            return self._made(candidate, 0, 0, 0.0, none)
        found = len(values) - len(missing)
        orphans = sum(values[value] for value in missing) / rows
        if found < HALF * len(values) or orphans > MAX_ORPHANS:
            return None
        if none is None:
            orphans = self._counted(candidate, orphans)
        return self._made(candidate, len(values), found, orphans, none)

    def _none(
        self, candidate: Candidate, values: Collection[Any], missing: Sequence[Any]
    ) -> int | str | None:
        """Return the value that stands for no record, None for none: a usual one in a
        column that takes no NULL, in its rows or by default, that is no key."""
        column = self.database.table(candidate.table).column(candidate.columns[0])
        if column.nullable or len(candidate.columns) > 1:
            return None
        usual: tuple[int | str, ...] = (0, -1) if column.type.kind == "integer" else ("0", "-1")  # fmt: skip
        if found := next((value for value in usual if value in missing), None):
            return found
        if usual[0] in missing:
            return usual[0]
        default = column.default
        keys = self._keys(candidate)
        for value in usual:
            by_default = default is not None and default.literal and default.text == str(value)  # fmt: skip
            if by_default and value not in values and keys is not None:
                return None if np.isin(in_order([value]), keys).any() else value
        return None

    def _made(
        self, candidate: Candidate, checked: int, found: int, orphans: float,
        none: int | str | None = None,
    ) -> Containment:  # fmt: skip
        return Containment(
            candidate.table,
            candidate.columns,
            candidate.referred_table,
            candidate.referred_columns,
            checked=checked,
            found=found,
            orphans=two_digits(orphans),
            reach=self._reach(candidate),
            none="" if none is None else str(none),
        )

    def _values(self, candidate: Candidate) -> dict[Any, int]:
        """Return the values to look for, with how often each was met."""
        sketch = self.sketches.get(candidate.table)
        if sketch is None:
            return {}
        if len(candidate.columns) == 1:
            column = sketch.columns.get(candidate.columns[0])
            return dict(column.values) if column else {}
        counts: Counter[Any] = Counter()
        if not set(candidate.columns) <= set(sketch.names):
            return {}
        places = [sketch.names.index(name) for name in candidate.columns]
        for row in sketch.rows:
            value = tuple(row[place] for place in places)
            if None not in value:
                counts[value] += 1
        return dict(counts)

    def _missing(self, candidate: Candidate, values: list[Any]) -> list[Any] | None:
        """Return the values that are not there; None when that cannot be told."""
        keys = self._keys(candidate)
        if keys is not None:
            if len(keys) > SMALL:
                there = np.isin(self._hashed(candidate, values), keys)
                pairs = zip(values, there, strict=True)
                return [value for value, is_there in pairs if not is_there]
            held = self._as_set(candidate, keys)
            numbers = self._hashed(candidate, values).tolist()
            pairs = zip(values, numbers, strict=True)
            return [value for value, number in pairs if number not in held]
        sketch = self.sketches.get(candidate.referred_table)
        if sketch is None or sketch.is_whole or candidate.is_weak:
            return None  # it cannot be read, or what was to be a key repeats
        rows = self.evidence.table(candidate.referred_table).rows
        if rows > COUNTED_ROWS and not self._is_indexed(candidate):
            return None
        try:
            with self.engine.connect() as connection, limited(connection):
                return self._ask(connection, candidate, values)
        except DatabaseError:
            return None

    def _hashed(self, candidate: Candidate, values: Sequence[Any]) -> Hashes:
        """Return the hashes of a candidate's values in their order, made once."""
        place = (candidate.table, candidate.columns)
        if place not in self._made_hashes:
            self._made_hashes[place] = in_order(values)
        return self._made_hashes[place]

    def _as_set(self, candidate: Candidate, keys: Hashes) -> frozenset[int]:
        """Return the hashes of a key, made a set once: of few ones that is faster."""
        place = (candidate.referred_table, candidate.referred_columns)
        if place not in self._key_sets:
            self._key_sets[place] = frozenset(keys.tolist())
        return self._key_sets[place]

    def _keys(self, candidate: Candidate) -> Hashes | None:
        sketch = self.sketches.get(candidate.referred_table)
        if sketch is None:
            return None
        if len(candidate.referred_columns) > 1:
            return sketch.key_hashes.get(candidate.referred_columns)
        column = sketch.columns.get(candidate.referred_columns[0])
        return column.keys if column else None

    def _ask(
        self, connection: Connection, candidate: Candidate, values: Sequence[Any]
    ) -> list[Any] | None:
        """Look for values in the database, by the key's index."""
        if len(candidate.columns) > 1:
            return None
        quote = connection.dialect.identifier_preparer.quote_identifier
        referred = self.database.table(candidate.referred_table)
        key = quote(candidate.referred_columns[0])
        mark = "?" if connection.dialect.paramstyle == "qmark" else "%s"
        source = quoted_source(connection.dialect, referred)
        missing: list[Any] = []
        for start in range(0, len(values), PER_QUERY):
            part = values[start : start + PER_QUERY]
            marks = ", ".join([mark] * len(part))
            query = f"SELECT {key} FROM {source} WHERE {key} IN ({marks})"
            rows = connection.exec_driver_sql(query, tuple(part)).scalars().all()
            there = set(hashes(rows).tolist())
            missing += [each for each in part if int(hashes([each])[0]) not in there]
        return missing

    def _counted(self, candidate: Candidate, sampled: float) -> float:
        """Return the fraction of rows without a partner: counted where the sample did
        not hold all rows and these are not too many."""
        sketch = self.sketches[candidate.table]
        rows = self.evidence.table(candidate.table).rows
        is_sure = sketch.is_whole and len(self._values(candidate)) < len(sketch.rows)
        if is_sure or rows > COUNTED_ROWS or self.counted >= MAX_COUNTED:
            return sampled
        self.counted += 1
        table = self.database.table(candidate.table)
        keys = self._keys(candidate)
        if keys is not None:
            groups = count_groups(self.engine, table, candidate.columns, MAX_GROUPS)
            if groups is None:
                return sampled
            there = np.isin(in_order(value for value, _ in groups), keys)
            count = sum(
                n
                for (_, n), is_there in zip(groups, there, strict=True)
                if not is_there
            )
            return count / max(1, rows)
        referred = self.database.table(candidate.referred_table)
        if not self._is_indexed(candidate):
            return sampled  # no index would help to look for each
        ends = (referred, candidate.referred_columns)
        found = count_orphans(self.engine, table, candidate.columns, *ends)
        return sampled if found is None else found / max(1, rows)

    def _is_indexed(self, candidate: Candidate) -> bool:
        referred = self.database.table(candidate.referred_table)
        if candidate.referred_table in self.assumed:
            return any(
                i.columns[:1] == candidate.referred_columns for i in referred.indexes
            )
        return referred.is_unique(candidate.referred_columns)

    def _reach(self, candidate: Candidate) -> float:
        """Return how far the values reach into a key of numbers, from 0 to 1: those of
        a reference come up to its end, those of something else seldom do."""
        if len(candidate.columns) > 1:
            return 0.0
        ours = self._column(candidate.table, candidate.columns[0])
        theirs = self._column(candidate.referred_table, candidate.referred_columns[0])
        if ours is None or ours.highest is None or theirs is None:
            return 0.0
        if theirs.lowest is None or theirs.highest is None:
            return 0.0
        span = theirs.highest - theirs.lowest + 1
        return min(1.0, two_digits((ours.highest - theirs.lowest + 1) / span))

    def _column(self, table: str, column: str) -> ColumnSketch | None:
        sketch = self.sketches.get(table)
        return sketch.columns.get(column) if sketch else None
