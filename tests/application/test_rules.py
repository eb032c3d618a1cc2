"""Rules of forms: what a form accepts the database accepts, what it refuses it would."""

import sqlite3
from datetime import date
from decimal import Decimal
from typing import Any, ClassVar

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy.exc import DBAPIError

from lumet.errors import LumetError
from lumet.project.commands import run_generation
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase, make_database
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

TABLES = """
CREATE TABLE retired (name VARCHAR(10) PRIMARY KEY);
INSERT INTO retired VALUES ('Aft'), ('Old');
CREATE TABLE watch (id {id}, name VARCHAR(10) NOT NULL, state VARCHAR(8) NOT NULL, grade INTEGER,
  depth_m DECIMAL(5,1), starts_on DATE, ends_on DATE, is_manned BOOLEAN, code VARCHAR(6),
  CHECK (ends_on >= starts_on), CHECK (state <> 'done' OR ends_on IS NOT NULL),
  CHECK (grade > 0 AND grade < 9), CHECK (grade NOT IN (3, 4)), CHECK (depth_m BETWEEN 0.5 AND 99.5),
  CHECK (name LIKE 'A%' OR grade IS NULL), CHECK (depth_m * 2 >= grade),
  CHECK (is_manned OR starts_on < '2026-06-01'), CHECK (length(name) > 1),
  CHECK (code = lower(code)));
"""
DECIDED = """
[field.name]
rule = "name NOT IN (SELECT r.name FROM retired r)"
message = "This name is not given any more."
[field.grade]
rule = "state <> 'new' OR grade < 6"
"""
DAYS = st.sampled_from([None, date(2026, 5, 31), date(2026, 6, 1), date(2026, 6, 2)])
ROW = st.fixed_dictionaries(
    {
        "name": st.sampled_from(["A", "Al", "al", "Bo", "Aft", "A%", "Ärla"]),
        "state": st.sampled_from(["new", "done", "Done"]),
        "grade": st.sampled_from([None, -1, 0, 1, 2, 3, 5, 6, 8, 9]),
        "depth_m": st.sampled_from(
            [None, *map(Decimal, ("0.4", "0.5", "1.0", "2.5", "99.5", "99.6"))]
        ),
        "starts_on": DAYS,
        "ends_on": DAYS,
        "is_manned": st.sampled_from([None, True, False]),
        "code": st.sampled_from([None, "ab", "Ab", "ä", "Ä"]),
    }
)


