"""Calendar, board and map against a plain model of the rows, on three servers; moving
entries, with conflicts and refusals."""

import json
import re
from datetime import date, timedelta
from html import unescape
from typing import Any
from urllib.parse import quote

from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

STATES = ("reported", "planned", "done")
PORTS = ("North", "South", "East")
# name, first day, last day, state, cost, latitude, longitude, owner
ROWS: list[tuple[Any, ...]] = [
    (n, f"Stay {n}", date(2026, 2, 1) + timedelta(days=n * 5),
     None if n % 4 == 0 else date(2026, 2, 1) + timedelta(days=n * 5 + n % 12),
     STATES[n % 7 % 3], n * 10, None if n % 5 == 0 else 0 if n == 9 else 60 + n / 8, 0 if n == 9 else 4 + n / 16, ("Moar", "Vey")[n % 2], n % 3 + 1)
    for n in range(1, 41)
]  # fmt: skip


def _literal(value: Any) -> str:
    return "NULL" if value is None else str(value) if isinstance(value, int | float) else f"'{value}'"  # fmt: skip


SCRIPT = """
CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL UNIQUE);
INSERT INTO port VALUES (1, 'North'), (2, 'South'), (3, 'East');
CREATE TABLE stay (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, begins_on DATE NOT NULL, ends_on DATE,
    status VARCHAR(10) NOT NULL CHECK (status IN ('reported', 'planned', 'done')), cost INTEGER,
    latitude DECIMAL(9,6), longitude DECIMAL(9,6), owner VARCHAR(10) NOT NULL,
    port_id INTEGER REFERENCES port (id), CONSTRAINT stay_days CHECK (begins_on < '2026-12-31'));
CREATE TABLE job (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, status VARCHAR(10) NOT NULL CHECK (status IN ('open', 'shut', 'gone')),
    shut_on DATE, meets_at TIMESTAMP NOT NULL);
INSERT INTO job VALUES (1, 'Paint', 'open', NULL, '2026-05-04 09:30:00'), (2, 'Lens', 'open', NULL, '2026-05-05 23:15:00');
""" + "".join(f"INSERT INTO stay VALUES ({', '.join(map(_literal, row))});\n" for row in ROWS) + """
CREATE TABLE pilot (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL);
CREATE TABLE stay_pilot (stay_id INTEGER NOT NULL REFERENCES stay (id), pilot_id INTEGER NOT NULL REFERENCES pilot (id), PRIMARY KEY (stay_id, pilot_id));
INSERT INTO pilot VALUES (1, 'Anker'), (2, 'Brim');
INSERT INTO stay_pilot VALUES (13, 1), (4, 1), (8, 2);
"""  # fmt: skip
DECIDED = {
    "stay": '[list]\ncalendar = ["begins_on", "ends_on"]\nboard = "status"\nmap = ["latitude", "longitude"]\n'
            '[field.cost]\ntotal = "sum"\n[field.status]\ncolours = { done = "green" }\n',
    "job": '[list]\ncalendar = ["meets_at"]\nboard = "status"\n[transitions.status]\n'
           'shut = { from = ["open"], to = "shut" }\ndrop = { from = ["open", "shut"], to = "gone", fields = ["shut_on"] }\n',
}  # fmt: skip
ROLES = """
[role.mate]
label = "Mate"
[role.mate.tables]
"*" = ["view", "edit"]
[role.mate.rows]
stay = "owner = 'Moar'"
port = "name = 'North'"
[role.mate.changes]
stay = "status <> 'done'"
"""
Found = dict[date, list[str]]


def days(page: str) -> Found:
    """Return the titles on each day of a calendar."""
    found: Found = {}
    for day, text in re.findall(r'data-target="(\d{4}-\d\d-\d\d)">(.*?)</td>', page, re.DOTALL):  # fmt: skip
        found[date.fromisoformat(day)] = [unescape(t) for t in re.findall(r'title="([^"]*)"', text)]  # fmt: skip
    return found


