"""How long `lumet rehearse` takes: the demo, and an application of many tables.

    python -m bench.rehearsal [--tables 170] [--quick]

Processor time of the command, which works in one process; one run of each.
"""

import argparse
import json
import tempfile
from pathlib import Path

from tests.support.projects import name_package, run_command

from bench.scale import lumet, make, processor_time

DEMO, MANY = 60, 600  # seconds that it should take at most


def measure(what: str, folder: Path, quick: bool, goal: int) -> None:
    """Rehearse one project."""
    words = ["rehearse", "--json", *(["--quick"] if quick else [])]
    told: list[str] = []

    def rehearse() -> None:
        told.append(run_command(*words, cwd=folder, timeout=None).stdout)

    took = processor_time(rehearse)
    found = json.loads(told[0])
    pages, failures = found["figures"]["pages"], len(found["failures"])
    print(f"  {what:<24}{took:>8.0f} s   {pages:,} pages, {failures} failures   goal {goal} s", flush=True)  # fmt: skip


def main() -> None:
    """Measure both."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--tables", type=int, default=170)
    parser.add_argument("--quick", action="store_true")
    asked = parser.parse_args()
    print("lumet rehearse")
    with tempfile.TemporaryDirectory() as name:
        lumet(Path(name), "demo", "skerries", "--no-serve")
        measure("the demo", Path(name) / "skerries", asked.quick, DEMO)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lumet(folder, "survey", make("sqlite", asked.tables, folder))
        name_package(folder, "many_tables")
        lumet(folder, "generate")
        measure(f"{asked.tables} tables", folder, asked.quick, MANY)


if __name__ == "__main__":
    main()
