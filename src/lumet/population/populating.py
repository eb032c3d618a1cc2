"""Filling the empty tables of a development database with made-up rows."""

import re
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from itertools import starmap
from math import ceil, sqrt
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import Connection, Engine, text
from sqlalchemy.exc import DatabaseError

from lumet.design.decision_schema import TableDecisions
from lumet.errors import CannotRun, LumetError
from lumet.facts.connecting import Address, parse_address, quoted_source
from lumet.facts.connection_errors import explain
from lumet.facts.dialects import server_of
from lumet.facts.model import Reference, Table
from lumet.generation.model import Application
from lumet.inference.labels_from_names import split_words
from lumet.population.journal import Journal, digests, key_text
from lumet.population.made_up_rows import Link, Parents, TableRows
from lumet.population.order import Later, in_order, outgoing
from lumet.population.pools import Pools
from lumet.population.writing import GivenUp, Writer, saved
from lumet.project import project_files as files
from lumet.project.consistency import differences
from lumet.project.generating import load
from lumet.project.surveyfile import read_survey
from lumet.project.surveying import known_address

MARK = "DEVELOPMENT_DATABASE"
ROWS = 100  # of a usual table
CHUNK = 20_000  # rows that are made and written at once
TRIAL = 24  # rows that are tried one by one first
MOST_LATER = 20_000  # rows of a table whose later references are written
MOST_IDLE = 6  # chunks without a new row
MOST_READ = 4_000  # characters or bytes of a value that are compared
SMALL = 5  # columns of a table of codes
PERSONAL = frozenset({"email", "mail", "login", "surname", "username"})


@dataclass(frozen=True, slots=True)
class Request:
    """What to fill: tables by pattern, `rows` by pattern, "" for all."""

    tables: Sequence[str] = ()
    rows: dict[str, int] = field(default_factory=dict)
    seed: int = 1


@dataclass(frozen=True, slots=True)
class Wanted:
    """A table that is empty, and how many rows it is to have."""

    table: str
    rows: int


@dataclass(slots=True)
class Filled:
    """What became of a table: the rows that it has now, and why it has no more."""

    table: str
    rows: int
    wanted: int
    why: str = ""
    seconds: float = 0.0


@dataclass(slots=True)
class Plan:
    """What would be filled, in order; tables that cannot be, with the reason; and how
    many have rows already."""

    database: str
    wanted: list[Wanted]
    never: dict[str, str]
    later: Later
    kept: int = 0


@dataclass(slots=True)
class Population:
    """A project's database, opened so that rows can be made up in it."""

    folder: Path
    address: Address
    application: Application
    engine: Engine

    @property
    def name(self) -> str:
        """The name of the database, as a person types it."""
        return name_of(self.address)

    @property
    def place(self) -> str:
        """What tells this database from others, without its password."""
        url = self.address.url
        if url is None:
            return str(self.address.path)
        return f"{url.host or ''}:{url.port or ''}/{url.database}"

    def table(self, name: str) -> Table:
        """Return the facts of a table."""
        return self.application.database.table(name)

    def source(self, name: str) -> str:
        """Return the name of a table as a statement has it."""
        return quoted_source(self.engine.dialect, self.table(name))

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """Open a transaction. Raises CannotRun for what the driver says."""
        try:
            with self.engine.connect() as connection, connection.begin():
                yield connection
        except DatabaseError as error:
            raise explain(self.address.shown, error.orig) from error

    def read(
        self, connection: Connection, name: str, columns: Sequence[str]
    ) -> list[Any]:
        """Return columns of all rows of a table, as the database spells them."""
        server = server_of(self.engine.dialect.name)
        facts = self.table(name)
        plain = ("integer", "text", "date", "datetime", "uuid")
        listed = ", ".join(
            server.quoted(each) if facts.column(each).type.kind in plain
            else server.read(facts.column(each), server.quoted(each), MOST_READ, MOST_READ)
            for each in columns
        )  # fmt: skip
        words = f"SELECT {listed} FROM {self.source(name)}".replace("%", "%%")
        return [tuple(row) for row in connection.exec_driver_sql(words)]


def name_of(address: Address) -> str:
    """Return the name of a database: of a file its own."""
    if address.path is not None:
        return address.path.name
    return str(address.url.database) if address.url is not None else ""


