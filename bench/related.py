"""What belongs to a record: saving it with 200 rows of its own beside the bare statements,
and opening it above a million records that refer to it.

    python -m bench.related [--rows 200] [--children 1000000] [--kinds sqlite,postgresql,mariadb]

Every row is changed by the form, in one request whose body is there before the clock
starts; the floor changes the same rows by the driver in one transaction, row by row. The
page is opened above relations without rows, with a million in each, and with thirty more
relations; the floor is the driver asking for the first rows of its visible blocks.
"""

import argparse
import importlib
import os
import re
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from sqlalchemy import Engine, create_engine, event, make_url
from tests.support.projects import make_database, name_package, read_form
from tests.support.servers import MARIADB, POSTGRESQL, run

from bench.lists import PASSWORD, alternately, report
from lumet.project.commands import run_generation, run_survey

NAME = "lumet_bench_related"
SERVERS = {"postgresql": POSTGRESQL, "mariadb": MARIADB}
DRIVERS = {"postgresql": "postgresql+psycopg", "mariadb": "mariadb+pymysql"}
VISITS = """
CREATE TABLE visit (id INTEGER PRIMARY KEY, words VARCHAR(40));
CREATE TABLE finding (visit_id INTEGER NOT NULL, no INTEGER NOT NULL, words VARCHAR(40) NOT NULL,
  severity VARCHAR(8) NOT NULL CHECK (severity IN ('minor', 'severe')), closed_on DATE,
  PRIMARY KEY (visit_id, no), FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE);
INSERT INTO visit VALUES (1, 'first');
"""
MASTS = """
CREATE TABLE mast (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE);
INSERT INTO mast VALUES (1, 'Tall'), (2, 'Bare');
CREATE TABLE pulse (id INTEGER PRIMARY KEY, mast_id INTEGER NOT NULL, words VARCHAR(40), level INTEGER,
  FOREIGN KEY (mast_id) REFERENCES mast (id));
CREATE INDEX pulse_of ON pulse (mast_id, id);
CREATE TABLE alarm (id INTEGER PRIMARY KEY, mast_id INTEGER NOT NULL, words VARCHAR(40), level INTEGER,
  FOREIGN KEY (mast_id) REFERENCES mast (id));
CREATE INDEX alarm_of ON alarm (mast_id, id);
"""
MANY = "\n".join(
    f"CREATE TABLE kind_{n} (id INTEGER PRIMARY KEY, mast_id INTEGER, FOREIGN KEY (mast_id) REFERENCES mast (id));"
    for n in range(30)
)
COUNT = {
    "sqlite": "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {n}) SELECT {columns} FROM n",
    "postgresql": "SELECT {columns} FROM generate_series(1, {n}) AS n (i)",
    "mariadb": "SELECT {columns} FROM (SELECT seq AS i FROM seq_1_to_{n}) AS n",
}
TIMES = 7
FORM = "application/x-www-form-urlencoded"


def make(kind: str, folder: Path, script: str) -> str:
    """Make the database; return its address."""
    if kind == "sqlite":
        return str(make_database(folder / "bench.db", script))
    force = " WITH (FORCE)" if kind == "postgresql" else ""
    drop = f"DROP DATABASE IF EXISTS {NAME}{force}"
    run(SERVERS[kind], [drop, f"CREATE DATABASE {NAME}"])
    address = make_url(SERVERS[kind]).set(database=NAME)
    words = address.render_as_string(hide_password=False)
    run(words, script)
    return words


def bare(kind: str, database: str) -> Engine:
    """Return an engine past the application."""
    if kind == "sqlite":
        return create_engine(f"sqlite:///{database}")
    return create_engine(database.replace(f"{kind}:", f"{DRIVERS[kind]}:"))


