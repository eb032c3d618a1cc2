"""Applications over museums of oddities: every page opens, an unchanged form saves."""

import re
from typing import Any, ClassVar

from tests.facts import test_servers as museums
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase, read_form
from tests.support.servers import MARIADB, POSTGRESQL, OnServer, run


class Rooms(OnServer):
    """The test, for each server; not a test by itself."""

    DATABASE = "lumet_test_rooms"
    MUSEUM: ClassVar[Any]
    SHOWN: ClassVar[tuple[str, ...]]
    DUMP: ClassVar[str]

    @classmethod
    def script(cls) -> str:
        without_users = cls.MUSEUM.SCRIPT.split(";\nDROP ROLE")[0].split(
            ";\nDROP USER"
        )[0]
        return str(without_users).replace("lumet_test_isles", "lumet_test_piers")

    def test_every_page_opens_and_an_unchanged_form_saves(self: Any) -> None:
        client = self.client()
        before = self.rows(self.DUMP)
        for name, pages in self.app.extensions["site"].registry.pages.items():
            if pages.for_lookups:
                continue
            listed = self.open(client, f"/t/{name}")
            for key in re.findall(rf'href="/t/{name}/r/([^/"]+)"', listed)[:2]:
                page = self.open(client, f"/t/{name}/r/{key}")
                if name == "everything":
                    for text in self.SHOWN:
                        self.assertIn(text, page)
                form = self.open(client, f"/t/{name}/r/{key}/edit")
                answer = client.post(f"/t/{name}/r/{key}/edit", data=read_form(form))
                self.assertEqual(
                    answer.status_code, 302, answer.get_data(as_text=True)[-3000:]
                )
            for heading in re.findall(r'href="([^"]*\?sort=[^"]*)"', listed):
                self.open(client, heading)
        self.assertEqual(self.rows(self.DUMP), before)

    def open(self: Any, client: Any, address: str) -> str:
        answer = client.get(address)
        self.assertEqual(answer.status_code, 200, address)
        return str(answer.get_data(as_text=True))


@needs("postgresql")
class PostgresqlRooms(Rooms, ApplicationCase):
    SERVER = POSTGRESQL
    MUSEUM = museums.PostgresqlMuseum
    DUMP = "SELECT everything::text FROM everything"
    SHOWN = (
        "infinity",
        "4000-01-01",
        "1 year 2 mons",
        "1, 2",
        "[1,5)",
        "10.0.0.1/8",
        "1 bytes",
    )


@needs("mariadb")
class MariadbRooms(Rooms, ApplicationCase):
    SERVER = MARIADB
    MUSEUM = museums.MariadbMuseum
    DUMP = "SELECT id, hex(m), s, n, cast(d AS char), cast(t AS char), dt, y, j, hex(b), bo, f, dp, u FROM everything"

    @classmethod
    def make(cls) -> str:
        drop = ["DROP DATABASE IF EXISTS lumet_test_piers"]
        cls.addClassCleanup(run, MARIADB, drop)
        return str(super().make())

    SHOWN = ("A, B", "0000-00-00", "-100:30:00", "POINT(1 2)", "2026")