@contextmanager
def opened(folder: Path) -> Iterator[Population]:
    """Open the database of a project for made-up rows.

    Raises LumetError where `.env` does not mark it as one for development, and where the
    survey does not fit it.
    """
    folder = folder.resolve()
    survey = read_survey(folder)
    files.require_files(folder)
    text_ = known_address(folder)
    if not text_:
        raise CannotRun(f"DATABASE_URL: not set, neither in the environment nor in {folder / files.ENV}.")  # fmt: skip
    address = parse_address(text_, folder)
    _require_mark(folder, address)
    views = {each.name for each in survey.database.tables if each.is_view}
    if any(each.table not in views for each in differences(folder, survey)):
        raise LumetError("The database has changed since the survey.", "Survey again: lumet survey")  # fmt: skip
    application = load(folder, survey)
    server, place = server_of(address.dialect), address.path or address.url
    assert place is not None
    engine = server.open_for_writing(place)
    try:
        yield Population(folder, address, application, engine)
    finally:
        engine.dispose()


def _require_mark(folder: Path, address: Address) -> None:
    """Let nothing be written to a database that nobody called one for development."""
    marked = files.read_environment(folder).get(MARK, "")
    name = name_of(address)
    if marked == name:
        return
    problem = f"{MARK} in {files.ENV} names {marked}, and the database is {name}." if marked else f"{name} is not marked as a development database."  # fmt: skip
    raise LumetError(
        f"{problem} Nothing was written.",
        f"If made-up rows may be written to it, add to {files.ENV}: {MARK}='{name}'",
    )


def plan(population: Population, request: Request) -> Plan:
    """Return the plan of a request. Raises LumetError for a pattern that fits no
    table."""
    application = population.application
    included = {n for n, each in application.decisions.items() if each.include}
    every = {
        table.name: table for table in application.database.tables
        if table.kind in ("table", "partitioned table") and table.columns
    }  # fmt: skip
    for pattern in (*request.tables, *filter(None, request.rows)):
        if not any(_fits(name, pattern) for name in every):
            raise LumetError(f"No table fits {pattern}.")
    chosen = {
        name: table for name, table in every.items()
        if (any(_fits(name, p) for p in request.tables) if request.tables else name in included or _is_needed(name, every, included))
    }  # fmt: skip
    never = {n: "you may not add rows to it" for n, t in chosen.items() if "add" in t.denied}  # fmt: skip
    empty, kept = {}, 0
    with population.writing() as connection:
        for name, table in chosen.items():
            if _has_rows(connection, population.source(name)):
                kept += 1
            elif name not in never:
                empty[name] = table
    order, later, around = in_order(empty)
    wanted: dict[str, int] = {}
    for name in order:
        least = [wanted[each] for each in _one_each(empty[name]) if each in wanted]
        wanted[name] = min([_rows(empty[name], every, request), *least])
    return Plan(
        population.name,
        [*starmap(Wanted, wanted.items())],
        {**never, **around},
        later,
        kept,
    )


def _one_each(table: Table) -> Iterator[str]:
    """Yield the tables of whose rows each is referred to at most once."""
    for each in table.references:
        if table.is_unique(each.columns) and each.referred_table != table.name:
            yield each.referred_table


def _is_needed(name: str, every: dict[str, Table], included: set[str]) -> bool:
    """Tell whether a table that is not in the application is referred to by one that
    is."""
    return any(
        each.referred_table == name
        for other in included if other in every
        for each in every[other].references
    )  # fmt: skip


def _fits(name: str, pattern: str) -> bool:
    return fnmatchcase(name.casefold(), pattern.casefold())


def _has_rows(connection: Connection, source: str) -> bool:
    words = f"SELECT 1 FROM {source} LIMIT 1".replace("%", "%%")
    return connection.exec_driver_sql(words).first() is not None


def _rows(table: Table, every: dict[str, Table], request: Request) -> int:
    """Return how many rows a table is to have: of codes few, of details many."""
    for pattern, count in request.rows.items():
        if pattern and _fits(table.name, pattern):
            return count
    base = request.rows.get("", ROWS)
    others = outgoing(table, every)
    is_referred = any(
        each.referred_table == table.name for t in every.values() for each in outgoing(t, every)
    )  # fmt: skip
    is_code = len(table.columns) <= SMALL and not any(
        each.type.kind in ("date", "datetime") or {*split_words(each.name)} & PERSONAL
        for each in table.columns
    )
    if not others and is_referred and is_code:
        return max(1, min(base, ceil(sqrt(base)) + 2))
    owners = [each for each in others if not any(table.column(n).nullable for n in each.columns)]  # fmt: skip
    is_detail = any(outgoing(every[each.referred_table], every) or len(every[each.referred_table].columns) > SMALL for each in owners)  # fmt: skip
    return base * 3 if is_detail else base