class Running:
    """An application generated for a database, and a browser that signed in there."""

    def __init__(
        self,
        folder: Path,
        database: str,
        package: str,
        decide: Callable[[], None] = lambda: None,
    ) -> None:
        run_survey(folder, database)
        decide()
        name_package(folder, package)
        run_generation(folder)
        sys.path.insert(0, str(folder))
        os.environ["STATE_FOLDER"] = str(folder)
        self.app = importlib.import_module(package).create_app()
        self.app.config["WTF_CSRF_ENABLED"] = False
        self.app.extensions["users"].add("ina", PASSWORD, ["administrator"])
        self.client: Any = self.app.test_client()
        self.client.post("/sign-in", data={"name": "ina", "password": PASSWORD})

    def get(self, address: str) -> str:
        """Return a page."""
        answer = self.client.get(address)
        assert answer.status_code == 200, address
        return str(answer.text)

    def counting(self, work: Callable[[], Any]) -> int:
        """Return how many SELECTs the business database is asked in some work."""
        asked: list[str] = []

        def count(connection: Any, cursor: Any, statement: str, *rest: Any) -> None:
            asked.append(statement)

        engine = self.app.extensions["site"].database.engine
        event.listen(engine, "before_cursor_execute", count)
        try:
            work()
        finally:
            event.remove(engine, "before_cursor_execute", count)
        return sum(each.lstrip().startswith(("SELECT", "WITH")) for each in asked)


def take_turns(
    what: str,
    prepare: Callable[[], None],
    product: Callable[[], None],
    floor: Callable[[], None],
) -> None:
    """Print how long the product and the floor take, each time prepared anew."""
    took, floors = [], []
    for _turn in range(TIMES):
        prepare()
        first, second = alternately(product, floor, 1)
        took.append(first)
        floors.append(second)
    middle = TIMES // 2
    report(what, sorted(took)[middle], sorted(floors)[middle], "ms", "goal 3")


def measure_rows(kind: str, folder: Path, rows: int) -> None:
    """Print how long a save of a record with all of its rows takes."""
    script = VISITS + "".join(
        f"INSERT INTO finding VALUES (1, {n}, 'finding {n}', 'minor', '2026-01-01');\n"
        for n in range(1, rows + 1)
    )
    database = make(kind, folder, script)

    def in_place() -> None:  # not inferred of so many rows a record
        decided = folder / "design/tables/visit.toml"
        found = decided.read_text()
        line = next(each for each in found.split("\n") if each.startswith("#~ finding"))
        own = 'finding = { by = "visit_id", edit = "rows" }'
        decided.write_text(found.replace(line, own))

    running = Running(folder, database, f"bench_rows_{kind}", in_place)
    address = "/t/visit/r/1/edit"
    number = [0]
    bodies: list[str] = []

    def prepare() -> None:
        form = read_form(running.get(address))
        number[0] += 1
        for name in form:
            if re.fullmatch(r"rows-0-\d+-words", name) and form[name]:
                form[name] = f"changed {number[0]}"
        bodies.append(urlencode(form))  # as a browser does

    def product() -> None:
        answer = running.client.post(address, data=bodies.pop(), content_type=FORM)
        assert answer.status_code == 302, answer.text[:2000]

    engine = bare(kind, database)

    def floor() -> None:
        number[0] += 1
        with engine.begin() as connection:
            connection.exec_driver_sql("UPDATE visit SET words = 'first' WHERE id = 1")
            for no in range(1, rows + 1):
                connection.exec_driver_sql(
                    f"UPDATE finding SET words = 'bare {number[0]}' WHERE visit_id = 1 AND no = {no}"
                )

    what = f"{kind}: {rows} rows changed in one save"
    take_turns(what, prepare, product, floor)
    measure_new_rows(kind, running, engine, rows)
    prepare()
    untouched = urlencode(read_form(running.get(address)))
    first, second = alternately(
        lambda: running.client.post(address, data=untouched, content_type=FORM),
        lambda: running.client.get(address),
        5,
    )
    print(f"  {kind}: none of {rows} changed {first:.1f} ms, the form {second:.1f} ms")


