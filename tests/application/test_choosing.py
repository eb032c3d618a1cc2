"""Lookups: what tells a record, what limits the choice, several columns at once, many
records; and what the application writes by itself."""

import re
from typing import Any

from tests.support.projects import ApplicationCase, read_form

SCRIPT = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE, code CHAR(4), closed_on DATE);
CREATE TABLE light (station_id INTEGER NOT NULL REFERENCES station (id), no INTEGER NOT NULL,
    name VARCHAR(40) NOT NULL, PRIMARY KEY (station_id, no));
CREATE TABLE lens (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES station (id),
    label VARCHAR(40) NOT NULL UNIQUE);
CREATE TABLE visit (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES station (id),
    light_no INTEGER, lens_id INTEGER REFERENCES lens (id), words VARCHAR(40),
    made_at TIMESTAMP, made_by VARCHAR(20), changed_at TIMESTAMP, changed_by VARCHAR(20),
    FOREIGN KEY (station_id, light_no) REFERENCES light (station_id, no));
INSERT INTO station VALUES (1, 'Tern Holm', 'TH', NULL), (2, 'Cold Bar', 'CB', NULL),
    (3, 'Old Reef', 'OR', '1990-01-01');
INSERT INTO light VALUES (1, 1, 'Main'), (1, 2, 'Sector'), (2, 1, 'Front'), (2, 3, 'Rear');
INSERT INTO lens VALUES (1, 1, 'Large'), (2, 2, 'Small'), (3, 2, 'Spare');
INSERT INTO visit (id, station_id, light_no, lens_id, words) VALUES
    (1, 1, 2, 1, 'first'), (2, 2, 1, NULL, 'second'), (3, 3, NULL, NULL, 'third');
