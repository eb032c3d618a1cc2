"""Rules on rows: what any page shows is what a plain model of the rules says."""

import importlib
import re
from collections.abc import Callable
from datetime import date
from decimal import Decimal
from typing import Any, ClassVar

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import event, select

from tests.support.capabilities import needs
from tests.support.projects import PASSWORD, ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer, run

TABLES = """
CREATE TABLE district (code VARCHAR(4) PRIMARY KEY, name VARCHAR(20) NOT NULL, chief VARCHAR(20));
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, district_code VARCHAR(4),
    grade INTEGER, height_m DECIMAL(5,1), is_manned {yes_no}, opened_on DATE, log_note VARCHAR(40),
    FOREIGN KEY (district_code) REFERENCES district (code));
CREATE TABLE light (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL, colour VARCHAR(9) NOT NULL,
    FOREIGN KEY (station_id) REFERENCES station (id) ON DELETE CASCADE);
CREATE INDEX station_of_district ON station (district_code);
INSERT INTO district VALUES ('NR', 'North Reach', 'ina'), ('SF', 'Saltfen', 'tove'), ('OX', 'Oxna', NULL);
"""
ATTRIBUTES = {"district": "text", "level": "integer", "height": "decimal", "manned": "yes/no",
              "since": "date"}  # fmt: skip
Row = dict[str, Any]
Truth = bool | None


def known(*values: Any) -> bool:
    return None not in values


# role: the rule, and the same in Python; None is SQL's unknown
RULES: dict[str, tuple[str, Callable[[Row, Row], Truth]]] = {
    "district": (
        "district_code = :user.district",
        lambda row, user: row["district_code"] == user["district"]
        if known(row["district_code"], user["district"]) else None,
    ),
    "other": (
        "NOT (district_code = :user.district)",
        lambda row, user: row["district_code"] != user["district"]
        if known(row["district_code"], user["district"]) else None,
    ),
    "level": (
        "grade >= :user.level OR grade IS NULL",
        lambda row, user: row["grade"] is None
        or (row["grade"] >= user["level"] if known(user["level"]) else None),
    ),
    "height": (
        "height_m > :user.height",
        lambda row, user: row["height_m"] > user["height"]
        if known(row["height_m"], user["height"]) else None,
    ),
    "manned": (
        "is_manned = :user.manned",
        lambda row, user: row["is_manned"] == user["manned"]
        if known(row["is_manned"], user["manned"]) else None,
    ),
    "since": (
        "opened_on < :user.since AND name <> ':user.name'",
        lambda row, user: row["opened_on"] < user["since"]
        if known(row["opened_on"], user["since"]) else None,
    ),
    "chief": (
        "district_code IN (SELECT d.code FROM district d WHERE d.chief = :user.name) OR station.name = lower(:user.name)",
        lambda row, user: (row["district_code"], user["name"]) in (("NR", "ina"), ("SF", "tove"))
        or row["name"] == user["name"],
    ),
    "all": ("1 = 1", lambda row, user: True),
}  # fmt: skip
NOTE_HIDDEN = ("district", "level")  # roles that do not see the note
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "name": st.sampled_from(["ina", "Tern Holm", "Cold Bar"]),
            "district_code": st.sampled_from([None, "NR", "SF", "OX"]),
            "grade": st.sampled_from([None, 0, 1, 2]),
            "height_m": st.sampled_from([None, Decimal("2.5"), Decimal("10.0")]),
            "is_manned": st.sampled_from([None, False, True]),
            "opened_on": st.sampled_from([None, date(1999, 12, 31), date(2020, 2, 2)]),
        }
    ),
    min_size=1,
    max_size=6,
)
USERS = st.fixed_dictionaries(
    {
        "name": st.sampled_from(["ina", "tove", "rolf"]),
        "district": st.sampled_from([None, "NR", "SF"]),
        "level": st.sampled_from([None, 0, 1, 2]),
        "height": st.sampled_from([None, Decimal("2.5"), Decimal("9.99")]),
        "manned": st.sampled_from([None, False, True]),
        "since": st.sampled_from([None, date(2000, 1, 1), date(2021, 1, 1)]),
    }
)
ROLES = st.sets(st.sampled_from(sorted(RULES)), min_size=1, max_size=3)


