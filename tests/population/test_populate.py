"""Made-up rows as a command: they keep every constraint, and are removed alone."""

import sqlite3
from typing import Any

from tests.support.capabilities import needs
from tests.support.projects import ProjectCase, make_database, run_command
from tests.support.servers import (
    MARIADB,
    POSTGRESQL,
    OnServer,
    make_server_database,
    run,
)

# in the SQL of all three servers; {…} stands for what differs
SCRIPT = """
CREATE TABLE district (code CHAR(2) PRIMARY KEY, name VARCHAR(60) NOT NULL UNIQUE, chief INTEGER);
CREATE TABLE keeper (id INTEGER NOT NULL PRIMARY KEY {auto}, name VARCHAR(80) NOT NULL, email VARCHAR(120) NOT NULL UNIQUE,
  district CHAR(2) NOT NULL, boss INTEGER, joined DATE NOT NULL, left_on DATE, CHECK (left_on > joined), CHECK (email LIKE '%@%'),
  FOREIGN KEY (district) REFERENCES district (code), FOREIGN KEY (boss) REFERENCES keeper (id));
ALTER TABLE district ADD {chief};
CREATE TABLE berth (pier CHAR(1) NOT NULL, number SMALLINT NOT NULL CHECK (number BETWEEN 1 AND 40), depth DECIMAL(4,1) NOT NULL CHECK (depth > 0),
  PRIMARY KEY (pier, number), CHECK (pier IN ('N', 'S', 'W')));
CREATE TABLE mooring (id INTEGER NOT NULL PRIMARY KEY {auto}, pier CHAR(1), number SMALLINT, buoy VARCHAR(12), keeper_id INTEGER NOT NULL,
  nights INTEGER NOT NULL CHECK (nights > 0), fee DECIMAL(8,2) NOT NULL, total DECIMAL(10,2) NOT NULL CHECK (total = nights * fee),
  state VARCHAR(10) NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'paid', 'void')), paid_on DATE,
  CHECK ((pier IS NULL) <> (buoy IS NULL)), CHECK (state <> 'paid' OR paid_on IS NOT NULL),
  FOREIGN KEY (pier, number) REFERENCES berth (pier, number), FOREIGN KEY (keeper_id) REFERENCES keeper (id) ON DELETE CASCADE);
CREATE TABLE mooring_line (mooring_id INTEGER NOT NULL, line_no INTEGER NOT NULL, words VARCHAR(5) NOT NULL CHECK (length(words) >= 3),
  PRIMARY KEY (mooring_id, line_no), FOREIGN KEY (mooring_id) REFERENCES mooring (id) ON DELETE CASCADE);
CREATE TABLE badge (keeper_id INTEGER NOT NULL PRIMARY KEY, colour VARCHAR(7) NOT NULL, FOREIGN KEY (keeper_id) REFERENCES keeper (id));
CREATE TABLE watch_of (keeper_id INTEGER NOT NULL, pier CHAR(1) NOT NULL, number SMALLINT NOT NULL, PRIMARY KEY (keeper_id, pier, number),
  FOREIGN KEY (keeper_id) REFERENCES keeper (id), FOREIGN KEY (pier, number) REFERENCES berth (pier, number));
CREATE TABLE permit (no VARCHAR(9) NOT NULL PRIMARY KEY, tide INTEGER NOT NULL, kept_by INTEGER);
CREATE TABLE empty_forever (id INTEGER NOT NULL PRIMARY KEY, gone INTEGER NOT NULL CHECK (gone > 3 AND gone < 2));
INSERT INTO berth VALUES ('N', 40, 9.5)
"""
CHIEF = "CONSTRAINT chief_is FOREIGN KEY (chief) REFERENCES keeper (id)"
TABLES = ("district", "keeper", "mooring", "mooring_line", "badge", "watch_of", "permit")  # fmt: skip


