"""Every address for every role: what is allowed works, all else is refused alike.

Routes, tables and roles are those that the application has: one that is added without a
rule here makes a test fail.
"""

import re
from collections.abc import Iterator
from typing import Any

from tests.support.projects import PASSWORD, ApplicationCase

SCRIPT = """
CREATE TABLE district (code TEXT PRIMARY KEY NOT NULL, name VARCHAR(20) NOT NULL UNIQUE);
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL UNIQUE,
    district_code TEXT NOT NULL REFERENCES district, phone VARCHAR(20), built INTEGER);
CREATE TABLE light (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES station ON DELETE CASCADE,
    name TEXT NOT NULL, colour TEXT NOT NULL DEFAULT 'white');
CREATE TABLE part (id INTEGER PRIMARY KEY, parent_id INTEGER REFERENCES part ON DELETE CASCADE,
    light_id INTEGER REFERENCES light ON DELETE CASCADE, name TEXT NOT NULL, sealed INTEGER NOT NULL DEFAULT 0);
CREATE TABLE diary (station_id INTEGER NOT NULL REFERENCES station, words TEXT NOT NULL);
CREATE VIEW bright AS SELECT id, name FROM light WHERE colour = 'white';
INSERT INTO district VALUES ('NR', 'North Reach'), ('SF', 'Saltfen');
INSERT INTO station VALUES (1, 'Tern Holm', 'NR', '555 01', 1901), (2, 'Cold Bar', 'SF', '555 02', 1902),
    (3, 'Mew Ledge', 'NR', '555 03', 1903);
INSERT INTO light VALUES (1, 1, 'Main', 'white'), (2, 2, 'Sector', 'red');
INSERT INTO part VALUES (1, NULL, NULL, 'Lens', 0), (2, 1, NULL, 'Ring', 0), (3, 2, NULL, 'Bolt', 0),
    (4, 3, NULL, 'Nut', 1), (5, NULL, 2, 'Lamp', 0), (6, NULL, NULL, 'Hood', 0);
INSERT INTO diary VALUES (1, 'Fog.');
"""
ACCESS = """
[role.anyone.tables]
district = ["view"]
[role.clerk]
label = "Clerk"
[role.clerk.tables]
"*" = ["view"]
station = ["view", "add", "edit", "delete"]
light = ["view", "add", "edit", "delete"]
part = ["view", "delete"]
[role.clerk.rows]
part = "sealed = 0"
[role.clerk.changes]
station = "district_code = 'NR'"
[role.clerk.fields]
"station.phone" = "hidden"
"station.built" = "set once"
"light.colour" = "read-only"
[role.mate.tables]
station = ["view", "edit"]
[role.mate.rows]
station = "district_code = 'SF'"
[role.writer.tables]
light = ["add"]
diary = ["view"]
"""
# Who may open an address: a right on its table, or who keeps accounts, sees the log, is
# signed in, or everybody.
RULES = {
    "pages.front": "signed in",
    "pages.dates": "signed in",
    "pages.shortcuts": "signed in",
    "pages.find": "signed in",
    "pages.arrange": "signed in",
    "pages.arrange_menu": "no action",
    "pages.menu_counts": "signed in",
    "pages.card_page": "no action",
    "pages.figure": "no action",
    "pages.print_record": "view",
    "static_revision": "everybody",
    "own_revision": "link",
    "pages.act_on_record": "no action",
    "pages.act_on_list": "no action",
    "pages.show_list": "view",
    "pages.show_record": "view",
    "pages.add": "add",
    "pages.edit": "edit",
    "pages.delete": "delete",
    "pages.edit_field": "edit",
    "pages.move_entry": "edit",
    "pages.picture": "view",
    "pages.file": "view",
    "pages.related": "view",
    "pages.history": "view",
    "pages.timeline": "view",
    "pages.choices": "view",
    "pages.chosen_records": "view",
    "pages.restore": "delete",
    "pages.choose_columns": "view",
    "pages.bulk_action": "delete",
    "pages.save_view": "view",
    "pages.forget_view": "view",
    "pages.print_list": "view",
    "pages.export": "export",
    "login.sign_in": "everybody",
    "login.sign_out": "everybody",
    "login.first_user": "link",
    "login.set_password": "link",
    "login.profile": "signed in",
    "login.save_profile": "signed in",
    "login.change_password": "signed in",
    "login.end_session": "signed in",
    "admin.accounts": "keeps",
    "admin.add": "keeps",
    "admin.account": "keeps",
    "admin.save": "keeps",
    "admin.make_link": "keeps",
    "admin.end_sessions": "keeps",
    "admin.disable": "keeps",
    "admin.roles": "keeps",
    "admin.begin_viewing": "keeps",
    "admin.end_viewing": "keeps",
    "audit.entries": "log",
    "audit.listed": "log",
    "audit.export": "log",
    "health.shown": "log",
    "outbox.listed": "keeps",
    "outbox.shown": "keeps",
    "outbox.decide": "keeps",
    "static": "everybody",
}
CHANGING = ("add", "edit", "delete")
KEYS = {"district": "NR", "station": "3", "light": "1", "part": "6"}
READ_ONLY = ("diary", "bright")  # without a key, and a view
RECORDS = (
    "pages.timeline",
    "pages.print_record",
    "pages.show_record",
    "pages.edit",
    "pages.delete",
    "pages.history",
)


