"""Lists over millions of rows, beside a hand-written program that does the same work.

    python -m bench.lists [--rows 1000000,10000000] [--kinds sqlite,postgresql] [--short]

Floor and product take turns within one run, so that a noisy machine slows both. The page's
times are medians within one process; requests are counted under waitress and gunicorn;
memory is that of a process of its own. `--short` leaves out servers and exports.
"""

import argparse
import importlib
import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

from sqlalchemy import event, make_url, text
from tests.support.projects import make_database, name_package
from tests.support.servers import POSTGRESQL, run

from lumet.project.commands import run_generation, run_survey

NAME = "lumet_bench_lists"
PASSWORD = "only-for-benches-7-lamps"
TABLES = (
    "".join(
        f"CREATE TABLE table_{n} (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);\n"
        for n in range(11)
    )
    + """
CREATE TABLE light (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE reading (id INTEGER PRIMARY KEY, code VARCHAR(12) NOT NULL,
  light_id INTEGER REFERENCES light (id), keeper_id INTEGER REFERENCES keeper (id),
  taken_at TIMESTAMP NOT NULL, lamp_current_a NUMERIC(6,2), battery_v NUMERIC(5,2),
  temperature_c INTEGER, result VARCHAR(4) NOT NULL CHECK (result IN ('ok', 'dim', 'out')));
"""
)
INDEXES = (
    "CREATE UNIQUE INDEX reading_code ON reading (code{pattern})",
    "CREATE INDEX reading_taken ON reading (taken_at, id)",
    "CREATE INDEX reading_light ON reading (light_id, taken_at, id)",
)
FILL = """INSERT INTO reading
SELECT n, {code}, n % 2000 + 1, CASE WHEN n % 11 = 0 THEN NULL ELSE n * 7 % 300 + 1 END,
  {moment}, (n % 900) / 100.0, 11 + (n % 300) / 100.0, n % 40 - 12,
  CASE n % 10 WHEN 0 THEN 'dim' WHEN 1 THEN 'out' ELSE 'ok' END FROM {series}"""
DECISIONS = """title = "{code}"
[list]
columns = ["light_id", "keeper_id", "taken_at", "lamp_current_a", "battery_v", "temperature_c", "result"]
order = ["-taken_at"]
[field.result]
choices = { ok = "Passed", dim = "Dim", out = "Out" }
colours = { ok = "green", dim = "amber", out = "red" }
"""
PAGES = {
    "page 1": ("", ""),
    "a page in the middle": ("after", "after"),
    "the last page": ("last=1", "last=1"),
    "filtered by a lookup": ("light_id.is=77", "light=77"),
    "searched": ("q=R0000123", "q=R0000123"),
}


def make_sqlite(folder: Path, rows: int) -> str:
    """Make the database as a file; return its path."""
    series = f"(WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < {rows}) SELECT n FROM s)"
    fill = FILL.format(
        code="printf('R%09d', n)",
        moment="strftime('%Y-%m-%d %H:%M:%S', 1600000000 + n * 17, 'unixepoch')",
        series=series,
    )
    names = "".join(
        f"WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < {most})"
        f" INSERT INTO {table} SELECT n, '{word} ' || n FROM s;\n"
        for table, most, word in (("light", 2000, "Light"), ("keeper", 300, "Keeper"))
    )
    indexes = ";\n".join(each.format(pattern="") for each in INDEXES)
    return str(
        make_database(
            folder / "bench.db", f"{TABLES}{names}{fill};\n{indexes};\nANALYZE;"
        )
    )


def make_postgresql(rows: int) -> str:
    """Make the database on the server; return its address."""
    run(
        POSTGRESQL,
        [f"DROP DATABASE IF EXISTS {NAME} WITH (FORCE)", f"CREATE DATABASE {NAME}"],
    )
    address = (
        make_url(POSTGRESQL).set(database=NAME).render_as_string(hide_password=False)
    )
    fill = FILL.format(
        code="'R' || lpad(n::text, 9, '0')",
        moment="timestamp '2020-09-13' + n * interval '17 seconds'",
        series=f"generate_series(1, {rows}) n",
    )
    statements = [each for each in TABLES.split(";\n") if each.strip()]
    statements += [
        "INSERT INTO light SELECT n, 'Light ' || n FROM generate_series(1, 2000) n",
        "INSERT INTO keeper SELECT n, 'Keeper ' || n FROM generate_series(1, 300) n",
        fill,
        *[each.format(pattern=" varchar_pattern_ops") for each in INDEXES],
        "VACUUM ANALYZE reading",
        "ANALYZE",
    ]
    run(address, statements)
    return address


