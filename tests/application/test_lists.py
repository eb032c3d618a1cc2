"""Lists: found, filtered, arranged, kept and taken out, as a plain model says."""

import csv
import html
import importlib
import io
import json
import re
from datetime import date, timedelta
from typing import Any, ClassVar
from unittest import mock
from urllib.parse import urlencode

import openpyxl
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lumet.browsing.pages import Page
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer, run

TABLES = """
CREATE TABLE district (code VARCHAR(4) PRIMARY KEY, name VARCHAR(20) NOT NULL);
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, district_code VARCHAR(4),
    state VARCHAR(8) CHECK (state IN ('lit', 'dim', 'dark')), grade INTEGER, height_m DECIMAL(6,1), is_manned BOOLEAN,
    opened_on DATE, seen_at {moment}, remarks TEXT, FOREIGN KEY (district_code) REFERENCES district (code));
INSERT INTO district VALUES ('NR', 'North Reach'), ('SF', 'Saltfen');
"""
NAMES = ["Tern Holm", "Cold Bar", "100% Bar_x", "=SUM(1)", "Ärla"]
DAYS = [date(2020, 2, 29), date(2026, 11, 1), date.today()]
NO_END = date(9999, 12, 31)
ROW = st.fixed_dictionaries(
    {
        "name": st.sampled_from(NAMES),
        "district_code": st.sampled_from([None, "NR", "SF"]),
        "state": st.sampled_from([None, "lit", "dim", "dark"]),
        "grade": st.sampled_from([None, 0, 1, 2, 30]),
        "height_m": st.sampled_from([None, 1.5, 2.0, 1200.0]),
        "is_manned": st.sampled_from([None, True, False]),
        "opened_on": st.sampled_from([None, *DAYS, NO_END]),
        "seen_at": st.sampled_from([None, *DAYS]),
        "remarks": st.sampled_from([None, "", "  ", "Fog bell", "fog"]),
    }
)
ROW_KEYS = ("name", "district_code", "state", "grade", "height_m", "is_manned", "opened_on",
            "seen_at", "remarks")  # fmt: skip
Model = Any


def is_(name: str, *values: Any) -> Model:
    return lambda row: row[name] in values and row[name] is not None


def between(name: str, low: Any, high: Any) -> Model:
    return lambda row: (
        row[name] is not None
        and (low is None or row[name] >= low)
        and (high is None or row[name] <= high)
    )


TODAY = date.today()
MONTH = TODAY.replace(day=1)
NEXT = (MONTH + timedelta(days=31)).replace(day=1)
FILTERS: list[tuple[str, str, Model]] = [
    ("state.is", "lit", is_("state", "lit")),
    ("state.empty", "1", lambda row: row["state"] is None),
    ("district_code.is", "NR", is_("district_code", "NR")),
    ("district_code.filled", "1", lambda row: row["district_code"] is not None),
    ("is_manned.is", "no", is_("is_manned", False)),
    ("is_manned.empty", "1", lambda row: row["is_manned"] is None),
    ("grade.from", "1", between("grade", 1, None)),
    ("grade.to", "2", between("grade", None, 2)),
    ("height_m.from", "2", between("height_m", 2, None)),
    ("height_m.to", "1200", between("height_m", None, 1200)),
    ("opened_on.from", "2026-11-01", between("opened_on", DAYS[1], None)),
    ("opened_on.to", "2026-11-01", between("opened_on", None, DAYS[1])),
    ("opened_on.within", "today", is_("opened_on", TODAY)),
    ("seen_at.to", "2026-11-01", between("seen_at", None, DAYS[1])),
    (
        "seen_at.within",
        "this-month",
        between("seen_at", MONTH, NEXT - timedelta(days=1)),
    ),
    ("name.has", "bar", lambda row: "bar" in row["name"].lower()),
    ("name.has", "%", lambda row: "%" in row["name"]),
    ("name.begins", "100% bar_", lambda row: row["name"].startswith("100%")),
    ("remarks.empty", "1", lambda row: not (row["remarks"] or "").strip()),
    ("remarks.filled", "1", lambda row: bool((row["remarks"] or "").strip())),
    ("q", "bar cold", lambda row: row["name"] == "Cold Bar"),
    ("q", "fog", lambda row: "fog" in (row["remarks"] or "").lower()),
    ("nothing.is", "x", lambda row: True),
    ("grade.from", "many", lambda row: True),
]
SORTS = ["", "grade", "-grade,name", "-district_code", "title", "opened_on,-height_m"]


