"""A project over months: decisions, edits, own code, sixteen changes of the schema at
once, and back again. Nothing of a person's is lost, and the application's own tests
pass after every step."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import ClassVar

from lumet.generation.kept_imports import MARK
from lumet.project.commands import run_check, run_generation, run_survey
from lumet.project.generating import GenerationReport
from tests.support.capabilities import needs
from tests.support.projects import make_database, name_package
from tests.support.servers import MARIADB, POSTGRESQL, make_server_database, run

SCHEMA = """
CREATE TABLE district (code VARCHAR(4) PRIMARY KEY, name VARCHAR(20) NOT NULL);
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, tel VARCHAR(20), left_on DATE);
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, district_code VARCHAR(4) NOT NULL REFERENCES district (code),
  keeper_id INTEGER REFERENCES keeper (id), height INTEGER, built DATE, remarks VARCHAR(200));
CREATE TABLE light (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, station_id INTEGER NOT NULL REFERENCES station (id),
  state VARCHAR(8) NOT NULL, watts INTEGER, {check});
CREATE TABLE visit (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES station (id), made_on DATE NOT NULL, wind INTEGER, note VARCHAR(200));
CREATE TABLE spare_part (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, in_store INTEGER);
INSERT INTO district VALUES ('NR', 'North Reach'), ('SB', 'South Bight');
INSERT INTO keeper VALUES (1, 'Una Brock', '555-1', NULL), (2, 'Odd Lie', NULL, '2020-01-01');
INSERT INTO station VALUES (1, 'Gannet Rock', 'NR', 1, 12, '1898-05-01', NULL), (2, 'Fulmar Point', 'SB', 2, 30, NULL, 'Closed');
INSERT INTO light VALUES (1, 'North', 1, 'lit', 40), (2, 'South', 2, 'dark', 60);
INSERT INTO visit VALUES (1, 1, '2026-03-02', 6, 'Cleaned'), (2, 2, '2026-06-12', 4, NULL);
INSERT INTO spare_part VALUES (1, 'Fuse', 3), (2, 'Lens', 1);
"""
OLD_CHECK = "CONSTRAINT states CHECK (state IN ('lit', 'dark'))"
NEW_CHECK = "CONSTRAINT states CHECK (state IN ('lit', 'dark', 'out'))"
DECISIONS = {
    "design/tables/station.toml": 'plural = "Posts"\ntitle = "{name} ({district_code})"\nwhere = "height > 0"\n'
    '[list]\ncolumns = ["keeper_id", "height", "built"]\n[field.height]\nunit = "m"\nhelp = "Above the sea."\n'
    '[field.visits]\nkind = "integer"\nlabel = "Visits"\nformula = "(SELECT count(*) FROM visit v WHERE v.station_id = station.id)"\n',
    "design/tables/keeper.toml": 'singular = "Guardian"\n[field.tel]\nlabel = "Telephone"\nrule = "length(tel) > 2"\nmessage = "Too short."\n',
    "design/tables/light.toml": '[field.watts]\nlabel = "Power"\nunit = "W"\n[field.state]\nchoices = { lit = "Shines", dark = "Rests", out = "Broken" }\n',
    "design/tables/visit.toml": 'soft_delete = false\n[field.note]\nkind = "long text"\nplaceholder = "What was done"\n',
    "design/tables/district.toml": 'group = "Geography"\n',
    "design/patterns.toml": '[field."*.note"]\nhelp = "Short."\n[field."keeper.tel"]\nplaceholder = "555-0"\n',
    "access.toml": '[role.viewer.rows]\nkeeper = "tel IS NOT NULL"\nvisit = "wind < 9"\n[role.viewer.fields]\n"keeper.tel" = "read-only"\n',
    "design/queries/callers.sql": "SELECT keeper.id, keeper.tel, keeper.name FROM keeper WHERE keeper.tel IS NOT NULL\n",
}  # fmt: skip
EDITS = {
    "story/tables/station.py": ('_("Name")', '_("Name of the post")'),
    "story/tables/light.py": ('_("Power")', '_("Electric power")'),
    "story/tables/visit.py": ('_("Made on")', '_("Day of the visit")'),
    "story/kit/templates/home.html": ("{% block work %}", "{% block work %}<p>Welcome</p>"),
    "story/kit/templates/print.html": ("<h1", '<h1 data-own="1"'),
}  # fmt: skip
OWN = '"""Own code."""\n\nfrom ..tables.station import StationPages\n\n\nclass OwnPages(StationPages):\n    """The pages of stations."""\n'
# what all three servers understand; the others' words are in ALTER
CHANGES = """
ALTER TABLE station ADD COLUMN opened_by VARCHAR(40);
ALTER TABLE station DROP COLUMN remarks;
ALTER TABLE keeper RENAME COLUMN tel TO phone;
ALTER TABLE keeper RENAME TO guardian;
ALTER TABLE visit RENAME COLUMN made_on TO visited_on;
CREATE TABLE buoy (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, district_code VARCHAR(4) REFERENCES district (code));
DROP TABLE spare_part;
CREATE VIEW dark_light AS SELECT id, name, state FROM light WHERE state = 'dark';
CREATE UNIQUE INDEX station_name ON station (name);
CREATE INDEX visit_day ON visit (visited_on);
ALTER TABLE district ADD COLUMN chief_id INTEGER;
UPDATE district SET chief_id = 1;
"""
BACK = """
ALTER TABLE district DROP COLUMN chief_id;
DROP VIEW dark_light;
{drop_day};
{drop_name};
CREATE TABLE spare_part (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, in_store INTEGER);
INSERT INTO spare_part VALUES (1, 'Fuse', 3);
DROP TABLE buoy;
ALTER TABLE visit RENAME COLUMN visited_on TO made_on;
ALTER TABLE guardian RENAME TO keeper;
ALTER TABLE keeper RENAME COLUMN phone TO tel;
ALTER TABLE station ADD COLUMN remarks VARCHAR(200);
ALTER TABLE station DROP COLUMN opened_by;
"""
RENAMED = ("keeper=guardian", "keeper.tel=phone", "visit.made_on=visited_on")
RENAMED_BACK = ("guardian=keeper", "guardian.phone=tel", "visit.visited_on=made_on")
_LIGHT = "CREATE TABLE light_new (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, station_id INTEGER NOT NULL REFERENCES station (id), state VARCHAR(8) NOT NULL, watts {type}, {check}); INSERT INTO light_new SELECT * FROM light; DROP TABLE light; ALTER TABLE light_new RENAME TO light;"  # fmt: skip


class Story:
    """The story, for each server; not a test by itself."""

    WORDS: ClassVar[dict[str, str]]
    folder: Path
    address: str

    def execute(self, script: str) -> None:
        raise NotImplementedError

    def survey(self, *renamed: str) -> None:
        run_survey(self.folder, self.address, renamed=renamed)

    def generate(self: "Story") -> GenerationReport:
        report = run_generation(self.folder)
        ran = subprocess.run(
            [sys.executable, "-m", "unittest"], cwd=self.folder, capture_output=True,
            text=True, check=False, env=os.environ | {"PYTHONWARNINGS": "ignore"},
        )  # fmt: skip
        self.assertEqual(ran.returncode, 0, ran.stderr[-3000:])  # type: ignore[attr-defined]
        found = run_check(self.folder)
        self.assertEqual(
            (found.differences, found.mistakes, found.changes), ((), (), [])
        )  # type: ignore[attr-defined]
        return report

    def check_edits(self, moved: bool) -> None:
        test: unittest.TestCase = self  # type: ignore[assignment]
        for path, (_old, new) in EDITS.items():
            test.assertIn(new, (self.folder / path).read_text(), path)
        keeper = "guardian" if moved else "keeper"
        module = (self.folder / f"story/tables/{keeper}.py").read_text()
        test.assertIn('_("Whole name")', module)
        test.assertEqual((self.folder / "story/custom/station.py").read_text(), OWN)
        for path, words in (
            ("station", ('_("Posts")', '"m"', "Above the sea.", "visits = ")),
            (keeper, ('_("Guardian")', '_("Telephone")', "Too short.", "555-0")),
            ("light", ("Shines", "Broken", '_("Electric power")', '"W"')),
            ("visit", ("LongTextField", "What was done")),
            ("district", ('_("Geography")',)),
        ):
            text = (self.folder / f"story/tables/{path}.py").read_text()
            for word in words:
                test.assertIn(word, text, path)
        access = (self.folder / "story/access.py").read_text()
        column = "phone" if moved else "tel"
        for word in (f'"{keeper}": "{column} IS NOT NULL"', f'"{column}": "read-only"'):
            test.assertIn(word, access.replace("'", '"'))

    def test_nothing_is_lost_on_the_way_and_back(self) -> None:
        test: unittest.TestCase = self  # type: ignore[assignment]
        self.survey()
        name_package(self.folder, "story")
        (self.folder / "design/queries").mkdir()
        for path, text in DECISIONS.items():
            target = self.folder / path
            before = target.read_text() if target.exists() else ""
            target.write_text(text + before)
        self.generate()
        edits = {**EDITS, "story/tables/keeper.py": ('_("Name")', '_("Whole name")')}
        for path, (old, new) in edits.items():
            target = self.folder / path
            test.assertIn(old, target.read_text(), path)
            target.write_text(target.read_text().replace(old, new, 1))
        (self.folder / "story/custom/station.py").write_text(OWN)
        self.generate()
        self.check_edits(moved=False)
        self.execute(CHANGES + self.WORDS["change"])
        self.survey(*RENAMED)
        self.generate()
        self.check_edits(moved=True)
        light = self.folder / "story/tables/light.py"
        test.assertIn(f"from ..kit.forms import IntegerField{MARK}", light.read_text())
        query = (self.folder / "design/queries/callers.sql").read_text()
        test.assertIn("SELECT guardian.id, guardian.phone AS tel", query)
        for path in ("buoy", "dark_light"):
            test.assertTrue((self.folder / f"story/tables/{path}.py").exists(), path)
        test.assertFalse((self.folder / "story/tables/spare_part.py").exists())
        self.execute(self.WORDS["back"] + BACK.format(**self.WORDS))
        self.survey(*RENAMED_BACK)
        self.generate()
        self.check_edits(moved=False)
        test.assertEqual([*self.folder.rglob("*.conflict")], [])
        test.assertNotIn(MARK, light.read_text())


class SqliteStoryTest(Story, unittest.TestCase):
    WORDS: ClassVar[dict[str, str]] = {
        "check": OLD_CHECK,
        "change": "DROP VIEW dark_light;" + _LIGHT.format(type="DECIMAL(6,1)", check=NEW_CHECK)
        + "CREATE VIEW dark_light AS SELECT id, name, state FROM light WHERE state = 'dark';",
        "back": "DROP VIEW dark_light;" + _LIGHT.format(type="INTEGER", check=OLD_CHECK)
        + "CREATE VIEW dark_light AS SELECT id FROM light;",
        "drop_day": "DROP INDEX visit_day", "drop_name": "DROP INDEX station_name",
    }  # fmt: skip

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lumet test ")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        path = make_database(self.folder / "coast.db", SCHEMA.format(**self.WORDS))
        self.address = str(path)

    def execute(self, script: str) -> None:
        make_database(Path(self.address), script)


class OnServer(Story):
    """The same on a server."""

    SERVER: ClassVar[str]

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lumet test ")
        self.addCleanup(folder.cleanup)  # type: ignore[attr-defined]
        self.folder = Path(folder.name)
        script = SCHEMA.format(**self.WORDS)
        self.address = make_server_database(
            type(self), self.SERVER, "lumet_test_story", script
        )  # type: ignore[arg-type]

    def execute(self, script: str) -> None:
        run(self.address, [each for each in script.split(";") if each.strip()])


_PG = "ALTER TABLE light DROP CONSTRAINT states; ALTER TABLE light ADD {check}; ALTER TABLE light ALTER watts TYPE {type};"  # fmt: skip
_MARIA = "ALTER TABLE light DROP CONSTRAINT states; ALTER TABLE light ADD {check}; ALTER TABLE light MODIFY watts {type};"  # fmt: skip
_CHIEF = "ALTER TABLE district ADD CONSTRAINT chief FOREIGN KEY (chief_id) REFERENCES guardian (id);"  # fmt: skip


@needs("postgresql")
class PostgresqlStoryTest(OnServer, unittest.TestCase):
    SERVER = POSTGRESQL
    WORDS: ClassVar[dict[str, str]] = {
        "check": OLD_CHECK,
        "change": _PG.format(check=NEW_CHECK, type="NUMERIC(6,1)") + _CHIEF,
        "back": _PG.format(check=OLD_CHECK, type="INTEGER") + "ALTER TABLE district DROP CONSTRAINT chief;",
        "drop_day": "DROP INDEX visit_day", "drop_name": "DROP INDEX station_name",
    }  # fmt: skip


@needs("mariadb")
class MariadbStoryTest(OnServer, unittest.TestCase):
    SERVER = MARIADB
    WORDS: ClassVar[dict[str, str]] = {
        "check": OLD_CHECK,
        "change": _MARIA.format(check=NEW_CHECK, type="DECIMAL(6,1)") + _CHIEF,
        "back": _MARIA.format(check=OLD_CHECK, type="INTEGER") + "ALTER TABLE district DROP FOREIGN KEY chief; DROP INDEX chief ON district;",
        "drop_day": "DROP INDEX visit_day ON visit", "drop_name": "DROP INDEX station_name ON station",
    }  # fmt: skip


if __name__ == "__main__":
    unittest.main()
