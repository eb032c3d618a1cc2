"""References in which a value of their own stands for none: it is shown, searched, sorted,
entered and left out as NULL is elsewhere."""

import re
from typing import Any

from lumet.rehearsal.checks import rehearse
from lumet.rehearsal.probe import Probe
from lumet.rehearsal.rehearsal import Rehearsal
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

TABLES = """
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, chief_id INTEGER NOT NULL DEFAULT 0);
CREATE TABLE district (code CHAR(4) PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE light (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, keeper_id INTEGER NOT NULL DEFAULT 0,
  district_code CHAR(4) NOT NULL DEFAULT '-', home_code CHAR(4) NOT NULL DEFAULT '',
  state VARCHAR(8));
INSERT INTO keeper VALUES (1, 'Ada', 0), (2, 'Bo', 1), (3, 'Cai', 1);
INSERT INTO district VALUES ('N', 'North'), ('S', 'South');
INSERT INTO light VALUES (1, 'Upper', 1, 'N', 'S', 'lit'), (2, 'Lower', 0, '-', '', ''), (3, 'Pier', 2, 'S', 'N', NULL), (4, 'Skerry', 0, 'N', '  ', '  '),
  (5, 'Holm', 3, '-', 'S', 'dark')
"""
LIGHT = """
[field.state]
kind = "choice"
choices = ["lit", "dark"]
[field.keeper_id]
references = "keeper.id"
none = 0
[field.district_code]
references = "district.code"
none = "-"
[field.home_code]
references = "district.code"
none = ""
"""
KEEPER = """
[list]
layouts = ["table", "tree"]
parent = "chief_id"
[field.chief_id]
references = "keeper.id"
none = 0
"""


class None_:
    """The same for each server."""

    @classmethod
    def script(cls) -> str:
        return TABLES

    @classmethod
    def decide(cls: Any) -> None:
        for name, lines in (("light", LIGHT), ("keeper", KEEPER)):
            path = cls.folder / f"design/tables/{name}.toml"
            text = re.sub(r"(?m)^\[list\].*\n(#~.*\n)*", "", path.read_text())
            path.write_text(text + lines)

    def names(self: Any, query: str) -> list[str]:
        page = self.client().get(f"/t/light?{query}").text
        return re.findall(r'class="title"[^>]*>(?:<[^>]*>)*([A-Z]\w+)', page)

    def test_lists_filters_and_orders(self: Any) -> None:
        page = self.client().get("/t/light").text
        self.assertIn(">Ada<", page)
        self.assertNotIn(">0<", page)
        self.assertEqual(sorted(self.names("keeper_id.empty=1")), ["Lower", "Skerry"])
        filled = sorted(self.names("keeper_id.filled=1"))
        self.assertEqual(filled, ["Holm", "Pier", "Upper"])
        self.assertEqual(sorted(self.names("district_code.empty=1")), ["Holm", "Lower"])
        self.assertEqual(sorted(self.names("home_code.empty=1")), ["Lower", "Skerry"])
        self.assertEqual(sorted(self.names("home_code.is=S")), ["Holm", "Upper"])
        groups = {
            "home_code": [("North", "1"), ("South", "2"), ("empty", "2")],
            "state": [("dark", "1"), ("empty", "3"), ("lit", "1")],
        }
        for column, expected in groups.items():
            page = self.client().get(f"/t/light?layout=groups&by={column}").text
            rows = re.findall(r'">(\w+)</a></td>\s*<td class="num">(\d)', page)
            self.assertEqual(sorted(rows), expected)
        found = self.names("sort=keeper_id")
        self.assertEqual([n for n in found if n in filled], ["Upper", "Pier", "Holm"])
        tree = self.client().get("/t/keeper?layout=tree").text
        self.assertIn(">Ada<", tree)
        self.assertNotIn("cycle", tree)

    def test_forms(self: Any) -> None:
        client = self.client()
        form = self.form_data(client, "/t/light/r/1/edit")
        self.assertEqual(form["keeper_id"], "1")
        data = form | {"keeper_id": "", "district_code": "", "home_code": ""}
        self.assertEqual(client.post("/t/light/r/1/edit", data=data).status_code, 302)
        stored = (
            "SELECT keeper_id, district_code, home_code FROM light WHERE name = '{}'"
        )
        row = self.rows(stored.format("Upper"))[0]
        self.assertEqual((row[0], row[1].strip(), row[2].strip()), (0, "-", ""))
        self.assertEqual(self.form_data(client, "/t/light/r/1/edit")["keeper_id"], "")
        new = self.form_data(client, "/t/light/add")
        self.assertEqual(new.get("keeper_id", ""), "")
        added = client.post("/t/light/add", data=new | {"id": "9", "name": "New"})
        self.assertEqual(added.status_code, 302)
        row = self.rows(stored.format("New"))[0]
        self.assertEqual((row[0], row[1].strip(), row[2].strip()), (0, "-", ""))
        self.change("DELETE FROM light WHERE name = 'New'")
        self.change(
            "UPDATE light SET keeper_id = 1, district_code = 'N', home_code = 'S' WHERE id = 1"
        )

    def test_walk(self: Any) -> None:
        self.app.config["WTF_CSRF_ENABLED"] = True
        probe = Probe.at(getattr(self, "address", str(getattr(self, "path", ""))))
        figures = rehearse(Rehearsal(self.app, probe))
        self.assertEqual([str(each) for each in figures.failures], [])


class SqliteNoneTest(None_, ApplicationCase):
    SCRIPT = TABLES


@needs("postgresql")
class PostgresqlNoneTest(None_, OnServer, ApplicationCase):
    SERVER, DATABASE = POSTGRESQL, "lumet_test_none"

    @classmethod
    def script(cls) -> str:
        # what it pads with blanks is compared by the walk as texts without
        return TABLES.replace(" CHAR(4)", " VARCHAR(4)")


@needs("mariadb")
class MariadbNoneTest(None_, OnServer, ApplicationCase):
    SERVER, DATABASE = MARIADB, "lumet_test_none"
