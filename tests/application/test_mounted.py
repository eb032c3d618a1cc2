"""The application as a part of something larger: mounted below a path in another WSGI
application, and behind a proxy that has it below one."""

import re
from dataclasses import replace
from html import unescape
from typing import Any

from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from werkzeug.middleware.dispatcher import DispatcherMiddleware
from werkzeug.test import Client

from tests.support.projects import PASSWORD, ApplicationCase

_ADDRESS = re.compile(r'(?:href|src|action|data-block|data-dates)="([^"]*)"')


def elsewhere(environ: Any, start_response: Any) -> list[bytes]:
    """The other application."""
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [b"elsewhere"]


class MountedTest(ApplicationCase):
    SCRIPT = """
        CREATE TABLE district (code VARCHAR(4) PRIMARY KEY, name TEXT NOT NULL);
        CREATE TABLE light (id INTEGER PRIMARY KEY, name TEXT NOT NULL, lit_since DATE,
          district_code VARCHAR(4) REFERENCES district (code));
        INSERT INTO district VALUES ('N', 'North');
        INSERT INTO light VALUES (1, 'Tall', '2020-01-02', 'N');
    """

    def walk(self, client: Client, prefix: str) -> int:
        """Open every page that others lead to; return how many there are."""
        first = client.get(f"{prefix}/")
        self.assertTrue(first.headers["Location"].startswith(f"{prefix}/sign-in"))
        signed = {"name": "administrator", "password": PASSWORD}
        answer = client.post(f"{prefix}/sign-in", data=signed)
        self.assertEqual(answer.headers["Location"], f"{prefix}/")
        waiting, seen = [f"{prefix}/"], {f"{prefix}/"}
        while waiting:
            address = waiting.pop()
            answer = client.get(address, follow_redirects=True)
            self.assertIn(answer.status_code, (200, 405), address)  # or for POST alone
            if answer.mimetype != "text/html":
                continue
            for found in map(unescape, _ADDRESS.findall(answer.text)):
                if not found.startswith("/"):
                    continue
                self.assertTrue(found.startswith(f"{prefix}/"), f"{address}: {found}")
                path = found.partition("?")[0].partition("#")[0]
                if (
                    path not in seen
                    and "sign-out" not in path
                    and "/forget" not in path
                ):
                    seen.add(path)
                    waiting.append(path)
        return len(seen)

    def test_below_a_path_of_another_application(self) -> None:
        self.client()
        whole = DispatcherMiddleware(elsewhere, {"/coast/lights": self.app})
        client = Client(whole)
        self.assertEqual(client.get("/").text, "elsewhere")
        self.assertGreater(self.walk(client, "/coast/lights"), 25)
        data = {"name": "Low", "id": "2"}
        added = client.post("/coast/lights/t/light/add", data=data)
        self.assertTrue(
            added.headers["Location"].startswith("/coast/lights/t/light/r/2")
        )

    def test_behind_a_prefix_of_a_proxy(self) -> None:
        settings = __import__(self.package).kit.common.settings
        made = __import__(self.package)
        read = replace(settings.read_settings(self.folder), prefix="/lights")
        app = made.create_app(read)
        app.config["WTF_CSRF_ENABLED"] = False
        users = app.extensions["users"]
        if all(each.name != "administrator" for each in users.accounts()):
            users.add("administrator", PASSWORD, ["administrator"])
        # a proxy that passes the path on, and one that takes it off
        self.assertGreater(self.walk(Client(app), "/lights"), 25)
        plain = Client(app).get("/t/light")
        self.assertTrue(plain.headers["Location"].startswith("/lights/sign-in"))
        for wrong in ("lights", "/a b", "//evil.example"):
            with self.assertRaises(Exception) as refused:
                settings.read_settings(self.folder, {"URL_PREFIX": wrong})
            self.assertIn("URL_PREFIX", str(refused.exception))

    def test_translations_of_your_own(self) -> None:
        catalogue = Catalog(locale="de")
        catalogue.add("Lights", "Feuer")
        catalogue.add("Sign out", "Abmelden")
        folder = self.folder / self.package / "custom/translations/de/LC_MESSAGES"
        folder.mkdir(parents=True)
        with (folder / "messages.mo").open("wb") as file:
            write_mo(file, catalogue)
        client = self.client()
        client.post("/profile", data={"language": "de"})
        page = client.get("/t/light").text
        self.assertIn("<h1>Feuer</h1>", page)
        self.assertIn("Abmelden", page)
        self.assertIn('<html lang="de"', page)
