"""Forms: what is typed in several ways, keys that make themselves, sent once or twice."""

import io
import re
import threading
from typing import Any
from unittest import mock

from PIL import Image

from tests.support.capabilities import needs
from tests.support.projects import PASSWORD, ApplicationCase, read_form
from tests.support.servers import MARIADB, POSTGRESQL, OnServer, connect

TABLES = """
CREATE TABLE buoy (code VARCHAR(10) PRIMARY KEY, name VARCHAR(40) NOT NULL, depth_m DECIMAL(9,3), crew INTEGER,
  laid_on DATE, seen_at {moment}, photo {bytes});
CREATE TABLE note (no INTEGER PRIMARY KEY, buoy_code VARCHAR(10), words VARCHAR(40), FOREIGN KEY (buoy_code) REFERENCES buoy (code));
CREATE TABLE tag (id {uuid} PRIMARY KEY, words VARCHAR(40));
CREATE TABLE mark (no NUMERIC(4,0) PRIMARY KEY, words VARCHAR(40));
CREATE TABLE tied (no INTEGER PRIMARY KEY, tag_id {uuid}, mark_no NUMERIC(4,0), FOREIGN KEY (tag_id) REFERENCES tag (id), FOREIGN KEY (mark_no) REFERENCES mark (no));
INSERT INTO buoy VALUES ('NR1', 'North', 12.5, 3, '2026-05-01', NULL, NULL);
"""
DECIDED = {
    "note": '[field.no]\ngenerated = "max + 1"\n',
    "tag": '[field.id]\ngenerated = "uuid"\n',
}


