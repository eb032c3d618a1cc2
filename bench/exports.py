"""Exports of many rows beside a script that uses the driver and the csv module.

    python -m bench.exports [--rows 1000000] [--keyless 337000] [--kinds sqlite,postgresql]

A million rows with a key and three references, and 337,000 rows without a key; each in a
process of its own, whose peak of memory is told too.
"""

import argparse
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from tests.support.projects import name_package
from tests.support.servers import POSTGRESQL, run

from lumet.project.commands import run_generation, run_survey

PASSWORD = "only-for-benches-7-lamps"
NAME = "lumet_bench_exports"
SQL = """
CREATE TABLE light (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE reading (id INTEGER PRIMARY KEY, code VARCHAR(12) NOT NULL, light_id INTEGER REFERENCES light (id),
    keeper_id INTEGER REFERENCES keeper (id), taken_at TIMESTAMP NOT NULL, current_a NUMERIC(6,2), result VARCHAR(12));
CREATE TABLE diary (at_day DATE, words VARCHAR(60), amount NUMERIC(8,2), place VARCHAR(20));
"""
SERIES = {
    "sqlite": "WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < {n})",
    "postgresql": "WITH s AS (SELECT generate_series(1, {n}) AS n)",
}
CODE = {"sqlite": "'R' || n", "postgresql": "'R' || n"}
MOMENT = {
    "sqlite": "datetime('2024-01-01', (n % 500000) || ' minutes')",
    "postgresql": "timestamp '2024-01-01' + (n % 500000) * interval '1 minute'",
}
DAY = {
    "sqlite": "date('2024-01-01', (n % 700) || ' days')",
    "postgresql": "date '2024-01-01' + n % 700",
}
OURS = """
import importlib, os, resource, sys, time
from {package}.kit.common.settings import read_settings
app = importlib.import_module({package!r}).create_app()
app.config["WTF_CSRF_ENABLED"] = False
client = app.test_client()
client.post("/sign-in", data={{"name": "ina", "password": {password!r}}})
client.get("/t/light")
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
began = time.perf_counter()
answer = client.get({address!r}, buffered=False)
assert answer.status_code == 200, answer.status_code
lines = sum(chunk.count(b"\\n") for chunk in answer.iter_encoded())
print(time.perf_counter() - began, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024, lines)
"""
FLOOR = """
import csv, sys, time, tempfile
{connect}
began = time.perf_counter()
cursor.execute({query!r})
with tempfile.TemporaryFile("w+", newline="", encoding="utf-8") as target:
    writer = csv.writer(target)
    lines = 0
    while rows := cursor.fetchmany(2000):
        writer.writerows(rows)
        lines += len(rows)
    target.seek(0)
    while target.read(1 << 16):
        pass
print(time.perf_counter() - began, 0, lines)
"""
CONNECT = {
    "sqlite": "import sqlite3; cursor = sqlite3.connect({address!r}).cursor()",
    "postgresql": "import psycopg; cursor = psycopg.connect({address!r}).cursor('export')",
}
QUERIES = {
    "reading": "SELECT r.code, l.name, k.name, r.taken_at, r.current_a, r.result FROM reading r"
    " LEFT JOIN light l ON l.id = r.light_id LEFT JOIN keeper k ON k.id = r.keeper_id ORDER BY r.code",
    "diary": "SELECT at_day, words, amount, place FROM diary",
}


def make(kind: str, folder: Path, rows: int, keyless: int) -> str:
    """Make the database; return its address."""
    filled = [
        SERIES[kind].format(n=500)
        + " INSERT INTO light SELECT n, 'Light ' || n FROM s",
        SERIES[kind].format(n=90)
        + " INSERT INTO keeper SELECT n, 'Keeper ' || n FROM s",
        SERIES[kind].format(n=rows)
        + f" INSERT INTO reading SELECT n, {CODE[kind]}, 1 + n % 500, 1 + n % 90, {MOMENT[kind]}, n % 900 / 100.0, 'lit' FROM s",
        SERIES[kind].format(n=keyless)
        + f" INSERT INTO diary SELECT {DAY[kind]}, 'line ' || n % 1000, n % 900 / 10.0, 'place ' || n % 20 FROM s",
        "CREATE INDEX reading_code ON reading (code)",
    ]
    if kind == "sqlite":
        path = folder / "exports.db"
        with sqlite3.connect(path) as raw:
            raw.executescript(SQL + ";\n".join(filled))
        raw.close()
        return str(path)
    run(
        POSTGRESQL,
        [f"DROP DATABASE IF EXISTS {NAME} WITH (FORCE)", f"CREATE DATABASE {NAME}"],
    )
    address = POSTGRESQL.rpartition("/")[0] + f"/{NAME}"
    run(
        address,
        [each for each in (*SQL.split(";\n"), *filled, "ANALYZE") if each.strip()],
    )
    return address


def timed(script: str, folder: Path) -> tuple[float, float, float]:
    """Return the seconds, the growth of memory in MB, and the lines of a script."""
    environment = os.environ | {"PYTHONPATH": str(folder), "STATE_FOLDER": str(folder)}
    ran = subprocess.run(
        [sys.executable, "-c", script], env=environment, check=True, capture_output=True, text=True
    )  # fmt: skip
    took, grown, lines = map(float, ran.stdout.split())
    return took, grown, lines


def measure(kind: str, rows: int, keyless: int, times: int) -> None:
    """Print the exports of both tables beside the script."""
    with tempfile.TemporaryDirectory(prefix="lumet-bench-") as name:
        folder = Path(name)
        address = make(kind, folder, rows, keyless)
        run_survey(folder, address)
        package = f"bench_exports_{kind}"
        name_package(folder, package)
        run_generation(folder)
        add = [sys.executable, "-m", package, "--state", name, "user", "add", "ina", "--role", "administrator", "--password-stdin"]  # fmt: skip
        subprocess.run(
            add, input=PASSWORD, text=True, check=True, capture_output=True,
            env=os.environ | {"PYTHONPATH": name},
        )  # fmt: skip
        for table, count in (("reading", rows), ("diary", keyless)):
            floor = FLOOR.format(
                connect=CONNECT[kind].format(address=address), query=QUERIES[table]
            )
            for format_ in ("csv", "json"):
                ours = OURS.format(
                    package=package,
                    password=PASSWORD,
                    address=f"/t/{table}/export.{format_}",
                )
                pairs = [
                    (timed(ours, folder), timed(floor, folder)) for _ in range(times)
                ]
                took = statistics.median(pair[0][0] for pair in pairs)
                bare = statistics.median(pair[1][0] for pair in pairs)
                grown = max(pair[0][1] for pair in pairs)
                goal = "goal 2.5" if format_ == "csv" else ""
                print(
                    f"{kind}: {format_.upper()} of {count:,} rows of {table:<8}"
                    f"{took:>7.1f} s   {took / bare:>5.2f} × the script ({bare:.1f} s)"
                    f"   memory + {grown:.0f} MB   {goal}",
                    flush=True,
                )
    if kind == "postgresql":
        run(POSTGRESQL, [f"DROP DATABASE IF EXISTS {NAME} WITH (FORCE)"])


def main() -> None:
    """Make the databases, measure, print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--keyless", type=int, default=337_000)
    parser.add_argument("--kinds", default="sqlite,postgresql")
    parser.add_argument("--times", type=int, default=3)
    given = parser.parse_args()
    for kind in given.kinds.split(","):
        measure(kind, given.rows, given.keyless, given.times)


if __name__ == "__main__":
    main()
