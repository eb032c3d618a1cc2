"""The generated application: what its pages do, on a real database."""

import re
import sqlite3
import threading
from typing import Any

from tests.support.projects import ApplicationCase, read_form

SCRIPT = """
CREATE TABLE district (code TEXT PRIMARY KEY NOT NULL, name VARCHAR(20) NOT NULL UNIQUE);
CREATE TABLE station (
    id INTEGER PRIMARY KEY,
    name VARCHAR(20) NOT NULL UNIQUE,
    district_code TEXT NOT NULL REFERENCES district,
    state TEXT NOT NULL DEFAULT 'lit' CHECK (state IN ('lit', 'dark')),
    height_m DECIMAL(5,1) CHECK (height_m >= 1 AND height_m <= 90),
    is_manned BOOLEAN,
    first_lit DATE,
    remarks TEXT,
    CHECK (coalesce(remarks, '') <> 'never')
);
CREATE TABLE light (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station,
    name TEXT NOT NULL,
    UNIQUE (station_id, name)
);
CREATE TABLE reading (
    station_id INTEGER NOT NULL REFERENCES station ON DELETE CASCADE,
    taken_at TIMESTAMP NOT NULL,
    volts REAL,
    PRIMARY KEY (station_id, taken_at)
);
CREATE TABLE log (at TEXT, words TEXT);
CREATE VIEW dark AS SELECT name, state FROM station WHERE state = 'dark';
INSERT INTO district VALUES ('NR', 'North Reach'), ('S/F', 'Saltfen');
INSERT INTO station (id, name, district_code, height_m, is_manned, first_lit, remarks) VALUES
    (1, 'Tern Holm', 'NR', 12.5, 1, '1902-05-01', NULL),
    (2, 'Cold Bar', 'S/F', NULL, NULL, 'around 1920', 'Two
lines');
INSERT INTO light VALUES (1, 1, 'Main'), (2, 1, 'Sector');
WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 59)
    INSERT INTO reading SELECT 1, datetime('2026-01-01', '+' || i || ' hours'), i / 4.0 FROM n;
INSERT INTO log VALUES ('long ago', 'Fog.'), (NULL, NULL);
"""


class PagesCase(ApplicationCase):
    SCRIPT = SCRIPT

    def text(self, client: Any, address: str, status: int = 200) -> str:
        answer = client.get(address)
        self.assertEqual(answer.status_code, status, address)
        return answer.get_data(as_text=True)


