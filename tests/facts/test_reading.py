"""Reading the catalogue and the rows of real SQLite files."""

import hashlib
import sqlite3
import tempfile
import unittest
from pathlib import Path

from lumet.errors import CannotRun, LumetError
from lumet.evidence.sampling import SAMPLE_ROWS, read_samples
from lumet.facts.connecting import open_for_reading, parse_address
from lumet.facts.connection_errors import saying_why
from lumet.facts.model import Database, Index, Reference
from lumet.facts.reading import read_database
from tests.support.projects import make_database

SCHEMA = """
CREATE TABLE district (code CHAR(2) PRIMARY KEY NOT NULL, name VARCHAR(40) NOT NULL UNIQUE);
CREATE TABLE station (
    id INTEGER PRIMARY KEY,
    district_code CHAR(2) NOT NULL DEFAULT 'NR' REFERENCES district ON DELETE CASCADE,
    name VARCHAR(40) NOT NULL, -- CHECK (name = 'not a check')
    kind TEXT CHECK (kind IN ('lighthouse', 'it''s')),
    built INTEGER DEFAULT 1900,
    seen TIMESTAMP DEFAULT CURRENT_TIMESTAMP,
    height DECIMAL(5, 1),
    area POLYGON,
    whole TEXT GENERATED ALWAYS AS (name || kind) STORED,
    UNIQUE (district_code, name)
);
CREATE INDEX station_kind ON station (kind, name);
CREATE UNIQUE INDEX station_seen ON station (seen) WHERE kind IS NULL;
CREATE TABLE visit (
    a INTEGER, b TEXT, note TEXT, PRIMARY KEY (b, a),
    FOREIGN KEY (b, a) REFERENCES visit (b, a) ON UPDATE CASCADE
) WITHOUT ROWID;
CREATE VIEW names AS SELECT name FROM station;
CREATE VIEW broken AS SELECT * FROM gone;
"""


def read(path: Path) -> Database:
    address = parse_address(str(path), path.parent)
    with saying_why(str(address.path)):
        return read_database(open_for_reading(address))


class FileCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "coast ?#%41.db"


class CatalogueTest(FileCase):
    def test_every_fact_of_the_schema_is_read(self) -> None:
        make_database(self.path, SCHEMA)
        found = read(self.path)
        self.assertEqual(
            [t.name for t in found.tables], ["district", "names", "station", "visit"]
        )
        self.assertEqual(found.unreadable, ("broken",))
        self.assertEqual(found.table("names").kind, "view")
        station = found.table("station")
        key = station.column("id")
        self.assertTrue(key.automatic and not key.nullable)
        self.assertEqual(
            station.references,
            (
                Reference(
                    ("district_code",), "district", ("code",), on_delete="cascade"
                ),
            ),
        )
        defaults = {
            c.name: c.default and (c.default.text, c.default.literal)
            for c in station.columns
        }
        self.assertEqual(defaults["district_code"], ("NR", True))
        self.assertEqual(defaults["built"], ("1900", True))
        self.assertEqual(defaults["seen"], ("CURRENT_TIMESTAMP", False))
        height = station.column("height").type
        self.assertEqual(
            (height.kind, height.precision, height.scale), ("decimal", 5, 1)
        )
        self.assertEqual(station.column("area").type.kind, "unknown")
        self.assertTrue(station.column("whole").generated)
        self.assertTrue(station.is_unique(("name", "district_code")))
        self.assertFalse(
            station.is_unique(("seen",)), "a partial index holds for some rows"
        )
        self.assertIn(
            Index("station_seen", ("seen",), unique=True, partial=True), station.indexes
        )
        visit = found.table("visit")
        self.assertEqual(visit.primary_key, ("b", "a"))
        self.assertFalse(visit.column("a").automatic)
        self.assertEqual(visit.references[0].on_update, "cascade")

    def test_changes_that_cannot_be_prepared_are_denied(self) -> None:
        make_database(
            self.path,
            """
            CREATE TABLE beacon (id INTEGER PRIMARY KEY, name TEXT, sorted TEXT);
            CREATE TRIGGER sorting AFTER UPDATE OF name ON beacon BEGIN
                UPDATE beacon SET sorted = of_another_program(NEW.name) WHERE id = NEW.id; END;
            CREATE TABLE grade (code TEXT, name TEXT);
            CREATE TABLE lamp (id INTEGER PRIMARY KEY, grade TEXT REFERENCES grade (code));
            CREATE TABLE mast (id INTEGER PRIMARY KEY, height INTEGER CHECK (height > 0));
            """,
        )
        found = read(self.path)
        beacon, lamp, mast = (found.table(name) for name in ("beacon", "lamp", "mast"))
        self.assertEqual((beacon.denied, beacon.refusal), ((), ""))
        fixed = [column.name for column in beacon.columns if column.denied]
        self.assertEqual(fixed, ["name"])
        self.assertEqual(lamp.denied, ("add", "delete"))
        self.assertEqual(lamp.column("grade").denied, ("edit",))
        self.assertIn("mismatch", lamp.refusal)
        self.assertEqual(found.table("grade").denied, ("delete",))
        self.assertEqual((mast.denied, mast.refusal), ((), ""))

    def test_reading_leaves_the_file_as_it_was(self) -> None:
        make_database(
            self.path, SCHEMA + "INSERT INTO district VALUES ('NR', 'North');"
        )
        before = hashlib.sha256(self.path.read_bytes()).digest()
        address = parse_address(str(self.path), self.folder)
        engine = open_for_reading(address)
        read_samples(engine, read_database(engine))[0]
        with engine.connect() as connection, self.assertRaises(Exception) as caught:
            connection.exec_driver_sql("DELETE FROM district")
        self.assertIn("readonly", str(caught.exception))
        engine.dispose()
        self.assertEqual(hashlib.sha256(self.path.read_bytes()).digest(), before)
        self.assertEqual([p.name for p in self.folder.iterdir()], [self.path.name])