class Forms:
    """The tests, for each kind of database; not a test by itself."""

    DATABASE = "lumet_test_forms"
    MOMENT, UUID, BYTES = "TIMESTAMP", "CHAR(36)", "BLOB"
    HELD = "x'{}'"

    @classmethod
    def script(cls) -> str:
        return TABLES.format(moment=cls.MOMENT, uuid=cls.UUID, bytes=cls.BYTES)

    @classmethod
    def decide(cls: Any) -> None:
        for name, lines in DECIDED.items():
            path = cls.folder / f"design/tables/{name}.toml"
            path.write_text(path.read_text() + lines)

    def test_what_is_typed_in_several_ways_is_one_value(self: Any) -> None:
        client = self.client()
        self.app.extensions["users"].set_profile(1, "en_GB", "")
        for depth, crew, day, moment in (
            ("1234.5", "1200", "2026-11-17", "2026-11-17T09:40"),
            ("1,234.500", "1,200", "17/11/2026", "17/11/2026 09:40"),
            ("1 234.5", "1 200", "17 Nov 2026", "17 Nov 2026, 09:40"),
        ):
            typed = {"code": "X", "name": "X", "depth_m": depth, "crew": crew,
                     "laid_on": day, "seen_at": moment}  # fmt: skip
            answer = client.post("/t/buoy/add", data=typed)
            self.assertEqual(answer.status_code, 302, typed)
            (row,) = self.rows(
                "SELECT depth_m, crew, laid_on, seen_at FROM buoy WHERE code = 'X'"
            )
            found = (
                float(row[0]),
                row[1],
                str(row[2]),
                str(row[3]).replace("T", " ")[:16],
            )
            self.assertEqual(found, (1234.5, 1200, "2026-11-17", "2026-11-17 09:40"))
            self.change("DELETE FROM buoy WHERE code = 'X'")
        with mock.patch(f"{self.package}.kit.common.locale.language", lambda: "de_DE"):
            typed |= {"depth_m": "1.234,5", "crew": "1.200", "laid_on": "17.11.2026"}
            page = client.post("/t/buoy/add", data=typed)
            self.assertEqual(page.status_code, 422)
            self.assertIn("This number is ambiguous.", page.text)
            typed |= {"crew": "1200", "seen_at": ""}
            self.assertEqual(client.post("/t/buoy/add", data=typed).status_code, 302)
        (row,) = self.rows("SELECT depth_m, crew FROM buoy WHERE code = 'X'")
        self.assertEqual((float(row[0]), row[1]), (1234.5, 1200))
        self.change("DELETE FROM buoy WHERE code = 'X'")

    def test_keys_make_themselves_and_stay(self: Any) -> None:
        client = self.client()
        self.change("DELETE FROM note")
        for words in ("one", "two"):
            answer = client.post("/t/note/add", data={"words": words})
            self.assertEqual(answer.status_code, 302)
        self.assertEqual(
            self.rows("SELECT no, words FROM note ORDER BY no"),
            [(1, "one"), (2, "two")],
        )
        answer = client.post("/t/tag/add", data={"words": "made"})
        self.assertEqual(answer.status_code, 302)
        ((made,),) = self.rows("SELECT id FROM tag")
        self.assertEqual(len(str(made)), 36)
        self.assertIn("made", client.get(answer.location).text)
        form = self.form_data(client, "/t/buoy/r/NR1/edit")
        self.assertNotIn("code", form)
        client.post("/t/buoy/r/NR1/edit", data=form | {"code": "ZZ", "name": "Norther"})
        self.assertEqual(self.rows("SELECT code, name FROM buoy"), [("NR1", "Norther")])

    def test_a_reference_to_what_there_is_not_is_told_at_its_field(self: Any) -> None:
        client = self.client()
        for key, values in {
            "tag_id": ("12", "0b9a6c1e-52d7-4f0e-9d3c-7f1f5a3e8c24", "x" * 40),
            "mark_no": ("12", "999999999", "nope", "NaN", "1e999999999"),
        }.items():
            for value in values:
                answer = client.post("/t/tied/add", data={"no": "1", key: value})
                self.assertEqual(answer.status_code, 422)
                self.assertIn("Choose one from the list.", answer.text, value)
                self.assertNotIn("The database does not allow", answer.text)
        self.assertEqual(self.rows("SELECT * FROM tied"), [])

    def test_numbers_are_given_once_when_many_save_together(self: Any) -> None:
        clients = [self.client() for _ in range(6)]
        self.change("DELETE FROM note")
        codes: list[int] = []

        def add(client: Any) -> None:
            for number in range(3):
                answer = client.post("/t/note/add", data={"words": str(number)})
                codes.append(answer.status_code)

        threads = [threading.Thread(target=add, args=(client,)) for client in clients]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
        added = codes.count(302)
        self.assertEqual({*codes} - {302, 503}, set())
        found = [row[0] for row in self.rows("SELECT no FROM note ORDER BY no")]
        self.assertEqual(found, list(range(1, added + 1)))
        self.assertGreater(added, 6)

    def test_no_update_of_many_editors_is_lost(self: Any) -> None:
        self.change("UPDATE buoy SET name = 'North' WHERE code = 'NR1'")
        clients = {letter: self.client() for letter in "abcde"}
        home = "/t/buoy/r/NR1/edit"

        def add_letters(letter: str, client: Any) -> None:
            left = 4
            while left:
                form = self.form_data(client, home)
                typed = form | {"name": form["name"] + letter}
                left -= client.post(home, data=typed).status_code == 302

        threads = [
            threading.Thread(target=add_letters, args=c) for c in clients.items()
        ]
        for each in threads:
            each.start()
        for each in threads:
            each.join(60)
        self.assertFalse(any(each.is_alive() for each in threads))
        ((name,),) = self.rows("SELECT name FROM buoy WHERE code = 'NR1'")
        self.assertEqual(sorted(name), sorted("North" + "abcde" * 4))
        self.change("UPDATE buoy SET name = 'North' WHERE code = 'NR1'")

    def test_a_delete_notices_that_somebody_changed_the_record(self: Any) -> None:
        client = self.client()
        self.change("INSERT INTO buoy (code, name) VALUES ('GO', 'Going')")
        address = "/t/buoy/r/GO/delete"
        seen = re.search(r'name="seen" value="(\w+)"', client.get(address).text)
        assert seen is not None
        self.change("UPDATE buoy SET name = 'Staying' WHERE code = 'GO'")
        answer = client.post(address, data={"seen": seen[1]})
        self.assertEqual(answer.status_code, 409)
        self.assertIn("Another user changed this record.", answer.text)
        seen = re.search(r'name="seen" value="(\w+)"', answer.text)
        assert seen is not None
        answer = client.post(address, data={"seen": seen[1]})
        self.assertEqual(answer.status_code, 302)
        self.assertEqual(self.rows("SELECT * FROM buoy WHERE code = 'GO'"), [])

    def test_a_form_that_is_sent_twice_makes_one_record(self: Any) -> None:
        client = self.client()
        form = read_form(client.get("/t/note/add").text) | {"words": "once", "no": ""}
        first = client.post("/t/note/add", data=form)
        again = client.post("/t/note/add", data=form)
        self.assertEqual(first.location, again.location)
        self.assertEqual(
            self.rows("SELECT count(*) FROM note WHERE words = 'once'"), [(1,)]
        )
        wrong = read_form(client.get("/t/note/add").text) | {"buoy_code": "nowhere"}
        self.assertEqual(client.post("/t/note/add", data=wrong).status_code, 422)
        good = wrong | {"buoy_code": "NR1"}
        self.assertEqual(client.post("/t/note/add", data=good).status_code, 302)
        here = client.post("/t/note/add", data={"words": "here", "save-then": "here"})
        self.assertRegex(here.location, r"^/t/note/r/\d+/edit$")

    def test_pictures_are_shown_small(self: Any) -> None:
        client = self.client()
        made = io.BytesIO()
        Image.new("RGB", (900, 300), "#1f7a8c").save(made, "PNG")
        address = "/t/buoy/r/NR1/picture/photo"
        for raw, status in (
            (made.getvalue(), 200),
            (b"<script>alert(1)</script>", 404),
        ):
            held = self.HELD.format(raw.hex())
            self.change(f"UPDATE buoy SET photo = {held} WHERE code = 'NR1'")
            answer = client.get(address)
            self.assertEqual(answer.status_code, status)
            if status == 200:
                self.assertEqual(answer.content_type, "image/jpeg")
                self.assertEqual(Image.open(io.BytesIO(answer.data)).size, (320, 107))
        page = client.get("/t/buoy?columns=photo").text
        self.assertIn(f'<img class="picture" src="{address}" alt="Photo"', page)
        self.assertIn(
            f'src="{address}"', client.get("/t/buoy?columns=photo&layout=cards").text
        )
        self.assertIn(f'src="{address}"', client.get("/t/buoy/r/NR1").text)
        self.assertEqual(client.get("/t/buoy/r/NR1/picture/name").status_code, 404)
        self.assertEqual(client.get("/t/buoy/r/XX/picture/photo").status_code, 404)
        self.change("UPDATE buoy SET photo = NULL")

    def test_a_conflict_says_who_and_when(self: Any) -> None:
        client, users = self.client(), self.app.extensions["users"]
        users.add("tove", PASSWORD, ["administrator"])
        other = self.app.test_client()
        other.post("/sign-in", data={"name": "tove", "password": PASSWORD})
        mine = self.form_data(client, "/t/buoy/r/NR1/edit") | {"name": "Mine"}
        theirs = self.form_data(other, "/t/buoy/r/NR1/edit") | {"name": "Theirs"}
        other.post("/t/buoy/r/NR1/edit", data=theirs)
        page = client.post("/t/buoy/r/NR1/edit", data=mine)
        self.assertEqual(page.status_code, 409)
        self.assertIn("tove changed this record after you opened it, ", page.text)