class ReadingTest(PagesCase):
    def test_references_are_shown_by_title(self) -> None:
        client = self.client()
        page = self.text(client, "/t/station")
        self.assertIn('<a href="/t/district/r/S~2FF">Saltfen</a>', page)
        self.assertNotIn("S/F", page)
        self.assertIn("<h1>Tern Holm · Main</h1>", self.text(client, "/t/light/r/1"))
        self.assertIn("Saltfen", self.text(client, "/t/district/r/S~2FF"))

    def test_the_menu_marks_the_page_that_is_open(self) -> None:
        client = self.client()
        for address, label in (
            ("/t/station", "Stations"),
            ("/users", "Users and roles"),
            ("/roles", "Users and roles"),
            ("/log", "Activity"),
        ):
            with self.subTest(address):
                marked = rf'aria-current="page">(<span>)?{label}<'
                self.assertRegex(self.text(client, address), marked)

    def test_paging_shows_every_row_once_in_both_directions(self) -> None:
        client = self.client()
        for address in (
            "/t/reading",
            "/t/reading?sort=volts",
            "/t/reading?sort=-title",
        ):
            pages = [self.text(client, address)]
            while match := re.search(
                r'href="([^"]*)" aria-label="Next page', pages[-1]
            ):
                pages.append(self.text(client, match[1].replace("&amp;", "&")))
            seen = [
                key
                for page in pages
                for key in re.findall(r"title\" href=\"[^\"]*/r/(1,[^\"]+)\"", page)
            ]
            self.assertEqual((len(seen), len(set(seen)), len(pages)), (60, 60, 3))
            self.assertIn("51–60 of 60", pages[-1])
            back = re.search(r'href="([^"]*)" aria-label="Previous page', pages[-1])
            assert back is not None
            earlier = self.text(client, back[1].replace("&amp;", "&"))
            self.assertEqual(
                re.findall(r"title\" href=\"[^\"]*/r/(1,[^\"]+)\"", earlier),
                seen[25:50],
            )
            last = re.search(r'href="([^"]*)" aria-label="Last page', pages[0])
            assert last is not None
            final = self.text(client, last[1].replace("&amp;", "&"))
            self.assertEqual(
                re.findall(r"title\" href=\"[^\"]*/r/(1,[^\"]+)\"", final), seen[-25:]
            )

    def test_a_wrong_address_is_not_found_and_a_wrong_place_is_the_start(self) -> None:
        client = self.client()
        for address in (
            "/t/nothing",
            "/t/station/r/99",
            "/t/station/r/x",
            "/t/station/r/01",
            "/t/reading/r/1",
            "/t/log/r/1",
            "/t/station/r/1,2",
        ):
            with self.subTest(address):
                self.assertIn("Not found", self.text(client, address, 404))
        for word in (
            "after=zzz",
            "after=",
            "before=W10",
            "n=x",
            "skip=-5",
            "sort=remarks",
        ):
            with self.subTest(word):
                self.assertIn(client.get(f"/t/station?{word}").status_code, (200, 302))

    def test_views_and_tables_without_a_key_are_read_only(self) -> None:
        client = self.client()
        for name in ("dark", "log"):
            self.assertIn("read-only", self.text(client, f"/t/{name}"))
            self.assertEqual(client.get(f"/t/{name}/add").status_code, 403)

    def test_a_record_shows_what_refers_to_it(self) -> None:
        page = self.text(self.client(), "/t/station/r/1")
        self.assertIn(
            ">Sector</a>", page, "the title without what the page says already"
        )
        self.assertRegex(page, r"Readings</h2>\s*<span[^>]*>60<")
        self.assertIn(
            "/t/light/add?station_id=1&amp;as-given=station_id&amp;return-to=/t/station/r/1",
            page,
        )

    def test_values_that_do_not_fit_their_type_are_shown_all_the_same(self) -> None:
        self.change(
            "PRAGMA ignore_check_constraints = ON;"
            "UPDATE station SET height_m = 'tall', is_manned = 'perhaps', state = 'gone' WHERE id = 2"
        )
        page = self.text(self.client(), "/t/station/r/2")
        for value in ("tall", "perhaps", "gone", "around 1920"):
            self.assertIn(value, page)
        self.text(self.client(), "/t/station?sort=height_m")


