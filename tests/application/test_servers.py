"""The same pages on PostgreSQL and MariaDB: read, changed, refused, and nothing lost."""

import re
from typing import Any, ClassVar

from lumet.project.surveying import TableChoice
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase, read_form
from tests.support.servers import (
    MARIADB,
    POSTGRESQL,
    OnServer,
    run,
)

TABLES = """
CREATE TABLE district (code VARCHAR(4) PRIMARY KEY, name VARCHAR(20) NOT NULL UNIQUE);
CREATE TABLE station (
    id {key},
    name VARCHAR(20) NOT NULL UNIQUE,
    district_code VARCHAR(4) NOT NULL,
    state VARCHAR(8) NOT NULL DEFAULT 'lit' CHECK (state IN ('lit', 'dark')),
    mood {mood},
    height_m DECIMAL(5,1) CHECK (height_m >= 1 AND height_m <= 90),
    is_manned BOOLEAN,
    first_lit DATE,
    opens TIME,
    seen_at {moment},
    remarks TEXT,
    odd {odd},
    CONSTRAINT never CHECK (coalesce(remarks, '') <> 'never'),
    FOREIGN KEY (district_code) REFERENCES district (code) ON DELETE RESTRICT);
CREATE TABLE reading (
    station_id INTEGER NOT NULL, taken_at {moment} NOT NULL, volts DOUBLE PRECISION,
    PRIMARY KEY (station_id, taken_at),
    FOREIGN KEY (station_id) REFERENCES station (id) ON DELETE CASCADE);
CREATE VIEW dark AS SELECT name, state FROM station WHERE state = 'dark';
INSERT INTO district VALUES ('NR', 'North Reach'), ('S/F', 'Saltfen');
INSERT INTO station (id, name, district_code, mood, height_m, is_manned, first_lit, opens, seen_at, odd)
    VALUES (1, 'Tern Holm', 'NR', 'calm', 12.5, true, '1902-05-01', '09:40', '2026-01-02 03:04:05', {value});
INSERT INTO station (id, name, district_code) VALUES (2, 'Cold Bar', 'S/F');
{rows}
"""
CLEAR = ["DELETE FROM reading", "DELETE FROM station", "DELETE FROM district"]


