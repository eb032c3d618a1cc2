"""Finding anything: records of all tables, saved views and forms, and nothing past the
reach of who asks."""

import re
from functools import partial
from importlib import import_module
from typing import Any
from unittest import mock
from urllib.parse import quote

from sqlalchemy.exc import OperationalError

from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

SCRIPT = """
CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, note VARCHAR(40));
CREATE TABLE vessel (id INTEGER PRIMARY KEY, name VARCHAR(40), call_sign VARCHAR(8), owner VARCHAR(40));
CREATE TABLE visit (id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessel (id), came_on DATE NOT NULL);
CREATE TABLE crew (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
INSERT INTO port VALUES (1, 'Tern Holm', 'deep'), (2, '100% Bay', NULL), (3, '10_0 Bay', NULL);
INSERT INTO vessel VALUES (1, 'Tern', 'TRN', 'Moar'), (2, 'Old Tern', 'OLD', 'Vey'), (3, NULL, 'NON', 'Vey'), (4, 'Gannet', 'GAN', 'Moar');
INSERT INTO visit VALUES (1, 1, '2026-05-17'), (2, 2, '2026-05-18'), (3, 4, '2026-05-19');
INSERT INTO crew VALUES (1, 'Tern Vey'), (2, 'Ada Moar');
"""
MANY = "".join(f"INSERT INTO port VALUES ({n}, 'Gull Rock {n}', NULL);\n" for n in range(10, 22))  # fmt: skip
DECIDED = {
    "vessel": 'title = "{name}"\n',
    "visit": 'title = "{vessel_id} · {came_on}"\n',
}
ROLES = """
[role.mate]
label = "Mate"
share_views = true
[role.mate.tables]
"*" = ["view", "add"]
crew = []
visit = ["view"]
port = ["view"]
[role.mate.rows]
vessel = "owner = 'Moar'"
[role.mate.fields]
"port.name" = "hidden"
[role.boss]
label = "Boss"
share_views = true
[role.boss.tables]
"*" = ["view", "add", "edit", "delete"]
[role.clerk]
label = "Clerk"
[role.clerk.tables]
"*" = ["view"]
"""