class Pair:
    """The product and the floor over one database."""

    def __init__(self, kind: str, rows: int, folder: Path) -> None:
        self.kind, self.rows, self.folder = kind, rows, folder
        self.package = f"bench_{kind}_{rows}"
        folder.mkdir()
        database = (
            make_sqlite(folder, rows) if kind == "sqlite" else make_postgresql(rows)
        )
        run_survey(folder, database)
        name_package(folder, self.package)
        target = folder / "design/tables/reading.toml"
        target.write_text(DECISIONS)
        self.decide()
        run_generation(folder)
        sys.path.insert(0, str(folder))
        os.environ["STATE_FOLDER"] = str(folder)
        self.app = importlib.import_module(self.package).create_app()
        self.users = self.app.extensions["users"]
        self.users.add("ina", PASSWORD, ["administrator"])
        self.client = self.app.test_client()
        self.client.post(
            "/sign-in",
            data={"name": "ina", "password": PASSWORD, "csrf_token": self._token()},
        )
        with self.users.store.reading() as connection:
            self.digest = connection.exec_driver_sql(
                "SELECT token FROM user_session"
            ).scalar_one()
        floor_url = (
            f"sqlite:///{database}"
            if kind == "sqlite"
            else database.replace("postgresql:", "postgresql+psycopg:")
        )
        self.environment = {
            "FLOOR_DATABASE": floor_url,
            "FLOOR_ACCOUNTS": f"sqlite:///{folder / 'accounts.db'}",
        }
        os.environ.update(self.environment)
        from bench.floor import lists

        self.floor = lists.create_app().test_client()
        self.floor.get(f"/sign-in/{self.digest}")
        self.after = self._middle()

    def decide(self) -> None:
        """Decide something more before the application is generated."""

    def _token(self) -> str:
        page = self.client.get("/sign-in").get_data(as_text=True)
        return page.partition('name="csrf_token" value="')[2].partition('"')[0]

    def _middle(self) -> tuple[str, str]:
        """Return the words, in the product's address and the floor's, for a middle page."""
        word = importlib.import_module(f"{self.package}.kit.db.keyset").write_place
        with self.app.extensions["site"].database.engine.connect() as connection:
            reach = importlib.import_module(
                f"{self.package}.kit.access.reach"
            ).UNBOUNDED
            found = reach.run(
                connection,
                text(f"SELECT taken_at, id FROM reading WHERE id = {self.rows // 2}"),
            ).one()
        ours, theirs = word(list(found)), json.dumps([str(found[0]), found[1]])
        return f"after={ours}", f"after={theirs}"

    def addresses(self, name: str) -> tuple[str, str]:
        """Return the product's and the floor's address of a page."""
        ours, theirs = PAGES[name] if name != "a page in the middle" else self.after
        return f"/t/reading?{ours}".rstrip("?"), f"/t/reading?{theirs}".rstrip("?")


def timed(work: Callable[[], Any]) -> float:
    """Return how long `work` takes, in ms."""
    began = time.perf_counter()
    work()
    return (time.perf_counter() - began) * 1000


def alternately(
    first: Callable[[], Any], second: Callable[[], Any], times: int
) -> tuple[float, float]:
    """Return the median ms of two pieces of work that take turns."""
    pairs = [(timed(first), timed(second)) for _ in range(times)]
    return statistics.median(a for a, _ in pairs), statistics.median(
        b for _, b in pairs
    )


def report(what: str, measured: float, floor: float, unit: str, goal: str) -> None:
    """Print one line: a figure, the floor's, and their ratio."""
    print(
        f"  {what:<46}{measured:>10.2f} {unit:<4}{measured / floor:>6.2f} × {floor:.2f}   {goal}",
        flush=True,
    )