"""
DECIDED = """
[field.station_id]
where = "closed_on IS NULL"
[field.lens_id]
depends_on = ["station_id"]
[field.made_at]
automatic = "created at"
[field.made_by]
automatic = "created by"
[field.changed_at]
automatic = "changed at"
[field.changed_by]
automatic = "changed by"
"""


class ChoosingTest(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "design/tables/visit.toml"
        path.write_text(path.read_text() + DECIDED)

    def setUp(self) -> None:
        super().setUp()
        self.user = self.client()

    def options(self, page: str, column: str) -> dict[str, str]:
        """Return the choices of a lookup: titles by value."""
        control = re.search(
            rf'<select id="field-{column}".*?</select>', page, re.DOTALL
        )
        assert control is not None
        return dict(re.findall(r'<option value="([^"]+)"[^>]*>([^<]*)<', control[0]))

    def find(self, column: str, **asked: Any) -> dict[str, Any]:
        names = {"q": "find-what", "skip": "skip-first"}
        asked = {names.get(key, key): value for key, value in asked.items()}
        answer = self.user.get(f"/t/visit/choices/{column}", query_string=asked)
        return dict(answer.get_json())

    def save(self, **typed: str) -> Any:
        form = self.form_data(self.user, "/t/visit/r/1/edit")
        return self.user.post("/t/visit/r/1/edit", data=form | typed)

    def test_a_reference_over_two_columns_is_chosen_and_shown_by_name(self) -> None:
        page = self.user.get("/t/visit/r/1/edit").text
        self.assertIn('data-follows="station_id "', page)
        self.assertEqual(
            self.options(page, "light_no"),
            {"1": "Main", "2": "Sector"},
        )
        self.assertIn("Sector", self.user.get("/t/visit?columns=light_no,words").text)
        self.assertIn('href="/t/light/r/1,2"', self.user.get("/t/visit/r/1").text)
        found = self.find("light_no", station_id=2)["found"]
        self.assertEqual([each["value"] for each in found], ["1", "3"])
        self.assertEqual(self.save(light_no="3").status_code, 422)
        saved = self.save(station_id="2", light_no="3", lens_id="3")
        self.assertEqual(saved.status_code, 302, saved.text)
        self.assertEqual(
            self.rows("SELECT station_id, light_no FROM visit WHERE id = 1"), [(2, 3)]
        )

    def test_a_lookup_follows_the_parent_that_both_have(self) -> None:
        page = self.user.get("/t/visit/r/1/edit").text
        self.assertEqual(self.options(page, "lens_id"), {"1": "Large"})
        new = self.user.get("/t/visit/add").text
        self.assertEqual(len(self.options(new, "lens_id")), 3)
        answer = self.save(lens_id="2")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("Choose one that fits Station.", answer.text)
        self.change(
            "UPDATE visit SET lens_id = 2 WHERE id = 1"
        )  # as only a database can
        self.assertEqual(self.save(words="kept").status_code, 302)
        self.assertEqual(self.rows("SELECT lens_id FROM visit WHERE id = 1"), [(2,)])

    def test_what_can_be_chosen_is_decided_and_a_present_value_stays(self) -> None:
        page = self.user.get("/t/visit/r/1/edit").text
        self.assertEqual(set(self.options(page, "station_id")), {"1", "2"})
        present = self.user.get("/t/visit/r/3/edit").text
        self.assertEqual(self.options(present, "station_id")["3"], "Old Reef")
        form = self.form_data(self.user, "/t/visit/r/3/edit")
        saved = self.user.post("/t/visit/r/3/edit", data=form | {"words": "x"})
        self.assertEqual(saved.status_code, 302)
        self.assertEqual(
            self.save(station_id="3", light_no="", lens_id="").status_code, 422
        )

    def test_a_second_line_tells_records_apart(self) -> None:
        found = self.find("station_id", q="tern")["found"]
        self.assertEqual(found, [{"value": "1", "text": "Tern Holm", "note": "TH"}])
        self.assertIn('data-note="TH"', self.user.get("/t/visit/add").text)

    def test_many_are_found_a_few_at_a_time_those_first_that_begin_so(self) -> None:
        rows = ", ".join(f"('Far {n:03}', NULL, NULL)" for n in range(70))
        self.change(
            f"INSERT INTO station (name, code, closed_on) VALUES {rows}, ('A far cry', NULL, NULL)"
        )
        first = self.find("station_id", q="far")
        self.assertEqual(
            [each["text"] for each in first["found"]],
            [f"Far {n:03}" for n in range(20)],
        )
        self.assertTrue(first["more"])
        last = self.find("station_id", q="far", skip=60)
        self.assertEqual([each["text"] for each in last["found"]][-1], "A far cry")
        self.assertFalse(last["more"])
        self.assertEqual(self.find("station_id", q="far", skip=-5), first)

    def test_without_a_script_one_chooses_on_a_page_and_loses_nothing(self) -> None:
        rows = ", ".join(f"('Far {n:03}', NULL, NULL)" for n in range(70))
        self.change(f"INSERT INTO station (name, code, closed_on) VALUES {rows}")
        page = self.user.get("/t/visit/r/1/edit").text
        self.assertRegex(
            page, r'<noscript><button[^>]* name="find-for" value="station_id"'
        )
        form = read_form(page) | {"words": "half <typed>"}
        found = self.user.post(
            "/t/visit/r/1/edit",
            data=form | {"find-for": "station_id", "find-what": "cold"},
        )
        self.assertIn('value="station_id=2"', found.text)
        self.assertIn('value="half &lt;typed&gt;"', found.text)
        kept = dict(
            re.findall(r'type="hidden" name="([^"]+)" value="([^"]*)"', found.text)
        )
        chosen = self.user.post(
            "/t/visit/r/1/edit",
            data=kept | {"words": "half <typed>", "chosen-as": "station_id=2"},
        )
        again = read_form(chosen.text)
        self.assertEqual((again["station_id"], again["words"]), ("2", "half <typed>"))
        self.assertEqual(
            self.rows("SELECT words FROM visit WHERE id = 1"), [("first",)]
        )
        again |= {"light_no": "", "lens_id": ""}
        self.assertEqual(
            self.user.post("/t/visit/r/1/edit", data=again).status_code, 302
        )

    def test_what_is_missing_is_added_in_a_dialog(self) -> None:
        address = "/t/station/add?choose-by=id&as-piece=1"
        self.assertIn(
            'href="/t/station/add?choose-by=id"', self.user.get("/t/visit/add").text
        )
        piece = self.user.get(address).text
        self.assertNotIn("<html", piece)
        self.assertEqual(self.user.post(address, data={"name": ""}).status_code, 422)
        made = self.user.post(address, data={"name": "New Skerry"}).get_json()
        self.assertEqual(made, {"value": "4", "text": "New Skerry"})
        self.assertNotIn("data-add", self.client("viewer").get("/t/visit").text)

    def test_who_and_when_are_written_by_the_application(self) -> None:
        page = self.user.get("/t/visit/add").text
        self.assertNotIn('name="made_by"', page)
        self.user.post(
            "/t/visit/add",
            data={"station_id": "1", "words": "new", "made_by": "forged"},
        )
        self.client("editor").post(
            "/t/visit/r/1/edit",
            data=self.form_data(self.user, "/t/visit/r/1/edit")
            | {"words": "by a worker"},
        )
        made = "SELECT made_by, changed_by, made_at IS NULL, changed_at IS NULL FROM visit WHERE words = "
        self.assertEqual(
            self.rows(f"{made}'new'"), [("administrator", "administrator", 0, 0)]
        )
        self.assertEqual(self.rows(f"{made}'by a worker'"), [(None, "editor", 1, 0)])

    def test_one_goes_through_the_list_as_it_was_left(self) -> None:
        self.assertNotIn('rel="next"', self.user.get("/t/visit/r/2").text)
        self.user.get("/t/visit?sort=-words&words.has=d")
        page = self.user.get("/t/visit/r/3").text  # third, second
        self.assertNotIn('rel="prev"', page)
        self.assertIn('rel="next" href="/t/visit/r/2"', page)
        self.assertIn('href="/t/visit?sort=-words&amp;words.has=d"', page)
        self.assertIn(
            'rel="prev" href="/t/visit/r/3"', self.user.get("/t/visit/r/2").text
        )
        self.assertNotIn(
            'rel="next"', self.user.get("/t/visit/r/1").text
        )  # not in that list

    def test_wrong_decisions_are_said(self) -> None:
        from lumet.errors import LumetError
        from lumet.project.commands import run_generation

        path = self.folder / "design/tables/visit.toml"
        before = path.read_text()
        self.addCleanup(path.write_text, before)
        for line, said in (
            ('[field.lens_id]\ndepends_on = ["words"]', "cannot follow"),
            ('[field.words]\nwhere = "closed_on IS NULL"', "refers to no table"),
            ('[field.lens_id]\nwhere = "closed_on IS NULL"', "closed_on"),
            ('[field.words]\nfolder = "../out"', "path within the uploads"),
            ('[field.lens_id]\nautomatic = "changed by"', "another type"),
            ('[field.words]\ntime_zone = "Atlantis/Deep"', "There is no time zone"),
        ):
            own = before.replace('[field.lens_id]\ndepends_on = ["station_id"]\n', "")
            path.write_text(f"{own}\n{line}\n")
            with self.subTest(line), self.assertRaises(LumetError) as refused:
                run_generation(self.folder)
            self.assertIn(said, str(refused.exception))


class CodesTest(ApplicationCase):
    """One table for all codes: a query for each of them is what columns refer to."""

    SCRIPT = """
        CREATE TABLE code (kind TEXT NOT NULL, value TEXT NOT NULL, label TEXT NOT NULL, PRIMARY KEY (kind, value));
        INSERT INTO code VALUES ('colour', 'r', 'Red'), ('colour', 'w', 'White'), ('state', 'r', 'Repaired'), ('state', 'd', 'Dark');
        CREATE TABLE light (id INTEGER PRIMARY KEY, name TEXT NOT NULL, colour TEXT NOT NULL, state TEXT);
        INSERT INTO light VALUES (1, 'North', 'r', 'd'), (2, 'South', 'w', 'r');
    """

    @classmethod
    def decide(cls) -> None:
        (cls.folder / "design/queries").mkdir()
        lines = ""
        for kind in ("colour", "state"):
            name = f"light_{kind}"
            query = f"SELECT value, label FROM code WHERE kind = '{kind}'\n"
            (cls.folder / f"design/queries/{name}.sql").write_text(query)
            own = 'key = ["value"]\ninclude = false\n'
            (cls.folder / f"design/tables/{name}.toml").write_text(own)
            lines += f'\n[field.{kind}]\nreferences = "{name}.value"\n'
        path = cls.folder / "design/tables/light.toml"
        path.write_text(path.read_text() + lines)

    def test_each_column_has_its_own_codes(self) -> None:
        client = self.client()
        text = client.get("/t/light/export.csv").text
        self.assertEqual(
            text.splitlines()[1:],
            ['"North","Red","Dark"', '"South","White","Repaired"'],
        )
        page = client.get("/t/light/r/1/edit").text
        self.assertEqual(re.findall(r"<option[^>]*>(Red|White|Repaired|Dark)", page), ["Red", "White", "Dark", "Repaired"])  # fmt: skip
        form = self.form_data(client, "/t/light/r/1/edit")
        wrong = client.post("/t/light/r/1/edit", data=form | {"colour": "d"})
        self.assertIn("Choose one from the list.", wrong.text)
        client.post("/t/light/r/1/edit", data=form | {"state": "r"})
        self.assertEqual(self.rows("SELECT state FROM light WHERE id = 1"), [("r",)])
