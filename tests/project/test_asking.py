"""What the command asks for on a real terminal, and what it never shows."""

import os
from typing import Any

import pexpect

from lumet.project.commands import run_generation
from tests.support.capabilities import needs
from tests.support.projects import COMMAND, ProjectCase, make_database
from tests.support.servers import MARIADB, POSTGRESQL, make_server_database, run

NAME = "lumet_test_asking"
SCRIPT = """
CREATE SCHEMA isles;
CREATE TABLE isles.station (id int PRIMARY KEY, name text);
CREATE TABLE isles.light (id int PRIMARY KEY, station_id int REFERENCES isles.station);
CREATE TABLE district (code text PRIMARY KEY);
DROP ROLE IF EXISTS lumet_test_asked;
CREATE ROLE lumet_test_asked LOGIN PASSWORD 'sesame/@7';
GRANT USAGE ON SCHEMA isles TO lumet_test_asked;
GRANT SELECT ON ALL TABLES IN SCHEMA isles TO lumet_test_asked"""


class TerminalCase(ProjectCase):
    def terminal(self, *arguments: str) -> Any:
        environment = {k: v for k, v in os.environ.items() if k != "DATABASE_URL"}
        child = pexpect.spawn(
            str(COMMAND),
            ["survey", *arguments],
            cwd=str(self.folder),
            env=environment | {"COLUMNS": "80", "TERM": "xterm"},
            encoding="utf-8",
            timeout=30,
        )
        self.addCleanup(child.close)
        return child

    def answer(self, child: Any, question: str, text: str) -> None:
        child.expect(question)
        child.sendline(text)


@needs("postgresql")
class AskingTest(TerminalCase):
    @classmethod
    def setUpClass(cls) -> None:
        drop = ["DROP ROLE IF EXISTS lumet_test_asked"]
        cls.addClassCleanup(run, POSTGRESQL, drop)
        make_server_database(cls, POSTGRESQL, NAME, SCRIPT)

    def test_everything_is_asked_for_tried_and_chosen(self) -> None:
        child = self.terminal()
        for question, text in (
            ("Kind", "oracle"),  # the possible ones are named, and it is asked again
            ("There is no oracle: sqlite, postgresql, mariadb", "postgresql"),
            ("Host", "nowhere.invalid"), ("Port", ""), ("User", "u"), ("Password", "sesame"),
            ("the host does not exist", ""),
            ("Port", ""), ("User", "lumet_test_asked"), ("Password", "sesame/@7"),
            (f"PostgreSQL at 127.0.0.1 answers. Databases: .*{NAME}", "asking"),
            ("There is no asking", NAME),
            ("Schemas with tables: isles, public", "isles, reefs"),
            ("There is no reefs", "isles"),
            ("2 tables and views: isles.light, isles.station", "li*"),
        ):  # fmt: skip
            self.answer(child, question, text)
        child.expect("Next:")
        child.expect(pexpect.EOF)
        self.assertIn('schemas = ["isles"]', (self.folder / "lumet.toml").read_text())
        self.assertIn("sesame%2F%407", (self.folder / ".env").read_text())
        for path in self.folder.rglob("*"):
            if path.is_file() and path.name != ".env":
                self.assertNotIn("sesame", path.read_text(), path)
        again = self.terminal()  # it is not asked again, nor for the schema
        again.expect("the schema is the same")


@needs("mariadb")
class PasswordTest(TerminalCase):
    def test_a_password_is_asked_for_and_not_shown(self) -> None:
        drop = "DROP USER IF EXISTS lumet_test_asked@'127.0.0.1', lumet_test_asked@localhost"
        self.addClassCleanup(run, MARIADB, [drop])
        both = "lumet_test_asked@'127.0.0.1', lumet_test_asked@localhost"
        script = (
            f"CREATE TABLE station (id int PRIMARY KEY);\n{drop};\n"
            "CREATE USER lumet_test_asked@'127.0.0.1' IDENTIFIED BY 'sesame',"
            " lumet_test_asked@localhost IDENTIFIED BY 'sesame';\n"
            f"GRANT SELECT ON {NAME}.* TO {both}"
        )
        address = make_server_database(type(self), MARIADB, NAME, script)
        child = self.terminal(address.replace("root@", "lumet_test_asked@"))
        self.answer(child, "Password", "sesame")
        child.expect("1 table")
        said = str(child.before) + child.read()
        self.assertNotIn("sesame", said)
        self.assertIn("sesame", (self.folder / ".env").read_text())


class RenamedTest(TerminalCase):
    def setUp(self) -> None:
        super().setUp()
        table = "CREATE TABLE keeper (id INTEGER PRIMARY KEY, name TEXT NOT NULL, tel TEXT);"
        path = self.survey(table)
        lines = 'title = "{name}, {tel}"\n[field.tel]\nlabel = "Telephone at home"\n'
        self.decide("design/tables/keeper.toml", lines)
        make_database(path, "ALTER TABLE keeper RENAME COLUMN tel TO phone;")

    def test_a_renaming_is_asked_about_and_followed(self) -> None:
        question = "keeper.tel → phone .*renamed"
        for answer in ("", "n"):
            refused = self.terminal()
            refused.expect("no longer apply")
            self.answer(refused, question, answer)
            refused.expect(pexpect.EOF)
            self.assertIn(
                "[field.tel]", (self.folder / "design/tables/keeper.toml").read_text()
            )
        self.assertNotRegex(self.terminal().read(), question)

    def test_what_is_confirmed_is_listed(self) -> None:
        child = self.terminal()
        self.answer(child, "keeper.tel → phone .*renamed", "y")
        child.expect("your lines were changed:")
        child.expect('keeper.toml:3  title = "{name}, {phone}"')
        child.expect(r"keeper.toml:5  \[field.phone\]")
        child.expect(pexpect.EOF)
        text = (self.folder / "design/tables/keeper.toml").read_text()
        self.assertIn('[field.phone]\nlabel = "Telephone at home"', text)
        self.assertNotIn("field.tel", text)
        run_generation(self.folder)
