"""Filters against a plain model of the rows, on three servers: is not, one of several, columns
of referenced records, formulas, and days relative to today."""

import re
from collections.abc import Callable
from datetime import date, timedelta
from html import unescape
from typing import Any

from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

TODAY = date.today()
DISTRICTS = {"NR": ("North Reach", "outer", 3), "SF": ("Saltfen", "inner", None), "LB": ("Long Bank", "outer", 8)}  # fmt: skip
# name, state, district, day, height
ROWS: list[tuple[Any, ...]] = [
    (n, f"Post {n}", ("lit", "dark", None)[n % 3], (None, "NR", "SF", "LB")[n % 4],
     TODAY + timedelta(days=n * 9 - 160), n % 6 * 10)
    for n in range(1, 31)
]  # fmt: skip


def _literal(value: Any) -> str:
    return "NULL" if value is None else str(value) if isinstance(value, int) else f"'{value}'"  # fmt: skip


SCRIPT = (
    """
CREATE TABLE district (code VARCHAR(4) PRIMARY KEY, name VARCHAR(20) NOT NULL, kind VARCHAR(10) NOT NULL CHECK (kind IN ('outer', 'inner')), depth INTEGER);
CREATE TABLE post (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, state VARCHAR(10) CHECK (state IN ('lit', 'dark')),
    district_code VARCHAR(4) REFERENCES district (code), opened_on DATE NOT NULL, height INTEGER NOT NULL);
CREATE TABLE visit (id INTEGER PRIMARY KEY, post_id INTEGER NOT NULL REFERENCES post (id), remark VARCHAR(20));
"""
    + "".join(f"INSERT INTO district VALUES ({', '.join(map(_literal, (code, *row)))});\n" for code, row in DISTRICTS.items())
    + "".join(f"INSERT INTO post VALUES ({', '.join(map(_literal, row))});\n" for row in ROWS)
    + "".join(f"INSERT INTO visit VALUES ({n}, {n % 7 + 1}, 'seen');\n" for n in range(1, 20))
)  # fmt: skip
DECIDED = """
[list]
columns = ["state", "district_code", "district_code.kind", "district_code.depth", "visits", "opened_on", "height"]
[field.visits]
kind = "integer"
formula = "(SELECT count(*) FROM visit v WHERE v.post_id = post.id)"
"""
ROLES = """
[role.mate]
label = "Mate"
[role.mate.tables]
"*" = ["view"]
[role.mate.rows]
district = "kind = 'outer'"
[role.mate.fields]
"district.depth" = "hidden"
"post.height" = "hidden"
"""
Row = tuple[Any, ...]


def kind(row: Row) -> str | None:
    return DISTRICTS[row[3]][1] if row[3] else None


def depth(row: Row) -> int:
    return (DISTRICTS[row[3]][2] or -1) if row[3] else -1


def visits(row: Row) -> int:
    return len([n for n in range(1, 20) if n % 7 + 1 == row[0]])


def days(row: Row) -> int:
    """Return how many days from today a post was opened."""
    return int((row[4] - TODAY).days)


