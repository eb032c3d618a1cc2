"""Rehearsals of real schemas, which nobody here wrote: survey, generate, populate and
rehearse each, with nothing edited.

    python -m bench.corpus [NAME...] [--server postgresql] [--quick] [--rows 40]

The schemas are the plain SQL files in packages of general-purpose software. They are
fetched into a temporary folder, and nothing of theirs is kept. Empty tables are filled
with made-up rows. A statement that the server refuses is left out, as is one for
administrators.
"""

import argparse
import gzip
import json
import re
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from zipfile import ZipFile

from sqlalchemy import make_url
from tests.support.projects import run_command
from tests.support.servers import MARIADB, POSTGRESQL, run

NAME = "lumet_corpus"
# lines that lead to another database than the one that is made
_ELSEWHERE = re.compile(r"^\s*(create database|drop database|use|source|grant)\b.*$", re.IGNORECASE | re.MULTILINE)  # fmt: skip
FILE, PG, MY = "sqlite", "postgresql", "mariadb"


@dataclass(frozen=True, slots=True)
class Schema:
    """A schema by what it is for: its packages, and the files by kind of server, in the
    order of the patterns. The packages are Debian's, or of `python`."""

    name: str
    packages: str
    files: dict[str, tuple[str, ...]] = field(default_factory=dict)
    python: bool = False
    schema: str = ""  # on PostgreSQL, where it is not the default one


def _by_word(pattern: str, **words: str) -> dict[str, tuple[str, ...]]:
    """Return the files of servers whose word stands in the pattern."""
    return {kind: (pattern.replace("KIND", word),) for kind, word in words.items()}


