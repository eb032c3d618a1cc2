"""Keys and references that a person declared count as real in the application."""

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
        again = client.post("/t/logbook/add", data=data)
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