class ServerPages(OnServer):
    """The tests, for each server; not a test by itself."""

    DATABASE = "lumet_test_pages"
    WORDS: ClassVar[dict[str, str]]

    @classmethod
    def script(cls) -> str:
        return TABLES.format(**cls.WORDS)

    def restore(self) -> None:
        inserts = [
            s for s in self.script().split(";\n") if s.lstrip().startswith("INSERT")
        ]
        after = [self.WORDS["after"]] if self.WORDS["after"] else []
        run(self.address, [*CLEAR, *inserts, *after])

    def page(self: Any, address: str, status: int = 200) -> str:
        answer = self.client().get(address)
        self.assertEqual(answer.status_code, status, address)
        return str(answer.get_data(as_text=True))

    def save(self: Any, **typed: str) -> Any:
        data = self.form_data(self.client(), "/t/station/r/1/edit") | typed
        return self.client().post("/t/station/r/1/edit", data=data)

    def test_values_of_every_kind_are_shown(self: Any) -> None:
        page = self.page("/t/station/r/1")
        for text in (
            "North Reach",
            "Calm",
            "12.5",
            "Yes",
            "1 May 1902",
            "09:40",
            "2 Jan 2026",
            self.WORDS["shown"],
        ):
            self.assertIn(text, page)
        self.assertIn("Cold Bar", self.page("/t/station?sort=-district_code"))
        self.assertIn("read-only", self.page("/t/dark"))

    def test_paging_shows_every_row_once(self: Any) -> None:
        for address in ("/t/reading", "/t/reading?sort=-volts"):
            pages = [self.page(address)]
            while match := re.search(
                r'href="([^"]*)" aria-label="Next page', pages[-1]
            ):
                pages.append(self.page(match[1].replace("&amp;", "&")))
            seen = [
                key
                for page in pages
                for key in re.findall(r"title\" href=\"[^\"]*/r/(1,[^\"]+)\"", page)
            ]
            self.assertEqual(
                (len(seen), len(set(seen)), len(pages)), (60, 60, 3), address
            )
        self.page(f"/t/reading/r/{seen[0]}")
        self.page(f"/t/reading/r/{seen[0]}/edit")

    def test_an_unchanged_form_writes_nothing(self: Any) -> None:
        before = self.rows("SELECT * FROM station ORDER BY id")
        for key in ("1", "2"):
            data = self.form_data(self.client(), f"/t/station/r/{key}/edit")
            self.assertEqual(
                self.client().post(f"/t/station/r/{key}/edit", data=data).status_code,
                302,
            )
        self.assertEqual(self.rows("SELECT * FROM station ORDER BY id"), before)

    def test_a_record_is_added_changed_and_deleted(self: Any) -> None:
        client = self.client()
        data = self.form_data(client, "/t/station/add")
        self.assertEqual(data["state"], "lit")
        data |= {"name": "Mew Ledge", "district_code": "NR", "height_m": "2.5", "mood": "grim",
                 "is_manned": "no", "opens": "07:30", "seen_at": "2026-05-01T10:00"}  # fmt: skip
        answer = client.post("/t/station/add", data=data)
        self.assertEqual(answer.status_code, 302, answer.get_data(as_text=True)[-2500:])
        query = "SELECT name, mood, height_m, opens, seen_at FROM station WHERE name = 'Mew Ledge'"
        row = self.rows(query)[0]
        self.assertEqual((row[0], row[1], float(row[2])), ("Mew Ledge", "grim", 2.5))
        self.assertIn("7:30", str(row[3]))
        self.assertEqual(str(row[4])[:16], "2026-05-01 10:00")
        changed = self.form_data(client, answer.location + "/edit") | {
            "mood": "calm",
            "opens": "",
            "first_lit": "2020-02-02",
        }
        self.assertEqual(
            client.post(answer.location + "/edit", data=changed).status_code, 302
        )
        row = self.rows(
            "SELECT mood, opens, first_lit FROM station WHERE name = 'Mew Ledge'"
        )[0]
        self.assertEqual((row[0], row[1], str(row[2])), ("calm", None, "2020-02-02"))
        self.assertEqual(client.post(answer.location + "/delete").status_code, 302)
        self.assertEqual(self.rows(query), [])

    def test_refusals_come_back_in_words(self: Any) -> None:
        for typed, said in (
            ({"name": "Cold Bar"}, "Another station already has this value."),
            ({"name": "x" * 21}, "Enter at most 20 characters"),
            ({"height_m": "91"}, "Enter a value between 1 and 90"),
            ({"district_code": "XX"}, "Choose one from the list."),
            ({"mood": "odd"}, "Choose one from the list."),
            ({"remarks": "never"}, "The database does not allow this"),
        ):
            with self.subTest(typed):
                answer = self.save(**typed)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(said, answer.get_data(as_text=True))

    def test_no_update_is_lost(self: Any) -> None:
        client = self.client()
        data = self.form_data(client, "/t/station/r/1/edit")
        self.change("UPDATE station SET name = 'Theirs', height_m = 20 WHERE id = 1")
        answer = client.post(
            "/t/station/r/1/edit", data=data | {"name": "Mine", "remarks": "x"}
        )
        page = answer.get_data(as_text=True)
        self.assertEqual(answer.status_code, 409)
        self.assertEqual(page.count('value="theirs"'), 1)
        again = client.post("/t/station/r/1/edit", data=read_form(page))
        self.assertEqual(again.status_code, 302)
        row = self.rows("SELECT name, height_m, remarks FROM station WHERE id = 1")[0]
        self.assertEqual((row[0], float(row[1]), row[2]), ("Mine", 20.0, "x"))

    def test_a_delete_follows_the_database_s_rules(self: Any) -> None:
        self.assertRegex(
            self.page("/t/district/r/NR/delete"), r"(?s)Prevents deletion.*1 station"
        )
        self.assertEqual(self.client().post("/t/district/r/NR/delete").status_code, 409)
        self.assertRegex(
            self.page("/t/station/r/1/delete").replace("\n", " "),
            r"Also deleted.*60 readings",
        )
        self.assertEqual(self.client().post("/t/station/r/1/delete").status_code, 302)
        self.assertEqual(self.rows("SELECT count(*) FROM reading"), [(0,)])

    def test_references_are_found_whatever_the_case(self: Any) -> None:
        answer = self.client().get("/t/reading/choices/station_id?find-what=TERN")
        (found,) = answer.get_json()["found"]
        self.assertEqual((found["value"], found["text"]), ("1", "Tern Holm"))

    def test_values_without_a_python_value_are_shown_all_the_same(self: Any) -> None:
        self.change(self.WORDS["strange"])
        page = self.page("/t/station/r/2")
        self.assertIn(self.WORDS["strange shown"], page)
        self.page("/t/station")
        data = self.form_data(self.client(), "/t/station/r/2/edit")
        self.assertEqual(
            self.client()
            .post("/t/station/r/2/edit", data=data | {"remarks": "r"})
            .status_code,
            302,
        )
        self.assertIn(self.WORDS["strange shown"], self.page("/t/station/r/2"))