CORPUS = (
    Schema("web mail", "roundcube-core", _by_word("**/KIND.initial.sql", sqlite="sqlite", postgresql="postgres", mariadb="mysql")),
    Schema("network access", "freeradius-config", _by_word("**/sql/main/KIND/schema.sql", sqlite="sqlite", postgresql="postgresql", mariadb="mysql")),
    Schema("name server", "pdns-backend-pgsql", {PG: ("usr/share/pdns-backend-pgsql/schema/schema.pgsql.sql",)}),
    Schema("name server in a file", "pdns-backend-sqlite3", {FILE: ("usr/share/pdns-backend-sqlite3/schema/schema.sqlite3.sql",)}),
    Schema("chat server", "ejabberd", _by_word("usr/share/ejabberd/sql/KIND.sql", sqlite="lite", postgresql="pg", mariadb="mysql")),
    Schema("tickets", "request-tracker5", _by_word("usr/share/*/etc/schema.KIND", sqlite="SQLite", postgresql="Pg", mariadb="mysql")),
    Schema("telephony", "kamailio-postgres-modules", {PG: ("**/*-create.sql",)}),
    Schema("wiki", "mediawiki", {
        FILE: ("usr/share/mediawiki/maintenance/sqlite/tables-generated.sql",),
        PG: ("usr/share/mediawiki/maintenance/postgres/tables.sql", "usr/share/mediawiki/maintenance/postgres/tables-generated.sql"),
        MY: ("usr/share/mediawiki/maintenance/tables-generated.sql",),
    }),
    Schema("biological laboratory", "libchado-perl", {PG: ("usr/share/gmod/chado/modules/default_schema.sql",)}),
    Schema("batch jobs", "oar-server", _by_word("usr/lib/oar/database/KIND_structure.sql", postgresql="pg", mariadb="mysql")),
    Schema("news reader", "tt-rss", _by_word("**/schema/ttrss_schema_KIND.sql", postgresql="pgsql", mariadb="mysql")),
    Schema("network addresses", "kea-admin", _by_word("**/dhcpdb_create.KIND", postgresql="pgsql", mariadb="mysql")),
    Schema("zone keys", "opendnssec-common", _by_word("usr/share/opendnssec/schema.KIND", sqlite="sqlite", mariadb="mysql")),
    Schema("instruments", "tango-db", {MY: ("**/create_db_tables.sql",)}),
    Schema("open publishing", "samizdat", _by_word("**/database/create-KIND.sql", sqlite="sqlite3", postgresql="pgsql", mariadb="mysql")),
    Schema("package builders", "buildd", {PG: ("**/install/functions.sql", "**/install/schema.sql", "**/install/archive.sql", "**/install/build.sql")}),
    Schema("calendars", "davical libawl-php", {PG: ("**/awl-tables.sql", "**/schema-management.sql", "**/dba/davical.sql")}),
    Schema("address books", "php-sabre-dav", _by_word("**/sql/KIND.*.sql", sqlite="sqlite", postgresql="pgsql", mariadb="mysql")),
    Schema("identities", "glewlwyd", _by_word("**/database/init.KIND.sql.gz", sqlite="sqlite3", postgresql="postgre", mariadb="mariadb")),
    Schema("test runs", "openqa", {PG: ("**/deploy/99/001-auto.sql", "**/deploy/95/001-auto.sql")}),
    Schema("cameras", "zoneminder", {MY: ("usr/share/zoneminder/db/zm_create.sql",)}),
    Schema("library", "calibre", {FILE: ("usr/share/calibre/metadata_sqlite.sql",)}),
    Schema("text messages", "gammu-smsd", _by_word("**/examples/KIND.sql*", sqlite="sqlite", postgresql="pgsql", mariadb="mysql")),
    Schema("configuration", "goiardi", _by_word("**/goiardi-schema-KIND.sql", postgresql="postgres", mariadb="mysql"), schema="goiardi"),
    Schema("rooms", "matrix-synapse", _by_word("**/full_schemas/72/full.sql.KIND", sqlite="sqlite", postgresql="postgres"), python=True),
    Schema("device graphs", "cacti", {MY: ("usr/share/cacti/conf_templates/cacti.sql",)}),
    Schema("monitored hosts", "icinga2-ido-pgsql", {PG: ("usr/share/icinga2-ido-pgsql/schema/pgsql.sql",)}),
    Schema("monitoring", "icingadb", {PG: ("usr/share/icingadb/schema/pgsql/schema.sql",), MY: ("usr/share/icingadb/schema/mysql/schema.sql",)}),
    Schema("monitoring rules", "icingaweb2-module-director", {PG: ("usr/share/icingaweb2/modules/director/schema/pgsql.sql",)}),
    Schema("clinic", "gnumed-server", {PG: ("**/sql/gm*-static.sql", "**/sql/gm*[a-z].sql")}),
)  # fmt: skip


def unpacked(schema: Schema, folder: Path) -> Path:
    """Fetch the packages of a schema and unpack them; return the folder with their
    files."""
    target = folder / schema.packages.split()[0]
    for package in schema.packages.split() if not target.exists() else ():
        if schema.python:
            fetch = [
                sys.executable,
                "-m",
                "pip",
                "download",
                "-q",
                "--no-deps",
                package,
            ]
            subprocess.run(fetch, cwd=folder, check=True, capture_output=True)
            (archive,) = folder.glob(f"{package.replace('-', '_')}*.whl")
            ZipFile(archive).extractall(target)
            continue
        fetch = ["apt-get", "download", "-q", package]
        subprocess.run(fetch, cwd=folder, check=True, capture_output=True)
        (archive,) = folder.glob(f"{package}_*.deb")
        subprocess.run(["dpkg-deb", "-x", str(archive), str(target)], check=True)
    return target


def texts_of(schema: Schema, kind: str, home: Path) -> list[str]:
    """Return the texts of the files for a kind of server."""
    paths: dict[Path, None] = {}
    for pattern in schema.files[kind]:
        paths |= dict.fromkeys(path for path in sorted(home.glob(pattern)) if path.is_file())  # fmt: skip
    return [
        (gzip.decompress(path.read_bytes()) if path.suffix == ".gz" else path.read_bytes()).decode("utf-8", "replace")
        for path in paths
    ]  # fmt: skip