def measure_new_rows(kind: str, running: Running, engine: Engine, rows: int) -> None:
    """Print how long a new record with as many new rows takes; the floor adds the same by
    the driver, row by row."""
    number = [1000]
    empty = read_form(running.get("/t/visit/add"))

    def prepare() -> None:
        number[0] += 1
        form = empty | {"id": str(number[0]), "words": "new"}
        for n in range(rows):
            form |= {f"rows-0-{n}-words": f"found {n}", f"rows-0-{n}-severity": "minor"}
            form |= {f"rows-0-{n}-no": str(n + 1), f"rows-0-{n}-closed_on": ""}
        form.pop("sent-once", None)
        bodies.append(urlencode(form))

    def send() -> None:
        answer = running.client.post(
            "/t/visit/add", data=bodies.pop(), content_type=FORM
        )
        assert answer.status_code == 302, answer.text[:2000]

    def floor() -> None:
        number[0] += 1
        added = "INSERT INTO finding VALUES ({}, {}, 'found', 'minor', NULL)"
        with engine.begin() as connection:
            connection.exec_driver_sql(
                f"INSERT INTO visit VALUES ({number[0]}, 'bare')"
            )
            for no in range(1, rows + 1):
                connection.exec_driver_sql(added.format(number[0], no))

    bodies: list[str] = []
    take_turns(f"{kind}: a new record with {rows} rows", prepare, send, floor)


def measure_page(kind: str, folder: Path, children: int) -> None:
    """Print how a record opens above no, and above very many, related records."""
    columns = "i, 1, 'words', i % 9"
    filled = "".join(
        f"INSERT INTO {name} {COUNT[kind].format(n=children, columns=columns)};\n"
        for name in ("pulse", "alarm")
    )
    if kind != "sqlite":
        filled += "ANALYZE" + (" TABLE pulse, alarm;" if kind == "mariadb" else ";")
    database = make(kind, folder, MASTS + filled)
    running = Running(folder, database, f"bench_page_{kind}")
    engine = bare(kind, database)
    words = "SELECT id, words, level FROM {} WHERE mast_id = {} ORDER BY id LIMIT 9"

    def floor(mast: int) -> Callable[[], None]:
        def ask() -> None:
            with engine.connect() as connection:
                connection.exec_driver_sql(f"SELECT * FROM mast WHERE id = {mast}")
                for name in ("pulse", "alarm"):
                    connection.exec_driver_sql(words.format(name, mast)).all()

        return ask

    for mast, what in ((2, "no records"), (1, f"{children:,} each")):
        page = f"/t/mast/r/{mast}"
        running.get(page)
        queries = running.counting(lambda page=page: running.get(page))  # type: ignore[misc]
        first, second = alternately(lambda page=page: running.get(page), floor(mast), 9)  # type: ignore[misc]
        report(f"{kind}: two blocks, {what}", first, second, "ms", f"{queries} queries")
    block = "/t/mast/r/1/related/pulse.mast_id?as-piece=1"
    running.get(block)
    queries = running.counting(lambda: running.get(block))
    first, second = alternately(lambda: running.get(block), floor(1), 9)
    report(f"{kind}: one block by itself", first, second, "ms", f"{queries} queries")


def measure_relations(kind: str, folder: Path) -> None:
    """Print how a record opens with thirty relations more."""
    running = Running(folder, make(kind, folder, MASTS + MANY), f"bench_many_{kind}")
    page = "/t/mast/r/1"
    running.get(page)
    queries = running.counting(lambda: running.get(page))
    first, _second = alternately(lambda: running.get(page), lambda: None, 9)
    print(f"  {kind}: 32 relations {first:.1f} ms, {queries} queries")


def main() -> None:
    """Make the databases, measure, print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=200)
    parser.add_argument("--children", type=int, default=1_000_000)
    parser.add_argument("--kinds", default="sqlite,postgresql,mariadb")
    given = parser.parse_args()
    for kind in given.kinds.split(","):
        with tempfile.TemporaryDirectory(prefix="lumet-bench-") as folder:
            measure_rows(kind, Path(folder), given.rows)
        with tempfile.TemporaryDirectory(prefix="lumet-bench-") as folder:
            measure_relations(kind, Path(folder))
        with tempfile.TemporaryDirectory(prefix="lumet-bench-") as folder:
            measure_page(kind, Path(folder), given.children)


if __name__ == "__main__":
    main()
