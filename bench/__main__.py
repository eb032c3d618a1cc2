"""Runs all measures, on every server that is there, and prints ratios beside their floors.

    python -m bench [--full]

The measures of their own modules run on fewer rows than README's figures, unless --full
is given; that takes an hour. Each figure is the median of several runs; floor and product take turns, so that a noisy
machine slows both.
"""

import importlib
import os
import re
import signal
import statistics
import subprocess
import sys
import sysconfig
import tempfile
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

from tests.support.capabilities import is_there

from bench.floor.readings import create_app

COMMAND = Path(sysconfig.get_path("scripts")) / "lumet"
HELP = Path(__file__).parent / "floor" / "help.py"


def seconds(work: Callable[[], Any]) -> float:
    """Return how long `work` takes."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def alternately(
    first: Callable[[], Any], second: Callable[[], Any], times: int
) -> tuple[float, float]:
    """Return the median seconds of two pieces of work that take turns."""
    pairs = [(seconds(first), seconds(second)) for _ in range(times)]
    return statistics.median(a for a, _ in pairs), statistics.median(
        b for _, b in pairs
    )


def report(what: str, measured: float, floor: float, of: str, goal: str = "") -> None:
    """Print one line."""
    ratio = measured / floor
    aim = f"   goal {goal}" if goal else ""
    print(
        f"{what:<44}{measured * 1000:>9.1f} ms   {ratio:>5.2f} × {of} ({floor * 1000:.1f} ms){aim}"
    )


def run(*arguments: str | Path) -> None:
    """Run a command to its end."""
    subprocess.run([str(each) for each in arguments], check=True, capture_output=True)


def measure_help() -> None:
    """`lumet --help` beside an empty Typer program."""
    floor, measured = alternately(
        lambda: run(sys.executable, HELP, "--help"), lambda: run(COMMAND, "--help"), 15
    )
    report("lumet --help", measured, floor, "an empty Typer program", "at most 1.3")


def first_page(command: list[str], folder: Path) -> float:
    """Return the seconds from starting a server until it has answered a page."""
    began = time.perf_counter()
    process = subprocess.Popen(
        command, cwd=folder, stdout=subprocess.PIPE, text=True, start_new_session=True,
        env=os.environ | {"PYTHONUNBUFFERED": "1"},
    )  # fmt: skip
    try:
        assert process.stdout is not None
        address = ""
        while not address:
            found = re.search(r"Serving at (\S+)", process.stdout.readline())
            address = found[1] if found else ""
        urllib.request.urlopen(address + "sign-in").read()
        return time.perf_counter() - began
    finally:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()


def measure_start(folder: Path) -> None:
    """The first page, from the application's own start and from Lumet's."""
    imports = (
        "import flask, sqlalchemy, wtforms, waitress, flask_babel, flask_login, argon2"
    )
    floor = statistics.median(
        seconds(lambda: run(sys.executable, "-c", imports)) for _ in range(5)
    )
    own = [sys.executable, "-m", "skerry_lights", "serve", "--port", "8741"]
    measured = statistics.median(first_page(own, folder) for _ in range(5))
    report(
        "first page of python -m PACKAGE serve",
        measured,
        floor,
        "importing its libraries",
        "under 2 s",
    )
    lumet = [str(COMMAND), "serve", "--port", "8742"]
    measured = statistics.median(first_page(lumet, folder) for _ in range(5))
    report(
        "first page of lumet serve",
        measured,
        floor,
        "importing its libraries",
        "under 2 s",
    )


def measure_list(folder: Path, name: str, password: str) -> None:
    """The list of 200,000 readings beside a hand-written page: first and last page."""
    sys.path.insert(0, str(folder))
    os.environ["STATE_FOLDER"] = str(folder)
    app = importlib.import_module("skerry_lights").create_app()
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    client.post("/sign-in", data={"name": name, "password": password})
    floor_client = create_app(
        folder / "skerry_lights.db", folder / "accounts.db"
    ).test_client()
    floor_client.get("/sign-in")
    for what, address, floor_address in (
        ("first page of 200,000 readings", "/t/lamp_reading", "/"),
        ("last page of 200,000 readings", "/t/lamp_reading?last=1", "/?last=1"),
    ):
        page = client.get(address).get_data(as_text=True)
        assert page.count("<tr><td>") == 25, what

        def ours(address: str = address) -> None:
            client.get(address)

        def theirs(address: str = floor_address) -> None:
            floor_client.get(address)

        theirs()
        floor, measured = alternately(theirs, ours, 200)
        report(what, measured, floor, "a hand-written page")


def servers(*names: str) -> str:
    """Return those of the servers that are there, with commas between."""
    return ",".join(name for name in names if name == "sqlite" or is_there(name))


def measure_modules(is_full: bool) -> None:
    """Run the measures that have modules of their own, each in its own process."""
    two, three = (
        servers("sqlite", "postgresql"),
        servers("sqlite", "postgresql", "mariadb"),
    )
    short: dict[str, list[str]] = {
        "survey": [], "scale": ["--tables", "200"], "live": [], "inference": [],
        "lists": ["--rows", "200000", "--short"], "lookups": ["--rows", "200000"],
        "layouts": ["--rows", "200000"],
        "related": ["--children", "50000"], "hostile": [], "population": ["--rows", "100000"],
        "exports": ["--rows", "100000", "--keyless", "40000", "--times", "1"],
    }  # fmt: skip
    kinds = {"survey": three.split(","), "scale": three.split(","), "lists": ["--kinds", two], "lookups": ["--kinds", two], "layouts": ["--kinds", two],
             "related": ["--kinds", three], "exports": ["--kinds", two]}  # fmt: skip
    for name, options in short.items():
        print(f"\nbench.{name}", flush=True)
        chosen = [] if is_full else options
        command = [sys.executable, "-m", f"bench.{name}", *chosen, *kinds.get(name, [])]
        subprocess.run(command, check=True)


def main() -> None:
    """Make the demo in a temporary folder and measure; then run the other modules."""
    measure_help()
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary) / "skerries"
        made: list[str] = []

        def make() -> None:
            ran = subprocess.run([str(COMMAND), "demo", str(folder), "--no-serve"],
                                 check=True, capture_output=True, text=True)  # fmt: skip
            made.append(ran.stdout)

        print(f"{'the demo, made whole':<44}{seconds(make):>9.1f} s")
        found = re.search(r"^  (\w+)\s+(\S{16})\s+administrator", made[0], re.MULTILINE)
        assert found is not None
        measure_start(folder)
        measure_list(folder, found[1], found[2])
    os.environ.pop("STATE_FOLDER", None)  # the folder is gone
    measure_modules("--full" in sys.argv)


if __name__ == "__main__":
    main()
