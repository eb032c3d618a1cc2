"""What lies beyond a user's reach cannot be told from keys, orders, groups or the log."""

import base64
import json
import re
from typing import Any

from lumet.browsing.pages import Page
from tests.support.projects import PASSWORD, ApplicationCase

SCRIPT = """
CREATE TABLE keeper (id INTEGER PRIMARY KEY, staff_no TEXT NOT NULL UNIQUE, name TEXT NOT NULL,
    phone TEXT, left_on DATE);
CREATE TABLE inspection (id INTEGER PRIMARY KEY, label TEXT NOT NULL, inspector_id INTEGER REFERENCES keeper);
INSERT INTO keeper VALUES (7, 'K0007', 'Ada Young', '555 7', NULL), (8, 'K0008', 'Bert Xu', '555 8', '2020-01-01'),
    (9, 'K0009', 'Cleo Adams', '555 9', '2021-01-01');
INSERT INTO inspection VALUES (1, 'one', 7), (2, 'two', 8), (3, 'three', 8), (4, 'four', 9), (5, 'five', NULL);
"""
ROLES = """
[role.clerk]
label = "Clerk"
[role.clerk.tables]
inspection = ["view", "export"]
[role.warden]
label = "Warden"
[role.warden.tables]
"*" = ["view", "export"]
[role.warden.rows]
keeper = "left_on IS NULL"
[role.auditor]
label = "Auditor"
read_audit_log = true
[role.auditor.tables]
"*" = ["view"]
[role.auditor.rows]
keeper = "left_on IS NULL"
[role.auditor.fields]
"keeper.phone" = "hidden"
[role.mate]
label = "Mate"
share_views = true
[role.mate.tables]
"*" = ["view", "edit"]
[role.mate.rows]
keeper = "left_on IS NULL"
[role.pilot]
label = "Pilot"
[role.pilot.tables]
"*" = ["view"]
[role.pilot.fields]
"keeper.phone" = "hidden"
[role.anyone.tables]
keeper = ["view"]
[role.anyone.fields]
"keeper.phone" = "hidden"
"""


class BeyondTest(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "access.toml"
        path.write_text(path.read_text() + ROLES)

    def counted(self, client: Any, query: str) -> int:
        page = Page(client.get(f"/t/inspection?{query}"), query)
        return len(page.tree.css("tbody tr"))

    def test_keys_of_what_may_not_be_seen_are_not_told(self) -> None:
        for role, hidden in (("clerk", (7, 8, 9)), ("warden", (8, 9))):
            client = self.client(role)
            for key in hidden:
                with self.subTest(role, key=key):
                    found = self.counted(client, f"inspector_id.is={key}")
                    self.assertIn(found, (0, 5), "as for a key that is none")
                    self.assertEqual(
                        found, self.counted(client, "inspector_id.is=12345")
                    )
            for kind in ("csv", "json"):
                out = client.get(
                    f"/t/inspection/export.{kind}?keys=1&columns=inspector_id"
                ).text
                found = re.findall(r"not visible", out)
                self.assertEqual(len(found), 3 if role == "warden" else 4)
                rows = json.loads(out) if kind == "json" else []
                keys = {
                    v for row in rows for k, v in row.items() if "inspector_id" in k
                }
                self.assertEqual(keys, ({7, None} if role == "warden" else {None}) if rows else set())  # fmt: skip

    def test_orders_and_groups_do_not_tell_them_either(self) -> None:
        clerk = self.client("clerk")
        page = clerk.get("/t/inspection?sort=inspector_id&rows=25").text
        self.assertNotIn(
            "sort=inspector_id", page.replace("sort=inspector_id&amp;rows", "")
        )
        plain = [
            re.sub(r"\s+", "", each) for each in (page, clerk.get("/t/inspection").text)
        ]
        order = [re.findall(r"/r/(\d)", each) for each in plain]
        self.assertEqual(*order)
        for place in re.findall(r"after=([\w-]+)", page):
            told = base64.urlsafe_b64decode(place + "=" * (-len(place) % 4))
            self.assertNotRegex(told, rb"\b[789]\b")
        self.assertNotIn(
            "by=inspector_id", clerk.get("/t/inspection?layout=groups").text
        )
        warden = self.client("warden")
        groups = Page(warden.get("/t/inspection?layout=groups&by=inspector_id"), "")
        rows = sorted(" ".join(n.text().split()) for n in groups.tree.css("tbody tr"))
        self.assertEqual(rows, ["Ada Young 1", "empty 1", "not visible 3"])

    def test_the_log_tells_no_more_than_its_reader_may_see(self) -> None:
        administrator = self.client("administrator")
        for key, phone in ((7, "555 77"), (8, "555 88")):
            data = self.form_data(administrator, f"/t/keeper/r/{key}/edit")
            answer = administrator.post(
                f"/t/keeper/r/{key}/edit",
                data=data | {"phone": phone, "name": f"New {key}"},
            )
            self.assertEqual(answer.status_code, 302)
        self.assertIn("555 88", administrator.get("/log").text)
        auditor = self.client("auditor")
        for address in ("/log", "/log?table=keeper&key=8", "/log.csv"):
            told = auditor.get(address).text
            for word in ("555 8", "New 8", "Bert"):
                self.assertNotIn(word, told, address)
        self.assertIn("New 7", auditor.get("/log").text)

    def change_phone(self, phone: str) -> None:
        administrator = self.client("administrator")
        data = self.form_data(administrator, "/t/keeper/r/7/edit") | {"phone": phone}
        self.assertEqual(
            administrator.post("/t/keeper/r/7/edit", data=data).status_code, 302
        )

    def test_histories_tell_strangers_no_names_and_nobody_what_is_hidden(self) -> None:
        self.change_phone("555 71")
        users = self.app.extensions["users"]
        users.add("both", PASSWORD, ["mate", "pilot"])
        both = self.app.test_client()
        both.post("/sign-in", data={"name": "both", "password": PASSWORD})
        told = self.client("administrator").get("/t/keeper/r/7/history").text
        (number,) = re.findall(r"put-back=(\d+)", told)[:1]
        page = both.get(f"/t/keeper/r/7/edit?put-back={number}").text
        self.assertNotIn('value="555 7"', page)  # the history conceals it
        stranger = self.app.test_client().get("/t/keeper/r/7/history").text
        self.assertNotIn("administrator", stranger)
        self.assertIn("No changes have been recorded", stranger)  # but hidden fields

    def test_shared_views_name_nothing_hidden(self) -> None:
        mate = self.client("mate")
        query = "phone.has=555&name.has=a&sort=phone,name"
        kept = {"list-query": query, "name": "Loud", "role": "pilot"}
        self.assertEqual(mate.post("/t/keeper/views", data=kept).status_code, 302)
        shared = self.client("pilot").get("/t/keeper?panel=views").text
        (address,) = re.findall(r'<a href="([^"]*)">Loud</a>', shared)
        self.assertEqual(address, "/t/keeper?name.has=a&amp;sort=name")

    def test_a_new_name_opens_no_rows(self) -> None:
        client = self.client("warden")
        client.post("/profile", data={"name": "K0008", "language": "", "time_zone": "", "present": PASSWORD})  # fmt: skip
        users = self.app.extensions["users"]
        self.assertEqual(users.find("warden").name, "warden")
