"""Projects in temporary folders, made from a schema, and applications made from them."""

import importlib
import itertools
import os
import re
import sqlite3
import subprocess
import sys
import sysconfig
import tempfile
import unittest
from pathlib import Path
from typing import Any

from lumet.project.commands import run_generation, run_survey
from lumet.project.generating import GenerationReport

COMMAND = Path(sysconfig.get_path("scripts")) / "lumet"
PASSWORD = "only-for-tests-7-lamps"
_numbers = itertools.count(1)


def run_command(
    *arguments: str | Path, cwd: Path, **rest: Any
) -> subprocess.CompletedProcess[str]:
    """Run the installed command as a person would."""
    environment = {
        k: v for k, v in os.environ.items() if k not in ("DATABASE_URL", "SECRET_KEY")
    }
    return subprocess.run(
        [str(COMMAND), *map(str, arguments)],
        cwd=cwd,
        env=environment,
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
        **rest,
    )


def make_database(path: Path, script: str) -> Path:
    """Write a SQLite database from an SQL script."""
    connection = sqlite3.connect(path)
    try:
        connection.executescript(script)
        connection.commit()
    finally:
        connection.close()
    return path


class ProjectCase(unittest.TestCase):
    """A test with a temporary folder of its own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lumet test ")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def survey(self, script: str, name: str = "coast.db") -> Path:
        """Make a database, survey it into the folder, return the database's path."""
        path = make_database(self.folder / name, script)
        run_survey(self.folder, str(path))
        return path

    def decide(self, path: str, lines: str) -> None:
        """Put lines at the front of a decision file."""
        target = self.folder / path
        target.write_text(lines + target.read_text())


class ApplicationCase(ProjectCase):
    """A test of an application generated from `SCRIPT`, called within this process."""

    SCRIPT = ""

    def setUp(self) -> None:
        super().setUp()
        self.package = f"coast_{next(_numbers)}"
        self.path = self.survey(self.SCRIPT)
        self.decide("lumet.toml", f'package = "{self.package}"\n')
        self.report: GenerationReport = run_generation(self.folder)
        sys.path.insert(0, str(self.folder))
        self.addCleanup(self._forget)
        importlib.invalidate_caches()
        self.app = importlib.import_module(self.package).create_app()
        self.app.config["WTF_CSRF_ENABLED"] = False

    def _forget(self) -> None:
        sys.path.remove(str(self.folder))
        for name in [
            name for name in sys.modules if name.split(".")[0] == self.package
        ]:
            del sys.modules[name]
        self.app.extensions["site"].database.engine.dispose()
        self.app.extensions["users"].store._engine.dispose()

    def client(self, role: str = "steward") -> Any:
        """Return a client that has signed in with `role`."""
        users = self.app.extensions["users"]
        if all(account.name != role for account in users.accounts()):
            users.add(role, PASSWORD, [role])
        client = self.app.test_client()
        answer = client.post("/sign-in", data={"name": role, "password": PASSWORD})
        self.assertEqual(answer.status_code, 302)
        return client

    def rows(self, query: str) -> list[Any]:
        """Ask the database by a connection of our own."""
        connection = sqlite3.connect(self.path)
        try:
            return connection.execute(query).fetchall()
        finally:
            connection.close()

    def change(self, statement: str) -> None:
        """Change the database behind the application's back."""
        make_database(self.path, statement)

    def form_data(self, client: Any, address: str) -> dict[str, str]:
        """Return what a browser would send from the form at `address`, unchanged."""
        answer = client.get(address)
        self.assertEqual(answer.status_code, 200, address)
        return read_form(answer.get_data(as_text=True))


def read_form(page: str) -> dict[str, str]:
    """Return the names and values of the controls in a page's record form."""
    from html.parser import HTMLParser

    class Controls(HTMLParser):
        values: dict[str, str] = {}
        area = select = ""

        def handle_starttag(
            self, tag: str, attributes: list[tuple[str, str | None]]
        ) -> None:
            given = {key: value or "" for key, value in attributes}
            name = given.get("name", "")
            if tag == "input" and (given.get("type") != "radio" or "checked" in given):
                self.values[name] = given.get("value", "")
            elif tag == "textarea":
                self.area = name
                self.values[name] = ""
            elif tag == "select":
                self.select = name
                self.values.setdefault(name, "")
            elif tag == "option" and "selected" in given:
                self.values[self.select] = given["value"]

        def handle_data(self, data: str) -> None:
            if self.area:
                self.values[self.area] += data

        def handle_endtag(self, tag: str) -> None:
            if tag == "textarea":
                self.values[self.area] = self.values[self.area].removeprefix("\n")
                self.area = ""

    form = re.search(r"<form[^>]*data-record.*?</form>", page, re.DOTALL)
    parser = Controls()
    parser.values = {}
    parser.feed(form[0] if form else "")
    return parser.values