class RightsCase(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "access.toml"
        path.write_text(ACCESS + path.read_text())
        for path in (cls.folder / "design/tables").glob("*.toml"):
            path.write_text(path.read_text() + '\n[list]\nedit = "cells"\n')

    def page(self, client: Any, address: str, status: int = 200) -> str:
        answer = client.get(address)
        self.assertEqual(answer.status_code, status, address)
        return str(answer.get_data(as_text=True))

    def both(self, *roles: str) -> Any:
        """Return a client of a user who has several roles."""
        users = self.app.extensions["users"]
        name = " and ".join(roles)
        if all(account.name != name for account in users.accounts()):
            users.add(name, PASSWORD, roles)
        client = self.app.test_client()
        client.post("/sign-in", data={"name": name, "password": PASSWORD})
        return client


class EveryAddressTest(RightsCase):
    def addresses(self, role: str) -> Iterator[tuple[str, str, str, str]]:
        """Yield every address that there is: endpoint, method, table, address."""
        tables = self.app.extensions["site"].registry.pages
        for rule in self.app.url_map.iter_rules():
            self.assertIn(rule.endpoint, RULES, "an address without a rule")
            for method in sorted(rule.methods - {"HEAD", "OPTIONS"}):
                address = rule.rule
                for name, value in (("<int:number>", "99"), ("<token>", "x"),
                                    ("<path:filename>", "theme.css"), ("<kind>", "csv"), ("<act>", "validate")):  # fmt: skip
                    address = address.replace(name, value)
                if "<name>" not in address:
                    yield rule.endpoint, method, "", address
                    continue
                keys = KEYS | ({"station": "2"} if role == "mate" else {})
                for name in sorted(tables):
                    found = address.replace("<name>", name)
                    found = found.replace("<segment>", keys.get(name, "1"))
                    details = [
                        ".".join([r.table, *r.columns]) for r in tables[name].details
                    ]
                    found = found.replace("<block>", (details or ["none"])[0])
                    columns = list(tables[name].lookups) or ["none"]
                    if rule.endpoint == "pages.edit_field" and columns == ["none"]:
                        columns = [*tables[name].entered[::-1], "none"]
                    yield (
                        rule.endpoint,
                        method,
                        name,
                        found.replace("<column>", columns[0]),
                    )

    def sees_details(self, role: Any, table: str) -> bool:
        """Tell whether a role sees the first block beneath the records of a table."""
        pages = self.app.extensions["site"].registry[table]
        if not pages.details or not pages.key:
            return False
        first = pages.details[0]
        limits = {role.limit(first.table, key) for key in first.columns}
        return "view" in role.rights_on(first.table) and "hidden" not in limits

    def test_every_address_for_every_role(self) -> None:
        roles = self.app.extensions["site"].roles
        for role in (*(name for name in roles if name != "anyone"), ""):
            held = roles.get(role or "anyone")
            client = self.client(role) if role else self.app.test_client()
            for endpoint, method, table, address in list(self.addresses(role)):
                if endpoint in ("login.sign_out", "admin.begin_viewing"):
                    continue
                self.restore()
                with self.subTest(
                    role=role or "anyone", method=method, address=address
                ):
                    with client.open(address, method=method) as answer:
                        code = answer.status_code
                    expected = self.expected(endpoint, table, held, bool(role))
                    self.assertIn(code, expected)

    def expected(self, endpoint: str, table: str, held: Any, known: bool) -> set[int]:
        rule, works = RULES[endpoint], {200, 302, 409, 422}
        refused = {404} if known else {302}
        if rule == "everybody":
            return works
        if rule == "link":
            return {404}
        if rule == "no action":  # of own code, which these tables have not
            return {404} if known else {302, 404}
        if rule == "signed in":
            # where anyone sees a table, anyone may ask for these too
            open_to_all = (
                "pages.front",
                "pages.find",
                "pages.menu_counts",
                "pages.dates",
                "pages.shortcuts",
            )
            return works if known or endpoint in open_to_all else {302}
        if rule in ("keeps", "log"):
            may = held.manages_users if rule == "keeps" else held.reads_audit_log
            return works | {404} if may else refused
        rights = held.rights_on(table)
        if "view" not in rights:
            return refused
        if endpoint in RECORDS and table in READ_ONLY:
            return {403, 404}
        if rule in CHANGING and (rule not in rights or table in READ_ONLY):
            return {403}
        if rule == "export" and rule not in rights:
            return {403}
        if endpoint == "pages.save_view" and not known:
            return {403}
        if endpoint in (
            "pages.move_entry",
            "pages.picture",
            "pages.file",
            "pages.chosen_records",
            "pages.restore",
        ):
            return {404}  # no table here has one
        if endpoint == "pages.related":
            return {200, 404} - ({404} if self.sees_details(held, table) else {200})
        if endpoint == "pages.choices":
            lookups = self.app.extensions["site"].registry[table].lookups.values()
            seen = any("view" in held.rights_on(each.target) for each in lookups)
            return {200} if seen else {404}
        return works

    def test_what_is_not_there_and_what_is_not_yours_answer_alike(self) -> None:
        def told(address: str, method: str) -> str:
            answer = client.open(address, method=method)
            self.assertEqual(answer.status_code, 404, address)
            page = answer.get_data(as_text=True)
            return re.sub(r'request \w{8}|token" value="[^"]*"', "", page)

        client = self.client("mate")
        for method in ("GET", "POST"):
            for end in ("", "/edit"):
                if method == "POST" and not end:
                    continue
                yours = told(f"/t/station/r/1{end}", method)
                self.assertEqual(yours, told(f"/t/station/r/77{end}", method))
        self.assertEqual(told("/t/light", "GET"), told("/t/nothing", "GET"))

    def test_anyone_sees_what_is_decided_and_is_asked_to_sign_in(self) -> None:
        client = self.app.test_client()
        page = self.page(client, "/t/district")
        self.assertIn("North Reach", page)
        self.assertIn(">Sign in</a>", page)
        self.assertNotIn("Stations", page)
        self.assertNotIn("Tern Holm", self.page(client, "/t/district/r/NR"))
        self.assertEqual(client.get("/t/station").location, "/sign-in?next=/t/station")


class LimitsTest(RightsCase):
    def test_fields_are_hidden_read_only_or_set_once(self) -> None:
        clerk = self.client("clerk")
        for address in ("/t/station", "/t/station/r/1", "/t/station/r/1/edit", "/t/station/add",
                        "/t/station?sort=phone", "/t/district/r/NR"):  # fmt: skip
            page = self.page(clerk, address)
            self.assertNotIn("555 0", page, address)
            self.assertNotIn("Phone", page, address)
        typed = self.form_data(clerk, "/t/station/add")
        self.assertIn("built", typed)
        typed |= {
            "name": "New Bar",
            "district_code": "NR",
            "built": "2000",
            "phone": "forged",
        }
        self.assertEqual(clerk.post("/t/station/add", data=typed).status_code, 302)
        query = "SELECT built, phone FROM station WHERE name = 'New Bar'"
        self.assertEqual(self.rows(query), [(2000, None)])
        data = self.form_data(clerk, "/t/station/r/1/edit")
        self.assertNotIn("built", data)
        forged = data | {"name": "Tern Head", "built": "1", "phone": "forged"}
        self.assertEqual(
            clerk.post("/t/station/r/1/edit", data=forged).status_code, 302
        )
        found = self.rows("SELECT name, built, phone FROM station WHERE id = 1")
        self.assertEqual(found, [("Tern Head", 1901, "555 01")])
        log = self.page(self.client("administrator"), "/log?kind=refusal")
        self.assertIn("fields that the form does not offer: built, phone", log)
        self.assertIn("Colour", self.page(clerk, "/t/light/r/1"))
        self.assertNotIn("colour", self.form_data(clerk, "/t/light/r/1/edit"))

    def test_rows_that_may_be_changed_are_fewer_than_those_seen(self) -> None:
        clerk = self.client("clerk")
        page = self.page(clerk, "/t/station/r/2")
        self.assertNotIn("/edit", page)
        self.assertNotIn("/delete", page)
        self.page(clerk, "/t/station/r/2/edit", 403)
        for address in ("/t/station/r/2/edit", "/t/station/r/2/delete"):
            self.assertEqual(clerk.post(address, data={"name": "x"}).status_code, 403)
        self.assertIn("/t/station/r/1/edit", self.page(clerk, "/t/station/r/1"))

    def test_a_limit_counts_only_where_its_role_reaches(self) -> None:
        both = self.both("clerk", "mate")  # the clerk hides phones, the mate shows some
        page = self.page(both, "/t/station")
        self.assertIn("555 02", page)
        self.assertNotIn("555 01", page)
        self.assertEqual(page.count('class="title" href="/t/station/r/'), 3)
        self.assertIn("phone", self.form_data(both, "/t/station/r/2/edit"))
        self.assertNotIn("phone", self.form_data(both, "/t/station/r/1/edit"))
        self.assertIn("built", self.form_data(both, "/t/station/r/2/edit"))

    def test_titles_leave_out_what_is_hidden(self) -> None:
        pages = self.app.extensions["site"].registry["station"]
        self.assertEqual(pages.title, "{name}")
        roles = self.app.extensions["site"].roles
        limits = roles["clerk"].fields["station"]
        limits["name"] = "hidden"
        self.addCleanup(limits.pop, "name")
        pages.table.info.clear()  # what was built before
        self.app.extensions["site"].plans.clear()
        clerk = self.client("clerk")
        for address in ("/t/station", "/t/light", "/t/light/r/1", "/t/district/r/NR",
                        "/t/light/choices/station_id?find-what=", "/t/station/r/1/delete"):  # fmt: skip
            self.assertNotIn("Tern", self.page(clerk, address), address)
        found = clerk.get("/t/light/choices/station_id?find-what=Tern").get_json()[
            "found"
        ]
        self.assertEqual(found, [])

    def tearDown(self) -> None:
        self.app.extensions["site"].registry["station"].table.info.clear()
        self.app.extensions["site"].plans.clear()

    def test_a_cascade_stops_before_what_may_not_be_deleted(self) -> None:
        clerk = self.client("clerk")
        count = "SELECT count(*) FROM part"
        for number in (1, 2, 3):  # the sealed one hangs below, at different depths
            page = self.page(clerk, f"/t/part/r/{number}/delete")
            self.assertIn("Prevents deletion", page)
            self.assertNotIn("Nut", page)
            answer = clerk.post(f"/t/part/r/{number}/delete")
            self.assertEqual(answer.status_code, 409)
        self.assertEqual(self.rows(count), [(6,)])
        self.assertIn("records you may not see", self.page(clerk, "/t/part/r/3/delete"))
        self.change(
            "UPDATE part SET sealed = 0; UPDATE part SET parent_id = 4 WHERE id = 1;"
        )
        self.assertEqual(clerk.post("/t/part/r/1/delete").status_code, 302)
        self.assertEqual(self.rows(count), [(2,)], "a circle in the data ends")

    def test_a_cascade_through_other_tables_is_checked(self) -> None:
        self.change("UPDATE part SET light_id = 1 WHERE id = 4;")
        clerk = self.client("clerk")
        for address in ("/t/light/r/1/delete", "/t/station/r/1/delete"):
            self.assertEqual(clerk.post(address).status_code, 409)
        self.change("UPDATE part SET sealed = 0; DELETE FROM diary;")
        self.assertEqual(clerk.post("/t/station/r/1/delete").status_code, 302)


class LookTest(RightsCase):
    def test_looking_as_another_shows_what_they_see_and_changes_nothing(self) -> None:
        administrator = self.client("administrator")
        self.assertIn("Clerk", self.page(administrator, "/roles"))
        self.assertIn(
            "district_code = &#39;NR&#39;", self.page(administrator, "/roles")
        )
        self.assertEqual(
            administrator.post("/view-as", data={"as": "role:mate"}).status_code, 302
        )
        page = self.page(administrator, "/t/station")
        self.assertIn("Viewing as Mate.", page)
        menu = page.partition('id="menu"')[2].partition("</nav>")[0]
        self.assertNotIn(
            "administrator", menu.casefold()
        )  # nor what an administrator may
        self.assertNotIn("/users", menu)
        self.assertEqual(page.count('class="title" href="/t/station/r/'), 1)
        self.page(administrator, "/t/light", 404)
        self.page(administrator, "/t/station/r/2/edit", 403)
        for address in (
            "/t/station/r/2/edit",
            "/t/station/add",
            "/users/add",
            "/profile",
        ):
            self.assertEqual(
                administrator.post(address, data={"name": "x"}).status_code,
                403,
                address,
            )
        self.assertEqual(administrator.post("/view-as/end").status_code, 302)
        self.assertIn("Tern Holm", self.page(administrator, "/t/station"))
        log = self.page(administrator, "/log?kind=look")
        self.assertIn("looks at the application as Mate", log)
        self.assertEqual(
            administrator.post("/view-as", data={"as": "role:none"}).status_code, 404
        )
        clerk = self.client("clerk")
        self.assertEqual(
            clerk.post("/view-as", data={"as": "role:administrator"}).status_code, 404
        )
        with clerk.session_transaction() as session:
            session["look"] = "role:administrator"
        self.page(clerk, "/t/part/r/4", 404)


class KeepingTest(RightsCase):
    def test_a_user_is_invited_changed_reset_and_disabled(self) -> None:
        administrator = self.client("administrator")
        users = self.app.extensions["users"]
        none = administrator.post("/users/add", data={"name": "Wren"})
        self.assertEqual(none.status_code, 422)
        made = administrator.post(
            "/users/add", data={"name": "Wren", "role": ["clerk", "anyone", "x"]}
        )
        link = re.search(
            r'value="http://localhost(/set-password/[^"]+)"',
            made.get_data(as_text=True),
        )
        assert link is not None
        number = users.find("wren").id
        self.assertEqual(users.account(number).roles, ("clerk",))
        wren = self.app.test_client()
        for typed, code in (({"password": "short", "again": "short"}, 422),
                            ({"password": PASSWORD, "again": "x"}, 422),
                            ({"password": PASSWORD, "again": PASSWORD}, 302)):  # fmt: skip
            self.assertEqual(wren.post(link[1], data=typed).status_code, code)
        self.page(wren, link[1], 404)
        signed = {"name": "wren", "password": PASSWORD}
        self.assertEqual(wren.post("/sign-in", data=signed).location, "/")
        self.page(wren, "/t/light")
        administrator.post(f"/users/{number}", data={"role": "mate"})
        self.page(wren, "/t/light", 404)
        administrator.post(f"/users/{number}/end")
        self.assertEqual(wren.get("/t/station").location, "/sign-in?next=/t/station")
        wren.post("/sign-in", data=signed)
        administrator.post(f"/users/{number}/disable")
        self.assertEqual(wren.get("/t/station").status_code, 302)
        self.assertEqual(wren.post("/sign-in", data=signed).status_code, 422)
        own = users.find("administrator").id
        self.assertEqual(administrator.post(f"/users/{own}/disable").status_code, 422)
        answer = administrator.post(f"/users/{own}", data={"role": "clerk"})
        self.assertIn(
            "At least one user who manages users", answer.get_data(as_text=True)
        )
        log = self.page(administrator, "/log?kind=account")
        self.assertIn("Wren: roles clerk → mate", log)

    def test_one_s_own_profile(self) -> None:
        client = self.client("writer")
        self.client("clerk")
        typed = {"display-name": "", "language": "de", "time_zone": "Europe/Berlin"}
        self.assertEqual(client.post("/profile", data=typed).status_code, 302)
        page = self.page(client, "/profile")
        self.assertIn('<html lang="en" data-format="de"', page)
        self.assertIn("This session", page)
        for wrong in (
            {"language": "xx"},
            {"time_zone": "Nowhere"},
            {"display-name": "Wren"},
            {"display-name": "clérk", "present": PASSWORD},
        ):
            self.assertEqual(
                client.post("/profile", data=typed | wrong).status_code, 422
            )
        shown = typed | {"display-name": "Wren of the Isles", "present": PASSWORD}
        self.assertEqual(client.post("/profile", data=shown).status_code, 302)
        self.assertIn("Wren of the Isles</a></b>", self.page(client, "/profile"))
        self.assertEqual(self.app.extensions["users"].find("writer").name, "writer")
        client.post("/profile", data=typed | {"name": "clerk"})
        self.assertEqual(self.app.extensions["users"].find("writer").name, "writer")
        other = self.client("writer")
        new = {
            "present": PASSWORD,
            "password": "another lamp on it",
            "again": "another lamp on it",
        }
        self.assertEqual(
            client.post("/profile/password", data=new | {"present": "x"}).status_code,
            422,
        )
        self.assertEqual(client.post("/profile/password", data=new).status_code, 302)
        self.assertEqual(other.get("/profile").status_code, 302)
        self.page(client, "/profile")
        self.app.extensions["users"].set_password("writer", PASSWORD)

    def test_every_change_is_in_the_log(self) -> None:
        administrator = self.client("administrator")
        data = self.form_data(administrator, "/t/light/r/1/edit")
        administrator.post("/t/light/r/1/edit", data=data)  # unchanged: nothing to tell
        administrator.post("/t/light/r/1/edit", data=data | {"name": "=Fore"})
        administrator.post("/t/light/r/1/delete")
        page = self.page(administrator, "/log?table=light&key=1")
        self.assertEqual(page.count("<del>Main</del> → <ins>=Fore</ins>"), 1)
        self.assertIn("deleted", page)
        out = administrator.get("/log.csv?table=light&key=1").get_data(as_text=True)
        self.assertIn("Main,'=Fore", out)
        self.assertEqual(len(out.split("\r\n")), 2 + 1 + 3)
