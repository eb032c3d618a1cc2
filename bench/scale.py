"""Many tables with rows: processor time of surveys and generations at 100 and at 1,000
tables, and the start of the application.

    python -m bench.scale [--tables 1000] [sqlite postgresql mariadb]

Tables have 8 to 11 columns, 50 rows each, similar names, many columns of one type and
range, and refer to up to three others; nothing is declared but keys. The goal is at most
15 times the processor time of a tenth of the tables.
"""

import argparse
import os
import random
import resource
import subprocess
import sys
import sysconfig
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from tests.support.capabilities import is_there
from tests.support.projects import make_database, name_package
from tests.support.servers import MARIADB, POSTGRESQL, run

COMMAND = Path(sysconfig.get_path("scripts")) / "lumet"
NAME = "lumet_bench_scale"
ROWS = 50
AREAS = ("harbour", "survey", "supply", "crew", "signal", "beacon", "vessel", "weather",
         "tide", "channel")  # fmt: skip
THINGS = ("visit", "plan", "entry", "notice", "check", "report", "round", "order_line",
          "log", "item")  # fmt: skip
GOALS = {"survey": 15.0, "generate": 12.0, "generate, nothing changed": 1.5,
         "generate, one decision changed": 2.0, "start": 2.0}  # fmt: skip


def names(tables: int) -> list[str]:
    """Return similar names of so many tables."""
    return [
        f"{AREAS[n % 10]}_{THINGS[n // 10 % 10]}" + (f"_{n // 100}" if n >= 100 else "")
        for n in range(tables)
    ]


def script(tables: int, seed: int = 7) -> Iterator[str]:
    """Yield the statements that make the tables and fill them."""
    chosen = random.Random(seed)
    every = names(tables)
    for place, name in enumerate(every):
        earlier = every[:place]
        referred = chosen.sample(earlier, min(len(earlier), chosen.randint(0, 3)))
        columns = ["id INTEGER PRIMARY KEY", "code VARCHAR(12) NOT NULL", "name VARCHAR(40)"]  # fmt: skip
        columns += [f"{each}_id INTEGER" for each in referred]
        plain = [("noted_on", "DATE"), ("amount", "INTEGER"), ("level", "INTEGER"), ("state", "VARCHAR(8)"), ("remarks", "VARCHAR(80)")]  # fmt: skip
        columns += [f"{n} {kind}" for n, kind in plain]
        yield f"CREATE TABLE {name} ({', '.join(columns)})"
        rows = []
        for row in range(1, ROWS + 1):
            values = [str(row), f"'{name[:3].upper()}{row:04d}'", f"'{name} {row}'"]
            values += [str(chosen.randint(1, ROWS)) for _ in referred]
            values += [f"'2026-{row % 12 + 1:02d}-{row % 28 + 1:02d}'", str(chosen.randint(1, ROWS)),
                       str(chosen.randint(1, 9)), f"'{chosen.choice(('open', 'done', 'late'))}'",
                       f"'{chosen.choice(AREAS)} {chosen.randint(1, 99)}'"]  # fmt: skip
            rows.append(f"({', '.join(values)})")
        yield f"INSERT INTO {name} VALUES {', '.join(rows)}"


def make(kind: str, tables: int, folder: Path) -> str:
    """Make the database; return its address."""
    statements = list(script(tables))
    if kind == "sqlite":
        text = "BEGIN;" + ";\n".join(statements) + "; COMMIT;"
        return str(make_database(folder / "scale.db", text))
    server = {"postgresql": POSTGRESQL, "mariadb": MARIADB}[kind]
    run(server, [f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}"])
    address = server.rpartition("/")[0] + f"/{NAME}"
    run(address, statements)
    if kind == "postgresql":
        run(address, ["ANALYZE"])
    return address


def processor_time(work: Callable[[], object]) -> float:
    """Return the processor seconds that a command takes, in its process and in those
    that it starts."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    work()
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def lumet(folder: Path, *arguments: str) -> None:
    subprocess.run(
        [COMMAND, *arguments], cwd=folder, check=True, stdout=subprocess.DEVNULL
    )


def measure(kind: str, tables: int) -> dict[str, float]:
    """Return the processor time of each step at so many tables."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        address = make(kind, tables, folder)
        found = {"survey": processor_time(lambda: lumet(folder, "survey", address))}
        name_package(folder, "scale_app")
        found["generate"] = processor_time(lambda: lumet(folder, "generate"))
        again = processor_time(lambda: lumet(folder, "generate"))
        found["generate, nothing changed"] = again
        target = folder / f"design/tables/{names(tables)[0]}.toml"
        target.write_text('plural = "Rounds of visits"\n' + target.read_text())
        changed = processor_time(lambda: lumet(folder, "generate"))
        found["generate, one decision changed"] = changed
        start = "import scale_app; scale_app.create_app()"
        # a second start finds the modules compiled, as every start but the first does
        compiled = {
            k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"
        }
        for _ in range(2):
            found["start"] = processor_time(
                lambda: subprocess.run([sys.executable, "-c", start], cwd=folder, check=True, env=compiled)
            )  # fmt: skip
    return found


def main() -> None:
    """Measure at a tenth of the tables and at all of them."""
    parser = argparse.ArgumentParser()
    parser.add_argument("kinds", nargs="*", default=["sqlite", "postgresql", "mariadb"])
    parser.add_argument("--tables", type=int, default=1000)
    asked = parser.parse_args()
    for kind in asked.kinds:
        if kind != "sqlite" and not is_there(kind):
            continue
        few, many = measure(kind, asked.tables // 10), measure(kind, asked.tables)
        print(f"{kind}: {asked.tables:,} tables beside {asked.tables // 10:,}")
        for what, took in many.items():
            goal = f"{GOALS[what]:.1f} s, " if asked.tables == 1000 else ""
            print(f"  {what:<34}{took:>8.1f} s{took / few[what]:>7.1f} × {few[what]:.2f} s   goal {goal}15 ×", flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