class PopulateTest(OnServer, ProjectCase):
    """The same on three servers; `allowed` writes the mark into `.env`."""

    name = "coast.db"

    def prepare(self, address: str) -> None:
        ran = run_command("survey", address, cwd=self.folder)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        decided = self.folder / "design/tables/permit.toml"
        decided.write_text(
            decided.read_text()
            + '\n[field.kept_by]\nreferences = "keeper.id"\n'
            + '[field.no]\npattern = "P[0-9]{2}-[A-Z]{2,4}"\n'
            + "[field.tide]\nminimum = 3\nmaximum = 9\n"
        )

    def mark(self) -> None:
        with (self.folder / ".env").open("a") as file:
            file.write(f"DEVELOPMENT_DATABASE='{self.name}'\n")

    def lumet(self, *words: str, status: int = 0) -> str:
        ran = run_command("populate", *words, cwd=self.folder)
        self.assertEqual(ran.returncode, status, ran.stdout + ran.stderr)
        return ran.stdout + ran.stderr

    def counts(self, rows: Any) -> dict[str, int]:
        return {each: rows(f"SELECT count(*) FROM {each}")[0][0] for each in TABLES}

    def fill_and_remove(self, rows: Any, change: Any) -> None:
        """Fill, look, change some rows as a developer would, and remove."""
        said = self.lumet("--yes", self.name, "--rows", "60", "--rows", "mooring=800", status=1)  # fmt: skip
        self.assertRegex(said, r"empty_forever: stays empty: no row keeps all")
        counts = self.counts(rows)
        self.assertEqual(counts["mooring"], 800, said)
        self.assertGreater(min(counts.values()), 8, (counts, said))
        self.assertEqual(rows("SELECT count(*) FROM berth"), [(1,)])  # it had a row
        self.assertGreater(rows("SELECT count(*) FROM district WHERE chief IS NOT NULL")[0][0], 0)  # fmt: skip
        self.assertGreater(rows("SELECT count(DISTINCT boss) FROM keeper")[0][0], 3)
        # few have many: the tenth of the keepers with the most has a third of all
        each = sorted((r[0] for r in rows("SELECT count(*) FROM mooring GROUP BY keeper_id")), reverse=True)  # fmt: skip
        self.assertGreater(sum(each[: counts["keeper"] // 10]), 800 * 0.25)
        # what nobody declared is kept too
        orphans = "SELECT count(*) FROM permit WHERE kept_by NOT IN (SELECT id FROM keeper)"  # fmt: skip
        self.assertEqual(rows(orphans), [(0,)])
        for no, tide in rows("SELECT no, tide FROM permit"):
            self.assertRegex(no, r"^P[0-9]{2}-[A-Z]{2,4}$")
            self.assertIn(tide, range(3, 10))
        # a developer's own rows, and one that was changed
        (own,) = rows("SELECT min(mooring_id) FROM mooring_line")[0]
        change(f"INSERT INTO mooring_line VALUES ({own}, 999, 'mine')")
        (changed,) = rows("SELECT max(keeper_id) FROM badge")[0]
        change(f"UPDATE badge SET colour = 'mine' WHERE keeper_id = {changed}")
        said = self.lumet("--remove", "--yes", self.name)
        self.assertIn("badge: 1 row changed since", said)
        self.assertIn("mooring: 1 row kept", said)
        self.assertEqual(rows("SELECT line_no FROM mooring_line"), [(999,)])
        self.assertEqual(rows("SELECT id FROM mooring"), [(own,)])
        self.assertEqual(rows("SELECT keeper_id, colour FROM badge"), [(changed, "mine")])  # fmt: skip
        left = self.counts(rows)
        self.assertEqual((left["watch_of"], left["permit"]), (0, 0))
        self.assertEqual(rows("SELECT count(*) FROM berth"), [(1,)])

    def refuse(self, rows: Any) -> None:
        """Nothing is written without the mark and the name."""
        said = self.lumet("--yes", self.name, status=2)
        self.assertIn("not marked as a development database", said)
        self.mark()
        self.assertIn("is needed", self.lumet(status=2))
        self.assertIn("not", self.lumet("--yes", "another", status=2))
        self.assertFalse(any(self.counts(rows).values()))

    def test_on_a_file(self) -> None:
        path = self.folder / self.name
        script = SCRIPT.format(auto="", chief="COLUMN second INTEGER")
        make_database(path, script.replace("chief INTEGER)", "chief INTEGER REFERENCES keeper (id))"))  # fmt: skip
        self.prepare(str(path))
        with sqlite3.connect(path, isolation_level=None) as raw:
            raw.execute("PRAGMA foreign_keys = ON")
            self.refuse(lambda query: raw.execute(query).fetchall())
            self.fill_and_remove(lambda query: raw.execute(query).fetchall(), raw.execute)  # fmt: skip
            self.assertEqual(raw.execute("PRAGMA foreign_key_check").fetchall(), [])

    def test_the_same_seed_makes_the_same_rows(self) -> None:
        found = []
        for seed in ("5", "5", "6"):
            path = self.folder / self.name
            path.unlink(missing_ok=True)
            make_database(path, "CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL, height INTEGER NOT NULL)")  # fmt: skip
            if not found:
                run_command("survey", str(path), cwd=self.folder)
                self.mark()
            self.lumet("--yes", self.name, "--seed", seed)
            with sqlite3.connect(path) as raw:
                found.append(raw.execute("SELECT * FROM station").fetchall())
        self.assertEqual(found[0], found[1])
        self.assertNotEqual(found[0], found[2])

    @needs("postgresql")
    def test_on_postgresql(self) -> None:
        self.name = "lumet_test_populate"
        script = SCRIPT.format(auto="GENERATED ALWAYS AS IDENTITY", chief=CHIEF)
        more = """
CREATE EXTENSION IF NOT EXISTS btree_gist;
CREATE TYPE sea AS ENUM ('calm', 'rough');
CREATE DOMAIN knots AS smallint CHECK (VALUE BETWEEN 0 AND 60);
CREATE TABLE stay (id uuid PRIMARY KEY, berth text NOT NULL, during tstzrange NOT NULL, sea sea NOT NULL, wind knots, tags text[] NOT NULL,
  seen inet, about jsonb NOT NULL, mark text NOT NULL CHECK (mark ~ '^[A-Z]{2}[0-9]{3}$'), EXCLUDE USING gist (berth WITH =, during WITH &&));
CREATE TABLE grounding (id bigserial PRIMARY KEY, state text NOT NULL DEFAULT 'new', parent bigint NOT NULL REFERENCES grounding (id));
CREATE FUNCTION only_new() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
  IF NEW.state <> 'new' THEN RAISE 'A grounding begins as new.'; END IF; RETURN NEW; END $$;
CREATE TRIGGER begins BEFORE INSERT ON grounding FOR EACH ROW EXECUTE FUNCTION only_new()"""
        self.address = make_server_database(type(self), POSTGRESQL, self.name, script)
        for statement in (more.split("$$", 1)[0].rsplit("CREATE FUNCTION", 1)[0]).split(";\n"):  # fmt: skip
            run(self.address, [statement] if statement.strip() else [])
        rest = more[more.index("CREATE FUNCTION") :]
        run(self.address, [rest[: rest.index("CREATE TRIGGER")], rest[rest.index("CREATE TRIGGER") :]])  # fmt: skip
        self.prepare(self.address)
        self.mark()
        self.fill_and_remove(self.rows, self.change)
        self.assertEqual(self.rows("SELECT count(*) FROM stay"), [(0,)])
        self.lumet("--yes", self.name, status=1)
        self.assertEqual(self.rows("SELECT count(*), count(DISTINCT mark) > 20 FROM stay"), [(100, True)])  # fmt: skip
        self.assertEqual(self.rows("SELECT count(*) FROM grounding"), [(100,)])

    @needs("mariadb")
    def test_on_mariadb(self) -> None:
        self.name = "lumet_test_populate"
        script = SCRIPT.format(auto="AUTO_INCREMENT", chief=CHIEF)
        more = """;
CREATE TABLE sign (id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(30) NOT NULL UNIQUE, kinds SET('bell','light') NOT NULL, sea ENUM('calm','rough') NOT NULL,
  place POINT NOT NULL, seen YEAR NOT NULL, lit BIT(1) NOT NULL, at TIME NOT NULL, height DECIMAL(3,1) UNSIGNED NOT NULL, flag TINYINT(1) NOT NULL DEFAULT 0) ENGINE=MyISAM"""
        self.address = make_server_database(type(self), MARIADB, self.name, script + more)  # fmt: skip
        self.prepare(self.address)
        self.mark()
        self.fill_and_remove(self.rows, self.change)
        self.assertEqual(self.rows("SELECT count(*) FROM sign"), [(0,)])
        self.lumet("--yes", self.name, status=1)
        self.assertEqual(self.rows("SELECT count(*) FROM sign WHERE ST_X(place) > 0"), [(100,)])  # fmt: skip
