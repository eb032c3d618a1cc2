"""The rehearsal as a command: it finds planted faults, and leaves nothing behind."""

import hashlib
import json
import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from lumet.rehearsal.checks import rehearse
from lumet.rehearsal.probe import Probe
from lumet.rehearsal.rehearsal import QUICK, Rehearsal
from lumet.rehearsal.staging import staged
from tests.support.capabilities import needs
from tests.support.projects import ProjectCase, make_database, run_command
from tests.support.servers import MARIADB, POSTGRESQL, make_server_database

SCRIPT = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE);
CREATE TABLE light (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, colour VARCHAR(10) NOT NULL DEFAULT 'white',
  station_id INTEGER NOT NULL, height INTEGER CHECK (height BETWEEN 0 AND 90), FOREIGN KEY (station_id) REFERENCES station (id));
CREATE TABLE log_line (id INTEGER PRIMARY KEY, words VARCHAR(80), light_id INTEGER);
INSERT INTO station VALUES (1, 'North'), (2, 'South');
INSERT INTO light VALUES (1, 'Upper', 'white', 1, 20), (2, 'Lower', 'red', 1, NULL), (3, 'Pier', 'green', 2, 6);
INSERT INTO log_line VALUES (1, 'Lit', 1), (2, 'Out', 2), (3, 'Lost', 77)
"""
LIGHT = '''"""Faults, planted."""

from pathlib import Path

from sqlalchemy import ColumnElement, FromClause

from ..kit.custom import Change, Webhook, is_rehearsal
from ..tables.light import LightPages


class OwnLightPages(LightPages):
    """Pages that lose a row, and let nothing in."""

    def list_condition(self, rows: FromClause) -> ColumnElement[bool] | None:
        return rows.c.name != "Lower"

    def validate(self, change: Change) -> None:
        if change.kind == "add":
            change.refuse("It is not the day for it.")
'''
STATION = '''"""What must not happen in a rehearsal."""

from pathlib import Path

from ..kit.custom import Change, Webhook, is_rehearsal
from ..tables.station import StationPages


class OwnStationPages(StationPages):
    """Pages that tell the world."""

    def write(self, change: Change) -> None:
        super().write(change)
        if not is_rehearsal():
            Path(__file__).with_name("told.txt").write_text("told")
        change.send(Webhook("DUTY", "station.changed"))

    def committed(self, change: Change) -> None:
        Path(__file__).with_name("told.txt").write_text("told")
'''


class RehearseTest(ProjectCase):
    def prepare(self, address: str) -> Path:
        """Survey and generate; return the folder of own code."""
        for words in (("survey", address), ("generate",)):
            ran = run_command(*words, cwd=self.folder)
            self.assertEqual(ran.returncode, 0, ran.stderr)
        (custom,) = self.folder.glob("*/custom")
        return custom

    def lumet(self, *words: str, status: int) -> str:
        ran = run_command("rehearse", *words, cwd=self.folder)
        self.assertEqual(ran.returncode, status, ran.stdout + ran.stderr)
        return ran.stdout + ran.stderr

    def test_planted_faults_are_found_and_nothing_is_left(self) -> None:
        database = make_database(self.folder / "coast.db", SCRIPT)
        custom = self.prepare(str(database))
        (custom / "station.py").write_text(STATION)
        before = hashlib.sha256(database.read_bytes()).hexdigest()
        patterns = self.folder / "design/tables/log_line.toml"
        decided = patterns.read_text() + '\n[field.light_id]\nreferences = "light.id"\n'
        patterns.write_text(decided)
        self.assertEqual(run_command("generate", cwd=self.folder).returncode, 0)
        said = self.lumet(status=0)
        self.assertIn("No failure", said)
        self.assertIn("reference to a record that there is not: log_line", said)
        self.assertEqual(hashlib.sha256(database.read_bytes()).hexdigest(), before)
        self.assertFalse((custom / "told.txt").exists())
        self.assertFalse((self.folder / "accounts.db").exists())
        self.assertFalse((self.folder / "uploads").exists())
        (custom / "light.py").write_text(LIGHT)
        (custom / "templates/log_line").mkdir(parents=True)
        (custom / "templates/log_line/record.html").write_text("{{ nothing.at.all }}")
        known = self.folder / "known.json"
        ran = run_command("rehearse", "--json", "--junit", "j.xml", "--write-baseline", "known.json", cwd=self.folder)  # fmt: skip
        self.assertEqual(ran.returncode, 1)
        found = json.loads(ran.stdout)
        kinds = {(each["kind"], each["table"]) for each in found["failures"]}
        for expected in (
            ("rows of a list", "light"),
            ("rows of an export", "light"),
            ("form that cannot be filled", "light"),
            ("page with status 500", "log_line"),
        ):
            self.assertIn(expected, kinds)
        self.assertEqual({table for _kind, table in kinds}, {"light", "log_line"})
        suite = ElementTree.parse(self.folder / "j.xml").getroot()
        failed = {c.get("classname") for c in suite if c.find("failure") is not None}
        self.assertEqual(failed, {"light", "log_line"})
        page = (self.folder / "rehearsal.html").read_text()
        self.assertIn("lumet rehearse --tables light", page)
        self.assertNotRegex(page, r"(src|href)=")
        self.assertIn("known", self.lumet("--baseline", str(known), status=0))
        one = self.lumet("--tables", "station", "--roles", "viewer", "--quick", status=0)  # fmt: skip
        self.assertIn("1 table,", one)
        pages = self.lumet("--read-only", status=1)
        self.assertIn(" 0 forms, 0 writes", pages)

    def test_bad_inputs(self) -> None:
        self.assertIn("Generate first", self.lumet(status=2))
        database = make_database(self.folder / "coast.db", SCRIPT)
        custom = self.prepare(str(database))
        self.assertIn("No table fits harbour", self.lumet("--tables", "harbour", status=2))  # fmt: skip
        self.assertIn("No role fits", self.lumet("--roles", "pilot", status=2))
        self.assertIn("There is no file", self.lumet("--baseline", "none.json", status=2))  # fmt: skip
        (self.folder / "none.json").write_text("[]")
        self.assertIn("is no baseline", self.lumet("--baseline", "none.json", status=2))
        (custom / "light.py").write_text("nonsense")
        self.assertIn("does not start", self.lumet(status=3))
        (custom / "light.py").unlink()
        database.rename(self.folder / "away.db")
        self.assertIn("there is no file", self.lumet(status=3))

    def check_server(self, address: str, kind: str) -> None:
        custom = self.prepare(address)
        (custom / "station.py").write_text(STATION)
        package = custom.parent.name

        def dumped() -> Any:
            names = ("station", "light", "log_line")
            probe = Probe.at(address)
            return [sorted(map(str, probe.rows(f"SELECT * FROM {n}"))) for n in names]

        before = dumped()
        with staged(self.folder, package) as stage:
            rehearsal = Rehearsal(stage.app, stage.probe, limits=QUICK, end_case=stage.end_case)  # fmt: skip
            figures = rehearse(rehearsal)
            unsafe = stage.unsafe
        self.assertEqual([str(each) for each in figures.failures], [])
        self.assertGreater(figures.writes, 3)
        self.assertEqual(dumped(), before)
        self.assertFalse((custom / "told.txt").exists())
        self.assertEqual({*unsafe}, {"log_line"} if kind == "mariadb" else set())
        said = self.lumet("--quick", status=0)
        self.assertIn("was rolled back", re.sub(r"\s+", " ", said))
        self.assertEqual(dumped(), before)

    @needs("postgresql")
    def test_on_postgresql(self) -> None:
        address = make_server_database(type(self), POSTGRESQL, "lumet_test_rehearsal", SCRIPT)  # fmt: skip
        self.check_server(address, "postgresql")

    @needs("mariadb")
    def test_on_mariadb(self) -> None:
        script = SCRIPT.replace("light_id INTEGER);", "light_id INTEGER) ENGINE=MyISAM;")  # fmt: skip
        address = make_server_database(type(self), MARIADB, "lumet_test_rehearsal", script)  # fmt: skip
        self.check_server(address, "mariadb")
