"""Reading 1,000 tables, beside the inspector's bulk calls and bare catalogue queries.

    python -m bench.survey [sqlite postgresql mariadb]

Each table has 12 columns, 2 references and 2 indexes. Prints seconds and ratios.
"""

import resource
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, inspect
from sqlalchemy.engine.reflection import ObjectKind
from tests.support.projects import make_database
from tests.support.servers import MARIADB, POSTGRESQL, run

from lumet.facts.connecting import open_for_reading, parse_address
from lumet.facts.reading import read_database
from lumet.project.commands import run_survey

NAME = "lumet_bench"
BARE = {
    "sqlite": (
        "SELECT m.name, x.* FROM sqlite_master m, pragma_table_xinfo(m.name) x",
        "SELECT m.name, f.* FROM sqlite_master m, pragma_foreign_key_list(m.name) f",
        "SELECT m.name, i.* FROM sqlite_master m, pragma_index_list(m.name) i",
    ),
    "postgresql": (
        (
            "SELECT * FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid"
            " WHERE c.relnamespace = 'public'::regnamespace"
        ),
        "SELECT *, pg_get_constraintdef(oid) FROM pg_constraint",
        "SELECT * FROM pg_index",
    ),
    "mariadb": (
        "SELECT * FROM information_schema.columns WHERE table_schema = database()",
        "SELECT * FROM information_schema.key_column_usage WHERE table_schema = database()",
        "SELECT * FROM information_schema.statistics WHERE table_schema = database()",
    ),
}


def script(tables: int) -> str:
    """Return the statements that make so many tables."""
    made = []
    for number in range(tables):
        plain = ", ".join(f"c{n} VARCHAR(40)" for n in range(7))
        made.append(
            f"CREATE TABLE tab_{number} (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL,"
            f" day DATE, {plain}, a_id INTEGER, b_id INTEGER,"
            f" FOREIGN KEY (a_id) REFERENCES tab_{max(0, number - 1)} (id),"
            f" FOREIGN KEY (b_id) REFERENCES tab_{number // 2} (id))"
        )
        made.append(f"CREATE INDEX ia_{number} ON tab_{number} (a_id)")
        made.append(f"CREATE INDEX ib_{number} ON tab_{number} (b_id, day)")
    return ";\n".join(made)


def make(kind: str, tables: int, folder: Path) -> str:
    """Make the database; return its address."""
    if kind == "sqlite":
        return str(make_database(folder / f"bench{tables}.db", script(tables)))
    server = {"postgresql": POSTGRESQL, "mariadb": MARIADB}[kind]
    run(server, [f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}"])
    address = server.rpartition("/")[0] + f"/{NAME}"
    run(address, script(tables))
    return address


def seconds(work: Callable[[], Any]) -> float:
    """Return how long `work` takes."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def bulk(engine: Engine) -> None:
    """Make all the bulk calls that the inspector has."""
    with engine.connect() as connection:
        inspector = inspect(connection)
        for call in (
            inspector.get_multi_columns,
            inspector.get_multi_pk_constraint,
            inspector.get_multi_foreign_keys,
            inspector.get_multi_unique_constraints,
            inspector.get_multi_check_constraints,
            inspector.get_multi_indexes,
        ):
            call(kind=ObjectKind.ANY)


def bare(engine: Engine, queries: Sequence[str]) -> None:
    """Ask the catalogue without any interpretation."""
    with engine.connect() as connection:
        for query in queries:
            connection.exec_driver_sql(query).all()


def read_times(kind: str, address: str, folder: Path) -> list[float]:
    """Return the best seconds of three readings: ours, the bulk calls, bare queries."""
    engine = open_for_reading(parse_address(address, folder))
    work: list[Callable[[], Any]] = [
        lambda: read_database(engine),
        lambda: bulk(engine),
        lambda: bare(engine, BARE[kind]),
    ]
    rounds = [[seconds(each) for each in work] for _ in range(3)]
    engine.dispose()
    return [min(each) for each in zip(*rounds, strict=True)]


def measure(kind: str) -> None:
    """Measure one kind of server."""
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        times = {}
        for tables in (100, 1000):
            address = make(kind, tables, folder)
            ours, theirs, floor = read_times(kind, address, folder)
            times[tables] = ours
        project = folder / "project"
        whole = seconds(lambda: run_survey(project, address, read_rows=False))
    print(
        f"{kind:<11} facts of 1,000 tables {ours:5.2f} s   {ours / theirs:4.2f} × the bulk"
        f" calls (goal 1.5)   {ours / floor:5.1f} × bare queries   {ours / times[100]:4.1f} ×"
        f" 100 tables (goal 12)   whole survey {whole:5.2f} s (goal 6)"
    )
    if kind != "sqlite":
        server = {"postgresql": POSTGRESQL, "mariadb": MARIADB}[kind]
        run(server, [f"DROP DATABASE {NAME}"])


if __name__ == "__main__":
    for each in sys.argv[1:] or ["sqlite", "postgresql", "mariadb"]:
        measure(each)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"peak memory {peak:.0f} MiB")
