"""Projects in temporary folders, made from a schema, and applications made from them."""

import importlib
import itertools
import os
import re
import shutil
import sqlite3
import subprocess
import sys
import sysconfig
import tempfile
import unittest
from pathlib import Path
from typing import Any

from argon2 import PasswordHasher

from lumet.design.rewriting import set_plain
from lumet.project.commands import run_generation, run_survey
from lumet.project.generating import GenerationReport
from lumet.project.surveying import TableChoice

COMMAND = Path(sysconfig.get_path("scripts")) / "lumet"
PASSWORD = "only-for-tests-7-lamps"
QUICK = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
_numbers = itertools.count(1)


def run_command(
    *arguments: str | Path, cwd: Path, timeout: float | None = 120, **rest: Any
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
        timeout=timeout,
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


def name_package(folder: Path, package: str) -> None:
    """Decide the package of a project."""
    settings = folder / "lumet.toml"
    settings.write_text(set_plain(settings.read_text(), "package", package))


class ProjectCase(unittest.TestCase):
    """A test with a temporary folder of its own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lumet test ")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def survey(self, script: str, name: str = "coast.db") -> Path:
        """Make a database, survey it into the folder, return the database's path."""
        path = make_database(self.folder / name, script)
        run_survey(self.folder, str(path), accept=lambda other: True)
        return path

    def decide(self, path: str, lines: str) -> None:
        """Put lines at the front of a decision file."""
        target = self.folder / path
        target.write_text(lines + target.read_text())


class ApplicationCase(unittest.TestCase):
    """A test of an application generated from `SCRIPT`, called within this process.

    It is generated once for the class; each test finds the database as it was made.
    """

    SCRIPT = ""
    CHOICE: TableChoice | None = None
    folder: Path
    path: Path
    package: str
    report: GenerationReport
    app: Any

    @classmethod
    def make(cls) -> str:
        """Make the database; return its address."""
        cls.path = make_database(cls.folder / "coast.db", cls.SCRIPT)
        return str(cls.path)

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lumet test ")
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.package = f"coast_{next(_numbers)}"
        run_survey(cls.folder, cls.make(), choice=cls.CHOICE)
        name_package(cls.folder, cls.package)
        cls.decide()
        cls.report = run_generation(cls.folder)
        sys.path.insert(0, str(cls.folder))
        cls.addClassCleanup(cls._forget)
        cls.app = cls.create_app()
        cls.keep_pristine()

    @classmethod
    def decide(cls) -> None:
        """Decide something before the application is generated."""

    @classmethod
    def keep_pristine(cls) -> None:
        """Keep the database as it was made."""
        shutil.copy(cls.path, cls.path.with_suffix(".pristine"))

    def restore(self) -> None:
        """Make the database again as it was."""
        shutil.copy(self.path.with_suffix(".pristine"), self.path)

    def setUp(self) -> None:
        self.app.extensions["site"].database.engine.dispose()
        self.restore()
        self.app.config["WTF_CSRF_ENABLED"] = False

    @classmethod
    def create_app(cls) -> Any:
        """Import the generated package and make its application."""
        importlib.invalidate_caches()
        made = importlib.import_module(cls.package)
        settings = importlib.import_module(f"{cls.package}.kit.common.settings")
        # a user signs in in nearly every test, and a hash costs what it is meant to cost
        passwords = importlib.import_module(f"{cls.package}.kit.accounts.passwords")
        vars(passwords)["_hasher"] = QUICK
        return made.create_app(settings.read_settings(cls.folder))

    @classmethod
    def _forget(cls) -> None:
        sys.path.remove(str(cls.folder))
        for name in [name for name in sys.modules if name.split(".")[0] == cls.package]:
            del sys.modules[name]
        cls.app.extensions["site"].database.engine.dispose()
        cls.app.extensions["users"].store.engine.dispose()

    def client(self, role: str = "administrator") -> Any:
        """Return a client that has signed in with `role`."""
        users = self.app.extensions["users"]
        if all(account.name != role for account in users.accounts()):
            users.add(role, PASSWORD, [role])
        client = self.app.test_client()
        answer = client.post("/sign-in", data={"name": role, "password": PASSWORD})
        self.assertEqual(answer.status_code, 302)
        return client

    def assert_clean(self, with_types: bool = True) -> None:
        """Check the project with the tools of whoever works on it, by its own
        configuration; the code needs no exception, and does not name its maker."""
        tools = [("ruff", "check", "."), ("ruff", "format", "--check", ".")]
        for tool in (*tools, ("mypy",)) if with_types else tools:
            command = [sys.executable, "-m", *tool]
            ran = subprocess.run(
                command, cwd=self.folder, capture_output=True, text=True, check=False
            )
            with self.subTest(tool):
                self.assertEqual(ran.returncode, 0, ran.stdout + ran.stderr)
        for path in (self.folder / self.package).rglob("*.py"):
            if "custom" not in path.parts:
                wrong = r"noqa|(?i:lumet)" if "kit" in path.parts else "noqa"
                self.assertNotRegex(path.read_text(), wrong, str(path))

    def rows(self, query: str) -> list[Any]:
        """Ask the database by a connection of our own."""
        connection = sqlite3.connect(self.path)
        connection.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
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
            kind = given.get("type")
            if tag == "input" and kind == "checkbox":
                if "checked" in given:
                    before = self.values.get(name, "")
                    self.values[name] = f"{before}\n{given['value']}".strip()
            elif tag == "input" and kind != "file":
                if kind != "radio" or "checked" in given:
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