class WalTest(FileCase):
    def test_a_file_with_a_log_of_its_own_is_left_as_it_is(self) -> None:
        """With a writer at work, whose last rows are not in the file itself yet."""
        make_database(self.path, SCHEMA)
        writer = sqlite3.connect(self.path, isolation_level=None)
        self.addCleanup(writer.close)
        writer.execute("PRAGMA journal_mode = WAL")
        writer.execute("INSERT INTO district VALUES ('NR', 'North')")
        before = hashlib.sha256(self.path.read_bytes()).digest()
        engine = open_for_reading(parse_address(str(self.path), self.folder))
        evidence = read_samples(engine, read_database(engine))[0]
        engine.dispose()
        self.assertEqual(evidence.table("district").rows, 1)
        self.assertEqual(hashlib.sha256(self.path.read_bytes()).digest(), before)
        self.assertEqual(writer.execute("PRAGMA journal_mode").fetchone(), ("wal",))


class AddressTest(FileCase):
    def test_odd_paths_open_the_file_they_name(self) -> None:
        make_database(self.path, SCHEMA)
        plain = parse_address(str(self.path), self.folder)
        kept = plain.kept(self.folder)
        self.assertEqual(kept, "sqlite:///coast %3F%23%2541.db")
        for text in (str(self.path), kept, "sqlite:///" + self.path.name):
            with self.subTest(text):
                self.assertEqual(
                    parse_address(text, self.folder).path, self.path.resolve()
                )

    def test_every_refusal_says_why(self) -> None:
        (self.folder / "notes.db").write_text(
            "These are notes, not a database file. " * 99
        )
        make_database(self.folder / "coast.db", SCHEMA)
        writer = sqlite3.connect(self.folder / "coast.db", isolation_level=None)
        self.addCleanup(writer.close)
        writer.execute("BEGIN EXCLUSIVE")
        cases = {
            "notes.db": "is not a SQLite database",
            "coats.db": "Nearest in",
            ".": "is a folder",
            "coast.db": "is locked by another program",
        }
        for name, said in cases.items():
            with self.subTest(name), self.assertRaises(CannotRun) as caught:
                read(self.folder / name)
            self.assertIn(said, str(caught.exception))
        with self.assertRaises(LumetError) as refused:
            parse_address("mongo://host/db", self.folder)
        self.assertIn("mongo", str(refused.exception))


class EvidenceTest(FileCase):
    def test_samples_are_bounded_unbiased_and_the_same_each_time(self) -> None:
        make_database(
            self.path,
            "CREATE TABLE reading (id INTEGER PRIMARY KEY, light INTEGER, state TEXT);"
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 120000)"
            " INSERT INTO reading SELECT i, i / 300, CASE i % 3 WHEN 0 THEN 'lit' ELSE 'dark' END"
            " FROM n; CREATE INDEX by_light ON reading (light);",
        )
        engine = open_for_reading(parse_address(str(self.path), self.folder))
        self.addCleanup(engine.dispose)
        database = read_database(engine)
        profile = read_samples(engine, database)[0].table("reading")
        self.assertEqual(profile, read_samples(engine, database)[0].table("reading"))
        self.assertLessEqual(profile.sampled, SAMPLE_ROWS)
        self.assertAlmostEqual(profile.rows, 120_000, delta=12_000)
        self.assertEqual(profile.columns["state"].values, ("dark", "lit"))
        spread = profile.columns["light"].distinct * profile.sampled
        self.assertGreater(
            spread, 100, "blocks from all over, not the start of an index"
        )

    def test_no_value_of_a_person_is_kept(self) -> None:
        rows = "".join(
            f"INSERT INTO keeper VALUES ({n}, 'Zanzibarine', 'q@x.example', 'secretword', 42424242);"
            f"INSERT INTO visit VALUES ({n % 7}, '{'open' if n else 'Quixotic'}', 31415.9265, '1871-03-05',"
            f" '+47 555 {n:05d}', 'Hollow lane {n}', {n * 7_777_777});"
            for n in range(60)
        )
        rows += "INSERT INTO code VALUES ('UMBRA', 'Penumbra'); INSERT INTO code VALUES ('LUX', 'Lucent');"
        make_database(
            self.path,
            "CREATE TABLE keeper (id INTEGER PRIMARY KEY, last_name TEXT, contact TEXT,"
            " password TEXT, salary INTEGER);"
            "CREATE TABLE visit (code INTEGER, state TEXT, cost REAL, day TEXT, tel TEXT, place TEXT, n INTEGER);"
            "CREATE TABLE code (code TEXT, label TEXT);" + rows,
        )
        engine = open_for_reading(parse_address(str(self.path), self.folder))
        self.addCleanup(engine.dispose)
        told = repr(read_samples(engine, read_database(engine))[0])
        for word in ("Zanzibarine", "q@x.example", "secretword", "42424242", "Quixotic", "31415",
                     "1871", "555 000", "Hollow", "7777777", "458888843", "UMBRA", "Penumbra"):  # fmt: skip
            self.assertNotIn(word, told)
