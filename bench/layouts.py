"""The layouts of a list and the first page over a million rows, beside the bare statements.

    python -m bench.layouts [--rows 1000000] [--kinds sqlite,postgresql]

The floor asks the database for the same by statements written by hand, and makes no page of
it. Product and floor take turns; each figure is the median of several.
"""

import argparse
import statistics
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import create_engine, text

from bench.lists import Pair, timed

TIMES = 7
MONTH = {
    "sqlite": "strftime('%Y-%m', taken_at)",
    "postgresql": "to_char(taken_at, 'YYYY-MM')",
}
CARDS = """
inferred = false
[cards]
dim = { kind = "number", table = "reading", filter = "result.is=dim" }
results = { kind = "bars", table = "reading", by = "result" }
months = { kind = "line", table = "reading", by = "taken_at" }
"""
LAYOUTS = '\n[list]\ncalendar = ["taken_at"]\nboard = "result"\n'


class Laid(Pair):
    """The same with cards and layouts."""

    def decide(self) -> None:
        """Decide the first page, and the layouts of the list."""
        (self.folder / "design/front.toml").write_text(CARDS)
        target = self.folder / "design/tables/reading.toml"
        target.write_text(target.read_text().replace("[list]\n", LAYOUTS.lstrip(), 1))


def cases(kind: str) -> dict[str, tuple[str, Sequence[str]]]:
    """Return the pages, each with its address and the bare statements."""
    month = MONTH[kind]
    titles = "SELECT r.id, r.code, r.taken_at, r.result FROM reading r WHERE {} ORDER BY taken_at DESC, id DESC LIMIT {}"
    groups = "SELECT result, count(*) FROM reading GROUP BY result"
    return {
        "the first page, read": ("/", ["SELECT count(*) FROM reading WHERE result = 'dim'", groups, f"SELECT {month}, count(*) FROM reading GROUP BY 1 ORDER BY 1 DESC LIMIT 37"]),
        "the first page, kept": ("/", ["SELECT 1"]),
        "a month of a calendar": ("/t/reading?layout=calendar&at=2020-10", [titles.format("taken_at >= '2020-09-28' AND taken_at < '2020-11-02'", 501)]),
        "a board": ("/t/reading?layout=board", [groups, *(titles.format(f"result = '{each}'", 21) for each in ("ok", "dim", "out"))]),
        "a chart in parts": ("/t/reading?layout=chart&by=taken_at&stack=result", [f"SELECT {month}, count(*) FROM reading GROUP BY 1", f"SELECT {month}, result, count(*) FROM reading GROUP BY 1, 2"]),
        "by a referenced column": ("/t/reading?light_id.name.has=77", [titles.format("light_id IN (SELECT id FROM light WHERE name LIKE '%77%')", 26)]),
        "filtered by is not": ("/t/reading?result.not=ok&light_id.not=7", [titles.format("result <> 'ok' AND (light_id IS NULL OR light_id <> 7)", 26)]),
    }  # fmt: skip


def measure(kind: str, rows: int, folder: Path) -> None:
    """Print the figures of one server."""
    pair = Laid(kind, rows, folder)
    engine = create_engine(pair.environment["FLOOR_DATABASE"])
    figures: Any = pair.app.extensions["site"].figures
    for name, (address, statements) in cases(kind).items():

        def ours(address: str = address, is_read: bool = name.endswith("read")) -> None:
            if is_read:
                figures.__init__()
            assert pair.client.get(address).status_code == 200, address

        def floor(statements: Sequence[str] = statements) -> None:
            with engine.connect() as connection:
                for each in statements:
                    connection.execute(text(each)).all()

        ours(), floor()
        turns = [(timed(ours), timed(floor)) for _ in range(TIMES)]
        found, bare = (statistics.median(each) for each in zip(*turns, strict=True))
        print(f"  {kind:<12}{rows:>11,}  {name:<26}{found:>9.1f} ms{bare:>9.1f} ms bare", flush=True)  # fmt: skip
    engine.dispose()


def main() -> None:
    """Measure each server that is asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--kinds", default="sqlite,postgresql")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as home:
        for kind in given.kinds.split(","):
            measure(kind, given.rows, Path(home) / kind)


if __name__ == "__main__":
    main()
