"""How long a change takes until `lumet serve` shows it: a decision, own code, a template
and a style, in the demo and in an application of 170 tables.

    python -m bench.live [--tables 170]

Measured from saving the file until the new version is served; pages ask for it every 0.3
seconds. The median of several changes of each kind.
"""

import argparse
import json
import os
import statistics
import subprocess
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.support.projects import name_package
from tests.support.served import free_port

from bench.scale import COMMAND, lumet, make, names

TIMES = 5
PATIENCE = 60.0  # seconds


@contextmanager
def served(folder: Path) -> Iterator[str]:
    """Serve a project live; yield the address of its state."""
    port = free_port()
    command = [str(COMMAND), "serve", "--port", str(port)]
    # without compiled modules each loading would compile all of them again
    environment = {
        k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"
    }
    process = subprocess.Popen(
        command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment,
    )  # fmt: skip
    address = f"http://127.0.0.1:{port}/_lumet/state"
    try:
        ends = time.monotonic() + PATIENCE
        while time.monotonic() < ends:
            try:
                version(address)
                break
            except OSError:
                time.sleep(0.1)
        time.sleep(3)  # what a first change needs is loaded in the background
        yield address
    finally:
        process.terminate()
        process.wait()


def version(address: str) -> int:
    """Return the version that is served."""
    with urllib.request.urlopen(address) as answer:
        return int(json.load(answer)["version"])


def seconds(address: str, path: Path, text: str) -> float:
    """Return how long it takes until a file's new text is served."""
    before, began = version(address), time.perf_counter()
    path.write_text(text)
    while version(address) == before:
        if time.perf_counter() - began > PATIENCE:
            raise SystemExit(f"{path}: the change was not served.")
        time.sleep(0.01)
    return time.perf_counter() - began


def measure(what: str, folder: Path, package: str, table: str, goal: float) -> None:
    """Measure the changes of one project."""
    decisions = folder / f"design/tables/{table}.toml"
    custom = folder / package / "custom/__init__.py"
    template = folder / package / "kit/templates/list.html"
    style = folder / package / "kit/static/theme.css"
    texts = {path: path.read_text() for path in (decisions, custom, template, style)}
    with served(folder) as address:
        for name, path, text in (
            ("a decision", decisions, 'plural = "Rounds {n}"\n{old}'),
            ("own code", custom, "{old}\nnumber = {n}\n"),
            ("a template", template, "{old}\n"),
            ("a style", style, "{old}\n/* {n} */\n"),
        ):
            took = [
                seconds(address, path, text.replace("{n}", str(n)).replace("{old}", texts[path] + "\n" * n))
                for n in range(1, TIMES + 1)
            ]  # fmt: skip
            middle = statistics.median(took)
            print(f"  {what}, {name:<12}{middle:>8.2f} s   goal {goal:.0f} s", flush=True)  # fmt: skip


def main() -> None:
    """Measure the demo, and an application of many tables."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--tables", type=int, default=170)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "skerries"
        lumet(Path(name), "demo", "skerries", "--no-serve")
        measure("the demo", folder, "skerry_lights", "inspection", 1)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lumet(folder, "survey", make("sqlite", asked.tables, folder))
        name_package(folder, "live_app")
        lumet(folder, "generate")
        measure(f"{asked.tables} tables", folder, "live_app", names(asked.tables)[0], 2)


if __name__ == "__main__":
    main()
