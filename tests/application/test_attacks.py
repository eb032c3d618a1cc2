"""What an attacker would try against the running application. Each test is a row in
docs/security.md; a row without a test, or a test without a row, fails."""

import re
import sys
from pathlib import Path
from typing import Any
from unittest import mock

from sqlalchemy import event

from tests.application import (
    test_beyond,
    test_cards,
    test_custom,
    test_exports,
    test_filters,
    test_layouts,
    test_outbox,
    test_served,
    test_undeclared,
)
from tests.application.test_kinds import Kinds
from tests.application.test_related import Related
from tests.kit.common import test_limits
from tests.project import test_refusals
from tests.support.projects import PASSWORD, ApplicationCase

SCRIPT = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, remarks TEXT,
    mail VARCHAR(80), site VARCHAR(80), colour VARCHAR(80), grade TEXT CHECK (grade IN ('a', 'b')),
    built DATE, height DECIMAL(5,1), facts JSON);
CREATE TABLE light (code VARCHAR(80) PRIMARY KEY NOT NULL, station_id INTEGER NOT NULL REFERENCES station,
    name VARCHAR(80) NOT NULL);
INSERT INTO station (id, name) VALUES (1, 'Tern Holm'), (2, 'Cold Bar');
INSERT INTO light VALUES ('M', 1, 'Main');
"""
DOCUMENT = Path(__file__).parent.parent.parent / "docs" / "security.md"
ELSEWHERE = (
    test_beyond,
    test_cards,
    test_custom,
    test_exports,
    test_filters,
    test_layouts,
    test_limits,
    test_outbox,
    test_refusals,
    test_served,
    test_undeclared,
)
SQL = ("'", "''--", "1 OR 1=1", "1;DROP TABLE station", "%27", "\\", "x' UNION SELECT password FROM app_user--",
       "$$", "${7*7}", "{{7*7}}", "%s", ":user_name", "\x00", "1e999", "-1", "ÿ", "\ud7ff")  # fmt: skip
SCRIPTS = (
    "<script>alert(1)</script>",
    '"><img src=x onerror=alert(1)>',
    "javascript:alert(1)",
    "'-alert(1)-'",
    "{{ config }}",
    "</textarea><svg onload=alert(1)>",
)


class AttackTest(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "design/tables/station.toml"
        lines = (("mail", "e-mail"), ("site", "web address"))
        path.write_text(
            path.read_text()
            + "".join(f'\n[field.{name}]\nkind = "{kind}"\n' for name, kind in lines)
            if "[field.mail]" not in path.read_text()
            else path.read_text()
        )

    def administrator(self) -> Any:
        return self.client("administrator")

    def pages(self) -> list[str]:
        """Return an address of every page that can be opened, from the routes."""
        found = []
        for rule in self.app.url_map.iter_rules():
            if "GET" in rule.methods and rule.endpoint not in (
                "static",
                "login.sign_in",
            ):
                address = rule.rule.replace("<name>", "station").replace(
                    "<segment>", "1"
                )
                address = address.replace("<column>", "none").replace("<token>", "x")
                address = address.replace("<kind>", "csv")
                found.append(address.replace("<int:number>", "1"))
        return found

    def test_sql_in_every_parameter(self) -> None:
        client, seen = self.administrator(), []
        engine = self.app.extensions["site"].database.engine

        def note(_c: Any, _cursor: Any, statement: str, *_: Any) -> None:
            seen.append(statement)

        event.listen(engine, "before_cursor_execute", note)
        self.addCleanup(event.remove, engine, "before_cursor_execute", note)
        names = ("sort", "after", "before", "last", "skip", "n", "q", "name", "kind", "table", "key",
                 "from", "to", "return-to", "next", "station_id")  # fmt: skip
        before = self.rows("SELECT count(*) FROM station")
        for word in SQL:
            for page in (*self.pages(), "/t/light/choices/station_id", "/t/light/add"):
                answer = client.get(page, query_string=dict.fromkeys(names, word))
                self.assertLess(answer.status_code, 500, (page, word))
                self.assertNotIn(
                    "app_user", answer.get_data(as_text=True).replace("app_user--", "")
                )
            for address in (
                f"/t/{word}",
                f"/t/station/r/{word}",
                f"/t/light/choices/{word}",
            ):
                self.assertLess(client.get(address).status_code, 500, (address, word))
        self.assertEqual(self.rows("SELECT count(*) FROM station"), before)
        for word in (*SQL, "9" * 19, "9" * 40):
            for page in ("/t/station/r/1/edit", "/t/light/add"):
                data = self.form_data(client, page)
                typed = {k: word for k in data if k not in ("csrf_token", "return-to")}
                answer = client.post(page, data=data | typed)
                self.assertLess(answer.status_code, 500, (page, word))
            self.restore()
        told = [s for s in seen if any(word in s for word in SQL if len(word) > 4)]
        self.assertEqual(told, [])

    def test_scripts_stored_in_every_column_and_shown_everywhere(self) -> None:
        client = self.administrator()
        for script in SCRIPTS:
            quoted = script.replace("'", "''")
            self.restore()
            self.change(
                f"UPDATE station SET name = '{quoted}', remarks = '{quoted}', mail = '{quoted}', site = '{quoted}',"
                f" colour = '{quoted}', grade = NULL, built = '{quoted}', height = '{quoted}', facts = '{quoted}';"
                f"UPDATE light SET name = '{quoted}', code = '{quoted}';"
            )
            for page in ("/t/station", "/t/station/r/1", "/t/station/r/1/edit", "/t/station/r/1/delete",
                         "/t/light", "/t/light/add", "/t/light?sort=station_id"):  # fmt: skip
                self.check_inert(client.get(page), script)
            data = self.form_data(client, "/t/station/r/1/edit")
            self.check_inert(
                client.post("/t/station/r/1/edit", data=data | {"name": script * 9}),
                script,
            )
            found = client.get("/t/light/choices/station_id?find-what=a")
            self.assertEqual(found.mimetype, "application/json")

    def check_inert(self, answer: Any, script: str) -> None:
        page = answer.get_data(as_text=True)
        self.assertLess(answer.status_code, 500)
        for live in ("<script>alert", "<img src=x", "<svg onload", 'href="javascript:'):
            self.assertNotIn(live, page, script)
        policy = answer.headers["Content-Security-Policy"]
        self.assertIn("default-src 'self'", policy)
        self.assertNotIn("unsafe", policy)
        self.assertEqual(
            re.findall(r"<script(?![^>]* src=)|<style| style=| on[a-z]+=\"", page), []
        )

    def test_scripts_reflected_from_addresses(self) -> None:
        client = self.administrator()
        for script in SCRIPTS:
            for page in (
                "/t/station",
                "/log",
                "/t/station/add",
                "/users",
                "/profile",
            ):
                query = dict.fromkeys(
                    ("sort", "name", "kind", "after", "return-to", "remarks"), script
                )
                self.check_inert(
                    client.get(page, query_string=query, follow_redirects=True), script
                )
            door = self.app.test_client().post(
                "/sign-in", data={"name": script, "password": "x"}
            )
            self.check_inert(door, script)
            self.check_inert(client.get("/log"), script)

    def test_forged_forms_from_elsewhere(self) -> None:
        client = self.administrator()
        self.app.config["WTF_CSRF_ENABLED"] = True
        for rule in self.app.url_map.iter_rules():
            if "POST" in rule.methods:
                address = rule.rule.replace("<name>", "station").replace(
                    "<segment>", "1"
                )
                address = address.replace("<int:number>", "1").replace("<token>", "x")
                for token in ({}, {"csrf_token": "forged"}):
                    answer = client.post(address, data={"name": "x", **token})
                    self.assertEqual(answer.status_code, 400, address)
        self.assertEqual(
            self.rows("SELECT name FROM station WHERE id = 1"), [("Tern Holm",)]
        )
        cookie = client.get_cookie(f"{self.package}-session")
        self.assertEqual((cookie.http_only, cookie.same_site), (True, "Lax"))

    def test_a_session_fixed_before_signing_in(self) -> None:
        self.client("administrator")
        client = self.app.test_client()
        with client.session_transaction() as session:
            session["_user_id"] = "planted"
            session["look"] = "role:administrator"
        signed = {"name": "administrator", "password": PASSWORD}
        client.post("/sign-in", data=signed)
        with client.session_transaction() as session:
            self.assertNotEqual(session["_user_id"], "planted")
            self.assertNotIn("look", session)
            token = session["_user_id"]
        client.post("/sign-out")
        with client.session_transaction() as session:
            session["_user_id"] = token  # a stolen copy is worth nothing afterwards
        self.assertEqual(client.get("/t/station").status_code, 302)

    def test_redirects_that_lead_elsewhere(self) -> None:
        self.client("administrator")
        signed = {"name": "administrator", "password": PASSWORD}
        for word in ("//elsewhere.example", "https://elsewhere.example", "/\\elsewhere.example",
                     "/\t/elsewhere.example", "javascript:alert(1)", "\\\\elsewhere.example"):  # fmt: skip
            answer = self.app.test_client().post(
                "/sign-in", query_string={"next": word}, data=signed
            )
            self.assertEqual(answer.location, "/", word)
            added = self.administrator().post(
                "/t/station/add", data={"name": "x", "return-to": word + "/t/station"}
            )
            self.assertTrue(added.location.startswith("/t/station/r/"), added.location)

    def test_paths_that_leave_the_folder(self) -> None:
        client = self.administrator()
        for path in ("../__init__.py", "..%2f__init__.py", "%2e%2e/settings.py", "....//settings.py",
                     "/etc/passwd", "..\\settings.py", "vendor/../../settings.py"):  # fmt: skip
            self.assertIn(client.get(f"/static/{path}").status_code, (404, 308), path)

    def test_files_that_nobody_asked_for(self) -> None:
        client = self.administrator()
        data = self.form_data(client, "/t/station/r/1/edit")
        import io

        forged = data | {"remarks": (io.BytesIO(b"<script>"), "x.html")}
        answer = client.post(
            "/t/station/r/1/edit", data=forged, content_type="multipart/form-data"
        )
        self.assertLess(answer.status_code, 500)
        self.assertEqual(
            self.rows("SELECT remarks FROM station WHERE id = 1"), [(None,)]
        )

    def test_keys_that_are_forged(self) -> None:
        client = self.administrator()
        for key in (
            "1,2",
            "~",
            "~00",
            "~ZZ",
            "1%00",
            "x" * 5000,
            "..",
            "1~",
            ",",
            "9" * 400,
        ):
            for end in ("", "/edit", "/delete"):
                code = client.get(f"/t/station/r/{key}{end}").status_code
                self.assertIn(code, (404, 400 if "%00" in key else 404, 414), key)

    def test_parameters_that_are_forged(self) -> None:
        reader = self.client("viewer")
        for typed in (
            {"role": "administrator"},
            {"roles": "administrator"},
            {"is_admin": "1"},
            {"id": "1"},
        ):
            reader.post("/profile", data={"name": "viewer", **typed})
        self.assertEqual(reader.get("/users").status_code, 404)
        administrator = self.administrator()
        data = self.form_data(administrator, "/t/station/r/1/edit")
        forged = data | {"id": "77", "seen-name": "0" * 24, "rowid": "9"}
        self.assertIn(
            administrator.post("/t/station/r/1/edit", data=forged).status_code,
            (302, 409),
        )
        self.assertEqual(self.rows("SELECT id FROM station ORDER BY id"), [(1,), (2,)])
        self.assertEqual(reader.post("/t/station/r/1/edit", data=data).status_code, 403)

    def test_methods_that_are_disguised(self) -> None:
        client = self.client("viewer")
        for headers in (
            {"X-HTTP-Method-Override": "DELETE"},
            {"X-Method-Override": "POST"},
        ):
            answer = client.get("/t/station/r/1/delete", headers=headers)
            self.assertEqual(answer.status_code, 403)
        for method in ("PUT", "PATCH", "DELETE", "TRACE"):
            answer = client.open(
                "/t/station/r/1", method=method, data={"_method": "DELETE"}
            )
            self.assertEqual(answer.status_code, 405)
        self.assertEqual(self.rows("SELECT count(*) FROM station"), [(2,)])

    def test_requests_that_are_too_large(self) -> None:
        client = self.administrator()
        data = self.form_data(client, "/t/station/r/1/edit")
        huge = client.post(
            "/t/station/r/1/edit", data=data | {"remarks": "x" * 3_000_000}
        )
        self.assertEqual(huge.status_code, 413)
        many = client.post("/t/station/r/1/edit", data={f"f{n}": "x" for n in range(5_000)},
                           content_type="multipart/form-data")  # fmt: skip
        self.assertEqual(many.status_code, 413)
        self.assertLess(client.get("/t/station?sort=" + "x" * 50_000).status_code, 500)

    def test_hosts_that_are_forged(self) -> None:
        client = self.administrator()
        for host in (
            "elsewhere.example",
            "localhost.elsewhere.example",
            "localhost@elsewhere.example",
        ):
            answer = client.get("/users", headers={"Host": host})
            self.assertEqual(answer.status_code, 400, host)
            self.assertNotIn(b"elsewhere", answer.data)
        forwarded = client.get(
            "/t/station", headers={"X-Forwarded-Host": "elsewhere.example"}
        )
        self.assertNotIn(b"elsewhere", forwarded.data)

    def test_guessing_names_and_passwords(self) -> None:
        self.client("administrator")
        throttle = sys.modules[f"{self.app.name}.kit.accounts.throttle"]
        # a slow machine takes longer for the hashes than the first waits last
        frozen = mock.patch.object(throttle, "now", return_value=throttle.now())
        self.enterContext(frozen)
        told = set()
        for name in ("administrator", "nobody"):
            client = self.app.test_client()
            codes = []
            for _ in range(6):
                answer = client.post(
                    "/sign-in", data={"name": name, "password": "wrong"}
                )
                codes.append(answer.status_code)
                words = re.search(r'role="alert">([^<]+)', answer.text)[1]
                told.add(re.sub(r"\d+", "some", words))  # seconds that have passed
            self.assertEqual(codes, [422] * 4 + [429] * 2)
            self.assertGreater(int(answer.headers["Retry-After"]), 0)
        self.assertEqual(
            len(told), 2, "the same words whether there is such a user or not"
        )
        users = self.app.extensions["users"]
        with users.store.writing() as connection:
            connection.exec_driver_sql("DELETE FROM sign_in_failure")

    def test_faults_tell_nothing(self) -> None:
        client = self.administrator()
        pages = type(self.app.extensions["site"].registry["station"])

        def broken(*_: Any) -> None:
            raise RuntimeError("secret words in /a/path")

        with (
            mock.patch.object(pages, "templates", broken),
            self.assertLogs(level="ERROR") as logged,
        ):
            answer = client.get("/t/station")
        self.assertEqual(answer.status_code, 500)
        for word in ("secret words", "Traceback", "INSERT", "/a/path"):
            self.assertNotIn(word, answer.text)
        number = re.search(r"request (\w{8})", answer.text)
        assert number is not None
        self.assertIn(number[1], logged.output[0])

    def test_headers_are_on_every_answer(self) -> None:
        client = self.administrator()
        for page in (*self.pages(), "/static/theme.css", "/nothing"):
            with client.get(page) as answer:
                for name, value in (("X-Content-Type-Options", "nosniff"), ("X-Frame-Options", "DENY"),
                                    ("Referrer-Policy", "same-origin")):  # fmt: skip
                    self.assertEqual(answer.headers[name], value, page)
                self.assertIn(
                    "frame-ancestors 'none'", answer.headers["Content-Security-Policy"]
                )
                if not page.startswith("/static"):
                    self.assertEqual(answer.headers["Cache-Control"], "no-store")

    def test_every_attack_is_written_down(self) -> None:
        written = set(re.findall(r"`(test_\w+)`", DOCUMENT.read_text(encoding="utf-8")))
        there = {name for name in dir(self) if name.startswith("test_")}
        cases = [Kinds, Related, *(value for module in ELSEWHERE for value in vars(module).values() if isinstance(value, type))]  # fmt: skip
        elsewhere = {name for case in cases for name in dir(case)}
        self.assertEqual(written - there - elsewhere, set(), "rows without a test")
        self.assertEqual(there - written - {"test_every_attack_is_written_down"}, set())
