"""Removing made-up rows, and nothing else: what was changed since stays, and so does what
another row refers to."""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, column, delete, table, tuple_, update
from sqlalchemy.sql import TableClause

from lumet.facts.connecting import quoted_source
from lumet.facts.model import Reference, Table
from lumet.population.journal import Journal, digest_of, key_text
from lumet.population.order import Later, in_order
from lumet.population.populating import Population, key_of
from lumet.population.writing import saved

BATCH = 500  # keys in one statement

Key = tuple[Any, ...]


@dataclass(slots=True)
class Removed:
    """What became of the made-up rows of a table: removed, changed since, and kept since
    another row refers to them."""

    table: str
    rows: int = 0
    changed: int = 0
    referred: int = 0


@dataclass(slots=True)
class _Held:
    """The rows of one table: all keys, those that were made up and are as they were, those
    that were changed, and those that are kept since another row refers to them."""

    every: dict[str, Key]
    ours: set[str] = field(default_factory=set)
    changed: set[str] = field(default_factory=set)
    kept: set[str] = field(default_factory=set)


def count_made_up(population: Population) -> dict[str, int]:
    """Return how many rows the journal knows by table."""
    journal = Journal(population.folder, population.place)
    try:
        known = {name: len(journal.rows(name)) for name in journal.tables()}
    finally:
        journal.close()
    tables = population.application.database.by_name
    return {name: count for name, count in known.items() if name in tables}


def remove(population: Population) -> list[Removed]:
    """Remove the made-up rows of a database, in one transaction."""
    journal = Journal(population.folder, population.place)
    tables = population.application.database.by_name
    names = [name for name in journal.tables() if name in tables]
    try:
        with population.writing() as connection:
            removal = _Removal(population, connection, {name: journal.rows(name) for name in names})  # fmt: skip
            found = removal.run()
        for each in found:
            held = removal.held[each.table]
            # what was changed is the developer's own from now on
            journal.forget(each.table, {*journal.rows(each.table)} - held.kept)
    finally:
        journal.close()
    return found