@needs("postgresql")
class PostgresqlTest(ServerPages, ApplicationCase):
    SERVER = POSTGRESQL
    WORDS: ClassVar[dict[str, str]] = {
        "key": "SERIAL PRIMARY KEY",
        "mood": "mood",
        "moment": "TIMESTAMP",
        "odd": "interval",
        "value": "'1 year 2 mons'",
        "shown": "1 year 2 mons",
        "rows": "INSERT INTO reading SELECT 1, timestamp '2026-01-01' + n * interval '1 hour', n / 4.0 FROM generate_series(0, 59) n",
        "after": "SELECT setval('station_id_seq', 10)",
        "strange": "UPDATE station SET first_lit = 'infinity', seen_at = '4000-01-01 BC' WHERE id = 2",
        "strange shown": "infinity",
    }

    @classmethod
    def script(cls) -> str:
        return "CREATE TYPE mood AS ENUM ('calm', 'grim');\n" + super().script()


@needs("mariadb")
class MariadbTest(ServerPages, ApplicationCase):
    SERVER = MARIADB
    WORDS: ClassVar[dict[str, str]] = {
        "key": "INTEGER PRIMARY KEY AUTO_INCREMENT",
        "mood": "ENUM('calm', 'grim')",
        "moment": "DATETIME",
        "odd": "SET('a', 'b')",
        "value": "'a,b'",
        "shown": "A, B",
        "rows": "INSERT INTO reading SELECT 1, '2026-01-01' + INTERVAL seq HOUR, seq / 4.0 FROM seq_0_to_59",
        "after": "",
        "strange": "UPDATE station SET opens = '-25:10:00', is_manned = 2 WHERE id = 2",
        "strange shown": "-25:10:00",
    }


@needs("postgresql")
class SchemasTest(OnServer, ApplicationCase):
    """Tables of several schemas, two of one name, referring to each other."""

    SERVER = POSTGRESQL
    DATABASE = "lumet_test_schemas"
    CHOICE = TableChoice(schemas=("public", "north.isles"))

    @classmethod
    def script(cls) -> str:
        return """
CREATE SCHEMA "north.isles";
CREATE SCHEMA codes;
CREATE TABLE codes.grade (code text PRIMARY KEY, name text NOT NULL);
INSERT INTO codes.grade VALUES ('A', 'Excellent'), ('B', 'Fair');
CREATE TABLE station (id int PRIMARY KEY, name text NOT NULL);
INSERT INTO station VALUES (1, 'Tern Holm');
CREATE TABLE "north.isles".station (
    id int GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, name text NOT NULL UNIQUE,
    twin int REFERENCES public.station, grade text NOT NULL REFERENCES codes.grade,
    height int CHECK (height > 0));
INSERT INTO "north.isles".station (name, twin, grade) VALUES ('Cold Bar', 1, 'A')"""

    def test_tables_of_one_name_in_two_schemas(self) -> None:
        names = sorted(path.name for path in (self.folder / "design/tables").iterdir())
        self.assertEqual(
            names, ["codes.grade.toml", "north%2Eisles.station.toml", "station.toml"]
        )
        client = self.client()
        here = "/t/north_isles_station"
        page = client.get(f"{here}/r/1").get_data(as_text=True)
        for text in ("Cold Bar", "Tern Holm", "Excellent"):
            self.assertIn(text, page)
        self.assertEqual(client.get("/t/codes_grade").status_code, 404, "for lookups")
        data = self.form_data(client, f"{here}/add")
        data |= {"name": "Mew Ledge", "grade": "B", "height": "12", "twin": "1"}
        added = client.post(f"{here}/add", data=data)
        self.assertEqual(added.status_code, 302, added.get_data(as_text=True)[-2000:])
        edited = self.form_data(client, added.location + "/edit") | {"height": "0"}
        answer = client.post(added.location + "/edit", data=edited)
        self.assertEqual(answer.status_code, 422)
        rows = self.rows(
            'SELECT name, grade, height FROM "north.isles".station ORDER BY id'
        )
        self.assertEqual(rows, [("Cold Bar", "A", None), ("Mew Ledge", "B", 12)])
        related = client.get("/t/station/r/1").get_data(as_text=True)
        self.assertIn("Mew Ledge", related)
        self.assertIn(f"{here}/add?twin=1", related)
