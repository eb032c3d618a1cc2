"""Hostile input: what doubles in length may take three times as long, and no more.

    python -m bench.hostile

Long, repetitive and nested input is doubled up to each limit, in addresses, fields and
headers, and answered in this process: processor time alone is told, beside that of the
half. Nothing that is accepted may take over a second.
"""

import base64
import importlib
import os
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

from tests.support.projects import name_package

from lumet.project.commands import run_generation, run_survey

PASSWORD = "only-for-benches-7-lamps"
SCRIPT = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL, mail TEXT, site TEXT, code TEXT
    CHECK (code LIKE '%a%b%c%d%'), facts JSON, built DATE, height DECIMAL(8,2), note TEXT, colour TEXT,
    kind TEXT CHECK (kind IN ('a', 'b')), latitude REAL, above_id INTEGER REFERENCES station);
CREATE TABLE visit (station_id INTEGER REFERENCES station, day DATE, note TEXT, PRIMARY KEY (station_id, day));
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 500)
INSERT INTO station (name, mail, built) SELECT 'Station ' || i, 'a' || i || '@example.org', '2024-01-01' FROM n;
INSERT INTO visit SELECT id, '2024-01-01', 'note' FROM station;
"""
MIN_LENGTH = 500  # characters to begin with, in an address
SHORTEST_FORM = 125_000  # the same in a form
LONGEST_FORM = 1_000_000
LONGEST_PARTS = 8_000_000  # of a form in parts, with rows
QUICK = 0.3  # seconds; what takes as long is not tried again
NOISE = 0.004  # seconds below which a ratio says nothing
Make = Callable[[int], str]
FORMS: dict[str, Make] = {
    "repetitive": lambda n: "ab" * (n // 2),
    "at signs and dots": lambda n: "a@" + "." * (n - 3) + "@",
    "words": lambda n: "a " * (n // 2),
    "separators": lambda n: " · " * (n // 3),
    "per cent": lambda n: "%_" * (n // 2),
    "abcd": lambda n: "abcd" * (n // 4),
    "digits": lambda n: "9" * n,
    "brackets": lambda n: "[" * n,
    "nested": lambda n: "[" * 400 + "1," * ((n - 801) // 2) + "1" + "]" * 400,
    "quotes": lambda n: '"\\' * (n // 2),
    "letters beyond ASCII": lambda n: "ſß" * (n // 2),
    "line ends": lambda n: "\r\n" * (n // 2),
    "boundaries": lambda n: "\r\n--lam" * (n // 7),
    "keys": lambda n: "~41," * (n // 4),
}


def requests(client: Any, form: dict[str, str]) -> Iterator[tuple[str, int, Callable[[str], Callable[[], Any]]]]:  # fmt: skip
    """Yield where input goes, how much of it is accepted, and what sends it."""
    for name in ("q", "sort", "columns", "mail.is", "name.has", "height.from", "built.from", "under", "after"):  # fmt: skip
        yield f"address, {name}", 4_000, lambda text, n=name: getting(client, f"/t/station?{n}={quote(text)}")  # fmt: skip
    yield "address, after (base64)", 2_900, lambda text: getting(
        client, "/t/station?after=" + base64.urlsafe_b64encode(text.encode("utf-8", "replace")).decode()
    )  # fmt: skip
    yield "address, choices", 4_000, lambda text: getting(client, f"/t/station/choices/above_id?find-what={quote(text)}")  # fmt: skip
    yield "path, key", 1_900, lambda text: getting(client, f"/t/visit/r/{quote(text)}")
    yield "header, user agent", 4_000, lambda text: getting(
        client, "/t/station", headers={"User-Agent": text.encode("ascii", "replace").decode().replace("\r\n", "  ")}
    )  # fmt: skip
    for name in ("name", "mail", "site", "code", "facts", "built", "height", "colour", "latitude", "above_id", "kind"):  # fmt: skip
        yield f"form, {name}", LONGEST_FORM, lambda text, n=name: posting(client, "/t/station/add", form | {n: text})  # fmt: skip
    stranger = client.application.test_client()
    for name in ("name", "note", "facts"):
        yield f"form in parts, {name}", LONGEST_PARTS, lambda text, n=name: in_parts(client, "/t/station/add", form | {n: text})  # fmt: skip
    given = {"name": "x", "password": "y"}
    for name in given:
        yield f"sign-in, {name}", LONGEST_FORM, lambda text, n=name: posting(stranger, "/sign-in", given | {n: text})  # fmt: skip


def getting(client: Any, address: str, **more: Any) -> Callable[[], Any]:
    """Return what asks for an address."""
    return lambda: client.get(address, **more)


def posting(client: Any, address: str, form: dict[str, str]) -> Callable[[], Any]:
    """Return what posts a form, which is written as a browser would before any clock runs."""
    body = urlencode(form).encode()
    return lambda: client.post(
        address, data=body, content_type="application/x-www-form-urlencoded"
    )


def in_parts(client: Any, address: str, form: dict[str, str]) -> Callable[[], Any]:
    """Return what posts a form as pages send it, in parts."""
    mark = "lamp"
    parts = [f'--{mark}\r\nContent-Disposition: form-data; name="{name}"\r\n\r\n{text}\r\n' for name, text in form.items()]  # fmt: skip
    body = ("".join(parts) + f"--{mark}--\r\n").encode()
    kind = f"multipart/form-data; boundary={mark}"
    return lambda: client.post(address, data=body, content_type=kind)


def took(work: Callable[[], Any]) -> tuple[float, int]:
    """Return the processor seconds of a request, the lesser of two if it is a quick one,
    and its status."""
    found: list[float] = []
    status = 0
    while not found or (len(found) < 2 and found[0] < QUICK):
        began = time.process_time()
        status = work().status_code
        found.append(time.process_time() - began)
    return min(found), status


def _shortest(most: int) -> int:
    if most < LONGEST_FORM:
        return MIN_LENGTH
    return SHORTEST_FORM if most == LONGEST_FORM else LONGEST_PARTS // 8


def _restore(app: Any, path: Path) -> None:
    # titles of megabytes would be measured on every page after them, a refused sign-in
    # beside one whose password is looked at
    with app.extensions["users"].store.writing() as connection:
        connection.exec_driver_sql("DELETE FROM sign_in_failure")
    with closing(sqlite3.connect(path)) as raw, raw:
        raw.execute("DELETE FROM station WHERE id > 500")


def measure(app: Any, path: Path) -> None:
    """Print the worst of each place."""
    app.config["WTF_CSRF_ENABLED"] = False
    app.extensions["users"].add("ina", PASSWORD, ["administrator"])
    client = app.test_client()
    client.post("/sign-in", data={"name": "ina", "password": PASSWORD})
    slowest, worst_ratio = (0.0, ""), (0.0, "")
    form = {"name": "Kelp Rock", "return-to": ""}
    for place, most, send in requests(client, form):
        peak, ratio, statuses = (0.0, ""), (0.0, ""), set()
        for kind, make in FORMS.items():
            before, size = 0.0, _shortest(most)
            while size <= most:
                seconds, status = took(send(make(size)))
                _restore(app, path)
                statuses.add(status)
                peak = max(peak, (seconds, f"{kind}, {size:,}"))
                if before > NOISE:
                    ratio = max(ratio, (seconds / before, f"{kind}, {size:,}"))
                before, size = seconds, size * 2
        slowest = max(slowest, (peak[0], f"{place}: {peak[1]}"))
        worst_ratio = max(worst_ratio, (ratio[0], f"{place}: {ratio[1]}"))
        codes = " ".join(map(str, sorted(statuses)))
        print(
            f"{place:<26}{peak[0] * 1000:>8.0f} ms ({peak[1]})   at most {ratio[0]:.1f} × the half   {codes}",
            flush=True,
        )
    print(f"slowest: {slowest[0] * 1000:.0f} ms, {slowest[1]}   limit 1000 ms")
    print(f"steepest: {worst_ratio[0]:.1f} × the half, {worst_ratio[1]}   limit 3")


def main() -> None:
    """Make a small application and measure."""
    with tempfile.TemporaryDirectory(prefix="lumet-bench-") as name:
        folder = Path(name)
        with sqlite3.connect(folder / "hostile.db") as raw:
            raw.executescript(SCRIPT)
        raw.close()
        run_survey(folder, str(folder / "hostile.db"))
        name_package(folder, "bench_hostile")
        run_generation(folder)
        sys.path.insert(0, name)
        os.environ["STATE_FOLDER"] = name
        made = importlib.import_module("bench_hostile").create_app()
        measure(made, folder / "hostile.db")


if __name__ == "__main__":
    main()