class SqliteForms(Forms, ApplicationCase):
    SCRIPT = TABLES.format(moment="TIMESTAMP", uuid="CHAR(36)", bytes="BLOB")


class Losing:
    """The tests of connections and locks that only servers have; not a test by itself."""

    KILL = ""  # what ends a connection, by its number

    def test_a_lost_connection_loses_nothing_that_was_typed(self: Any) -> None:
        client = self.client()
        pages = self.app.extensions["site"].registry["buoy"]
        before = self.rows("SELECT code, name FROM buoy")

        def cut(_pages: Any, change: Any) -> None:
            raw = change.connection.connection.driver_connection
            self.change(self.KILL.format(self.number_of(raw)))
            change.carry_out(change)

        with mock.patch.object(type(pages), "write", cut):
            added = client.post("/t/buoy/add", data={"code": "ZZ", "name": "Lost <1>"})
            form = self.form_data(client, "/t/buoy/r/NR1/edit")
            edited = client.post("/t/buoy/r/NR1/edit", data=form | {"name": "Lost <1>"})
        for answer in (added, edited):
            self.assertEqual(answer.status_code, 503)
            self.assertIn("The database cannot be reached.", answer.text)
            self.assertIn('value="Lost &lt;1&gt;"', answer.text)
        self.assertEqual(self.rows("SELECT code, name FROM buoy"), before)

    def test_a_lock_that_lasts_is_said_and_nothing_typed_is_lost(self: Any) -> None:
        client = self.client()
        form = self.form_data(client, "/t/buoy/r/NR1/edit")
        engine = connect(self.address)
        self.addCleanup(engine.dispose)
        other = engine.connect().execution_options(isolation_level="READ COMMITTED")
        with other, other.begin() as locking:
            other.exec_driver_sql("UPDATE buoy SET crew = 4 WHERE code = 'NR1'")
            answer = client.post("/t/buoy/r/NR1/edit", data=form | {"name": "Typed"})
            locking.rollback()
        self.assertEqual(answer.status_code, 503)
        self.assertIn("Another user is changing the same data", answer.text)
        self.assertIn('value="Typed"', answer.text)


@needs("postgresql")
class PostgresqlForms(Losing, Forms, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    UUID, BYTES = "UUID", "BYTEA"
    HELD = "'\\x{}'"
    KILL = "SELECT pg_terminate_backend({})"

    @staticmethod
    def number_of(raw: Any) -> int:
        return int(raw.info.backend_pid)


@needs("mariadb")
class MariadbForms(Losing, Forms, OnServer, ApplicationCase):
    SERVER = MARIADB
    MOMENT = "DATETIME"
    KILL = "KILL {}"

    @staticmethod
    def number_of(raw: Any) -> int:
        return int(raw.thread_id())