def made(kind: str, texts: list[str], folder: Path) -> str:
    """Make the database; return its address."""
    if kind == FILE:
        path = folder / "corpus.db"
        path.unlink(missing_ok=True)
        with sqlite3.connect(path, isolation_level=None) as raw:
            for statement in (each for text in texts for each in statements(text)):
                try:
                    raw.execute(statement)
                except sqlite3.Error:
                    continue
        return str(path)
    server = {PG: POSTGRESQL, MY: MARIADB}[kind]
    run(server, [f"DROP DATABASE IF EXISTS {NAME}", f"CREATE DATABASE {NAME}"])
    url = make_url(server).set(database=NAME)
    client = ["psql", "-q", "-h", str(url.host), "-U", str(url.username), NAME]
    if kind == MY:
        client = ["mariadb", "--force", "-h", str(url.host), "-u", str(url.username), NAME]  # fmt: skip
    for text in texts:
        text = _ELSEWHERE.sub("", text)
        subprocess.run(client, input=text, text=True, check=False, capture_output=True)
    return url.render_as_string(hide_password=False)


def statements(text: str) -> Iterator[str]:
    """Yield the statements of a script; lines that begin with # are comments."""
    found = ""
    for line in text.splitlines():
        if not line.startswith("#"):
            found += f"{line}\n"
        if sqlite3.complete_statement(found):
            yield found
            found = ""


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
    parser.add_argument("--rows", type=int, default=40, help="0 leaves them empty")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        packages = Path(name)
        for schema, kind in chosen(asked.names, asked.server):
            folder = packages / "project"
            shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir()
            try:
                home = unpacked(schema, packages)
            except subprocess.CalledProcessError as error:
                print(f"{schema.name}: not fetched: {error.stderr.decode().strip()[-200:]}", flush=True)  # fmt: skip
                continue
            texts = texts_of(schema, kind, home)
            address = made(kind, texts, packages)
            survey = ["survey", address]
            if kind == PG and schema.schema:
                survey += ["--schema", schema.schema]
            show(schema.name, kind, folder, survey, asked.quick, asked.rows)


def show(
    what: str, kind: str, folder: Path, survey: list[str], quick: bool, rows: int
) -> None:
    """Survey, generate, fill and rehearse one database; print what failed."""
    name = Path(survey[1]).name if kind == FILE else NAME
    fill = ["populate", "--rows", str(rows), "--yes", name]
    notes: list[str] = []
    for words in (survey, ["generate"], *([fill] if rows else [])):
        ran = run_command(*words, cwd=folder, timeout=None)
        if words is fill:
            said = ran.stdout.strip().splitlines()
            notes = [
                line.strip() for line in said if line.strip().startswith(("✗", "·"))
            ]
            notes += ran.stderr.strip().splitlines()[-3:] if ran.returncode > 1 else []
        elif ran.returncode:
            print(f"{what}, {kind}: {words[0]} {ran.stderr.strip()[:300]}", flush=True)
            return
        with (folder / ".env").open("a") as file:
            file.write(f"DEVELOPMENT_DATABASE='{name}'\n")
    rehearse = ["rehearse", "--json", *(["--quick"] if quick else [])]
    ran = run_command(*rehearse, cwd=folder, timeout=None)
    if not ran.stdout:
        print(f"{what}, {kind}: {ran.stderr.strip()[-300:]}", flush=True)
        return
    found = json.loads(ran.stdout)
    figures, failures = found["figures"], found["failures"]
    tables = len([*folder.glob("design/tables/*.toml")])
    print(f"{what + ', ' + kind:<36}{tables:>4} tables {figures['pages']:>7,} pages {len(failures):>4} failures {found['seconds']:>6.0f} s", flush=True)  # fmt: skip
    for each in notes:
        print(f"    {each}", flush=True)
    for each in failures:
        words = ": ".join(filter(None, (each["kind"], each["table"], each["where"], each["detail"], each["role"])))  # fmt: skip
        print(f"    {words}", flush=True)


if __name__ == "__main__":
    main()
