"""The first page on schemas that nobody here wrote: each inferred card with what it shows.

    python -m bench.cards [NAME...] [--rows 200]

The schemas are those of `bench.corpus`, filled by `lumet populate`. Of each card the
number of different values and the time are printed; one that is empty, constant, or takes
over a second is marked.
"""

import argparse
import importlib
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tests.support.projects import PASSWORD, run_command

from bench.corpus import CORPUS, FILE, MY, NAME, PG, Schema, made, texts_of, unpacked


def filled(folder: Path, schema: Schema, packages: Path, rows: int) -> str:
    """Make the database with rows, survey it in `folder` and generate; return the
    package."""
    kind = next(each for each in (FILE, PG, MY) if each in schema.files)
    address = made(kind, texts_of(schema, kind, unpacked(schema, packages)), packages)
    words = ["--schema", schema.schema] if kind == PG and schema.schema else []
    run_command("survey", address, *words, cwd=folder, timeout=None)
    name = Path(address).name if kind == FILE else NAME
    with (folder / ".env").open("a") as file:
        file.write(f"DEVELOPMENT_DATABASE='{name}'\n")
    run_command("generate", cwd=folder, timeout=None)
    run_command(
        "populate", "--rows", str(rows), "--yes", name, cwd=folder, timeout=None
    )
    run_command("survey", cwd=folder, timeout=None)
    ran = run_command("generate", cwd=folder, timeout=None)
    assert ran.returncode == 0, ran.stderr
    found = re.search(r'package = "(\w+)"', (folder / "lumet.toml").read_text())
    assert found is not None
    return found[1]


def figures(folder: Path, package: str) -> Iterator[tuple[str, str]]:
    """Yield each card, and what it shows."""
    sys.path.insert(0, str(folder))
    settings = importlib.import_module(f"{package}.kit.common.settings")
    app: Any = importlib.import_module(package).create_app(
        settings.read_settings(folder)
    )
    views: Any = importlib.import_module(f"{package}.kit.web.card_views")
    read, timed = views.read_figure, []

    def reading(context: Any, card: Any) -> Any:
        began = time.perf_counter()
        found = read(context, card)
        timed.append((card, found, time.perf_counter() - began))
        return found

    views.read_figure = reading
    app.extensions["users"].add("measure", PASSWORD, ["administrator"])
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    client.post("/sign-in", data={"name": "measure", "password": PASSWORD})
    began = time.perf_counter()
    client.get("/")
    whole = time.perf_counter() - began
    for card, found, seconds in timed:
        values = {point.value for point in found.points}
        is_dull = not found.number if card.kind == "number" else len(values) < 2
        is_dull |= found.is_zero or found.is_late or seconds > 1
        shown = found.number or f"{len(found.points)} values, {len(values)} different"
        mark = "!" if is_dull else " "
        yield f"{mark} {found.label}", f"{shown}, {seconds * 1000:.0f} ms"
    yield "  the page", f"{len(timed)} figures, {whole * 1000:.0f} ms"


def main() -> None:
    """Print the cards of each schema."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*")
    parser.add_argument("--rows", type=int, default=200)
    wanted = parser.parse_args()
    chosen = [s for s in CORPUS if not wanted.names or s.name in wanted.names]
    if (
        len(chosen) > 1
    ):  # each by itself: they share the names of a package and a database
        for schema in chosen:
            command = [sys.executable, "-m", "bench.cards", schema.name, "--rows", str(wanted.rows)]  # fmt: skip
            subprocess.run(command, check=False)
        return
    for schema in chosen:
        with tempfile.TemporaryDirectory() as packages, tempfile.TemporaryDirectory() as folder:  # fmt: skip
            package = filled(Path(folder), schema, Path(packages), wanted.rows)
            print(schema.name, flush=True)
            for label, told in figures(Path(folder), package):
                print(f"  {label:60} {told}", flush=True)


if __name__ == "__main__":
    main()