OWN = """
[field.alike]
label = "Alike"
formula = "(SELECT count(*) FROM station o WHERE o.state = station.state)"
[field.taller]
formula = "height_m + 1"
[list]
edit = "cells"
columns = ["district_code", "state", "grade", "height_m", "is_manned", "opened_on", "seen_at",
           "remarks", "alike", "taller", "district_code.name"]
"""
QUERY = """-- the stations of each district
SELECT d.code AS district, count(s.id) AS stations, max(s.opened_on) AS newest
FROM district d LEFT JOIN station s ON s.district_code = d.code
GROUP BY d.code
"""
NORTHERNER = """
[role.northerner]
label = "Northerner"
tables."*" = ["view", "edit", "export"]
rows.station = "district_code = 'NR'"
[role.outsider]
label = "Outsider"
tables.district = ["view"]
tables.by_district = ["view"]
"""


class Lists:
    """The tests, for each kind of database; not a test by itself."""

    DATABASE = "lumet_test_lists"
    MOMENT = "TIMESTAMP"
    EXAMPLES: ClassVar[int] = 6

    @classmethod
    def script(cls) -> str:
        return TABLES.format(moment=cls.MOMENT)

    @classmethod
    def decide(cls: Any) -> None:
        path = cls.folder / "design/patterns.toml"
        path.write_text(
            path.read_text()
            + '\n[field."station.height_m"]\ntotal = "sum"\n[field."station.grade"]\ntotal = "max"\n'
        )
        path = cls.folder / "design/tables/station.toml"
        path.write_text(path.read_text() + OWN)
        path = cls.folder / "access.toml"
        path.write_text(NORTHERNER + path.read_text())
        path = cls.folder / "design/queries/by_district.sql"
        path.parent.mkdir()
        path.write_text(QUERY)
        slow = (
            "SELECT count(*) AS pairs FROM station a, station b, station c, station d"
        )
        path.with_name("slow.sql").write_text(slow)

    def fill(self: Any, rows: list[dict[str, Any]]) -> None:
        added = [self.added(number, row) for number, row in enumerate(rows, 1)]
        self.store(["DELETE FROM station", *added])

    def added(self, number: int, row: dict[str, Any]) -> str:
        """Return the statement that adds a row."""

        def spelled(value: Any) -> str:
            if value is None:
                return "NULL"
            if isinstance(value, bool | int | float):
                return str(value)
            return "'" + str(value).replace("'", "''") + "'"

        held = row | {"seen_at": row["seen_at"] and f"{row['seen_at']} 23:30:00"}
        values = ", ".join(spelled(value) for value in held.values())
        return f"INSERT INTO station (id, {', '.join(row)}) VALUES ({number}, {values})"

    def page(self: Any, address: str) -> str:
        answer = self.signed.get(address)
        self.assertEqual(answer.status_code, 200, address)
        return str(answer.get_data(as_text=True))

    def keys(self: Any, page: str) -> list[int]:
        return [
            int(key)
            for key in re.findall(r'class="title" href="/t/station/r/(\d+)"', page)
        ]

    def walked(self: Any, address: str) -> list[int]:
        """Return the keys of all pages, forwards, after walking back from the last."""
        pages = [self.page(address)]
        while match := re.search(r'href="([^"]*)" aria-label="Next page', pages[-1]):
            pages.append(self.page(match[1].replace("&amp;", "&")))
        back = [pages[-1]]
        while match := re.search(r'href="([^"]*)" aria-label="Previous page', back[-1]):
            back.append(self.page(match[1].replace("&amp;", "&")))
        forwards = [key for page in pages for key in self.keys(page)]
        self.assertEqual({k for page in back for k in self.keys(page)}, set(forwards))
        return forwards

    def test_filters_and_orders_show_what_a_model_says(self: Any) -> None:
        self.signed = self.client()

        @settings(max_examples=self.EXAMPLES, deadline=None, database=None, derandomize=True,
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(
            st.lists(ROW, min_size=1, max_size=40),
            st.lists(st.sampled_from(FILTERS), min_size=1, max_size=2),
            st.sampled_from(SORTS),
        )
        def check(rows: list[Any], filters: list[Any], sort: str) -> None:
            self.fill(rows)
            wanted = {name: text for name, text, _ in filters}
            models = [model for name, text, model in filters if wanted[name] == text]
            fit = {
                n
                for n, row in enumerate(rows, 1)
                if all(model(row) for model in models)
            }
            query = urlencode(wanted | {"sort": sort})
            found = self.walked(f"/t/station?{query}")
            self.assertEqual(len(found), len(set(found)))
            self.assertEqual(set(found), fit, query)
            out = list(
                csv.reader(io.StringIO(self.page(f"/t/station/export.csv?{query}")))
            )
            self.assertEqual(len(out), len(fit) + 1)
            heights = [
                row["height_m"]
                for n, row in enumerate(rows, 1)
                if n in fit and row["height_m"] is not None
            ]
            if fit and heights:
                total = f"{sum(heights):,.1f}"
                self.assertIn(
                    f'<td class="num" data-label="Height, m">{total}</td>',
                    self.page(f"/t/station?{query}"),
                )
            told = json.loads(self.page(f"/t/station/export.json?{query}"))
            alike = [sum(o["state"] == r["state"] is not None for o in rows)
                     for n, r in enumerate(rows, 1) if n in fit]  # fmt: skip
            self.assertEqual(sorted(row["Alike"] for row in told), sorted(alike))
            groups = self.page(f"/t/station?{query}&layout=groups&by=state")
            counted = re.findall(r'<td class="num">(\d+)</td>', groups)
            self.assertEqual(sum(map(int, counted)), len(fit))
            months: dict[str, float] = {}
            for number in fit:
                day, height = (
                    rows[number - 1]["opened_on"],
                    rows[number - 1]["height_m"],
                )
                month = f"{day:%Y-%m}" if day else "empty"
                months[month] = months.get(month, 0.0) + (height or 0.0)
            chart = self.page(
                f"/t/station?{query}&layout=chart&by=opened_on&sum=height_m"
            )
            drawn = [
                json.loads(html.unescape(found))
                for found in re.findall(r'data-(?:labels|chart)="([^"]*)"', chart)
            ]
            values, labels = drawn or ([], [])
            found = dict(zip(labels, values, strict=True))
            undated = {"empty", "9999-12"} & months.keys()
            for month in undated if months.keys() > undated else ():
                self.assertIn(f">{month}</a>", chart)  # in the table alone
                del months[month]
            self.assertEqual(
                {m: v for m, v in found.items() if v or m in months}, months
            )
            dated = [label for label in labels if label != "empty"]
            self.assertEqual(dated, sorted(dated))

        check()

    def test_pages_are_walked_while_others_add_and_delete(self: Any) -> None:
        self.signed = self.client()

        @settings(max_examples=self.EXAMPLES, deadline=None, database=None, derandomize=True,
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(
            st.lists(ROW, min_size=70, max_size=90),
            st.lists(st.tuples(ROW, st.integers(1, 70)), min_size=8, max_size=8),
            st.sampled_from(SORTS),
        )
        def check(rows: list[Any], changes: list[Any], sort: str) -> None:
            self.fill(rows)
            touched: set[int] = set()
            left = iter(enumerate(changes, 1_000))

            def disturb() -> None:
                number, (row, victim) = next(left)
                touched.update((number, victim))
                self.store(
                    [
                        f"DELETE FROM station WHERE id = {victim}",
                        self.added(number, row),
                    ]
                )

            def walk(address: str, way: str) -> list[list[int]]:
                pages = [self.page(address)]
                while match := re.search(
                    rf'href="([^"]*)" aria-label="{way} page', pages[-1]
                ):
                    disturb()
                    pages.append(self.page(match[1].replace("&amp;", "&")))
                return [self.keys(page) for page in pages]

            everyone = set(range(1, len(rows) + 1))
            forwards = walk(f"/t/station?sort={sort}", "Next")
            seen = [key for page in forwards for key in page if key not in touched]
            self.assertEqual(sorted(seen), sorted(everyone - touched))
            # the first page is a whole one, and may show again what stood behind it
            back = walk(f"/t/station?sort={sort}&last=1", "Previous")
            seen = [key for page in back[:-1] for key in page if key not in touched]
            self.assertEqual(len(seen), len(set(seen)))
            self.assertEqual({*seen, *back[-1]} - touched, everyone - touched)

        check()

    def test_values_of_ones_own_keep_to_the_reach(self: Any) -> None:
        self.fill(
            [
                dict.fromkeys(ROW_KEYS) | {"name": name, "district_code": code, "state": "lit", "height_m": 2.5}
                for name, code in (("A", "NR"), ("B", "NR"), ("C", "SF"))
            ]
        )  # fmt: skip
        for role, alike, stations in (
            ("administrator", "3", [2, 1]),
            ("northerner", "2", [2, 0]),
        ):
            self.signed = self.client(role)
            page = self.page("/t/station?columns=alike,taller,district_code.name")
            first = re.search(r'class="title"[^>]*>A<.*', page)
            self.assertIsNotNone(first)
            cells = re.findall(r"<td[^>]*>([^<]*)</td>", first[0])
            self.assertEqual(cells, [alike, "3.5", "North Reach"])
            self.assertIn(f"<dd>{alike}</dd>", self.page("/t/station/r/1"))
            told = json.loads(self.page("/t/by_district/export.json?sort=district"))
            self.assertEqual([row["Stations"] for row in told], stations)
            self.assertIn("North Reach", told[0]["By district"])
        page = self.page(
            "/t/station?sort=-district_code.name,record-title&columns=grade"
        )
        self.assertEqual(self.keys(page), [1, 2])
        self.assertIn("North Reach", self.page("/t/by_district?stations.from=1"))
        outsider = self.client("outsider")
        self.assertEqual(outsider.get("/t/by_district").status_code, 404)
        self.assertEqual(outsider.get("/t/district").status_code, 200)

    def test_a_search_over_many_rows_uses_an_index(self: Any) -> None:
        self.signed = self.client()
        names = ["Tern Holm", "TERN Bar", "Old Tern", "100%_x", "1000"]
        self.fill(
            [
                dict.fromkeys(ROW_KEYS) | {"name": name, "district_code": "NR"}
                for name in names
            ]
        )
        pages = self.app.extensions["site"].registry["station"]
        pages.prefix_searchable = ("name", "district_code")
        self.addCleanup(setattr, pages, "prefix_searchable", ())
        for search, found in (
            ("tern", {1, 2}),
            ("TERN", {1, 2}),
            ("100%", {4}),
            ("north", {1, 2, 3, 4, 5}),
            ("holm", {1}),  # nothing begins so: every text is looked into
            ("zz", set()),
        ):
            page = self.page(f"/t/station?q={search}")
            self.assertEqual({*self.keys(page)}, found, search)
        page = self.page("/t/station?q=Tern")
        self.assertEqual({*self.keys(page)}, {1, 2})
        self.assertIn("Search everywhere", page)
        page = self.page("/t/station?q=Tern&everywhere=1")
        self.assertEqual({*self.keys(page)}, {1, 2, 3})
        self.assertEqual(
            {*self.keys(self.page("/t/station?q=Tern&sort=-title&grade.empty=1"))},
            {1, 2},
        )
        out = self.page("/t/station/export.csv?q=Tern&columns=grade")
        self.assertEqual(len(out.splitlines()), 3)

    def test_what_takes_too_long_ends_and_says_so(self: Any) -> None:
        self.signed = self.client()
        self.fill([dict.fromkeys(ROW_KEYS) | {"name": "A"}] * 80)
        views = importlib.import_module(f"{self.package}.kit.web.list_views")
        with mock.patch.object(views, "LIST_SECONDS", 0.1):
            for _ in range(2):
                answer = self.signed.get("/t/slow?pairs.from=1")
                self.assertEqual(answer.status_code, 503)
                self.assertIn("This takes too long.", answer.text)
            self.assertIn("80", self.page("/t/station?grade.empty=1"))

    def test_a_field_is_edited_where_it_stands(self: Any) -> None:
        self.signed = self.client()
        self.fill([dict.fromkeys(ROW_KEYS) | {"name": "A", "grade": 1, "state": "lit"}])
        place = "/t/station/r/1/field/grade"
        self.assertIn('data-in-place=",district_code,state,', self.page("/t/station"))
        piece = self.page(place)
        seen = re.search(r'name="seen-grade" value="(\w+)"', piece)
        self.assertIsNotNone(seen)
        mine = {"grade": "5", "seen-grade": seen[1]}
        refused = self.signed.post(place, data=mine | {"grade": "many"})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("Enter a whole number, such as 12.", refused.text)
        self.assertIn('value="many"', refused.text)
        self.change("UPDATE station SET grade = 3 WHERE id = 1")
        conflict = self.signed.post(place, data=mine)
        self.assertEqual(conflict.status_code, 409)
        self.assertIn("<b>3</b>", conflict.text)
        seen = re.search(r'name="seen-grade" value="(\w+)"', conflict.text)
        saved = self.signed.post(place, data={"grade": "5", "seen-grade": seen[1]})
        self.assertEqual((saved.status_code, saved.text), (200, "5"))
        self.assertEqual(self.rows("SELECT grade, state FROM station"), [(5, "lit")])
        for address in ("/t/station/r/1/field/id", "/t/district/r/NR/field/name"):
            self.assertEqual(self.signed.get(address).status_code, 404, address)
        northerner = self.client("northerner")
        self.assertEqual(northerner.post(place, data=mine).status_code, 404)


class SqliteLists(Lists, ApplicationCase):
    SCRIPT = TABLES.format(moment="TIMESTAMP")
    EXAMPLES = 25

    def store(self, statements: list[str]) -> None:
        self.change(";\n".join(statements) + ";")

    ROWS: ClassVar[list[dict[str, Any]]] = [
        dict(zip(["name", "district_code", "state", "grade", "height_m", "is_manned", "opened_on", "seen_at",
                  "remarks"], values, strict=True))
        for values in (
            ["Tern Holm", "NR", "lit", 1, 2.0, True, DAYS[1], None, "Fog bell"],
            ["=SUM(1)", None, "dark", None, 1200.0, None, None, DAYS[0], "a,\"b\"\nc"],
        )
    ]  # fmt: skip

    def test_what_is_taken_out_opens_elsewhere(self) -> None:
        self.signed = self.client("viewer")
        self.fill(self.ROWS)
        raw = self.signed.get("/t/station/export.csv?sort=title").get_data()
        self.assertTrue(raw.startswith(b"\xef\xbb\xbf"))
        rows = list(csv.reader(io.StringIO(raw.decode("utf-8-sig"), newline="")))
        self.assertEqual(rows[0][:3], ["Station", "District", "State"])
        self.assertEqual(rows[1][0], "'=SUM(1)")
        self.assertEqual(rows[1][8], 'a,"b"\nc')
        self.assertEqual(rows[2][:4], ["Tern Holm", "North Reach", "Lit", "1"])
        # in quotes, so that no other mark splits a text before a formula
        self.assertIn('"Tern Holm","North Reach"', raw.decode())
        book = openpyxl.load_workbook(
            io.BytesIO(
                self.signed.get("/t/station/export.xlsx?sort=title&keys=1").get_data()
            )
        )
        cells = [[cell.value for cell in row] for row in book.active.iter_rows()]
        self.assertEqual(cells[1][0], "=SUM(1)")
        self.assertEqual(book.active["A2"].data_type, "s")
        self.assertEqual(cells[2][:5], ["Tern Holm", 1, "NR", "North Reach", "lit"])
        self.assertIn(1200, cells[1])
        self.assertEqual(
            [cell.date() for cell in cells[2] if hasattr(cell, "date")], [DAYS[1]]
        )
        told = json.loads(self.page("/t/station/export.json?state.is=lit"))
        self.assertEqual([row["Station"] for row in told], ["Tern Holm"])
        record = self.page("/t/station/r/1/print")
        self.assertNotIn("<nav", record)
        self.assertIn("Tern Holm", record)
        paper = self.page("/t/station/print?state.is=lit")
        self.assertIn("State <b>Lit</b>", paper)
        self.assertNotIn("<nav", paper)
        log = (
            self.client("administrator").get("/log?kind=export").get_data(as_text=True)
        )
        self.assertIn("JSON State: Lit", log)
        self.assertEqual(self.signed.get("/t/station/export.pdf").status_code, 404)

    def test_nothing_found_says_what_to_loosen(self) -> None:
        self.signed = self.client()
        self.fill(self.ROWS)
        page = self.page("/t/station?state.is=lit&district_code.is=SF")
        self.assertIn("No stations match.", page)
        self.assertIn('<a href="/t/station?state.is=lit">District Saltfen</a>', page)
        self.assertNotIn(
            '<a href="/t/station?district_code.is=SF">State Lit</a>,', page
        )
        self.assertIn('aria-label="Remove filter: State Lit"', page)

    def test_columns_rows_and_views_are_kept_for_the_user(self) -> None:
        self.signed = self.client("editor")
        self.fill(self.ROWS)
        kept = {"column": ["grade", "remarks", "forged"], "list-query": "state.is=lit"}
        answer = self.signed.post("/t/station/columns", data=kept)
        self.assertEqual(answer.location, "/t/station?state.is=lit")
        head = r'<th scope="col"[^>]*>(?:<input[^>]*>)?(?:<a[^>]*>|<span>)?([^<]+)'
        heads = re.findall(head, self.page("/t/station"))
        self.assertEqual(heads, ["Station", "Grade", "Remarks"])
        self.assertNotIn(
            "Remarks",
            self.client("viewer")
            .get("/t/station?columns=grade")
            .text.partition("<thead>")[2],
        )
        self.signed.post("/t/station/columns", data={"reset": "1"})
        view = {
            "name": "Lit ones",
            "list-query": "state.is=lit&after=x",
            "first": "1",
            "role": ["viewer"],
        }
        self.signed.post("/t/station/views", data=view)
        self.assertEqual(
            self.signed.get("/t/station").location, "/t/station?state.is=lit"
        )
        reader = self.client("viewer")
        self.assertNotIn(
            "Lit ones", reader.get("/t/station?panel=views").text
        )  # a worker shares nothing
        self.client("administrator").post(
            "/t/station/views", data=view | {"name": "Of administrators"}
        )
        self.assertIn("Of administrators", reader.get("/t/station?panel=views").text)
        (number,) = re.findall(
            r"/views/(\d+)/forget", self.page("/t/station?panel=views")
        )
        reader.post(f"/t/station/views/{number}/forget")
        self.assertIn("Lit ones", self.page("/t/station?panel=views"))
        self.signed.post(f"/t/station/views/{number}/forget")
        self.assertNotIn("Lit ones", self.page("/t/station?panel=views"))

    def several(self, act: str, *rows: str, **rest: str) -> tuple[str, Any]:
        """Return the preview of doing something to several records, and what its form
        sends."""
        asked = {"do-action": act, "chosen-row": list(rows), **rest}
        answer = self.signed.post("/t/station/bulk", data=asked)
        form = Page(answer, "").form("form.bar")
        sent = form.sent() if form is not None else {}
        return answer.text, sent | {"do-action": act}

    def test_several_are_set_and_deleted_each_by_its_own_form(self) -> None:
        self.signed = self.client("editor")
        self.fill(self.ROWS * 3)
        query = "SELECT id, grade, state FROM station ORDER BY id"
        self.assertIn('name="chosen-row" value="1"', self.page("/t/station"))
        asked, _sent = self.several("set", "1", **{"set-column": "district_code"})
        self.assertRegex(asked, '<option value="NR"[^>]*>North Reach</option>')
        grade = {"set-column": "grade", "grade": "7"}
        preview, sent = self.several("set", "1", "2", "99", **grade)
        self.assertRegex(
            preview, r"Will be changed</span></h2>\s*<div>\s*<p>2 stations"
        )
        self.assertIn("This record no longer exists.", preview)
        self.assertEqual([row[1] for row in self.rows(query)], [1, None] * 3)
        done = self.signed.post("/t/station/bulk", data=sent).text
        self.assertRegex(done, r"Changed</span></h2>\s*<div>\s*<p>2 stations")
        self.assertEqual([row[1] for row in self.rows(query)], [7, 7, 1, None, 1, None])
        _preview, sent = self.several("set", "1", "2", **grade)
        refused = self.signed.post("/t/station/bulk", data=sent | {"grade": "many"})
        self.assertIn("Enter a whole number, such as 12.", refused.text)
        self.change(
            "CREATE TRIGGER stop BEFORE UPDATE ON station WHEN old.id = 3"
            " BEGIN SELECT RAISE(ABORT, 'no'); END;"
        )
        _preview, sent = self.several("set", "1", "3", "5", **grade | {"grade": "8"})
        done = self.signed.post("/t/station/bulk", data=sent).text
        self.assertRegex(done, r"Changed</span></h2>\s*<div>\s*<p>2 stations")
        self.assertIn("The database rejected it.", done)
        self.assertEqual([row[1] for row in self.rows(query)], [8, 7, 1, None, 8, None])
        dark = {"all-rows": "1", "list-query": "state.is=dark"}
        _preview, every = self.several("delete", **dark)
        self.signed.post("/t/station/bulk", data=every)
        self.assertEqual([row[0] for row in self.rows(query)], [1, 3, 5])
        none = self.signed.post("/t/station/bulk", data={"do-action": "delete"})
        self.assertEqual(none.location, "/t/station")
        reader = self.client("viewer")
        self.assertNotIn('value="delete"', reader.get("/t/station").text)
        self.assertEqual(reader.post("/t/station/bulk", data=every).status_code, 403)

    def test_several_are_left_that_others_changed_since_the_preview(self) -> None:
        self.signed = self.client("editor")
        self.fill(self.ROWS * 2)
        query = "SELECT id, grade FROM station ORDER BY id"
        for act, rest, now in (
            ("set", {"set-column": "grade", "grade": "7"}, 5),
            ("delete", {}, 6),
        ):
            before = self.rows(query)
            _preview, sent = self.several(act, "1", "2", **rest)
            self.change(f"UPDATE station SET grade = {now} WHERE id = 1")
            said = self.signed.post("/t/station/bulk", data=sent).text
            self.assertIn("Another user changed this record.", said)
            self.assertEqual(self.rows(query)[0], (1, now), act)
            self.assertNotEqual(self.rows(query), before)
            unseen = {k: v for k, v in sent.items() if k != "seen-of-row"}
            self.signed.post("/t/station/bulk", data=unseen | {"grade": "9"})
            self.assertEqual(self.rows(query)[0], (1, now), "nothing without a preview")

    def test_a_copy_begins_like_its_original(self) -> None:
        self.signed = self.client()
        self.fill(self.ROWS)
        self.assertIn(
            'href="/t/station/add?copy-of=1">Duplicate', self.page("/t/station/r/1")
        )
        form = self.form_data(self.signed, "/t/station/add?copy-of=1")
        self.assertEqual(
            (form["name"], form["grade"], form["district_code"]),
            ("Tern Holm", "1", "NR"),
        )
        self.assertEqual(
            self.form_data(self.signed, "/t/station/add?copy-of=99")["name"], ""
        )


@needs("postgresql")
class PostgresqlLists(Lists, OnServer, ApplicationCase):
    SERVER = POSTGRESQL

    def store(self, statements: list[str]) -> None:
        run(self.address, statements)


@needs("mariadb")
class MariadbLists(Lists, OnServer, ApplicationCase):
    SERVER = MARIADB
    MOMENT = "DATETIME"

    def store(self, statements: list[str]) -> None:
        run(self.address, statements)