class Finding:
    """The tests, for each kind of database; not a test by itself."""

    @classmethod
    def script(cls) -> str:
        return SCRIPT + MANY

    @classmethod
    def decide(cls: Any) -> None:
        for name, text in DECIDED.items():
            path = cls.folder / f"design/tables/{name}.toml"
            path.write_text(text + path.read_text())
        access = cls.folder / "access.toml"
        access.write_text(access.read_text() + ROLES)

    def found(self: Any, search: str, role: str = "boss") -> dict[str, list[str]]:
        """Return the addresses that were found, by the headings over them."""
        answer = self.client(role).get(f"/find?q={quote(search)}&as-piece=1")
        self.assertEqual(answer.status_code, 200)
        groups = re.findall(r"<h2>(.*?)</h2>(.*?)</section>", answer.text, re.DOTALL)
        return {label: re.findall(r'href="([^"]+)"', text) for label, text in groups}

    def test_records_of_all_tables_by_their_titles(self: Any) -> None:
        self.assertEqual(
            self.found("tern"),
            {
                "Crews": ["/t/crew/r/1"],
                "Ports": ["/t/port/r/1"],
                "Vessels": ["/t/vessel/r/1", "/t/vessel/r/2"],
                "Visits": ["/t/visit/r/1", "/t/visit/r/2"],
            },
        )
        self.assertEqual(self.found("old tern")["Vessels"], ["/t/vessel/r/2"])
        self.assertEqual(self.found("100%"), {"Ports": ["/t/port/r/2"]})
        self.assertEqual(self.found("10_"), {"Ports": ["/t/port/r/3"]})
        self.assertEqual(self.found("Vessel 3")["Vessels"], ["/t/vessel/r/3"])
        gulls = self.found("gull rock")["Ports"]
        self.assertEqual((len(gulls), gulls[-1]), (6, "/t/port?q=gull+rock"))
        for nothing in ("zzz", "", " ", "t", "x" * 3_000, "'; DROP TABLE port"):
            self.assertEqual(self.found(nothing).keys() & {"Ports", "Vessels"}, set())

    def test_nothing_past_the_reach(self: Any) -> None:
        self.assertEqual(
            self.found("tern", "mate"),
            {"Vessels": ["/t/vessel/r/1"], "Visits": ["/t/visit/r/1"]},
        )
        self.assertEqual(self.found("ada", "mate"), {})
        self.assertEqual(self.found("crew", "mate"), {})
        self.assertEqual(self.found("add visit", "mate"), {})
        self.assertEqual(self.found("add visit")["Actions"], ["/t/visit/add"])
        self.assertEqual(self.found("vess", "mate")["Actions"], ["/t/vessel/add"])
        self.assertEqual(self.app.test_client().get("/find?q=tern").status_code, 302)

    def test_saved_views(self: Any) -> None:
        boss = self.client("boss")
        asked = "?name.has=bay&note.has=deep"
        data = {"list-query": asked[1:], "name": "Far ports", "role": "mate"}
        self.assertEqual(boss.post("/t/port/views", data=data).status_code, 302)
        self.assertEqual(self.found("far po")["Saved views"], [f"/t/port{asked}".replace("&", "&amp;")])  # fmt: skip
        # shared, and without what the other may not see
        shared = self.found("far ports", "mate")["Saved views"]
        self.assertEqual(shared, ["/t/port?note.has=deep"])
        self.assertNotIn("Saved views", self.found("far ports", "administrator"))

    def test_a_large_table_is_searched_through_what_its_titles_begin_with(
        self: Any,
    ) -> None:
        pages = self.app.extensions["site"].registry["visit"]
        self.addCleanup(setattr, pages, "prefix_searchable", ())
        self.addCleanup(setattr, pages, "is_large", False)
        pages.prefix_searchable, pages.is_large = ("vessel_id",), True
        self.assertEqual(self.found("gann", "clerk")["Visits"], ["/t/visit/r/3"])
        self.assertEqual(self.found("tern", "clerk")["Visits"], ["/t/visit/r/2", "/t/visit/r/1"])  # fmt: skip
        self.assertNotIn("Visits", self.found("zzz", "clerk"))

    def test_one_table_does_not_take_the_others_with_it(self: Any) -> None:
        module = import_module(f"{self.app.name}.kit.queries.record_search")
        titles_plan = module.titles_plan

        def broken(context: Any) -> Any:
            if context.pages.name == "port":
                raise OperationalError("SELECT", {}, Exception("torn"))
            return titles_plan(context)

        with mock.patch.object(module, "titles_plan", broken):
            page = self.client("boss").get("/find?q=tern").text
        self.assertIn("/t/vessel/r/1", page)
        self.assertNotIn("/t/port/r/1", page)
        self.assertIn("Ports", page)

    def test_time_is_bounded(self: Any) -> None:
        module = import_module(f"{self.app.name}.kit.queries.record_search")
        views = import_module(f"{self.app.name}.kit.web.find_views")
        late = partial(module.find_records, seconds=0)
        slow = mock.patch.object(module, "_cost", lambda context: 1)
        with slow, mock.patch.object(views, "find_records", late):
            page = self.client("boss").get("/find?q=tern").text
        self.assertIn("Not searched, since that would take long: Crews, Ports, Vessels, Visits.", page)  # fmt: skip


class SqliteFindTest(Finding, ApplicationCase):
    SCRIPT = SCRIPT + MANY


@needs("postgresql")
class PostgresqlFindTest(Finding, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    DATABASE = "lumet_test_find"


@needs("mariadb")
class MariadbFindTest(Finding, OnServer, ApplicationCase):
    SERVER = MARIADB
    DATABASE = "lumet_test_find"
