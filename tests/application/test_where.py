"""The rows that exist for the application: what a condition leaves out is nowhere."""

from typing import Any

from lumet.errors import Mistakes
from lumet.project.commands import run_generation
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase, ProjectCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

SCRIPT = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL UNIQUE, archived_at DATE, grade INTEGER);
CREATE TABLE light (id INTEGER PRIMARY KEY, station_id INTEGER REFERENCES station (id), colour VARCHAR(9));
INSERT INTO station VALUES (1, 'Tern Holm', NULL, 1), (2, 'Cold Bar', '2020-01-01', 1), (3, 'Mew: 5%', NULL, 2);
INSERT INTO light VALUES (1, 1, 'red'), (2, 2, 'white'), (3, 3, 'green')"""
WHERE = (
    "archived_at IS NULL AND name NOT LIKE '%gone%' AND name <> ':x'"
    " AND (grade = 1 OR station.id IN (SELECT l.station_id FROM light l WHERE l.colour = 'green'))"
)


class WhereCase:
    """The tests, for each kind of database; not a test by itself."""

    @classmethod
    def script(cls) -> str:
        return SCRIPT

    @classmethod
    def decide(cls: Any) -> None:
        path = cls.folder / "design/tables/station.toml"
        path.write_text(f'where = "{WHERE}"\n' + path.read_text())
        light = cls.folder / "design/tables/light.toml"
        lines = '[list]\ncolumns = ["station_id", "colour"]\n'
        light.write_text(f'title = "Light {{id}}"\n{light.read_text()}\n{lines}')

    def test_what_is_left_out_is_nowhere(self: Any) -> None:
        client = self.client()
        page = client.get("/t/station").get_data(as_text=True)
        self.assertIn("Tern Holm", page)
        self.assertIn("Mew: 5%", page)
        self.assertNotIn("Cold Bar", page)
        self.assertIn('<div class="count">2</div>', page.replace("\n", ""))
        self.assertEqual(client.get("/t/station/r/2").status_code, 404)
        self.assertEqual(client.get("/t/station/r/2/edit").status_code, 404)
        lights = client.get("/t/light?sort=station_id").get_data(as_text=True)
        self.assertNotIn("Cold Bar", lights)
        self.assertIn("not visible", lights)
        found = client.get("/t/light/choices/station_id?find-what=").get_json()["found"]
        self.assertEqual([each["value"] for each in found], ["3", "1"])

    def test_a_record_may_leave_and_a_name_stays_taken(self: Any) -> None:
        client = self.client()
        data = self.form_data(client, "/t/station/r/1/edit")
        taken = client.post("/t/station/r/1/edit", data=data | {"name": "Cold Bar"})
        self.assertEqual(taken.status_code, 422, "unique among all rows")
        answer = client.post(
            "/t/station/r/1/edit", data=data | {"archived_at": "2026-01-01"}
        )
        self.assertEqual((answer.status_code, answer.location), (302, "/t/station"))
        self.assertEqual(
            self.rows("SELECT name FROM station WHERE archived_at IS NULL"),
            [("Mew: 5%",)],
        )
        self.change("UPDATE station SET archived_at = NULL WHERE id = 1")


class SqliteWhere(WhereCase, ApplicationCase):
    SCRIPT = SCRIPT + ";"


@needs("postgresql")
class PostgresqlWhere(WhereCase, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    DATABASE = "lumet_test_where"


@needs("mariadb")
class MariadbWhere(WhereCase, OnServer, ApplicationCase):
    SERVER = MARIADB
    DATABASE = "lumet_test_where"


class ConditionTest(ProjectCase):
    def test_what_is_no_condition_is_refused_with_its_line(self) -> None:
        self.survey(SCRIPT + ";")
        path = self.folder / "design/tables/station.toml"
        inferred = path.read_text()
        for text, said in (
            ("archived IS NULL", 'no column "archived". Nearest: archived_at'),
            ("id IN (SELECT id FROM lights)", 'no table "lights". Nearest: light'),
            ("lowr(name) = 'x'", 'no function "lowr" here. Nearest: lower'),
            ("grade + 1", "a value, not a condition"),
            ("grade = 1; DROP TABLE light", "without a semicolon"),
            ("grade = 1 ORDER BY id", "nothing behind it"),
            ("grade = = 1", "no SQL condition"),
            ("grade = :user.grade", "is not known here"),
        ):
            with self.subTest(text):
                path.write_text(f'where = "{text}"\n' + inferred)
                with self.assertRaises(Mistakes) as caught:
                    run_generation(self.folder)
                self.assertIn("station.toml:1", str(caught.exception))
                self.assertIn(said, str(caught.exception))
