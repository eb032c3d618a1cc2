"""The application as it is run: its own command, a real server, forms with their tokens,
once behind nginx with https."""

import io
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import unittest
from pathlib import Path
from typing import Any, ClassVar

from PIL import Image

from lumet.browsing.pages import Form
from tests.support.capabilities import needs
from tests.support.projects import COMMAND, ApplicationCase
from tests.support.served import Client, free_port, start, start_nginx, wait_for

PASSWORD = "only-for-tests-7-lamps"
SCRIPT = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, mail TEXT,
    photo BLOB, remarks TEXT);
CREATE TABLE visit (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES station
    ON DELETE CASCADE, line_no INTEGER NOT NULL, note TEXT);
INSERT INTO station (name, mail) VALUES ('Tern Holm', 'tern@example.org'), ('Grey Ness', NULL);
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30000)
INSERT INTO visit (station_id, line_no, note) SELECT 1 + i % 2, i, 'note ' || i FROM n;
"""


class ServedCase(ApplicationCase):
    """A class with an application that is served from a state folder apart."""

    SCRIPT = SCRIPT
    SETTINGS: ClassVar[dict[str, str]] = {}
    port: ClassVar[int]
    said: ClassVar[str]
    process: ClassVar[Any]
    state: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        users = cls.app.extensions["users"]
        for role in ("administrator", "viewer"):
            users.add(role, PASSWORD, [role])
        users.store.engine.dispose()
        cls.state = cls.folder / "state"
        cls.state.mkdir()
        for name in (".env", "accounts.db"):
            shutil.copy(cls.folder / name, cls.state / name)
        shutil.copy(cls.path, cls.state / "coast.db")
        cls.process, cls.port, cls.said = start(
            cls, cls.package, cls.folder, cls.state, **cls.SETTINGS
        )

    def signed(self, role: str = "administrator", **rest: Any) -> Client:
        """Return a client that has signed in."""
        client = Client(self.port, **rest)
        self.assertEqual(client.sign_in(role, PASSWORD).status, 302)
        return client

    def form(self, client: Client, address: str, selector: str = "form[data-record]") -> Form:  # fmt: skip
        found = client.get(address).form(selector)
        assert found is not None
        return found


class ServedTest(ServedCase):
    def test_state_lies_where_it_is_started(self) -> None:
        self.assertIn(f"State in {self.state}", self.said)
        client = self.signed()
        self.assertIn("Tern Holm", client.get("/t/station").text)
        self.assertTrue((self.state / "accounts.db").exists())
        installed = self.folder / "lib" / "site-packages"
        installed.mkdir(parents=True)
        ran = subprocess.run(
            [sys.executable, "-m", self.package, "user", "list"],
            cwd=installed,
            env=os.environ | {"PYTHONPATH": str(self.folder)},
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(ran.returncode, 3)
        self.assertIn("STATE_FOLDER", ran.stderr)
        self.assertEqual(list(installed.iterdir()), [])
        named = subprocess.run(
            [sys.executable, "-m", self.package, "--state", str(self.state), "user", "list"],
            cwd=installed,
            env=os.environ | {"PYTHONPATH": str(self.folder)},
            capture_output=True,
            text=True,
            check=False,
        )  # fmt: skip
        self.assertIn("administrator", named.stdout)

    def test_forms_up_to_their_own_limits_pass_the_token_s_check(self) -> None:
        client = self.signed()
        edit, long = "/t/station/r/2/edit", "x" * 3_000_000
        form = self.form(client, edit)
        image = Image.frombytes("RGB", (1_000, 1_000), os.urandom(3_000_000))
        made = io.BytesIO()
        image.save(made, "PNG")
        answer = client.post_file(edit, form.sent(), "photo", made.getvalue())
        self.assertEqual(answer.status, 302, "a picture of 3 MB")
        form = self.form(client, "/profile", "form")
        self.assertEqual(client.post("/profile", form.sent(language=long)).status, 413)
        forged = form.sent(csrf_token="forged")
        self.assertEqual(client.post("/profile", forged).status, 400)

    def test_downloads_that_nobody_reads_hold_up_no_one(self) -> None:
        client = self.signed()
        waiting = []
        for _number in range(6):
            connection = client.connect()
            cookies = "; ".join(f"{k}={v.value}" for k, v in client.cookies.items())
            connection.request(
                "GET", "/t/visit/export.json", headers={"Cookie": cookies}
            )
            waiting.append(connection)
            self.addCleanup(connection.close)
        began = time.monotonic()
        self.assertEqual(Client(self.port).get("/sign-in").status, 200)
        self.assertLess(time.monotonic() - began, 10)
        answers = [each.getresponse() for each in waiting]
        codes = {answer.status for answer in answers}
        self.assertLessEqual(codes, {200, 503})
        told = [a for a in answers if a.status == 503]
        self.assertTrue(all(a.headers["Retry-After"] for a in told))

    def test_connections_that_say_nothing_hold_up_no_one(self) -> None:
        for _number in range(150):
            idle = socket.create_connection(("127.0.0.1", self.port))
            self.addCleanup(idle.close)
            idle.sendall(b"GET / HTTP/1.1\r\nHost: ")
        self.assertEqual(Client(self.port).get("/sign-in").status, 200)

    def test_addresses_and_headers_beyond_their_limits(self) -> None:
        client = self.signed()
        for address, code in (
            ("/t/station?" + "a=1&" * 600, 400),
            ("/t/station?q=" + "x" * 5_000, 400),
            ("/t/station?q=" + "x" * 20_000, 414),
            ("/t/" + "x" * 3_000, 414),
            ("/t/station?q=%00", 400),
            ("/t/visit?after=" + "W" * 3_000, 302),
        ):
            self.assertEqual(client.get(address).status, code, address[:40])
        client.headers = {"User-Agent": "x" * 5_000}
        self.assertEqual(client.get("/t/station").status, 431)
        client.headers = {"X-Filler": "x" * 40_000}
        self.assertEqual(client.get("/t/station").status, 431)

    def test_a_told_end_ends_it(self) -> None:
        process, port, _said = start(self, self.package, self.folder, self.state)
        process.send_signal(signal.SIGTERM)
        self.assertEqual(process.wait(10), 0)
        with self.assertRaises(OSError):
            socket.create_connection(("127.0.0.1", port)).close()

    def test_the_served_project_ends_with_its_command(self) -> None:
        port = free_port()
        command = [str(COMMAND), "serve", "--port", str(port)]
        process = subprocess.Popen(
            command, cwd=self.folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )  # fmt: skip
        self.addCleanup(process.stdout.close)  # type: ignore[union-attr]
        wait_for(process, "State in")
        process.send_signal(signal.SIGTERM)
        process.wait(20)
        with self.assertRaises(OSError):
            socket.create_connection(("127.0.0.1", port)).close()

    def test_a_locked_store_loses_nothing_that_was_typed(self) -> None:
        import sqlite3

        client = self.signed()
        form = self.form(client, "/t/station/add")
        holder = sqlite3.connect(self.state / "accounts.db", isolation_level=None)
        self.addCleanup(holder.close)
        holder.execute("BEGIN EXCLUSIVE")
        answer = client.post("/t/station/add", form.sent(name="Kelp Rock"))
        holder.execute("ROLLBACK")
        self.assertEqual(answer.status, 503)
        self.assertIn('value="Kelp Rock"', answer.text)
        self.assertIn("Content-Security-Policy", answer.headers)


@needs("nginx")
class BehindNginxTest(ServedCase):
    SETTINGS = {"HTTPS": "1", "PROXY": "127.0.0.1", "TRUSTED_HOSTS": "lights.example"}
    front: ClassVar[int]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.front = start_nginx(cls, cls.state, cls.port)

    def client(self, origin: str, **headers: str) -> Client:  # type: ignore[override]
        return Client(self.front, origin, True, "lights.example", headers=headers)

    def test_each_user_has_an_address(self) -> None:
        for number in range(6):
            forged = {"X-Forwarded-For": f"198.51.100.{number}"}
            tried = self.client("127.0.0.2", **forged).sign_in("viewer", "wrong")
        self.assertEqual(tried.status, 429, "forged addresses make nobody another")
        other = self.client("127.0.0.3")
        self.assertEqual(other.sign_in("viewer", PASSWORD).status, 302)
        cookie = next(v for k, v in other.cookies.items() if k.endswith("session"))
        self.assertTrue(cookie["secure"])
        self.assertTrue(cookie.key.startswith("__Host-"), cookie.key)
        administrator = self.client("127.0.0.4")
        administrator.sign_in("administrator", PASSWORD)
        told = administrator.get("/log").text
        self.assertIn("127.0.0.2", told)
        self.assertIn("127.0.0.3", told)
        self.assertNotIn("198.51.100", told)

    def test_signing_out_leaves_nothing_in_the_browser(self) -> None:
        user = self.client("127.0.0.7")
        user.sign_in("viewer", PASSWORD)
        form = self.form(user, "/", "form[action$='/sign-out']")
        gone = user.post("/sign-out", form.sent())
        self.assertEqual(gone.headers["Clear-Site-Data"], '"cache", "storage"')

    def test_links_are_those_of_the_proxy(self) -> None:
        administrator = self.client("127.0.0.5")
        administrator.sign_in("administrator", PASSWORD)
        form = self.form(administrator, "/users", "form[action$='/users/add']")
        page = administrator.post("/users/add", form.sent(name="ina", role="viewer"))
        self.assertRegex(page.text, r"https://lights\.example/set-password/\S+")

    def test_who_is_no_proxy_is_not_believed(self) -> None:
        told = {"X-Forwarded-For": "198.51.100.9", "X-Forwarded-Proto": "https"}
        direct = Client(self.port, "127.0.0.9", False, "lights.example", headers=told)
        direct.sign_in("nobody-there", "wrong")
        administrator = self.client("127.0.0.6")
        administrator.sign_in("administrator", PASSWORD)
        found = administrator.get("/log?kind=sign-in").text
        self.assertNotIn("198.51.100.9", found)
        self.assertIn("127.0.0.9", found)


if __name__ == "__main__":
    unittest.main()
