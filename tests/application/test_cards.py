"""The first page and further pages of cards: figures against SQL written by hand, within
the reach of who asks, in time, arranged by users."""

import json
import re
from decimal import Decimal
from importlib import import_module
from typing import Any
from unittest import mock

from lumet.kit.common.formatting import number_text
from tests.support.capabilities import needs
from tests.support.projects import PASSWORD, ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

SCRIPT = """
CREATE TABLE district (code VARCHAR(4) PRIMARY KEY, name VARCHAR(20) NOT NULL);
CREATE TABLE repair (id INTEGER PRIMARY KEY, title VARCHAR(20) NOT NULL, status VARCHAR(10) NOT NULL,
    district_code VARCHAR(4) NOT NULL REFERENCES district (code), reported_on DATE NOT NULL, cost_eur DECIMAL(8,2), clerk VARCHAR(10));
INSERT INTO district VALUES ('NR', 'North Reach'), ('SF', 'Saltfen');
"""
ROWS = "".join(
    f"INSERT INTO repair VALUES ({n}, 'Repair {n}', '{('reported', 'done', 'planned')[n % 7 % 3]}', '{('NR', 'SF')[n % 3 == 0]}', '2026-0{1 + n % 4 * 2}-1{n % 10}', {n}.50, 'x');\n"
    for n in range(1, 61)
)
FRONT = """
inferred = false
[cards]
reported = { kind = "number", table = "repair", filter = "status.is=reported" }
cost = { kind = "number", table = "repair", sum = "cost_eur", label = "Spent" }
states = { kind = "bars", table = "repair", by = "status", sum = "cost_eur" }
months = { kind = "line", table = "repair", by = "reported_on" }
places = { kind = "shares", table = "repair", by = "district_code" }
mine = { kind = "number", table = "repair", filter = "district_code.is=:user.district", label = "Mine" }
hushed = { kind = "number", table = "repair", filter = "clerk.is=x", label = "Hushed" }
last = { kind = "rows", table = "repair", filter = "status.is=planned&sort=-cost_eur" }
boss = { kind = "tables", roles = ["boss"] }
"""
PAGE = """
label = "Repairs at a glance"
roles = ["boss"]
[cards.total]
kind = "number"
table = "repair"
[cards.mean]
kind = "number"
table = "repair"
average = "cost_eur"
[cards.dearest]
kind = "bars"
table = "repair"
by = "status"
average = "cost_eur"
[cards.monthly]
kind = "line"
table = "repair"
by = "reported_on"
average = "cost_eur"
"""
ROLES = """
[user]
district = "text"
[role.mate]
label = "Mate"
[role.mate.tables]
"*" = ["view"]
[role.mate.rows]
repair = "district_code = 'SF'"
[role.mate.fields]
"repair.clerk" = "hidden"
[role.boss]
label = "Boss"
[role.boss.tables]
"*" = ["view", "add", "edit", "delete"]
[role.near]
label = "Near"
[role.near.tables]
"*" = ["view"]
[role.near.rows]
repair = "district_code = :user.district"
"""


def texts(page: str, kind: str) -> list[str]:
    """Return the words of the cards of a kind, without what is marked up."""
    found = re.findall(rf'class="sheet card-{kind}[^"]*".*?</(?:section|a)>\n', page, re.DOTALL)  # fmt: skip
    return [" ".join(re.sub(r"<[^>]+>", " ", each.partition(">")[2]).split()) for each in found]  # fmt: skip