class Rules:
    """The tests, for each kind of database; not a test by itself."""

    DATABASE = "lumet_test_rules"
    ID = "INTEGER PRIMARY KEY"
    EXAMPLES: ClassVar[int] = 60

    @classmethod
    def script(cls) -> str:
        return TABLES.format(id=cls.ID)

    @classmethod
    def decide(cls: Any) -> None:
        path = cls.folder / "design/tables/watch.toml"
        path.write_text(path.read_text() + DECIDED)

    def takes(self: Any, row: dict[str, Any]) -> bool:
        """Tell whether the database itself takes a row that no decided rule refuses."""
        spelled = [
            "NULL"
            if value is None
            else str(value)
            if isinstance(value, bool | int | Decimal)
            else f"'{value}'"
            for value in row.values()
        ]
        if row["state"] == "new" and row["grade"] is not None and row["grade"] >= 6:
            return False
        if row["name"] == "Aft":
            return False
        try:
            self.change(
                f"INSERT INTO watch ({', '.join(row)}) VALUES ({', '.join(spelled)})"
            )
        except (DBAPIError, sqlite3.IntegrityError):
            return False
        self.change("DELETE FROM watch")
        return True

    def test_a_form_and_its_database_agree(self: Any) -> None:
        client = self.client()

        @settings(max_examples=self.EXAMPLES, deadline=None, database=None, derandomize=True,
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(ROW)
        def check(row: dict[str, Any]) -> None:
            typed = {
                key: {None: "", True: "yes", False: "no"}[value]
                if value is None or isinstance(value, bool)
                else str(value)
                for key, value in row.items()
            }
            taken = self.takes(row)
            answer = client.post("/t/watch/add", data=typed)
            self.assertEqual(answer.status_code, 302 if taken else 422, row)
            self.assertEqual(len(self.rows("SELECT 1 FROM watch")), int(taken))
            self.change("DELETE FROM watch")

        check()

    def test_what_is_said_stands_at_its_field(self: Any) -> None:
        client = self.client()
        good = {
            "name": "Al",
            "state": "open",
            "starts_on": "2026-05-31",
            "is_manned": "yes",
        }
        for wrong, said in (
            ({"ends_on": "2026-05-30"}, "Ends on must not be before Starts on."),
            ({"grade": "3"}, "Grade must be none of: 3, 4."),
            ({"grade": "8", "state": "new"}, self.SAID_OF_NEW),
            ({"name": "Aft"}, "This name is not given any more."),
            ({"depth_m": "0.1"}, "Enter a value between 0.5 and 99.5\u00a0m."),
        ):
            page = client.post("/t/watch/add", data=good | wrong).text
            with self.subTest(said):
                self.assertIn(f'<div class="said">{said}</div>', page)
        answer = client.post("/t/watch/add", data=good)
        key = answer.location.rpartition("/")[2]
        seen = self.form_data(client, f"/t/watch/r/{key}/edit")
        page = client.post(f"/t/watch/r/{key}/edit", data=seen | {"name": "Aft"})
        self.assertIn("This name is not given any more.", page.text)
        self.assertEqual(self.rows("SELECT name FROM watch"), [("Al",)])

    SAID_OF_NEW = "Where State is new, Grade must be less than 6."


class SqliteRules(Rules, ApplicationCase):
    SCRIPT = TABLES.format(id="INTEGER PRIMARY KEY")
    EXAMPLES = 300

    def change(self, statement: str) -> None:
        make_database(self.path, statement)


@needs("postgresql")
class PostgresqlRules(Rules, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    ID = "SERIAL PRIMARY KEY"


@needs("mariadb")
class MariadbRules(Rules, OnServer, ApplicationCase):
    SERVER = MARIADB
    ID = "INTEGER PRIMARY KEY AUTO_INCREMENT"
    # its collation does not tell "new" from "New": the database works it out
    SAID_OF_NEW = (
        "This condition is not met: state &lt;&gt; &#39;new&#39; OR grade &lt; 6"
    )


class ConstraintMessages:
    """The messages that a person wrote for constraints: those that a form works out,
    and one that the database alone can."""

    DATABASE = "lumet_test_messages"
    ID = "INTEGER PRIMARY KEY"
    BERTHS = """
        CREATE TABLE berth (id {id}, code VARCHAR(8) NOT NULL, depth INTEGER, note VARCHAR(20),
          place INTEGER, quay INTEGER DEFAULT 1, CONSTRAINT berth_place UNIQUE (quay, place), CONSTRAINT berth_code UNIQUE (code), CONSTRAINT berth_depth CHECK (depth BETWEEN 1 AND 40),
          CONSTRAINT berth_note CHECK (replace(note, ' ', '') <> 'none'));
        INSERT INTO berth (code, depth, place) VALUES ('N1', 4, 7);
    """

    @classmethod
    def script(cls) -> str:
        return cls.BERTHS.format(id=cls.ID)

    @classmethod
    def decide(cls: Any) -> None:
        file = cls.folder / "design/tables/berth.toml"
        file.write_text(
            '[messages]\nberth_code = "This code is painted on another quay."\n'
            'berth_depth = "No berth is that deep."\nberth_note = "Leave it empty."\n'
            'berth_place = "Something lies there."\n[field.quay]\nhidden = true\n'
            + file.read_text()
        )

    def test_a_constraint_refuses_in_the_words_decided(self: Any) -> None:
        signed = self.client()
        for typed, said in (
            ({"code": "N1"}, "This code is painted on another quay."),
            ({"code": "N2", "depth": "41"}, "No berth is that deep."),
            ({"code": "N2", "note": "no ne"}, "Leave it empty."),
            ({"code": "N2", "place": "7"}, "Something lies there."),
            ({"code": "N2", "depth": "40", "note": "some"}, ""),
        ):
            data = self.form_data(signed, "/t/berth/add")
            answer = signed.post("/t/berth/add", data=data | typed)
            self.assertEqual(answer.status_code, 422 if said else 302, typed)
            self.assertIn(said, answer.text)
            self.assertNotIn("between 1 and", answer.text)
        self.assertEqual(
            self.rows("SELECT code FROM berth ORDER BY id"), [("N1",), ("N2",)]
        )
        file = self.folder / "design/tables/berth.toml"
        kept = file.read_text()
        self.addCleanup(file.write_text, kept)
        file.write_text(kept.replace("berth_depth =", "berth_dept ="))
        with self.assertRaisesRegex(
            LumetError, "berth.toml:3: .*\n.*Nearest: berth_depth"
        ):
            run_generation(self.folder)


class SqliteMessages(ConstraintMessages, ApplicationCase):
    SCRIPT = ConstraintMessages.script()


@needs("postgresql")
class PostgresqlMessages(ConstraintMessages, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    ID = "SERIAL PRIMARY KEY"


@needs("mariadb")
class MariadbMessages(ConstraintMessages, OnServer, ApplicationCase):
    SERVER = MARIADB
    ID = "INTEGER PRIMARY KEY AUTO_INCREMENT"


class DecidedTest(ApplicationCase):
    """Defaults, bounds and patterns that a person decided, some of them in a file that
    projects share."""

    SCRIPT = """
        CREATE TABLE visit (id INTEGER PRIMARY KEY, code VARCHAR(8) NOT NULL, wind INTEGER CHECK (wind >= 1),
          state TEXT NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'done')), tide DECIMAL(4,1), note TEXT);
        CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT);
        CREATE TABLE beacon (id INTEGER PRIMARY KEY, name TEXT);
    """

    @classmethod
    def decide(cls) -> None:
        shared = cls.folder / "house-rules.toml"
        shared.write_text(
            '[field."*.note"]\nhelp = "Ours."\n[field."*.nothing"]\nhidden = true\n'
        )
        settings = cls.folder / "lumet.toml"
        lines = 'include = ["house-rules.toml"]\nmenu = ["Fleet", "visit"]\n'
        settings.write_text(lines + settings.read_text())
        other = cls.folder / "design/tables/vessel.toml"
        other.write_text('group = "Fleet"\n' + other.read_text())
        file = cls.folder / "design/tables/visit.toml"
        file.write_text(
            '[field.code]\npattern = "[A-Z]{2}-[0-9]+"\nmessage = "Write it as NR-12."\n'
            '[field.wind]\nminimum = 0\nmaximum = 12\ndefault = 3\n[field.state]\ndefault = "done"\n'
            '[field.tide]\nmaximum = 4.5\n[list]\nfilters = ["state"]\nsearch = ["note"]\n'
            + file.read_text()
        )

    def test_the_menu_has_the_order_that_is_decided(self) -> None:
        page = self.client().get("/").text.partition('class="tables"')[2]
        places = [
            page.index(f'href="/t/{name}"') for name in ("vessel", "visit", "beacon")
        ]
        self.assertEqual(places, sorted(places))
        settings = self.folder / "lumet.toml"
        kept = settings.read_text()
        self.addCleanup(settings.write_text, kept)
        settings.write_text(kept.replace('"Fleet", "visit"', '"Flet"'))
        with self.assertRaisesRegex(LumetError, "lumet.toml:2: .*\n.*Nearest: Fleet"):
            run_generation(self.folder)

    def test_lists_are_filtered_and_searched_by_what_is_decided(self) -> None:
        self.change(
            "INSERT INTO visit (code, wind, state, note) VALUES"
            " ('NR-1', 2, 'open', 'calm'), ('NR-2', 9, 'done', 'NR-1 again')"
        )
        signed = self.client()
        panel = signed.get("/t/visit?panel=filter").text
        self.assertIn('name="state.is"', panel)
        self.assertNotIn('name="wind.', panel)
        for query, found in (
            ("q=NR-1+again", ["NR-2"]),
            ("q=calm", ["NR-1"]),
            ("state.is=done", ["NR-2"]),
            ("wind.from=5", ["NR-1", "NR-2"]),
        ):
            page = signed.get(f"/t/visit?{query}").text
            self.assertEqual(
                [c for c in ("NR-1", "NR-2") if f">{c}</a>" in page], found, query
            )

    def test_a_new_record_begins_and_ends_as_decided(self) -> None:
        signed = self.client()
        data = self.form_data(signed, "/t/visit/add")
        self.assertEqual((data["wind"], data["state"], data["tide"]), ("3", "done", ""))
        self.assertIn("Ours.", signed.get("/t/visit/add").text)
        for typed, said in (
            ({"code": "nr-12"}, "Write it as NR-12."),
            ({"code": "NR-12 "}, ""),
            ({"code": "NR-1", "wind": "0"}, "Enter a value between 1 and 12."),
            ({"code": "NR-1", "wind": "13"}, "Enter a value between 1 and 12."),
            ({"code": "NR-1", "tide": "4.6"}, "Enter 4.5 or less."),
            ({"code": "NR-2", "wind": "", "tide": "4.5"}, ""),
        ):
            data = self.form_data(signed, "/t/visit/add")
            answer = signed.post("/t/visit/add", data=data | typed)
            self.assertEqual(answer.status_code, 422 if said else 302, typed)
            self.assertIn(said, answer.text)
        rows = self.rows("SELECT code, wind, state, tide FROM visit ORDER BY code")
        self.assertEqual(
            rows, [("NR-12", 3, "done", None), ("NR-2", None, "done", 4.5)]
        )