def populate(
    population: Population,
    plan: Plan,
    request: Request,
    on_rows: Callable[[str, int], None] = lambda table, rows: None,
) -> list[Filled]:
    """Fill the tables of a plan; call `on_rows` as rows are written. A table whose rows
    the database refuses is left as it is, with the reason."""
    pools = Pools(population.application.language, request.seed)
    journal = Journal(population.folder, population.place)
    known: dict[tuple[str, tuple[str, ...]], Parents] = {}
    unsafe = _without_transactions(population)
    found = []
    try:
        for place, wanted in enumerate(plan.wanted):
            began = time.perf_counter()
            random = np.random.default_rng((request.seed, place))
            filling = _Filling(population, plan, wanted, pools, random, known, on_rows, wanted.table in unsafe)  # fmt: skip
            filled = filling.run(journal)
            filled.seconds = time.perf_counter() - began
            found.append(filled)
        _write_later(population, plan, known, np.random.default_rng(request.seed))
        for each in found:
            if each.rows:
                _note_digests(population, journal, each.table)
    finally:
        journal.close()
    return found


def _without_transactions(population: Population) -> set[str]:
    query = server_of(population.engine.dialect.name).unsafe_query
    if not query:
        return set()
    with population.writing() as connection:
        return {row[0] for row in connection.exec_driver_sql(query.replace("%", "%%"))}


