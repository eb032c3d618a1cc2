"""Saving a record with 200 rows of its own, beside the bare statements.

    python -m bench.rows [--rows 200] [--kinds sqlite,postgresql]

Every row is changed by the form, in one request; the floor changes the same rows by the
driver in one transaction, row by row.
"""

import argparse
import importlib
import re
import sys
import tempfile
from pathlib import Path
from typing import Any

from sqlalchemy import create_engine, make_url
from tests.support.projects import make_database, read_form
from tests.support.servers import POSTGRESQL, run

from bench.lists import PASSWORD, alternately, report
from lumet.project.commands import run_generation, run_survey

NAME = "lumet_bench_rows"
TABLES = """
CREATE TABLE visit (id INTEGER PRIMARY KEY, words VARCHAR(40));
CREATE TABLE finding (visit_id INTEGER NOT NULL, no INTEGER NOT NULL, words VARCHAR(40) NOT NULL,
  severity VARCHAR(8) NOT NULL CHECK (severity IN ('minor', 'severe')), closed_on DATE,
  PRIMARY KEY (visit_id, no), FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE);
INSERT INTO visit VALUES (1, 'first');
"""
TIMES = 7


def make(kind: str, folder: Path, rows: int) -> str:
    """Make the database; return its address."""
    script = TABLES + "".join(
        f"INSERT INTO finding VALUES (1, {n}, 'finding {n}', 'minor', '2026-01-01');\n"
        for n in range(1, rows + 1)
    )
    if kind == "sqlite":
        return str(make_database(folder / "bench.db", script))
    run(
        POSTGRESQL,
        [f"DROP DATABASE IF EXISTS {NAME} WITH (FORCE)", f"CREATE DATABASE {NAME}"],
    )
    address = make_url(POSTGRESQL).set(database=NAME)
    words = address.render_as_string(hide_password=False)
    run(words, script)
    return words


def measure(kind: str, folder: Path, rows: int) -> None:
    """Print how long a save takes."""
    database = make(kind, folder, rows)
    package = f"bench_rows_{kind}"
    run_survey(folder, database)
    settings = folder / "lumet.toml"
    settings.write_text(f'package = "{package}"\n' + settings.read_text())
    decided = folder / "design/tables/visit.toml"
    found = decided.read_text()
    line = next(each for each in found.split("\n") if each.startswith("#~ finding"))
    own = 'finding = { by = "visit_id", edit = "in place" }'
    decided.write_text(found.replace(line, own))
    run_generation(folder)
    sys.path.insert(0, str(folder))
    app = importlib.import_module(package).create_app()
    app.config["WTF_CSRF_ENABLED"] = False
    app.extensions["users"].add("ina", PASSWORD, ["steward"])
    client: Any = app.test_client()
    client.post("/sign-in", data={"name": "ina", "password": PASSWORD})
    address = "/t/visit/r/1/edit"
    number = [0]
    forms: list[dict[str, str]] = []

    def prepare() -> None:
        form = read_form(client.get(address).text)
        number[0] += 1
        for name in form:
            if re.fullmatch(r"rows-0-\d+-words", name) and form[name]:
                form[name] = f"changed {number[0]}"
        forms.append(form)

    def product() -> None:
        answer = client.post(address, data=forms.pop())
        assert answer.status_code == 302, answer.text[:2000]

    url = (
        f"sqlite:///{database}"
        if kind == "sqlite"
        else database.replace("postgresql:", "postgresql+psycopg:")
    )
    engine = create_engine(url)

    def floor() -> None:
        number[0] += 1
        with engine.begin() as connection:
            connection.exec_driver_sql("UPDATE visit SET words = 'first' WHERE id = 1")
            for no in range(1, rows + 1):
                connection.exec_driver_sql(
                    f"UPDATE finding SET words = 'bare {number[0]}' WHERE visit_id = 1 AND no = {no}"
                )

    took, bare = [], []
    for _turn in range(TIMES):
        prepare()
        first, second = alternately(product, floor, 1)
        took.append(first)
        bare.append(second)
    report(
        f"{kind}: {rows} rows changed",
        sorted(took)[TIMES // 2],
        sorted(bare)[TIMES // 2],
        "ms",
        "goal 3",
    )
    prepare()
    untouched = read_form(client.get(address).text)
    first, second = alternately(
        lambda: client.post(address, data=untouched), lambda: client.get(address), 5
    )
    print(
        f"  {kind}: none of {rows} changed{first:>30.1f} ms   the form itself {second:.1f} ms"
    )


def main() -> None:
    """Make the databases, measure, print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=200)
    parser.add_argument("--kinds", default="sqlite,postgresql")
    given = parser.parse_args()
    for kind in given.kinds.split(","):
        with tempfile.TemporaryDirectory(prefix="lumet-bench-") as folder:
            measure(kind, Path(folder), given.rows)


if __name__ == "__main__":
    main()