class RowRules:
    """The tests, for each kind of database; not a test by itself."""

    DATABASE = "lumet_test_rules"
    YES_NO = "BOOLEAN"
    EXAMPLES: ClassVar[int] = 12
    BEFORE: ClassVar[tuple[str, ...]] = ()
    EXPLAIN: ClassVar[str] = "EXPLAIN"

    @classmethod
    def script(cls) -> str:
        return TABLES.format(yes_no=cls.YES_NO)

    @classmethod
    def decide(cls: Any) -> None:
        lines = ["[user]", *(f'{name} = "{kind}"' for name, kind in ATTRIBUTES.items())]
        for role, (rule, _) in RULES.items():
            lines += [
                f"[role.r_{role}.tables]", '"*" = ["view", "add", "edit", "delete", "export"]',
                f"[role.r_{role}.rows]", f'station = "{rule}"',
            ]  # fmt: skip
            if role in NOTE_HIDDEN:
                lines += [f"[role.r_{role}.fields]", '"station.log_note" = "hidden"']
        path = cls.folder / "access.toml"
        path.write_text("\n".join(lines) + "\n" + path.read_text())
        light = cls.folder / "design/tables/light.toml"
        lines = '[list]\ncolumns = ["station_id", "colour"]\n'
        light.write_text(f'title = "Light {{id}}"\n{light.read_text()}\n{lines}')
        station = cls.folder / "design/tables/station.toml"
        station.write_text('title = "{name} {id}"\n' + station.read_text())

    def store(self: Any, statements: list[str]) -> None:
        raise NotImplementedError

    def visit(self: Any, roles: set[str], user: Row) -> Any:
        """Return a client of a user with these roles and attributes."""
        users = self.app.extensions["users"]
        if all(account.name != user["name"] for account in users.accounts()):
            users.add(user["name"], PASSWORD, [])
        number = users.find(user["name"]).id
        users.set_roles(number, [f"r_{role}" for role in roles])
        held = {name: user[name] for name in ATTRIBUTES if user[name] is not None}
        written = {
            n: str(int(v)) if isinstance(v, bool) else str(v) for n, v in held.items()
        }
        users.set_attributes(number, written)
        clients = self.__dict__.setdefault("clients", {})
        if user["name"] not in clients:
            client = self.app.test_client()
            client.post("/sign-in", data={"name": user["name"], "password": PASSWORD})
            clients[user["name"]] = client
        return clients[user["name"]]

    def test_pages_show_what_the_rules_say(self: Any) -> None:
        @settings(
            max_examples=self.EXAMPLES, deadline=None, database=None, derandomize=True,
            suppress_health_check=list(HealthCheck),
        )  # fmt: skip
        @given(ROWS, USERS, ROLES)
        def check(rows: list[Row], user: Row, roles: set[str]) -> None:
            self.check(rows, user, roles)

        check()

    def check(self: Any, rows: list[Row], user: Row, roles: set[str]) -> None:
        def spelled(value: Any) -> str:
            if value is None:
                return "NULL"
            return (
                str(value) if isinstance(value, bool | int | Decimal) else f"'{value}'"
            )

        statements = ["DELETE FROM light", "DELETE FROM station"]
        for number, row in enumerate(rows, 1):
            values = ", ".join(spelled(value) for value in row.values())
            statements += [
                f"INSERT INTO station (id, {', '.join(row)}, log_note) VALUES ({number}, {values}, 'note {number}')",
                f"INSERT INTO light VALUES ({number}, {number}, 'white')",
            ]
        self.store(statements)
        client = self.visit(roles, user)
        reached = {
            number: [role for role in roles if RULES[role][1](row, user)]
            for number, row in enumerate(rows, 1)
        }
        seen = {number for number, by in reached.items() if by}
        page = client.get("/t/station").get_data(as_text=True)
        listed = {
            int(key)
            for key in re.findall(r'class="title" href="/t/station/r/(\d+)"', page)
        }
        self.assertEqual(listed, seen)
        self.assertIn(f'<div class="count">{len(seen)}', page)
        out = client.get("/t/station/export.csv?keys=1").get_data(as_text=True)
        keys = [line.split(",")[1] for line in out.splitlines()[1:]]
        self.assertEqual(sorted(map(int, keys)), sorted(seen))
        grouped = client.get("/t/station?layout=groups&by=district_code")
        numbers = re.findall(
            r'<td class="num">(\d+)</td>', grouped.get_data(as_text=True)
        )
        self.assertEqual(sum(map(int, numbers)), len(seen))
        found = client.get("/t/station?q=holm&district_code.is=NR").get_data(
            as_text=True
        )
        keys = re.findall(r'class="title" href="/t/station/r/(\d+)"', found)
        fits = {
            n
            for n in seen
            if rows[n - 1]["name"] == "Tern Holm"
            and rows[n - 1]["district_code"] == "NR"
        }
        self.assertEqual(set(map(int, keys)), fits)
        paper = client.get("/t/station/print").get_data(as_text=True)
        self.assertEqual(len(re.findall(r"<tr>\s*<td>", paper)), len(seen))
        found = client.get("/t/light/choices/station_id?find-what=").get_json()["found"]
        self.assertEqual({int(each["value"]) for each in found}, seen)
        lights = client.get("/t/light?sort=station_id").get_data(as_text=True)
        self.assertEqual(lights.count("not visible"), len(rows) - len(seen))
        for number in set(reached) - seen:
            form = client.get(f"/t/light/r/{number}/edit").get_data(as_text=True)
            held = form.partition('name="station_id"')[2].partition("</select>")[0]
            options = re.findall(r'<option value="([^"]+)"', held)
            self.assertEqual(set(options), {"~", *map(str, seen)})
            data = self.form_data(client, f"/t/light/r/{number}/edit") | {
                "colour": "#aabbcc"
            }
            saved = client.post(f"/t/light/r/{number}/edit", data=data)
            self.assertEqual(saved.status_code, 302)
            query = f"SELECT station_id FROM light WHERE id = {number}"
            self.assertEqual(self.rows(query), [(number,)])
        for code in ("NR", "SF"):
            of_district = [n for n in seen if rows[n - 1]["district_code"] == code]
            record = client.get(f"/t/district/r/{code}").get_data(as_text=True)
            keys = re.findall(r'class="title" href="/t/station/r/(\d+)"', record)
            self.assertEqual(sorted(map(int, keys)), of_district)
        for number, by in reached.items():
            answer = client.get(f"/t/station/r/{number}")
            form = client.get(f"/t/station/r/{number}/edit")
            self.assertEqual(answer.status_code, 200 if by else 404)
            self.assertEqual(form.status_code, 200 if by else 404)
            shows = bool(set(by) - set(NOTE_HIDDEN))
            for each in (answer, form) if by else ():
                self.assertEqual(f"note {number}" in each.get_data(as_text=True), shows)

    def test_a_rule_keeps_the_index_in_use(self: Any) -> None:
        site = self.app.extensions["site"]
        reach_type = type(
            importlib.import_module(f"{self.package}.kit.access.reach").UNBOUNDED
        )
        reach = reach_type((site.roles["r_district"],), {"district": "NR"})
        rows = reach.rows(site.registry["station"].table).alias()
        statement = select(rows).order_by(rows.c.name).limit(26)
        engine = site.database.engine
        plan: list[Any] = []

        def explain(_c: Any, cursor: Any, words: str, values: Any, *_: Any) -> None:
            if words.startswith("SELECT"):
                cursor.execute(f"{self.EXPLAIN} {words}", values)
                plan.extend(cursor.fetchall())

        event.listen(engine, "before_cursor_execute", explain)
        self.addCleanup(event.remove, engine, "before_cursor_execute", explain)
        with site.database.reading() as connection:
            for each in self.BEFORE:
                connection.exec_driver_sql(each)
            reach.run(connection, statement).all()
        self.assertIn("station_of_district", str(plan))

    def test_nobody_edits_out_of_reach(self: Any) -> None:
        """A record may not be changed, nor added, so that it is beyond one's own reach."""
        station = "INSERT INTO station (id, name, district_code) VALUES "
        self.store(["DELETE FROM light", "DELETE FROM station",
                    station + "(1, 'Tern Holm', 'NR')", station + "(2, 'Cold Bar', 'SF')",
                    "INSERT INTO light VALUES (1, 1, 'red')"])  # fmt: skip
        user = {
            "name": "ina",
            "district": "NR",
            **dict.fromkeys(("level", "height", "manned", "since")),
        }
        client = self.visit({"district"}, user)
        query = "SELECT id, name, district_code, log_note FROM station ORDER BY id"
        before = self.rows(query)
        data = self.form_data(client, "/t/station/r/1/edit")
        for address, typed in (
            ("/t/station/r/1/edit", {"district_code": "SF"}),
            ("/t/station/r/1/edit", {"district_code": ""}),
            ("/t/station/add", {"id": "9", "name": "Mew", "district_code": "SF"}),
        ):
            answer = client.post(address, data=data | typed)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(
                "could no longer change the record", answer.get_data(as_text=True)
            )
        self.assertEqual(client.post("/t/station/r/2/edit", data=data).status_code, 404)
        self.assertEqual(client.post("/t/station/r/2/delete").status_code, 404)
        self.assertEqual(self.rows(query), before)
        forged = data | {"name": "Tern Head", "log_note": "forged"}
        self.assertEqual(
            client.post("/t/station/r/1/edit", data=forged).status_code, 302
        )
        self.assertEqual(self.rows(query)[0], (1, "Tern Head", "NR", None))
        added = client.post("/t/station/add", data=data | {"id": "9", "name": "Mew"})
        self.assertEqual(added.status_code, 302)
        self.assertEqual(client.post("/t/station/r/1/delete").status_code, 302)
        self.assertEqual([row[1] for row in self.rows(query)], ["Cold Bar", "Mew"])


class SqliteRules(RowRules, ApplicationCase):
    SCRIPT = TABLES.format(yes_no="BOOLEAN")
    EXAMPLES = 40
    EXPLAIN = "EXPLAIN QUERY PLAN"

    def store(self, statements: list[str]) -> None:
        self.change(";\n".join(statements) + ";")


@needs("postgresql")
class PostgresqlRules(RowRules, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    BEFORE = ("SET enable_seqscan = off",)  # few rows are quicker without an index

    def store(self, statements: list[str]) -> None:
        run(self.address, statements)


@needs("mariadb")
class MariadbRules(RowRules, OnServer, ApplicationCase):
    SERVER = MARIADB

    def store(self, statements: list[str]) -> None:
        run(self.address, statements)