class Layouts:
    """The tests, for each kind of database; not a test by itself."""

    @classmethod
    def script(cls) -> str:
        return SCRIPT

    @classmethod
    def decide(cls: Any) -> None:
        access = cls.folder / "access.toml"
        access.write_text(access.read_text() + ROLES)
        for name, text in DECIDED.items():
            path = cls.folder / f"design/tables/{name}.toml"
            path.write_text(path.read_text() + "\n" + text)

    def model(self, **wanted: Any) -> list[tuple[Any, ...]]:
        """Return the rows that fit, by the plain model."""
        return [
            row
            for row in ROWS
            if row[4] in wanted.get("states", STATES) and row[8] in wanted.get("owners", ("Moar", "Vey"))
        ]  # fmt: skip

    def on_days(self, rows: list[tuple[Any, ...]]) -> Found:
        found: Found = {}
        for row in rows:
            day, last = row[2], row[3] or row[2]
            while day <= last:
                found.setdefault(day, []).append(row[1])
                day += timedelta(days=1)
        return found

    def test_a_calendar_has_each_row_on_its_days(self: Any) -> None:
        client, mate = self.client("editor"), self.client("mate")
        cases = (
            (client, "", self.model()),
            (client, "&status.is=done&status.is=planned", self.model(states=("done", "planned"))),
            (client, "&q=Stay+1", [r for r in ROWS if "1" in r[1]]),
            (mate, "", self.model(owners=("Moar",))),
        )  # fmt: skip
        for who, query, rows in cases:
            expected = self.on_days(rows)
            for span, first in (("week", date(2026, 2, 4)), ("week", date(2026, 3, 30)), ("month", date(2026, 4, 1))):  # fmt: skip
                page = who.get(f"/t/stay?layout=calendar&span={span}&at={first}{query}").text  # fmt: skip
                found = days(page)
                self.assertEqual(len(found), 7 if span == "week" else 35)
                for day, titles in found.items():
                    hidden = 0 if span == "week" else len(expected.get(day, [])) - len(titles)  # fmt: skip
                    self.assertLessEqual({*titles}, {*expected.get(day, [])}, (day, query))  # fmt: skip
                    self.assertEqual(len(titles) + hidden, len(expected.get(day, [])), (day, query))  # fmt: skip
                    self.assertTrue(hidden == 0 or len(titles) >= 1)
        page = client.get("/t/stay?layout=calendar&at=nonsense").text
        self.assertIn(date.today().isoformat(), page)
        self.assertEqual(days(client.get("/t/job?layout=calendar&at=2026-05").text)[date(2026, 5, 5)], ["Lens"])  # fmt: skip

    def test_a_board_has_each_row_in_its_column(self: Any) -> None:
        for who, rows in ((self.client("editor"), self.model()), (self.client("mate"), self.model(owners=("Moar",)))):  # fmt: skip
            page = who.get("/t/stay?layout=board").text
            lanes = re.findall(r'data-target="(\w+)" data-name.*?class="quiet">([\d,]+) · ([\d,]+)</span>(.*?)</section>', page, re.DOTALL)  # fmt: skip
            self.assertEqual(sorted(lane[0] for lane in lanes), sorted(STATES))
            for state, count, total, text in lanes:
                held = [row for row in rows if row[4] == state]
                self.assertEqual((int(count), int(total.replace(",", ""))), (len(held), sum(r[5] for r in held)))  # fmt: skip
                titles = re.findall(r">(Stay \d+)</a>", text)
                self.assertEqual(len(titles), min(20, len(held)))
                self.assertLessEqual({*titles}, {row[1] for row in held})
        page = self.client("editor").get("/t/stay?layout=board&status.is=done&name.has=1").text  # fmt: skip
        self.assertEqual({*re.findall(r">(Stay \d+)</a>", page)}, {r[1] for r in ROWS if r[4] == "done" and "1" in r[1]})  # fmt: skip

    def test_a_map_has_each_row_at_its_place(self: Any) -> None:
        for who, rows in ((self.client("editor"), self.model()), (self.client("mate"), self.model(owners=("Moar",)))):  # fmt: skip
            page = who.get("/t/stay?layout=map").text
            held = re.search(r'data-map="([^"]+)"', page)
            assert held is not None
            points = json.loads(unescape(held[1]))
            # two zeros are no position
            expected = {(float(r[6]), float(r[7]), r[1], f"/t/stay/r/{r[0]}") for r in rows if r[6]}  # fmt: skip
            self.assertEqual({tuple(point[:4]) for point in points}, expected)
            self.assertEqual({p[4] for p in points if p[2] in {r[1] for r in rows if r[4] == "done"}}, {"green"})  # fmt: skip
        self.assertIn("No stays with a position match.", self.client("editor").get("/t/stay?layout=map&name.is=Stay+5").text)  # fmt: skip

    def test_a_timeline_has_what_refers_to_a_record(self: Any) -> None:
        for who, rows in ((self.client("editor"), self.model()), (self.client("mate"), self.model(owners=("Moar",)))):  # fmt: skip
            page = who.get("/t/port/r/1/timeline").text
            found = re.findall(r"<time>([^<]+?)</time>.*?>(Stay \d+)</a>", page)
            held = sorted((r for r in rows if r[9] == 1), key=lambda r: r[2], reverse=True)  # fmt: skip
            self.assertEqual([title for _day, title in found], [r[1] for r in held])
            self.assertEqual(found[0][0], f"{held[0][2]:%-d %b %Y}".replace("Sep ", "Sept "))  # fmt: skip
        self.assertIn('id="timeline"', self.client("editor").get("/t/port/r/1").text)
        self.assertEqual(self.client("mate").get("/t/port/r/2/timeline").status_code, 404)  # fmt: skip
        own = self.client("editor").get("/t/stay/r/3/timeline").text
        self.assertEqual(re.findall(r"quiet\">([^<]+)<", own), ["Ends on", "Begins on"])
        # and what another table joins to it, within reach
        for role, joined in (("editor", ["Stay 13", "Stay 4"]), ("mate", ["Stay 4"])):
            page = self.client(role).get("/t/pilot/r/1/timeline").text
            self.assertEqual(re.findall(r">(Stay \d+)</a>", page), joined)

    def move(
        self: Any, client: Any, table: str, key: int, **sent: str
    ) -> tuple[int, Any]:
        answer = client.post(f"/t/{table}/r/{key}/move", data=sent)
        return answer.status_code, answer.get_json(silent=True)

    def stay(self: Any, key: int) -> list[str]:
        """Return the days and the state of a row as the database has them now."""
        ((*values,),) = self.rows(f"SELECT begins_on, ends_on, status FROM stay WHERE id = {key}")  # fmt: skip
        return [str(value) for value in values]

    def test_an_entry_is_moved_by_days(self: Any) -> None:
        client = self.client("editor")
        row = ROWS[2]  # three days
        was = {"was-begins_on": str(row[2]), "was-ends_on": str(row[3])}
        to = {"from-day": str(row[2] + timedelta(days=1)), "day": str(row[2] + timedelta(days=9))}  # fmt: skip
        self.assertEqual(self.move(client, "stay", 3, **was, **to), (200, {}))
        moved = [str(day + timedelta(days=8)) for day in row[2:4]]
        self.assertEqual(self.stay(3)[:2], moved)
        self.assertIn("Begins on", client.get("/t/stay/r/3/history").text)
        # who saw it where it was before does not move what another moved
        status, told = self.move(client, "stay", 3, **was, **to)
        self.assertEqual((status, self.stay(3)[:2]), (409, moved))
        self.assertIn("Another user changed this record", told["message"])
        # what the database does not allow stays as it is, and says so
        now = {"was-begins_on": moved[0], "was-ends_on": moved[1]}
        far = {"from-day": moved[0], "day": "2027-01-02"}
        status, told = self.move(client, "stay", 3, **now, **far)
        self.assertEqual((status, self.stay(3)[:2]), (422, moved))
        self.assertTrue(told["message"])
        self.assertEqual(self.move(client, "stay", 3, **now, **{"from-day": "x", "day": "y"})[0], 400)  # fmt: skip
        self.assertEqual(self.move(client, "stay", 999, **now, **far)[0], 404)
        # an open end stays open; a time of day stays as it is
        first = str(ROWS[3][2])
        sent = {"was-begins_on": first, "was-ends_on": "", "from-day": first, "day": "2026-03-01"}  # fmt: skip
        self.assertEqual(self.move(client, "stay", 4, **sent)[0], 200)
        self.assertEqual(self.stay(4)[:2], ["2026-03-01", "None"])
        sent = {"was-meets_at": "2026-05-05T23:15", "from-day": "2026-05-05", "day": "2026-05-07"}  # fmt: skip
        self.assertEqual(self.move(client, "job", 2, **sent)[0], 200)
        self.assertIn("2026-05-07 23:15", str(self.rows("SELECT meets_at FROM job WHERE id = 2")[0][0]))  # fmt: skip

    def test_a_card_is_moved_to_another_column(self: Any) -> None:
        client, mate = self.client("editor"), self.client("mate")
        key, state = ROWS[0][0], ROWS[0][4]
        other = next(each for each in STATES if each != state)
        sent = {"was-status": state, "value": other}
        self.assertEqual(self.move(client, "stay", key, **sent)[0], 200)
        self.assertEqual(self.stay(key)[2], other)
        self.assertEqual(self.move(client, "stay", key, **sent)[0], 409)
        status, told = self.move(client, "stay", key, **{"was-status": other, "value": "sunk"})  # fmt: skip
        self.assertEqual((status, self.stay(key)[2]), (422, other))
        self.assertIn("Status", told["message"])
        # beyond reach, and what may be seen and not changed
        theirs = next(r for r in ROWS if r[8] == "Vey")
        self.assertEqual(self.move(mate, "stay", theirs[0], **{"was-status": theirs[4], "value": "planned"})[0], 404)  # fmt: skip
        done = next(r for r in ROWS if r[8] == "Moar" and r[4] == "done")
        self.assertIn(self.move(mate, "stay", done[0], **{"was-status": "done", "value": "planned"})[0], (403, 404))  # fmt: skip
        self.assertEqual(self.stay(done[0])[2], "done")
        self.assertEqual(self.move(self.client("viewer"), "stay", done[0], **{"was-status": "done", "value": "planned"})[0], 403)  # fmt: skip

    def test_transitions_are_respected(self: Any) -> None:
        client = self.client("editor")
        status, told = self.move(client, "job", 1, **{"was-status": "open", "value": "gone"})  # fmt: skip
        self.assertEqual((status, told), (200, {"address": "/t/job/r/1/action/drop"}))
        self.assertEqual(client.get(told["address"]).status_code, 200)
        self.assertEqual(self.move(client, "job", 1, **{"was-status": "open", "value": "shut"}), (200, {}))  # fmt: skip
        self.assertEqual(self.rows("SELECT status FROM job WHERE id = 1")[0][0], "shut")
        status, told = self.move(client, "job", 1, **{"was-status": "shut", "value": "open"})  # fmt: skip
        self.assertEqual((status, told["message"]), (422, "There is no transition from here to there."))  # fmt: skip
        self.assertEqual(self.rows("SELECT status FROM job WHERE id = 1")[0][0], "shut")

    def test_a_layout_without_its_columns_is_none(self: Any) -> None:
        page = self.client("editor").get("/t/job?layout=map").text
        self.assertNotIn("data-map=", page)
        self.assertIn('id="layout-calendar"', page)
        self.assertEqual(self.client("editor").get(f"/t/stay?layout={quote('böard')}").status_code, 200)  # fmt: skip


class SqliteLayoutsTest(Layouts, ApplicationCase):
    SCRIPT = SCRIPT


@needs("postgresql")
class PostgresqlLayoutsTest(Layouts, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    DATABASE = "lumet_test_layouts"


@needs("mariadb")
class MariadbLayoutsTest(Layouts, OnServer, ApplicationCase):
    SERVER = MARIADB
    DATABASE = "lumet_test_layouts"
