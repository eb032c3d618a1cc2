"""Choosing among a million records, beside the bare query and a request that does nothing.

    python -m bench.lookups [--rows 1000000] [--kinds sqlite,postgresql]

The floor of a search is the time of its bare query, by the driver, and that of a request
to the same application that signs in the session and answers nothing.
"""

import argparse
import tempfile
from pathlib import Path

from flask_login import current_user
from sqlalchemy import create_engine
from werkzeug.routing import Rule

from bench import lists
from bench.lists import Pair, alternately, report, timed

ALARM = """
CREATE TABLE alarm (id INTEGER PRIMARY KEY, reading_id INTEGER REFERENCES reading (id),
  note VARCHAR(40));
"""
TIMES = 200
TYPED = "R0000123"
BARE = (  # what the search has to ask the database
    "SELECT reading.id, reading.code, light.name, keeper.name FROM reading"
    " LEFT JOIN light ON light.id = light_id LEFT JOIN keeper ON keeper.id = keeper_id"
    " WHERE {begins} ORDER BY reading.code LIMIT 21"
)
BEGINS = {
    "sqlite": "reading.code >= 'R0000123' AND reading.code < 'R0000124'",
    "postgresql": "reading.code LIKE 'R0000123%%'",
}


def measure(pair: Pair) -> None:
    """Print how long a search takes where an index serves it, and where none does."""
    app = pair.app
    app.url_map.add(Rule("/nothing", endpoint="nothing"))
    app.view_functions["nothing"] = lambda: current_user.name
    engine = create_engine(pair.environment["FLOOR_DATABASE"])
    with engine.connect() as connection:
        words = BARE.format(begins=BEGINS[pair.kind])
        address = f"/t/alarm/choices/reading_id?find-what={TYPED}"
        found = pair.client.get(address).get_json()["found"]
        assert len(found) == 20, found
        assert len(connection.exec_driver_sql(words).all()) == 21

        def floor() -> None:
            connection.exec_driver_sql(words).all()
            pair.client.get("/nothing")

        took, bare = alternately(lambda: pair.client.get(address), floor, TIMES)
        report(f'"{TYPED}", by an index', took, bare, "ms", "goal 1.5")
    for typed in ("0123456", "nowhere at all"):
        address = f"/t/alarm/choices/reading_id?find-what={typed}"
        said = pair.client.get(address).get_json()
        took = min(timed(lambda a=address: pair.client.get(a)) for _ in range(5))
        cut = "cut, and said so" if said["cut"] else f"{len(said['found'])} found"
        print(f'  "{typed}", by none{took:>37.1f} ms   {cut}   limit 300 ms')
    form = min(timed(lambda: pair.client.get("/t/alarm/add")) for _ in range(20))
    print(f"  the form with this lookup{form:>31.1f} ms")


def main() -> None:
    """Make the databases, measure, print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--kinds", default="sqlite,postgresql")
    given = parser.parse_args()
    lists.TABLES += ALARM
    for kind in given.kinds.split(","):
        with tempfile.TemporaryDirectory(prefix="lumet-bench-") as folder:
            pair = Pair(kind, given.rows, Path(folder) / "bench")
            print(f"{kind}, {given.rows:,} rows", flush=True)
            measure(pair)


if __name__ == "__main__":
    main()