class Cards:
    """The tests, for each kind of database; not a test by itself."""

    @classmethod
    def script(cls) -> str:
        return SCRIPT + ROWS

    @classmethod
    def decide(cls: Any) -> None:
        (cls.folder / "design/front.toml").write_text(FRONT)
        (cls.folder / "design/pages").mkdir()
        (cls.folder / "design/pages/repairs.toml").write_text(PAGE)
        access = cls.folder / "access.toml"
        access.write_text(access.read_text() + ROLES)
        path = cls.folder / "design/tables/repair.toml"
        path.write_text('field.status.kind = "choice"\nfield.status.choices = ["reported", "done", "planned"]\n' + path.read_text())  # fmt: skip

    def one(self: Any, query: str) -> Any:
        return self.rows(query)[0][0]

    def test_figures_are_those_of_sql(self: Any) -> None:
        page = self.client("boss").get("/").text
        reported = self.one("SELECT count(*) FROM repair WHERE status = 'reported'")
        spent = self.one("SELECT sum(cost_eur) FROM repair")
        self.assertEqual(
            texts(page, "number"),
            [f"{reported} Repairs · reported", f"{spent:,.2f} € Spent", f"{self.one('SELECT count(*) FROM repair')} Hushed"],
        )  # fmt: skip
        by_state = self.rows("SELECT status, sum(cost_eur) FROM repair GROUP BY status ORDER BY 2 DESC")  # fmt: skip
        words = " ".join(f"{state} {float(cost):,.2f}" for state, cost in by_state)  # fmt: skip
        self.assertEqual(texts(page, "bars"), [f"Repairs: cost by status Repairs: cost by status {words}"])  # fmt: skip
        by_month = dict(self.rows("SELECT substr(CAST(reported_on AS CHAR(10)), 1, 7), count(*) FROM repair GROUP BY 1"))  # fmt: skip
        months = [f"2026-0{n}" for n in range(1, 8)]
        (line,) = texts(page, "line")
        self.assertTrue(line.endswith(" ".join(f"{m} {by_month.get(m, 0)}" for m in months)), line)  # fmt: skip
        drawn = re.search(r'data-chart="([^"]+)"[^>]*data-kind="line"', page)
        self.assertEqual(drawn and drawn[1], str([float(by_month.get(m, 0)) for m in months]))  # fmt: skip
        last = self.rows("SELECT title, cost_eur FROM repair WHERE status = 'planned' ORDER BY cost_eur DESC LIMIT 6")  # fmt: skip
        self.assertTrue(
            texts(page, "rows")[0].endswith(
                " ".join(f"{t} {cost:.2f}" for t, cost in last)
            ),
            texts(page, "rows"),
        )

    def test_each_leads_to_the_list_behind_it(self: Any) -> None:
        client = self.client("boss")
        page = client.get("/").text.replace("&amp;", "&")
        states = self.rows("SELECT status, count(*) FROM repair GROUP BY status")
        for state, count in states:
            self.assertIn(f'href="/t/repair?status.is={state}"', page)
            listed = client.get(f"/t/repair?status.is={state}").text
            self.assertIn(f">{count}<", listed)
        march = "/t/repair?reported_on.from=2026-03-01&reported_on.to=2026-03-31"
        self.assertIn(f'"{march}"'.replace("&", "\\u0026"), page.replace("&#34;", '"'))
        self.assertIn('href="/t/repair?by=status&sum=cost_eur&layout=groups"', page)
        self.assertIn('href="/t/repair?status.is=planned&sort=-cost_eur"', page)

    def test_nothing_past_the_reach(self: Any) -> None:
        page = self.client("mate").get("/").text
        count = self.one("SELECT count(*) FROM repair WHERE status = 'reported' AND district_code = 'SF'")  # fmt: skip
        spent = self.one("SELECT sum(cost_eur) FROM repair WHERE district_code = 'SF'")
        # what is filtered by a hidden column is left out, not shown unfiltered
        self.assertEqual(texts(page, "number"), [f"{count} Repairs · reported", f"{spent:,.2f} € Spent"])  # fmt: skip
        shared = self.one("SELECT count(*) FROM repair WHERE district_code = 'SF'")
        self.assertTrue(
            texts(page, "shares")[0].endswith(
                f"In numbers Repairs by district Saltfen {shared}"
            )
        )
        self.assertNotIn("North Reach", page)
        self.assertNotIn("Repairs at a glance", page)
        client = self.client("mate")
        for address in ("/pages/repairs", "/pages/nothing", "/figure/hushed", "/figure/total?page=repairs", "/figure/boss"):  # fmt: skip
            self.assertEqual(client.get(address).status_code, 404, address)
        self.assertEqual(self.app.test_client().get("/").status_code, 302)

    def test_figures_are_kept_for_those_of_one_reach_alone(self: Any) -> None:
        users = self.app.extensions["users"]
        for name, district in (("ulf", "NR"), ("vera", "SF"), ("wim", "NR")):
            users.add(name, PASSWORD, ["near"], {"district": district})
        module = import_module(f"{self.app.name}.kit.web.card_views")
        read = module.read_figure
        pages = []
        with mock.patch.object(module, "read_figure", side_effect=read) as reading:
            for name in ("ulf", "vera", "wim"):
                client = self.app.test_client()
                client.post("/sign-in", data={"name": name, "password": PASSWORD})
                before = reading.call_count
                pages.append(client.get("/").text)
                self.assertEqual(bool(reading.call_count - before), name != "wim")
        for page, district in zip(pages, ("NR", "SF", "NR"), strict=True):
            count = self.one(f"SELECT count(*) FROM repair WHERE district_code = '{district}'")  # fmt: skip
            self.assertIn(f"{count} Mine", texts(page, "number"))

    def test_whoever_changes_something_sees_it(self: Any) -> None:
        boss, editor = self.client("boss"), self.client("editor")
        count = self.one("SELECT count(*) FROM repair WHERE status = 'reported'")
        shown = f"{count} Repairs · reported"
        for client in (boss, editor):
            self.assertIn(shown, texts(client.get("/").text, "number"))
        key = self.one("SELECT min(id) FROM repair WHERE status = 'reported'")
        address = f"/t/repair/r/{key}/edit"
        data = self.form_data(boss, address)
        for status, left in (("done", count - 1), ("reported", count)):
            answer = boss.post(address, data={**self.form_data(boss, address), "status": status})  # fmt: skip
            self.assertEqual(answer.status_code, 302)
            now = f"{left} Repairs · reported"
            self.assertIn(now, texts(boss.get("/").text, "number"))
            # others have it within a minute
            self.assertIn(shown, texts(editor.get("/").text, "number"))
        self.assertEqual(data["status"], "reported")

    def test_what_takes_too_long_says_so_and_the_rest_comes_later(self: Any) -> None:
        module = import_module(f"{self.app.name}.kit.web.card_views")
        client = self.client("boss")
        self.app.extensions["site"].figures.__init__()
        with mock.patch.object(module, "PAGE_SECONDS", -1):
            page = client.get("/").text
        self.assertIn('data-figure="/figure/reported"', page)
        self.assertIn("Repairs · reported", page)
        piece = client.get("/figure/reported?as-piece=1").text
        self.assertIn("Repairs · reported", texts(piece + "\n", "number")[0])
        self.assertEqual(client.get("/figure/states").status_code, 200)
        figures = import_module(f"{self.app.name}.kit.lists.figures")
        self.app.extensions["site"].figures.__init__()
        busy = mock.Mock(kind="busy")
        error = figures.DBAPIError("SELECT", {}, Exception("late"))
        with (
            mock.patch.object(figures._Reading, "read", side_effect=error),
            mock.patch.object(figures, "classify", return_value=busy),
        ):
            page = client.get("/").text
        self.app.extensions["site"].figures.__init__()
        self.assertIn("This takes too long here.", page)
        self.assertIn("takes too long", texts(page, "number")[0])

    def test_what_was_opened_and_changed_last(self: Any) -> None:
        client = self.client("boss")
        for number in (3, 5, 4, 5):
            self.assertEqual(client.get(f"/t/repair/r/{number}").status_code, 200)
        data = self.form_data(client, "/t/repair/r/7/edit") | {"title": "Mended"}
        self.assertEqual(client.post("/t/repair/r/7/edit", data=data).status_code, 302)
        front = self.client("boss")
        site = self.app.extensions["site"]
        recent = import_module(f"{self.app.name}.kit.pages.cards").FIRST_PAGE
        with mock.patch.dict(site.card_pages, {"": recent}):
            shown = front.get("/").text
        (words,) = texts(shown, "recent")
        titles = re.findall(r"(Mended|Repair \d+) Repair (changed|opened)", words)
        self.assertEqual(titles[:4], [("Mended", "changed"), ("Repair 5", "opened"), ("Repair 4", "opened"), ("Repair 3", "opened")])  # fmt: skip
        self.change("DELETE FROM repair WHERE id = 4")
        with mock.patch.dict(site.card_pages, {"": recent}):
            self.assertNotIn("Repair 4", front.get("/").text)

    def test_users_choose_and_order_their_cards(self: Any) -> None:
        client = self.client("boss")
        form = {"card": ["cost", "reported", "states", "nothing"], "shown": ["cost", "reported"]}  # fmt: skip
        moved = client.post("/arrange", data={**form, "down": "cost"}).text
        order = re.findall(r'name="card" value="(\w+)"', moved)
        self.assertEqual(order[:3], ["reported", "cost", "states"])
        self.assertEqual(client.post("/arrange", data={**form, "save": ""}).status_code, 302)  # fmt: skip
        page = client.get("/").text
        self.assertEqual([t.rpartition(" ")[2] for t in texts(page, "number")], ["Spent", "reported"])  # fmt: skip
        self.assertEqual(texts(page, "bars"), [])
        client.post("/arrange", data={"reset": ""})
        self.assertEqual(len(texts(client.get("/").text, "bars")), 1)

    def test_saved_views_are_counted(self: Any) -> None:
        client = self.client("boss")
        data = {"list-query": "status.is=done", "name": "All done"}
        client.post("/t/repair/views", data=data)
        site = self.app.extensions["site"]
        first = import_module(f"{self.app.name}.kit.pages.cards").FIRST_PAGE
        with mock.patch.dict(site.card_pages, {"": first}):
            page = client.get("/").text
        count = self.one("SELECT count(*) FROM repair WHERE status = 'done'")
        self.assertEqual(texts(page, "views"), [f"Saved views All done Repairs {count}"])  # fmt: skip

    def test_a_page_of_its_own(self: Any) -> None:
        client = self.client("boss")
        self.assertIn('href="/pages/repairs"', client.get("/").text)
        page = client.get("/pages/repairs").text
        count = self.one("SELECT count(*) FROM repair")
        mean = number_text(self.mean(), "en", 2)
        self.assertEqual(texts(page, "number"), [f"{count} Repairs", f"{mean} € Repairs: cost (average)"])  # fmt: skip

    def mean(self: Any, condition: str = "1 = 1") -> Decimal | None:
        """Return the average cost to a cent, reckoned from the rows."""
        rows = self.rows(f"SELECT cost_eur FROM repair WHERE {condition}")
        costs = [Decimal(str(cost)) for (cost,) in rows if cost is not None]
        return round(sum(costs) / len(costs), 2) if costs else None

    def test_averages(self: Any) -> None:
        self.change("UPDATE repair SET cost_eur = NULL WHERE status = 'done' OR id = 3")
        client = self.client("boss")
        self.app.extensions["site"].figures.__init__()
        page = client.get("/pages/repairs").text
        means = {s: self.mean(f"status = '{s}'") for s in ("reported", "planned", "done")}  # fmt: skip
        ordered = sorted(means, key=lambda each: -(means[each] or 0))
        # what has no cost is last, with no average
        self.assertEqual((ordered[-1], means["done"]), ("done", None))
        words = {s: "–" if m is None else number_text(m, "en", 2) for s, m in means.items()}  # fmt: skip
        label = "Repairs: cost (average) by status"
        self.assertEqual(texts(page, "bars"), [f"{label} {label} " + " ".join(f"{s} {words[s]}" for s in ordered)])  # fmt: skip
        by_month = {n: self.mean(f"substr(CAST(reported_on AS CHAR(10)), 7, 1) = '{n}'") for n in range(1, 8)}  # fmt: skip
        drawn = re.search(r'data-chart="([^"]+)"[^>]*data-kind="line"', page)
        points = json.loads(drawn[1]) if drawn else []
        for point, mean in zip(points, by_month.values(), strict=True):
            if mean is None:  # a month without any has no point
                self.assertIsNone(point)
            else:
                self.assertAlmostEqual(point, float(mean), 2)
        address = "/t/repair?layout=chart&by=status&average=cost_eur&stack=district_code&shape=shares"  # fmt: skip
        chart = client.get(address).text
        self.assertIn('data-kind="bars"', chart)
        self.assertNotIn("data-series", chart)
        self.assertIn('<th scope="col" class="num">Cost (average)</th>', chart)
        self.assertIn(f'<td class="num">{words["planned"]}</td>', chart)
        self.assertIn('href="/t/repair?layout=chart&amp;by=status&amp;stack=district_code&amp;shape=shares&amp;sum=cost_eur"', chart)  # fmt: skip
        self.change("UPDATE repair SET cost_eur = id + 0.5")


class SqliteCardsTest(Cards, ApplicationCase):
    SCRIPT = SCRIPT + ROWS


@needs("postgresql")
class PostgresqlCardsTest(Cards, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    DATABASE = "lumet_test_cards"


@needs("mariadb")
class MariadbCardsTest(Cards, OnServer, ApplicationCase):
    SERVER = MARIADB
    DATABASE = "lumet_test_cards"
