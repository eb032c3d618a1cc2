"""The menu: folded groups and favourites as their user left them, numbers of records within
reach, icons, and a thousand tables."""

import re
from typing import Any
from unittest import mock

from tests.support.projects import ApplicationCase

MANY = 1_000
SCRIPT = """
CREATE TABLE district (code TEXT PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL, district_code TEXT REFERENCES district);
CREATE TABLE visit (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES station, came_on DATE NOT NULL);
CREATE VIEW named AS SELECT id, name FROM station;
INSERT INTO district VALUES ('NR', 'North Reach'), ('SF', 'Saltfen');
INSERT INTO station VALUES (1, 'Tern Holm', 'NR'), (2, 'Cold Bar', 'SF'), (3, 'Mew Ledge', 'NR');
INSERT INTO visit VALUES (1, 1, '2026-05-17'), (2, 2, '2026-05-18');
"""
ROLES = """
[role.mate]
label = "Mate"
[role.mate.tables]
"*" = ["view"]
visit = []
[role.mate.rows]
station = "district_code = 'SF'"
"""


def entries(page: str) -> dict[str, list[str]]:
    """Return the labels of the entries by the groups that are open."""
    found = re.findall(r'<details data-group="([^"]+)" open>(.*?)</details>', page, re.DOTALL)  # fmt: skip
    return {name: re.findall(r"<span>([^<]+)</span>", text) for name, text in found}


class MenuTest(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        access = cls.folder / "access.toml"
        access.write_text(access.read_text() + ROLES)
        for name, icon in (("station", "geo-alt"), ("visit", "calendar")):
            path = cls.folder / f"design/tables/{name}.toml"
            path.write_text(f'icon = "{icon}"\n' + path.read_text())
        path = cls.folder / "lumet.toml"
        path.write_text('menu = ["Reference data", "visit"]\n' + path.read_text())

    def test_groups_stay_folded_and_the_present_one_is_open(self) -> None:
        client = self.client("editor")
        page = client.get("/t/visit").text
        self.assertEqual(
            list(entries(page)), ["Reference data", "Records", "Overviews"]
        )
        self.assertEqual(entries(page)["Records"], ["Visits", "Stations"])
        self.assertEqual(page.count('aria-current="page"'), 1)
        self.assertEqual(
            client.post("/menu", data={"group": "Records"}).status_code, 302
        )
        client.post("/menu", data={"group": "Overviews"})
        again = self.client("editor")
        self.assertEqual(
            list(entries(again.get("/t/district").text)), ["Reference data"]
        )
        self.assertEqual(list(entries(again.get("/t/visit").text)), ["Reference data", "Records"])  # fmt: skip
        self.assertIn("Records", entries(self.client("viewer").get("/t/district").text))
        again.post("/menu", data={"group": "Records", "open": "1"})
        self.assertIn("Records", entries(again.get("/t/district").text))
        for wrong in ({"group": "Nothing"}, {"favourite": "nothing"}, {}):
            self.assertEqual(again.post("/menu", data=wrong).status_code, 404, wrong)

    def test_favourites_are_their_user_s(self) -> None:
        client = self.client("administrator")
        self.assertNotIn("Favourites", client.get("/t/station").text)
        sent = {"favourite": "station", "return-to": "/t/station?sort=name"}
        answer = client.post("/menu", data=sent)
        self.assertEqual(answer.headers["Location"], "/t/station?sort=name")
        page = client.get("/t/station").text
        self.assertRegex(
            page, r'(?s)class="favourites">.*?href="/t/station".*?</section>'
        )
        self.assertIn('aria-pressed="true"', page)
        self.assertNotIn("Favourites", self.client("viewer").get("/t/station").text)
        client.post("/menu", data=sent | {"return-to": "//elsewhere"})
        self.assertNotIn("Favourites", client.get("/t/station").text)
        # what is beyond reach is no entry, and nothing tells that it is there
        self.assertEqual(self.client("mate").post("/menu", data={"favourite": "visit"}).status_code, 404)  # fmt: skip

    def test_numbers_of_records_within_reach(self) -> None:
        client, mate = self.client("viewer"), self.client("mate")
        self.assertIn('data-counts="/menu/counts"', client.get("/").text)
        self.assertEqual(client.get("/menu/counts").json, {"district": "2", "station": "3", "visit": "2"})  # fmt: skip
        self.assertEqual(
            mate.get("/menu/counts").json, {"district": "2", "station": "1"}
        )
        page = client.get("/t/visit").text
        self.assertNotIn("data-counts", page)
        self.assertRegex(
            page, r'<span>Stations</span><small aria-hidden="true">3</small>'
        )
        self.assertRegex(
            mate.get("/").text,
            r'<span>Stations</span><small aria-hidden="true">1</small>',
        )

    def test_icons_that_were_decided_are_there_and_no_others(self) -> None:
        page = self.client("viewer").get("/t/visit").text
        address = re.search(r'href="([^"]+icons\.svg)#geo-alt"', page)
        assert address is not None
        answer: Any = self.client("viewer").get(address[1])
        self.assertEqual(re.findall(r'id="([^"]+)"', answer.text), ["calendar", "geo-alt"])  # fmt: skip

    def test_a_thousand_tables(self) -> None:
        """A long menu is folded, but for the present group, and no numbers are
        counted."""
        site = self.app.extensions["site"]
        station = site.registry["station"]
        many = {f"far_{n}": station for n in range(MANY)}
        with mock.patch.dict(site.registry.pages, many):
            site.plans.clear()
            site.counts.__init__()
            client = self.client("viewer")
            page = client.get("/t/visit").text
            self.assertEqual(client.get("/menu/counts").json, {})
            self.assertEqual(list(entries(page)), ["Records"])
            self.assertLess(len(page), 400_000)
        site.plans.clear()
        site.counts.__init__()
