"""Declared keys and references count as real; tables not chosen serve lookups alone."""

from lumet.project.commands import run_survey
from lumet.project.surveying import TableChoice
from tests.support.projects import ApplicationCase


class DeclaredTest(ApplicationCase):
    SCRIPT = """
CREATE TABLE station (code TEXT PRIMARY KEY NOT NULL, name TEXT NOT NULL UNIQUE);
CREATE TABLE LOGBOOK (DAY TEXT, STN_CD TEXT, WORDS TEXT);
CREATE VIEW seen AS SELECT STN_CD, count(*) AS entries FROM LOGBOOK GROUP BY STN_CD;
INSERT INTO station VALUES ('TH', 'Tern Holm'), ('CB', 'Cold Bar');
INSERT INTO LOGBOOK VALUES ('1961-02-01', 'TH', 'Fog.'), ('1961-02-02', '??', 'Oil.');
"""

    @classmethod
    def decide(cls) -> None:
        for name, key in (("LOGBOOK", '["DAY", "STN_CD"]'), ("seen", '["STN_CD"]')):
            path = cls.folder / f"design/tables/{name}.toml"
            lines = f'key = {key}\nfield.STN_CD.references = "station.code"\n'
            path.write_text(lines + path.read_text())

    def test_links_lookups_related_records_and_forms(self) -> None:
        client = self.client()
        page = client.get("/t/logbook").get_data(as_text=True)
        self.assertIn("Tern Holm", page)
        self.assertIn("/t/logbook/r/1961-02-01,TH", page)
        record = client.get("/t/station/r/TH").get_data(as_text=True)
        self.assertIn("/t/logbook/r/1961-02-01,TH", record)
        self.assertIn("/t/logbook/add?stn_cd=TH", record)
        data = self.form_data(client, "/t/logbook/add?stn_cd=CB") | {
            "day": "1961-03-01"
        }
        self.assertEqual(client.post("/t/logbook/add", data=data).status_code, 302)
        added = "SELECT DAY, STN_CD FROM LOGBOOK WHERE STN_CD = 'CB'"
        self.assertEqual(self.rows(added), [("1961-03-01", "CB")])
        again = client.post("/t/logbook/add", data=data | {"sent-once": ""})
        self.assertEqual(again.status_code, 422, "the declared key is unique")

    def test_a_view_with_a_key_has_records_but_no_form(self) -> None:
        client = self.client()
        self.assertIn("/t/seen/r/TH", client.get("/t/seen").get_data(as_text=True))
        self.assertEqual(client.get("/t/seen/r/TH").status_code, 200)
        self.assertEqual(client.get("/t/seen/r/TH/edit").status_code, 403)

    def test_a_reference_to_nothing_stays_as_it_is(self) -> None:
        client = self.client()
        address = "/t/logbook/r/1961-02-02,~3F~3F"
        self.assertIn("??", client.get(address).get_data(as_text=True))
        data = self.form_data(client, address + "/edit") | {"words": "Oil, 14 drums."}
        self.assertEqual(client.post(address + "/edit", data=data).status_code, 302)
        self.assertEqual(
            self.rows("SELECT STN_CD FROM LOGBOOK WHERE WORDS LIKE '%14%'"), [("??",)]
        )


class ChosenTest(ApplicationCase):
    SCRIPT = """
CREATE TABLE district (code TEXT PRIMARY KEY NOT NULL, name TEXT NOT NULL UNIQUE);
CREATE TABLE station (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, district TEXT REFERENCES district);
CREATE TABLE light (
    id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES station, colour TEXT);
CREATE TABLE other (id INTEGER PRIMARY KEY);
INSERT INTO district VALUES ('NR', 'North Reach');
INSERT INTO station VALUES (1, 'Tern Holm', 'NR'), (2, 'Cold Bar', NULL);
INSERT INTO light VALUES (1, 1, 'red');
"""

    @classmethod
    def make(cls) -> str:
        address = super().make()
        choice = TableChoice(tables=("l*", "o*"), skip=("oth*",))
        run_survey(cls.folder, address, choice=choice)
        return address

    def test_only_chosen_tables_have_pages_and_the_others_are_chosen_from(self) -> None:
        client = self.client()
        self.assertIn("Tern Holm", client.get("/t/light").get_data(as_text=True))
        record = client.get("/t/light/r/1").get_data(as_text=True)
        self.assertIn("Tern Holm", record)
        self.assertNotIn("/t/station", record)
        for address in ("/t/station", "/t/station/r/1", "/t/district", "/t/other"):
            self.assertEqual(client.get(address).status_code, 404)
        data = self.form_data(client, "/t/light/r/1/edit") | {"station_id": "2"}
        self.assertEqual(client.post("/t/light/r/1/edit", data=data).status_code, 302)
        self.assertEqual(self.rows("SELECT station_id FROM light"), [(2,)])

    def test_the_choice_is_recorded_and_stays(self) -> None:
        text = (self.folder / "lumet.toml").read_text()
        self.assertIn('tables = ["l*", "o*"]\nskip = ["oth*"]\n', text)
        self.assertFalse((self.folder / "design/tables/other.toml").exists())