class _Removal:
    def __init__(
        self, population: Population, connection: Connection, known: dict[str, dict[str, bytes | None]]
    ) -> None:  # fmt: skip
        self.population, self.connection = population, connection
        self.held = {name: self._held(name, rows) for name, rows in known.items()}

    def run(self) -> list[Removed]:
        """Remove the rows, those that refer first."""
        results = {name: Removed(name, changed=len(h.changed)) for name, h in self.held.items()}  # fmt: skip
        self._keep_what_is_referred_to()
        tables = {name: self.population.table(name) for name in self.held}
        order, later, _never = in_order(tables)
        self._let_go(later)
        rest = [name for name in tables if name not in order]
        for name in [*rest, *reversed(order)]:
            held = self.held[name]
            results[name].referred = len(held.kept)
            results[name].rows = self._delete(tables[name], held)
        self._delete_what_triggers_wrote(tables)
        return list(results.values())

    def _held(self, name: str, known: dict[str, bytes | None]) -> _Held:
        facts = self.population.table(name)
        columns = [each.name for each in facts.columns]
        places = [columns.index(each) for each in key_of(facts)]
        held = _Held({})
        for row in self.population.read(self.connection, name, columns):
            key = tuple(row[place] for place in places)
            text = key_text(key)
            held.every[text] = key
            if text in known:
                digest = known[text]
                is_same = digest is None or digest == digest_of(row)
                (held.ours if is_same else held.changed).add(text)
        return held

    def _keep_what_is_referred_to(self) -> None:
        """Keep, until nothing more is found, each row that one refers to which stays."""
        links = [
            (each, reference)
            for each in self.population.application.database.tables
            for reference in each.references
            if reference.referred_table in self.held and not each.is_view
        ]  # fmt: skip
        rows = {
            id(reference): self._pairs(each, reference) for each, reference in links
        }
        is_changing = True
        while is_changing:
            is_changing = False
            for each, reference in links:
                staying = self.held[each.name].ours if each.name in self.held else set()
                target = self.held[reference.referred_table]
                kept = {to for start, to in rows[id(reference)] if start not in staying}
                if kept & target.ours:
                    target.kept |= kept & target.ours
                    target.ours -= kept
                    is_changing = True

    def _pairs(self, each: Table, reference: Reference) -> list[tuple[str, str]]:
        """Return which row refers to which, both by the text of their keys."""
        target = self.population.table(reference.referred_table)
        key = key_of(target)
        names = [*key_of(each), *reference.columns]
        size = len(names) - len(reference.columns)
        rows = self.population.read(self.connection, each.name, names)
        if reference.referred_columns == key:
            return [(key_text(row[:size]), key_text(row[size:])) for row in rows if None not in row[size:]]  # fmt: skip
        read = self.population.read(self.connection, target.name, [*key, *reference.referred_columns])  # fmt: skip
        by_value = {row[len(key) :]: key_text(row[: len(key)]) for row in read}
        return [(key_text(row[:size]), by_value[row[size:]]) for row in rows if row[size:] in by_value]  # fmt: skip

    def _let_go(self, later: Later) -> None:
        """Take NULL where references go around in a circle."""
        for name, columns in later:
            facts = self.population.table(name)
            empty = {each: None for each in columns if facts.column(each).nullable}
            if empty:
                for keys in _batches(self.held[name]):
                    clause = _clause(facts)
                    where = _among(facts, clause, keys)
                    self.connection.execute(update(clause).where(where).values(empty))

    def _delete(self, facts: Table, held: _Held) -> int:
        """Delete rows, of a table that refers to itself those first that no other of them
        refers to."""
        own = [r for r in facts.references if r.referred_table == facts.name]
        if not own:
            return self._delete_keys(facts, held.ours, held)
        parents: dict[str, set[str]] = defaultdict(set)
        for reference in own:
            for start, to in self._pairs(facts, reference):
                if start in held.ours and to in held.ours and start != to:
                    parents[start].add(to)
        left, done = set(held.ours), 0
        while left:
            referred = set().union(*(parents[each] for each in left if each in parents))
            wave = left - referred or left
            done += self._delete_keys(facts, wave, held)
            left -= wave
        return done

    def _delete_keys(self, facts: Table, texts: set[str], held: _Held) -> int:
        if len(texts) == len(held.every) and texts:
            source = quoted_source(self.population.engine.dialect, facts)
            self.connection.exec_driver_sql(f"DELETE FROM {source}".replace("%", "%%"))
            return len(texts)
        done = 0
        clause = _clause(facts)
        for keys in _batches(held, texts):
            with saved(self.connection):
                found = self.connection.execute(delete(clause).where(_among(facts, clause, keys)))  # fmt: skip
                done += found.rowcount
        return done

    def _delete_what_triggers_wrote(self, tables: dict[str, Table]) -> None:
        """Delete rows that came to be through the deletion of others."""
        if not any(
            each.triggers for each in self.population.application.database.tables
        ):
            return
        for name, facts in tables.items():
            now = {key_text(k): tuple(k) for k in self.population.read(self.connection, name, key_of(facts))}  # fmt: skip
            fresh = {text: key for text, key in now.items() if text not in self.held[name].every}  # fmt: skip
            if fresh:
                self._delete_keys(facts, set(fresh), _Held({**fresh, "": ()}))  # fmt: skip


def _batches(held: _Held, texts: set[str] | None = None) -> Iterator[list[Key]]:
    listed = sorted(held.ours if texts is None else texts)
    for start in range(0, len(listed), BATCH):
        yield [held.every[text] for text in listed[start : start + BATCH]]


def _clause(facts: Table) -> TableClause:
    names = dict.fromkeys([*key_of(facts), *(c.name for c in facts.columns)])
    return table(facts.own_name, *map(column, names), schema=facts.schema or None)


def _among(facts: Table, clause: TableClause, keys: Sequence[Key]) -> Any:
    columns = [clause.c[name] for name in key_of(facts)]
    if len(columns) == 1:
        return columns[0].in_([key[0] for key in keys])
    return tuple_(*columns).in_(keys)