def measure_pages(pair: Pair) -> dict[str, float]:
    """The pages, within this process, and the queries that each takes."""
    counted: list[str] = []
    for engine in (
        pair.app.extensions["site"].database.engine,
        pair.users.store.engine,
    ):
        event.listen(
            engine, "after_cursor_execute", lambda *given: counted.append(given[2])
        )
    found = {}
    for name in PAGES:
        ours, theirs = pair.addresses(name)
        mine, yours = pair.client.get(ours), pair.floor.get(theirs)
        assert mine.status_code == yours.status_code == 200, (
            name,
            mine.status_code,
            yours.status_code,
        )
        rows = [
            page.get_data(as_text=True).count('class="title"') for page in (mine, yours)
        ]
        assert rows[0] == rows[1] > 0, (name, rows)
        counted.clear()
        pair.client.get(ours)
        queries = sum(each.lstrip().startswith("SELECT") for each in counted)
        works = partial(pair.client.get, ours), partial(pair.floor.get, theirs)
        times = 20 if timed(works[1]) > 50 else 150
        measured, floor = alternately(*works, times)
        found[name] = measured
        sizes = f"{len(mine.data):,} / {len(yours.data):,} bytes, {queries} queries"
        report(name, measured, floor, "ms", f"goal 1.4   {sizes}")
    bare = statistics.median(timed(lambda: pair.floor.get("/bare")) for _ in range(100))
    print(f"  {'a bare page, without count and navigation':<46}{bare:>10.2f} ms")
    for name in ("a page in the middle", "the last page"):
        print(f"  {name:<46}{found[name] / found['page 1']:>19.2f} × page 1   goal 2")
    return found