class _Filling:
    """One table that is filled."""

    def __init__(
        self, population: Population, plan: Plan, wanted: Wanted, pools: Pools,
        random: np.random.Generator, known: dict[tuple[str, tuple[str, ...]], Parents],
        on_rows: Callable[[str, int], None], keeps: bool,
    ) -> None:  # fmt: skip
        self.population, self.plan, self.wanted = population, plan, wanted
        self.table = population.table(wanted.table)
        self.pools, self.random, self.known = pools, random, known
        self.on_rows, self.keeps = on_rows, keeps
        self.own = [r for r in self.table.references if r.referred_table == self.table.name]  # fmt: skip
        self.moments: list[Any] = []

    def run(self, journal: Journal) -> Filled:
        """Fill the table in one transaction; note its rows in the journal before they
        are committed."""
        name, filled = self.wanted.table, Filled(self.wanted.table, 0, self.wanted.rows)
        try:
            with self.population.writing() as connection:
                self.connection = connection
                missing = self._missing()
                if missing:
                    filled.why = missing
                    return filled
                filled.rows, filled.why = self._fill()
                key = key_of(self.table)
                if filled.rows:
                    rows = self.population.read(connection, name, key)
                    filled.rows = len(rows)
                    journal.add(name, (key_text(row) for row in rows))
        except CannotRun as error:  # such as a constraint that is checked at the end
            filled.rows, filled.why = 0, error.problem
        if filled.rows:
            self._remember()
        return filled

    def _missing(self) -> str:
        """Say which table without rows it would have to refer to."""
        for each in self.table.references:
            if each in self.own or (self.table.name, each.columns) in self.plan.later:
                continue
            is_needed = not any(self.table.column(n).nullable for n in each.columns)
            if is_needed and each.enforced and not self._parents(each).keys:
                return f"{each.referred_table}, which it refers to, has no rows"
        return ""

    def _fill(self) -> tuple[int, str]:
        rows = self._rows_of(least=False)
        limit = rows.most()
        wanted = min(self.wanted.rows, limit) if limit is not None else self.wanted.rows
        columns = [self.table.column(name) for name in rows.columns]
        writer = Writer(self.connection, self.table, columns, self.keeps)
        done = self._root(rows, writer)
        taken = self._try(rows, writer, done, min(TRIAL, wanted))
        if not taken and wanted:
            rows.conditions.close()
            rows = self._rows_of(least=True)
            writer.columns = [self.table.column(name) for name in rows.columns]
            taken = self._try(rows, writer, done + TRIAL, min(TRIAL, wanted))
        if not taken and wanted:
            return done, writer.why or "no row keeps all of its rules"
        done += taken
        number, idle = done + 2 * TRIAL, 0
        try:
            while done < wanted and idle < MOST_IDLE:
                count = min(CHUNK, wanted - done, *([done * 8] if self.own else []))
                made, moments = rows.make(number, count)
                places = writer.write(made)
                number += count
                self.moments.append(moments[places])
                done += len(places)
                idle = 0 if places else idle + 1
                self.on_rows(self.table.name, len(places))
                self._refresh_own()
        except GivenUp:
            return done, writer.why
        finally:
            rows.conditions.close()
        if done < self.wanted.rows and limit is not None and done >= limit:
            return done, "there are no more different rows"
        return done, "" if done >= self.wanted.rows else writer.why or "its rules leave no more"  # fmt: skip

    def _try(self, rows: TableRows, writer: Writer, first: int, count: int) -> int:
        """Write some rows one by one, and learn from what is refused."""
        made, moments = rows.make(first, count)
        taken = writer.try_each(made)
        good = [row for row, is_taken in zip(made, taken, strict=True) if is_taken]
        bad = [row for row, is_taken in zip(made, taken, strict=True) if not is_taken]
        self.moments.append(moments[[i for i, each in enumerate(taken) if each]])
        for place, name in enumerate(rows.columns if good and bad else ()):
            passed = {_hashable(row[place]) for row in good}
            refused = [_hashable(row[place]) for row in bad]
            never = {each for each in {*refused} - passed if refused.count(each) > 2}
            if never:
                rows.refused[name] = never
        self.on_rows(self.table.name, len(good))
        self._refresh_own()
        return len(good)

    def _root(self, rows: TableRows, writer: Writer) -> int:
        """Write one row that refers to itself, where each row must refer to one of the
        same table; return how many were written."""
        needed = [
            each for each in self.own
            if each.enforced and not any(self.table.column(n).nullable for n in each.columns)
        ]  # fmt: skip
        if not needed:
            return 0
        made, moments = rows.make(0, 1)
        row = dict(zip(rows.columns, made[0], strict=True)) if made else {}
        for each in needed:
            for name, referred in zip(each.columns, each.referred_columns, strict=True):
                row.setdefault(referred, 1)
                row[name] = row[referred]
        before, writer.columns = writer.columns, [self.table.column(n) for n in row]
        taken = writer.try_each([tuple(row.values())])
        writer.columns = before
        self.moments.append(moments[:1])
        self._refresh_own()
        return sum(taken)

    def _rows_of(self, least: bool) -> TableRows:
        decisions = self.population.application.decisions.get(self.table.name, TableDecisions())  # fmt: skip
        left_out = {
            c.name for c in self.table.columns
            if c.generated or (c.automatic and c.name not in self._linked())
        }  # fmt: skip
        if least:
            left_out |= {c.name for c in self.table.columns if c.default is not None and c.name not in self._linked()}  # fmt: skip
        if left_out >= {c.name for c in self.table.columns}:
            left_out = {c.name for c in self.table.columns if c.generated}
        links = [self._link(each, decisions) for each in self.table.references if (self.table.name, each.columns) not in self.plan.later]  # fmt: skip
        links = [
            each for each in links
            if each.reference.referred_columns and not set(each.reference.columns) & left_out
        ]  # fmt: skip
        later = {n for t, names in self.plan.later if t == self.table.name for n in names if self.table.column(n).nullable}  # fmt: skip
        return TableRows(
            self.table, decisions, self.population.application.dialect, self.pools,
            self.random, links, frozenset(left_out | (later - self._linked(links))), least,
        )  # fmt: skip

    def _linked(self, links: Sequence[Link] = ()) -> set[str]:
        references = [each.reference for each in links] if links else self.table.references  # fmt: skip
        return {name for each in references for name in each.columns}

    def _link(self, reference: Reference, decisions: TableDecisions) -> Link:
        none: Any = None
        for name in reference.columns:
            decided = decisions.field.get(name)
            if decided is not None and decided.none is not None:
                none = int(decided.none) if self.table.column(name).type.kind == "integer" else decided.none  # fmt: skip
        return Link(reference, lambda: self._parents(reference), none)

    def _parents(self, reference: Reference) -> Parents:
        place = (reference.referred_table, reference.referred_columns)
        if place not in self.known:
            self.known[place] = Parents(self._keys(reference))
        return self.known[place]

    def _keys(self, reference: Reference) -> list[Any]:
        server = server_of(self.population.engine.dialect.name)
        listed = ", ".join(server.quoted(each) for each in reference.referred_columns)
        source = self.population.source(reference.referred_table)
        words = f"SELECT {listed} FROM {source}".replace("%", "%%")
        found = (tuple(row) for row in self.connection.exec_driver_sql(words))
        return [key for key in found if None not in key]

    def _refresh_own(self) -> None:
        """Read the keys of the rows that there are now, for references within the
        table."""
        for each in self.own:
            self.known[each.referred_table, each.referred_columns] = Parents(self._keys(each))  # fmt: skip

    def _remember(self) -> None:
        """Keep when the rows came to be, for those that refer to them."""
        moments = np.concatenate(self.moments) if self.moments else np.array([])
        key = (self.table.name, self.table.primary_key)
        for place in [each for each in self.known if each[0] == self.table.name]:
            del self.known[place]
        if len(self.table.primary_key) == 1:
            with self.population.writing() as self.connection:
                found = self._keys(Reference((), *key))
            is_in_order = all(type(each[0]) is int for each in found)
            if len(found) == len(moments) and is_in_order:
                self.known[key] = Parents(sorted(found), moments)


