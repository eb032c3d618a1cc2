"""The columns of a list: a user's own order and widths, those of everyone, and taken over into
the decisions."""

import re
from typing import Any

from tests.support.projects import ApplicationCase, run_command

SCRIPT = """
CREATE TABLE district (code TEXT PRIMARY KEY, name TEXT NOT NULL, DEPTH_M INTEGER);
CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL, state TEXT, BUILT_YR INTEGER, district_code TEXT REFERENCES district, remarks TEXT);
INSERT INTO district VALUES ('NR', 'North Reach', 4);
INSERT INTO station VALUES (1, 'Tern Holm', 'lit', 1901, 'NR', 'by boat');
"""


class ColumnsTest(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "design/tables/station.toml"
        path.write_text(path.read_text() + '\n[list]\ncolumns = ["state", "BUILT_YR", "district_code.DEPTH_M"]\n')  # fmt: skip

    def setUp(self) -> None:
        super().setUp()
        site = self.app.extensions["site"]
        for name in ("columns station", "widths station"):
            site.share(name, "")

    def columns(self, client: Any) -> list[str]:
        page = client.get("/t/station").text
        return re.findall(r'<th scope="col"[^>]* data-key="([^"]+)"', page)[1:]

    def choose(self, client: Any, *columns: str, **more: str) -> int:
        data = {"column": [*columns], "list-query": "", **more}
        status: int = client.post("/t/station/columns", data=data).status_code
        return status

    def test_order_and_widths_are_a_user_s_own(self) -> None:
        client, other = self.client("editor"), self.client("viewer")
        self.assertEqual(self.columns(client), ["state", "built_yr", "district_code.depth_m"])  # fmt: skip
        order = ("district_code.depth_m", "remarks", "state")
        self.assertEqual(self.choose(client, *order), 302)
        self.assertEqual(self.columns(client), [*order])
        # without a script, one is moved by its button, and the panel stays open
        answer = client.post("/t/station/columns", data={"order": [*order], "column": [*order[:2]], "up": "remarks"})  # fmt: skip
        self.assertIn("panel=columns", answer.headers["Location"])
        self.assertEqual(self.columns(client), ["remarks", "district_code.depth_m"])
        self.assertEqual(self.choose(client, widths="remarks:200,record-title:90,nothing:70,state:x"), 204)  # fmt: skip
        page = client.get("/t/station").text
        self.assertEqual(re.findall(r"<col(?: width=\"(\d+)\")?>", page)[:3], ["90", "200", ""])  # fmt: skip
        self.assertNotIn("<col", other.get("/t/station").text)
        self.assertEqual(self.columns(other)[0], "state")
        self.choose(client, reset="1")
        self.assertEqual(self.columns(client)[0], "state")
        self.assertNotIn("<col", client.get("/t/station").text)

    def test_an_administrator_s_are_everyone_s_but_of_those_who_chose(self) -> None:
        boss, editor, viewer = (self.client(r) for r in ("administrator", "editor", "viewer"))  # fmt: skip
        self.choose(editor, "remarks")
        self.choose(boss, widths="state:150")
        self.assertEqual(self.choose(editor, "state", everyone="1"), 403)
        self.assertEqual(self.choose(boss, "built_yr", "state", everyone="1"), 302)
        self.assertEqual(self.columns(viewer), ["built_yr", "state"])
        self.assertIn('<col width="150">', viewer.get("/t/station").text)
        self.assertEqual(self.columns(editor), ["remarks"])
        self.choose(editor, reset="1")
        self.assertEqual(self.columns(editor), ["built_yr", "state"])
        self.assertNotIn("everyone", editor.get("/t/station?panel=columns").text)
        self.choose(boss, **{"reset-everyone": "1"})
        self.assertEqual(self.columns(viewer)[0], "state")
        self.assertNotIn("<col", viewer.get("/t/station").text)

    def test_they_are_taken_over_into_the_decisions(self) -> None:
        ran = run_command("adopt", cwd=self.folder)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertIn("No columns were arranged for everyone", ran.stdout)
        self.choose(self.client(), widths="record-title:180,district_code.depth_m:95")
        self.choose(self.client(), "district_code.depth_m", "built_yr", everyone="1")
        ran = run_command("adopt", cwd=self.folder)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertIn("design/tables/station.toml", ran.stdout)
        text = (self.folder / "design/tables/station.toml").read_text()
        self.assertIn('\ncolumns = ["district_code.DEPTH_M", "BUILT_YR"]\n', text)
        self.assertIn('\ncolumn_widths = { record-title = 180, "district_code.DEPTH_M" = 95 }\n', text)  # fmt: skip
        self.assertEqual(len(re.findall(r"^columns = ", text, re.MULTILINE)), 1)
        ran = run_command("generate", cwd=self.folder)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        module = (self.folder / self.package / "tables/station.py").read_text()
        self.assertRegex(module, r'"district_code\.depth_m",\s*"built_yr"')
        self.assertRegex(module, r'"record-title": 180,\s*"district_code\.depth_m": 95')
        self.assertIn("No columns", run_command("adopt", cwd=self.folder).stdout)