CASES: tuple[tuple[str, Callable[[Row], bool]], ...] = (
    ("state.not=lit", lambda r: r[2] != "lit"),
    ("state.not=lit&state.not=dark", lambda r: r[2] is None),
    ("name.not=Post+3", lambda r: r[1] != "Post 3"),
    ("district_code.not=NR", lambda r: r[3] != "NR"),
    ("district_code.kind.is=outer", lambda r: kind(r) == "outer"),
    ("district_code.kind.not=outer", lambda r: kind(r) != "outer"),
    ("district_code.depth.from=5", lambda r: depth(r) >= 5),
    ("district_code.depth.empty=1", lambda r: depth(r) < 0),
    ("district_code.depth.filled=1", lambda r: depth(r) >= 0),
    ("visits.from=3", lambda r: visits(r) >= 3),
    ("visits.to=2&state.is=dark", lambda r: visits(r) <= 2 and r[2] == "dark"),
    ("match=any&state.is=dark&height.from=40", lambda r: r[2] == "dark" or r[5] >= 40),
    ("match=any&district_code.kind.is=inner&visits.from=3&q=1", lambda r: "1" in r[1] and (kind(r) == "inner" or visits(r) >= 3)),
    ("match=any&state.is=dark", lambda r: r[2] == "dark"),
    ("match=any&height.from=20&height.to=30&state.is=lit", lambda r: 20 <= r[5] <= 30 or r[2] == "lit"),
    ("match=any&must=height&height.from=20&state.is=dark&visits.from=3", lambda r: r[5] >= 20 and (r[2] == "dark" or visits(r) >= 3)),
    ("match=any&must=height&must=state&height.from=20&state.is=dark", lambda r: r[5] >= 20 and r[2] == "dark"),
    ("must=height&height.from=20&state.is=dark", lambda r: r[5] >= 20 and r[2] == "dark"),
    ("opened_on.to=today", lambda r: days(r) <= 0),
    ("opened_on.from=today-20d&opened_on.to=today%2B2w", lambda r: -20 <= days(r) <= 14),
    ("opened_on.from=-20&opened_on.to=%2B2w", lambda r: -20 <= days(r) <= 14),
    ("opened_on.to=today+2w", lambda r: days(r) <= 14),
    ("opened_on.from=Today+-+3+w", lambda r: days(r) >= -21),
    ("opened_on.within=before-today", lambda r: days(r) < 0),
    ("opened_on.within=after-today", lambda r: days(r) > 0),
    ("opened_on.within=last-45-days", lambda r: -44 <= days(r) <= 0),
    ("opened_on.within=next-7-days", lambda r: 0 <= days(r) <= 6),
    ("opened_on.within=next-week", lambda r: 0 <= (r[4] - TODAY).days - 7 + TODAY.weekday() <= 6),
    ("opened_on.from=today%2B99999999999d", lambda r: True),
    ("opened_on.within=last-0-days&state.is=lit", lambda r: r[2] == "lit" and False),
)  # fmt: skip


