"""Rehearsals of real schemas, which nobody here wrote: survey, generate, rehearse each, with
nothing edited.

    python -m bench.corpus [NAME...] [--server postgresql] [--quick]

The schemas are the plain SQL files in Debian's packages of general-purpose software. They
are fetched into a temporary folder, and nothing of theirs is kept. Their tables are
empty, but for what they come with.
"""

import argparse
import json
import shutil
import sqlite3
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy import make_url
from tests.support.projects import run_command
from tests.support.servers import MARIADB, POSTGRESQL, run

NAME = "lumet_corpus"
FILE, PG, MY = "sqlite", "postgresql", "mariadb"


@dataclass(frozen=True, slots=True)
class Schema:
    """A schema by what it is for: the package, and the files by kind of server."""

    name: str
    package: str
    files: dict[str, str] = field(default_factory=dict)


CORPUS = (
    Schema("web mail", "roundcube-core",
           {FILE: "**/sqlite.initial.sql", PG: "**/postgres.initial.sql", MY: "**/mysql.initial.sql"}),
    Schema("network access", "freeradius-config",
           {kind: f"**/sql/main/{kind if kind != MY else 'mysql'}/schema.sql" for kind in (FILE, PG, MY)}),
    Schema("name server", "pdns-backend-pgsql", {PG: "usr/share/pdns-backend-pgsql/schema/schema.pgsql.sql"}),
    Schema("name server in a file", "pdns-backend-sqlite3", {FILE: "usr/share/pdns-backend-sqlite3/schema/schema.sqlite3.sql"}),
    Schema("chat server", "ejabberd",
           {FILE: "usr/share/ejabberd/sql/lite.sql", PG: "usr/share/ejabberd/sql/pg.sql", MY: "usr/share/ejabberd/sql/mysql.sql"}),
    Schema("tickets", "request-tracker5", {FILE: "**/schema.SQLite", PG: "usr/share/*/etc/schema.Pg", MY: "usr/share/*/etc/schema.mysql"}),
    Schema("telephony", "kamailio-postgres-modules", {PG: "**/*-create.sql"}),
)  # fmt: skip


def unpacked(package: str, folder: Path) -> Path:
    """Fetch a package and unpack it; return the folder with its files."""
    target = folder / package
    if not target.exists():
        fetch = ["apt-get", "download", "-q", package]
        subprocess.run(fetch, cwd=folder, check=True, capture_output=True)
        (archive,) = folder.glob(f"{package}_*.deb")
        subprocess.run(["dpkg-deb", "-x", str(archive), str(target)], check=True)
    return target


def made(kind: str, texts: list[str], folder: Path) -> str:
    """Make the database; return its address. What the server refuses is left out."""
    if kind == FILE:
        path = folder / "corpus.db"
        path.unlink(missing_ok=True)
        with sqlite3.connect(path) as raw:
            for text in texts:
                raw.executescript(text)
        return str(path)
    server = {PG: POSTGRESQL, MY: MARIADB}[kind]
    run(server, [f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}"])
    url = make_url(server).set(database=NAME)
    client = ["psql", "-q", "-h", str(url.host), "-U", str(url.username), NAME]
    if kind == MY:
        client = ["mariadb", "--force", "-h", str(url.host), "-u", str(url.username), NAME]  # fmt: skip
    for text in texts:
        # a script that names its own database is for an administrator
        subprocess.run(client, input=text, text=True, check=False, capture_output=True)
    return url.render_as_string(hide_password=False)


def chosen(names: list[str], server: str) -> Iterator[tuple[Schema, str]]:
    """Yield the schemas that are asked for, with the kind of server."""
    for schema in CORPUS:
        for kind in schema.files:
            is_named = not names or any(each in schema.name for each in names)
            if is_named and (not server or kind == server):
                yield schema, kind


def main() -> None:
    """Rehearse each schema on each of its servers."""
    parser = argparse.ArgumentParser()
    parser.add_argument("names", nargs="*")
    parser.add_argument("--server", default="")
    parser.add_argument("--quick", action="store_true")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        packages = Path(name)
        for schema, kind in chosen(asked.names, asked.server):
            folder = packages / "project"
            shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir()
            home = unpacked(schema.package, packages)
            paths = sorted(home.glob(schema.files[kind]))
            texts = [path.read_text("utf-8", "replace") for path in paths]
            try:
                address = made(kind, texts, packages)
            except sqlite3.Error as error:
                print(f"{schema.name}, {kind}: not made: {error}", flush=True)
                continue
            show(schema.name, kind, folder, address, asked.quick)


def show(what: str, kind: str, folder: Path, address: str, quick: bool) -> None:
    """Survey, generate and rehearse one database; print what failed."""
    for words in (("survey", address), ("generate",)):
        ran = run_command(*words, cwd=folder, timeout=None)
        if ran.returncode:
            print(f"{what}, {kind}: {words[0]} {ran.stderr.strip()[:300]}", flush=True)
            return
    rehearse = ["rehearse", "--json", *(["--quick"] if quick else [])]
    ran = run_command(*rehearse, cwd=folder, timeout=None)
    if not ran.stdout:
        print(f"{what}, {kind}: {ran.stderr.strip()[-300:]}", flush=True)
        return
    found = json.loads(ran.stdout)
    figures, failures = found["figures"], found["failures"]
    tables = len([*folder.glob("design/tables/*.toml")])
    print(f"{what + ', ' + kind:<36}{tables:>4} tables {figures['pages']:>7,} pages {len(failures):>4} failures {found['seconds']:>6.0f} s", flush=True)  # fmt: skip
    for each in failures:
        words = ": ".join(filter(None, (each["kind"], each["table"], each["where"], each["detail"], each["role"])))  # fmt: skip
        print(f"    {words}", flush=True)


if __name__ == "__main__":
    main()