def _hashable(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


def key_of(table: Table) -> tuple[str, ...]:
    """Return the columns that tell the rows of a table apart: the primary key, else a unique one,
    else all columns."""
    uniques = (
        each.columns for each in table.uniques
        if not any(table.column(name).nullable for name in each.columns)
    )  # fmt: skip
    return table.primary_key or next(uniques, tuple(c.name for c in table.columns))


def _write_later(
    population: Population, plan: Plan, known: dict[tuple[str, tuple[str, ...]], Parents],
    random: np.random.Generator,
) -> None:  # fmt: skip
    """Write the references that go around in a circle."""
    server = server_of(population.engine.dialect.name)
    filled = {each.table for each in plan.wanted}
    for name, columns in sorted(plan.later):
        table = population.table(name)
        reference = next(each for each in table.references if each.columns == columns)
        key = key_of(table)
        if name not in filled or set(key) & set(columns):
            continue
        with population.writing() as connection:
            listed = ", ".join(
                server.quoted(each) for each in reference.referred_columns
            )
            parents = connection.exec_driver_sql(f"SELECT {listed} FROM {population.source(reference.referred_table)}".replace("%", "%%")).all()  # fmt: skip
            if not parents:
                continue
            names = ", ".join(server.quoted(each) for each in key)
            rows = connection.exec_driver_sql(f"SELECT {names} FROM {population.source(name)} LIMIT {MOST_LATER}".replace("%", "%%")).all()  # fmt: skip
            sets = ", ".join(f"{_escaped(server.quoted(c))} = :v{i}" for i, c in enumerate(columns))  # fmt: skip
            where = " AND ".join(f"{_escaped(server.quoted(c))} = :k{i}" for i, c in enumerate(key))  # fmt: skip
            words = text(f"UPDATE {_escaped(population.source(name))} SET {sets} WHERE {where}")  # fmt: skip
            for row in rows:
                values = parents[int(random.integers(len(parents)))]
                given = {f"v{i}": v for i, v in enumerate(values)} | {f"k{i}": k for i, k in enumerate(row)}  # fmt: skip
                try:
                    with saved(connection):
                        connection.execute(words, given)
                except DatabaseError:
                    continue  # a rule or a key of the table does not take it


def _escaped(name: str) -> str:
    return name.replace("\\", "\\\\").replace(":", "\\:")


def _note_digests(population: Population, journal: Journal, name: str) -> None:
    """Note what the rows of a table hold now."""
    table = population.table(name)
    columns = [column.name for column in table.columns]
    places = [columns.index(each) for each in key_of(table)]
    with population.writing() as connection:
        rows = population.read(connection, name, columns)
    journal.note(name, digests(rows, places))


def parse_rows(texts: Sequence[str]) -> dict[str, int]:
    """Return rows by pattern, "" for all tables, from NUMBER and TABLE=NUMBER. Raises
    LumetError."""
    found = {}
    for each in texts:
        pattern, _, number = each.rpartition("=")
        if not re.fullmatch(r"\d[\d_]*", number):
            raise LumetError(f'--rows "{each}": no number of rows.', "Write --rows 200, or --rows TABLE=5000.")  # fmt: skip
        found[pattern] = int(number)
    return found