class SavingTest(PagesCase):
    def save(self, data: dict[str, str], key: str = "1", client: Any = None) -> Any:
        return (client or self.client()).post(f"/t/station/r/{key}/edit", data=data)

    def form(self, key: str = "1") -> dict[str, str]:
        return self.form_data(self.client(), f"/t/station/r/{key}/edit")

    def test_a_record_is_added_changed_and_deleted(self) -> None:
        client = self.client()
        data = self.form_data(client, "/t/station/add")
        self.assertEqual(data["state"], "lit", "the column's default")
        data |= {
            "name": " Mew Ledge ",
            "district_code": "NR",
            "height_m": "1 2.5",
            "is_manned": "no",
        }
        answer = client.post("/t/station/add", data=data)
        self.assertEqual((answer.status_code, answer.location), (302, "/t/station/r/3"))
        added = "SELECT name, district_code, state, height_m, is_manned, first_lit FROM station WHERE id = 3"
        self.assertEqual(self.rows(added), [("Mew Ledge", "NR", "lit", 12.5, 0, None)])
        data = self.form("3") | {"name": "Mew Rock", "first_lit": "2026-05-01"}
        self.assertEqual(self.save(data, "3").status_code, 302)
        self.assertEqual(
            self.rows(added), [("Mew Rock", "NR", "lit", 12.5, 0, "2026-05-01")]
        )
        self.assertIn("No other record", self.text(client, "/t/station/r/3/delete"))
        self.assertEqual(client.post("/t/station/r/3/delete").status_code, 302)
        self.assertEqual(self.rows(added), [])

    def test_an_unchanged_form_writes_nothing(self) -> None:
        before = self.rows("SELECT *, typeof(height_m), typeof(first_lit) FROM station")
        for key in ("1", "2"):
            self.assertEqual(self.save(self.form(key), key).status_code, 302)
        self.assertEqual(
            self.rows("SELECT *, typeof(height_m), typeof(first_lit) FROM station"),
            before,
        )

    def test_every_mistake_comes_back_at_its_field_with_all_that_was_typed(
        self,
    ) -> None:
        cases = {
            ("name", ""): "Enter a value.",
            ("name", "x" * 21): "Enter at most 20 characters",
            ("name", "Cold Bar"): "Another station already has this value.",
            ("height_m", "tall"): "Enter a number",
            ("height_m", "1.25"): "Enter at most 1 digit",
            ("height_m", "91"): "Enter a value between 1 and 90",
            ("state", "gone"): "Choose one from the list.",
            ("district_code", "XX"): "Choose one from the list.",
            ("first_lit", "soon"): "Enter a date",
            ("is_manned", "maybe"): "Choose yes or no.",
        }
        before = self.rows("SELECT * FROM station")
        client = self.client()
        for (field, typed), said in cases.items():
            with self.subTest(field, typed=typed):
                data = self.form() | {field: typed, "remarks": "Typed & kept"}
                answer = self.save(data, client=client)
                page = answer.get_data(as_text=True)
                self.assertEqual(answer.status_code, 422)
                about = page.split(f'id="about-{field}"')[1].split("</div>\n</div>")[0]
                self.assertIn(said, about)
                self.assertIn(f'href="#field-{field}"', page)
                self.assertEqual(read_form(page)["remarks"], "Typed & kept")
        self.assertEqual(self.rows("SELECT * FROM station"), before)

    def test_what_only_the_database_refuses_comes_back_in_words(self) -> None:
        answer = self.save(self.form() | {"remarks": "never"})
        page = answer.get_data(as_text=True)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("The database does not allow this", page)
        self.assertEqual(read_form(page)["remarks"], "never")

    def test_composite_uniques_are_checked(self) -> None:
        client = self.client()
        data = self.form_data(client, "/t/light/add?station_id=1") | {"name": "Main"}
        self.assertEqual(data["station_id"], "1")
        page = client.post("/t/light/add", data=data).get_data(as_text=True)
        self.assertIn("Another light already has the same Station, Name.", page)

    def test_no_update_is_lost(self) -> None:
        client = self.client()
        data = self.form()
        self.change("UPDATE station SET name = 'Theirs', height_m = 20 WHERE id = 1")
        mine = data | {"name": "Mine", "remarks": "Mine too"}
        answer = self.save(mine, client=client)
        page = answer.get_data(as_text=True)
        self.assertEqual(answer.status_code, 409)
        self.assertIn("<b>Theirs</b>", page)
        self.assertEqual(
            page.count('value="theirs"'), 1, "only the field that both changed"
        )
        self.assertEqual(
            self.rows("SELECT name, remarks FROM station WHERE id = 1"),
            [("Theirs", None)],
        )
        again = read_form(page)
        self.assertEqual(
            again["height_m"], "20.0", "what only the other changed is taken over"
        )
        self.assertEqual(
            self.save(again | {"take-name": "theirs"}, client=client).status_code, 302
        )
        final = "SELECT name, height_m, remarks FROM station WHERE id = 1"
        self.assertEqual(self.rows(final), [("Theirs", 20, "Mine too")])
        again = read_form(
            self.save(mine | {"name": "Mine 2"}, client=client).get_data(as_text=True)
        )
        self.assertEqual(self.save(again, client=client).status_code, 302)
        self.assertEqual(self.rows(final), [("Mine 2", 20, "Mine too")])

    def test_of_two_that_save_at_once_one_is_told(self) -> None:
        data = self.form()
        clients = [self.client(), self.client("editor")]
        answers: list[int] = []
        threads = [
            threading.Thread(
                target=lambda c=c, n=n: answers.append(
                    self.save(data | {"name": f"By {n}"}, client=c).status_code
                )
            )
            for n, c in enumerate(clients)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(sorted(answers), [302, 409])

    def test_a_record_that_went_meanwhile_is_not_found(self) -> None:
        data = self.form("2")
        self.change("DELETE FROM station WHERE id = 2")
        self.assertEqual(self.save(data, "2").status_code, 404)

    def test_a_busy_database_is_said_and_nothing_is_changed(self) -> None:
        data = self.form() | {"name": "Other"}
        engine = self.app.extensions["site"].database.engine
        with engine.connect() as connection:
            connection.connection.driver_connection.execute("PRAGMA busy_timeout = 50")
        writer = sqlite3.connect(self.path, isolation_level=None)
        self.addCleanup(writer.close)
        writer.execute("BEGIN IMMEDIATE")
        answer = self.save(data)
        self.assertEqual(answer.status_code, 503)
        self.assertIn("try again", answer.get_data(as_text=True))

    def test_deleting_says_first_what_it_would_do(self) -> None:
        client = self.client()
        page = self.text(client, "/t/station/r/1/delete")
        self.assertRegex(page, r"(?s)Prevents deletion.*2 lights")
        self.assertRegex(page.replace("\n", " "), r"(?s)Also deleted.*60 readings")
        self.assertEqual(client.post("/t/station/r/1/delete").status_code, 409)
        self.change("DELETE FROM light")
        self.assertEqual(client.post("/t/station/r/1/delete").status_code, 302)
        self.assertEqual(
            self.rows("SELECT count(*) FROM reading"), [(0,)], "the database's rule"
        )


class LookupTest(PagesCase):
    def test_choices_are_found_by_any_part_of_the_title(self) -> None:
        self.change(
            "".join(
                f"INSERT INTO station (name, district_code) VALUES ('Far {n}%', 'NR');"
                for n in range(80)
            )
        )
        client = self.client()

        def find(search: str) -> list[str]:
            answer = client.get(
                "/t/light/choices/station_id", query_string={"find-what": search}
            )
            return [each["text"] for each in answer.get_json()["found"]]

        self.assertEqual(find("holm"), ["Tern Holm"])
        self.assertEqual(find("79%"), ["Far 79%"])
        self.assertEqual(find("h te"), ["Tern Holm"])
        self.assertEqual(len(find("far")), 20)
        self.assertEqual(find("zzz"), [])
        self.assertEqual(client.get("/t/light/choices/name").status_code, 404)
        page = self.text(client, "/t/light/r/2/edit")
        self.assertIn('data-more="1"', page)
        self.assertRegex(page, '<option value="1"[^>]* selected>Tern Holm</option>')


class SafetyTest(PagesCase):
    def test_roles_are_enforced_on_the_server(self) -> None:
        worker, reader = self.client("editor"), self.client("viewer")
        for client, address, status in (
            (worker, "/t/station/add", 200),
            (worker, "/t/district/add", 403),
            (worker, "/t/district/r/NR/edit", 403),
            (reader, "/t/station/r/1", 200),
            (reader, "/t/station/add", 403),
            (reader, "/t/station/r/1/edit", 403),
            (reader, "/t/station/r/1/delete", 403),
        ):
            with self.subTest(address):
                self.assertEqual(client.get(address).status_code, status)
                if status == 403:
                    self.assertEqual(client.post(address).status_code, 403)
        page = self.text(reader, "/t/station/r/1")
        for word in ("Edit", "Delete", "Add light"):
            self.assertNotIn(f">{word}", page)

    def test_what_may_not_be_viewed_does_not_exist(self) -> None:
        site = self.app.extensions["site"]
        role = type(site.roles["viewer"])
        site.roles["keeper"] = role(
            "keeper",
            "Keeper",
            frozenset({"view", "edit", "delete"}),
            {"district": frozenset(), "light": frozenset()},
        )
        client = self.client("keeper")
        self.assertEqual(client.get("/t/district").status_code, 404)
        self.assertEqual(client.get("/t/district/r/NR").status_code, 404)
        self.assertEqual(
            client.get("/t/station/choices/district_code").status_code, 404
        )
        for address in (
            "/t/station",
            "/t/station/r/1",
            "/t/station/r/1/edit",
            "/t/station?sort=district_code",
        ):
            page = self.text(client, address)
            self.assertNotIn("North Reach", page)
            self.assertNotIn("Districts", page)
        self.assertIn("not visible", self.text(client, "/t/station/r/1"))
        question = self.text(client, "/t/station/r/1/delete")
        self.assertIn("records you may not see", question)
        self.assertNotIn("Sector", question)

    def test_nobody_gets_in_without_signing_in(self) -> None:
        client = self.app.test_client()
        for address in (
            "/",
            "/t/station",
            "/t/station/r/1/edit",
            "/t/light/choices/station_id",
        ):
            answer = client.get(address)
            self.assertEqual(answer.status_code, 302)
            self.assertTrue(answer.location.startswith("/sign-in"))
        self.assertEqual(client.post("/t/station/r/1/delete").status_code, 302)

    def test_forms_without_their_token_are_refused(self) -> None:
        client = self.client()
        self.app.config["WTF_CSRF_ENABLED"] = True
        for address in (
            "/t/station/r/2/delete",
            "/t/station/add",
            "/sign-out",
            "/sign-in",
        ):
            self.assertEqual(
                client.post(address, data={"name": "x"}).status_code, 400, address
            )
        self.assertEqual(self.rows("SELECT count(*) FROM station"), [(2,)])

    def test_pages_are_safe_by_their_headers_and_hold_no_inline_code(self) -> None:
        self.change(
            "UPDATE station SET remarks = '<script>alert(1)</script>' WHERE id = 1"
        )
        client = self.client()
        for address in (
            "/",
            "/t/station",
            "/t/station/r/1",
            "/t/station/r/1/edit",
            "/t/station/r/1/delete",
            "/t/none",
            "/sign-in",
        ):
            answer = client.get(address)
            self.assertIn(
                "default-src 'self'", answer.headers["Content-Security-Policy"]
            )
            self.assertEqual(answer.headers["X-Content-Type-Options"], "nosniff")
            page = answer.get_data(as_text=True)
            self.assertNotRegex(
                page, r"<script(?![^>]* src=)|\son\w+=|\sstyle=|<script>alert"
            )
        cookie = client.get_cookie(f"{self.package}-session")
        self.assertTrue(cookie.http_only and cookie.same_site == "Lax")

    def test_only_addresses_of_its_own_are_gone_back_to(self) -> None:
        client = self.client()
        for wanted in (
            "https://x.example/",
            "//x.example",
            "/\\x.example",
            "/t/..//x",
            "javascript:1",
        ):
            with self.subTest(wanted):
                page = client.get(
                    "/t/station/add", query_string={"return-to": wanted}
                ).get_data(as_text=True)
                self.assertNotIn("x.example", page)
                door = self.app.test_client()
                data = {"name": "administrator", "password": "only-for-tests-7-lamps"}
                answer = door.post("/sign-in", query_string={"next": wanted}, data=data)
                self.assertTrue(answer.location.startswith("/"))
                self.assertNotRegex(answer.location, r"^(//|/\\)")

    def test_a_fault_gets_a_number_and_no_trace(self) -> None:
        self.change("DROP TABLE light")
        with self.assertLogs(level="ERROR") as logged:
            page = self.text(self.client(), "/t/light", 500)
        number = re.search(r"request (\w{8})", page)
        assert number is not None
        self.assertIn(number[1], logged.output[0])
        self.assertNotIn("Traceback", page)
        self.assertNotIn("sqlite", page.lower())

    def test_every_page_takes_a_fixed_number_of_statements(self) -> None:
        from sqlalchemy import event

        client = self.client()
        engine = self.app.extensions["site"].database.engine
        count = [0]

        @event.listens_for(engine, "before_cursor_execute")
        def note(_c: Any, _u: Any, statement: str, *_: Any) -> None:
            count[0] += not statement.startswith("BEGIN")

        self.change(
            "".join(f"INSERT INTO light VALUES ({n}, 1, 'L{n}');" for n in range(3, 40))
        )
        for address, most in (
            ("/t/light", 2),
            ("/t/light?layout=groups&by=station_id", 3),
            ("/t/light?q=l&name.has=l&station_id.is=1&station_id.is=2", 3),
            ("/t/light/export.csv?station_id.is=1", 2),
            ("/t/station/r/1", 5),
            ("/t/light/r/1/edit", 4),
            ("/", 6),  # the titles of what was opened, and each card
        ):
            count[0] = 0
            self.text(client, address)
            with self.subTest(address):
                self.assertLessEqual(count[0], most)