class Filters:
    """The tests, for each kind of database; not a test by itself."""

    @classmethod
    def script(cls) -> str:
        return SCRIPT

    @classmethod
    def decide(cls: Any) -> None:
        access = cls.folder / "access.toml"
        access.write_text(access.read_text() + ROLES)
        path = cls.folder / "design/tables/post.toml"
        path.write_text(path.read_text() + DECIDED)

    def listed(self: Any, client: Any, query: str) -> set[str]:
        page = client.get(f"/t/post?rows=250&{query}")
        self.assertEqual(page.status_code, 200, query)
        return {*re.findall(r'class="title" href="[^"]*">(Post \d+)</a>', page.text)}

    def test_filters_find_what_a_model_says(self: Any) -> None:
        client = self.client("viewer")
        for query, fits in CASES:
            expected = {row[1] for row in ROWS if fits(row)}
            self.assertEqual(self.listed(client, query), expected, query)
            # groups and exports have the same rows
            told = client.get(f"/t/post/export.json?{query}").get_json(force=True)
            self.assertEqual(len(told), len(expected), query)

    def test_they_are_readable_and_kept_as_they_are(self: Any) -> None:
        client = self.client("viewer")
        asked = "match=any&state.not=lit&district_code.kind.is=outer&opened_on.to=today-2w&visits.from=3"  # fmt: skip
        page = client.get(f"/t/post?{asked}&panel=filter").text
        marks = re.findall(r'class="mark">\s*(.*?)\s*<b>(.*?)</b>', page, re.DOTALL)
        self.assertEqual(
            {(unescape(label), unescape(words)) for label, words in marks},
            {("State", "is not Lit"), ("Kind", "Outer"), ("Opened on", "up to today − 2 weeks"), ("Visits", "from 3")},
        )  # fmt: skip
        self.assertEqual(page.count('<span class="quiet">or</span>'), 3)
        either = client.get("/t/post?match=any&must=state&state.is=lit&height.from=20&height.to=30&visits.from=3").text  # fmt: skip
        marks = either.partition('class="finder"')[2].partition("<nav")[0]
        text = " ".join(re.sub(r"<a .*?</a>|<[^>]*>", "", marks, flags=re.DOTALL).split())  # fmt: skip
        self.assertIn("State Lit and ( Height from 20 and Height up to 30 or Visits from 3 )", text)  # fmt: skip
        self.assertIn("opened_on.to=today-2w", page)
        self.assertRegex(page, r'name="state\.not" value="lit" checked')
        self.assertRegex(page, r'<option value="any" selected>')
        typed = client.get("/t/post?opened_on.to=%2B7&panel=filter").text
        self.assertIn("up to today + 7 days", unescape(typed))
        self.assertRegex(typed, r'name="opened_on\.to" value="today\+7d"')
        client.post("/t/post/views", data={"list-query": asked, "name": "Odd"})
        self.assertIn("today-2w", client.get("/t/post?panel=views").text)

    def visits(self: Any, client: Any, query: str) -> set[int]:
        page = client.get(f"/t/visit?rows=250&{query}")
        self.assertEqual(page.status_code, 200, query)
        return {int(key) for key in re.findall(r'href="/t/visit/r/(\d+)"', page.text)}

    def test_columns_of_referenced_records_need_not_be_in_the_list(self: Any) -> None:
        client, mate = self.client("viewer"), self.client("mate")
        posts = {n: ROWS[n % 7] for n in range(1, 20)}  # of the visits
        cases: tuple[tuple[str, Callable[[Row], bool]], ...] = (
            ("post_id.state.is=lit", lambda r: r[2] == "lit"),
            ("post_id.state.not=lit", lambda r: r[2] != "lit"),
            ("post_id.district_code.is=NR", lambda r: r[3] == "NR"),
            ("post_id.district_code.not=NR", lambda r: r[3] != "NR"),
            ("post_id.district_code.empty=1", lambda r: r[3] is None),
            ("post_id.height.from=20&post_id.height.to=40", lambda r: 20 <= r[5] <= 40),
            ("match=any&post_id.name.has=2&post_id.opened_on.within=after-today", lambda r: "2" in r[1] or days(r) > 0),
            ("post_id.nothing.is=1&nothing.name.is=1&post_id.district_code.name.has=x", lambda r: True),
        )  # fmt: skip
        for query, fits in cases:
            expected = {n for n, row in posts.items() if fits(row)}
            self.assertEqual(self.visits(client, query), expected, query)
        page = client.get("/t/visit?post_id.district_code.is=SF&panel=filter").text
        self.assertIn("Post · District", page)
        self.assertRegex(page, r'value="SF" selected|value="SF" checked')
        asked = client.get("/t/visit?filter-by=post_id").text
        self.assertIn('name="post_id.height.from"', asked)
        # what is beyond reach is no filter, or finds nothing
        self.assertEqual(self.visits(mate, "post_id.district_code.is=SF"), set())
        self.assertEqual(self.visits(mate, "post_id.height.from=99"), {*posts})
        self.assertNotIn("post_id.height", mate.get("/t/visit?filter-by=post_id").text)

    def test_filters_tell_nothing_past_the_reach(self: Any) -> None:
        mate = self.client("mate")
        every = {row[1] for row in ROWS}
        # a hidden column filters nothing
        self.assertEqual(self.listed(mate, "district_code.depth.from=5"), every)
        self.assertNotIn("depth", mate.get("/t/post?panel=filter").text)
        # what is beyond reach is as if it were not there: nothing tells whose it is
        inner = {row[1] for row in ROWS if kind(row) == "inner"}
        self.assertEqual(self.listed(mate, "district_code.kind.is=inner"), set())
        self.assertEqual(self.listed(mate, "district_code.kind.not=inner"), every)
        self.assertLessEqual(inner, self.listed(mate, "district_code.kind.empty=1"))
        self.assertEqual(self.listed(mate, "district_code.not=SF"), every)


class SqliteFiltersTest(Filters, ApplicationCase):
    SCRIPT = SCRIPT


@needs("postgresql")
class PostgresqlFiltersTest(Filters, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    DATABASE = "lumet_test_filters"


@needs("mariadb")
class MariadbFiltersTest(Filters, OnServer, ApplicationCase):
    SERVER = MARIADB
    DATABASE = "lumet_test_filters"