@contextmanager
def served(
    command: list[str], port: int, environment: dict[str, str], folder: Path
) -> Iterator[str]:
    """Run a server until the block ends."""
    process = subprocess.Popen(command, cwd=folder, env={**os.environ, **environment},
                               stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
    try:
        address = f"http://127.0.0.1:{port}"
        for _ in range(200):
            try:
                urllib.request.urlopen(address + "/static/theme.css").read()
                break
            except urllib.error.HTTPError:
                break
            except OSError:
                time.sleep(0.05)
        yield address
    finally:
        process.terminate()
        process.wait()


def hammer(address: str, cookie: str, seconds: float) -> list[float]:
    """Ask for a page with four clients at once; return the ms that each answer took."""
    import http.client
    from urllib.parse import urlsplit

    parts = urlsplit(address)
    took: list[float] = []
    ends = time.perf_counter() + seconds

    def ask() -> None:
        connection = http.client.HTTPConnection(parts.hostname or "", parts.port)
        while time.perf_counter() < ends:
            began = time.perf_counter()
            connection.request(
                "GET",
                f"{parts.path}?{parts.query}".rstrip("?"),
                headers={"Cookie": cookie},
            )
            answer = connection.getresponse()
            answer.read()
            assert answer.status == 200, answer.status
            took.append((time.perf_counter() - began) * 1000)

    threads = [threading.Thread(target=ask) for _ in range(4)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    return took


def measure_servers(pair: Pair) -> None:
    """Requests per second and their tails, the two servers' turns interleaved."""
    cookies = []
    for client in (pair.client, pair.floor):
        cookies.append(
            "; ".join(f"{c.key}={c.value}" for c in client._cookies.values())
        )
    python = sys.executable
    path = {"PYTHONPATH": f"{Path.cwd()}:{pair.folder}", **pair.environment}
    for server in ("waitress", "gunicorn"):

        def command(module: str, port: int, server: str = server) -> list[str]:
            if server == "waitress":
                call = f"import waitress, {module} as m; waitress.serve(m.create_app(), port={port}, threads=4)"
                return [python, "-c", call]
            return [
                python,
                "-m",
                "gunicorn",
                "-w",
                "2",
                "--threads",
                "2",
                "-b",
                f"127.0.0.1:{port}",
                f"{module}:create_app()",
            ]

        with (
            served(command(pair.package, 8751), 8751, path, pair.folder) as ours,
            served(
                command("bench.floor.lists", 8752), 8752, path, Path.cwd()
            ) as theirs,
        ):
            took: tuple[list[float], list[float]] = ([], [])
            for _ in range(5):
                took[0].extend(hammer(ours + "/t/reading", cookies[0], 2))
                took[1].extend(hammer(theirs + "/t/reading", cookies[1], 2))
        if not (took[0] and took[1]):
            print(f"  {server}: no answers; is it installed? (pip install {server})")
            continue
        rates = [len(each) / 10 for each in took]
        report(
            f"{server}: requests a second",
            rates[0],
            rates[1],
            "/s",
            "goal 0.75 at least",
        )
        for percent in (50, 95, 99):
            cut = [statistics.quantiles(each, n=100)[percent - 1] for each in took]
            report(
                f"{server}: p{percent}",
                cut[0],
                cut[1],
                "ms",
                "goal 1.5" if percent == 95 else "",
            )


EXPORTING = """
import importlib, resource, sys, time
app = importlib.import_module({package!r}).create_app()
client = app.test_client()
for name, value in {cookies!r}:
    client.set_cookie(name, value)
client.get("/t/reading")
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
began = time.perf_counter()
answer = client.get("/t/reading/export.{kind}{query}")
assert answer.status_code == 200, answer.status_code
size = sum(len(chunk) for chunk in answer.iter_encoded())
print(time.perf_counter() - began, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024, size)
"""
BARE = """
import csv, io, os, resource, time
from sqlalchemy import create_engine
statement = ("SELECT r.code, l.name, k.name, r.taken_at, r.lamp_current_a, r.battery_v, r.temperature_c, r.result"
    " FROM reading r LEFT JOIN light l ON l.id = r.light_id LEFT JOIN keeper k ON k.id = r.keeper_id"
    " {where} ORDER BY r.taken_at DESC, r.id DESC")
raw = create_engine(os.environ["FLOOR_DATABASE"]).raw_connection()
began = time.perf_counter()
cursor = raw.cursor("export") if hasattr(raw.dbapi_connection, "pgconn") else raw.cursor()
cursor.execute(statement)
{body}
print(time.perf_counter() - began, 0, 0)
"""
CSV = """
while rows := cursor.fetchmany(1000):
    held = io.StringIO()
    csv.writer(held).writerows(rows)
    held.getvalue().encode()
"""
XLSX = """
import tempfile, xlsxwriter
with tempfile.TemporaryDirectory() as folder:
    book = xlsxwriter.Workbook(folder + "/x.xlsx", {"constant_memory": True, "default_date_format": "yyyy-mm-dd hh:mm"})
    sheet = book.add_worksheet()
    for number, row in enumerate(cursor.fetchall()):
        for place, value in enumerate(row):
            sheet.write(number, place, value)
    book.close()
"""


def measure_exports(pair: Pair) -> None:
    """A CSV of every row and a spreadsheet of some, in processes of their own."""
    cookies = [(each.key, each.value) for each in pair.client._cookies.values()]
    names = {"package": pair.package, "cookies": cookies}
    path = {**os.environ, "PYTHONPATH": str(pair.folder), **pair.environment}

    def work(script: str) -> tuple[float, float]:
        ran = subprocess.run(
            [sys.executable, "-c", script],
            env=path,
            check=True,
            capture_output=True,
            text=True,
        )
        took, grown, _size = map(float, ran.stdout.split())
        return took, grown

    all_rows = EXPORTING.format(kind="csv", query="", **names)
    mine, bare = (
        work(all_rows),
        work(BARE.replace("{where}", "").replace("{body}", CSV)),
    )
    report(
        f"CSV of {pair.rows:,} rows",
        mine[0],
        bare[0],
        "s",
        f"goal 2.2   memory grew by {mine[1]:.0f} MB, goal 25",
    )
    mine = work(EXPORTING.format(kind="xlsx", query="?light_id.is=1", **names))
    bare = work(BARE.replace("{where}", "WHERE r.light_id = 1").replace("{body}", XLSX))
    report(f"XLSX of {pair.rows // 2000:,} rows", mine[0], bare[0], "s", "goal 1.2")


def main() -> None:
    """Make the databases, measure, print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", default="1000000,10000000")
    parser.add_argument("--kinds", default="sqlite,postgresql")
    parser.add_argument("--short", action="store_true")
    given = parser.parse_args()
    for kind in given.kinds.split(","):
        first: dict[str, float] = {}
        for rows in map(int, given.rows.split(",")):
            with tempfile.TemporaryDirectory(prefix="lumet-bench-") as folder:
                pair = Pair(kind, rows, Path(folder) / "bench")
                print(f"{kind}, {rows:,} rows", flush=True)
                found = measure_pages(pair)
                for name in found if first else ():
                    print(
                        f"  {name:<46}{found[name] / first[name]:>19.2f} × the smaller   goal 1.5"
                    )
                first = first or found
                if not given.short:
                    measure_servers(pair)
                    measure_exports(pair)


if __name__ == "__main__":
    main()
