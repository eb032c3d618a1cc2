"""The command line by itself: every command explains itself, and every mistake says
what happened and what to do next."""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from typer.testing import CliRunner

from lumet.cli.main import app
from lumet.cli.visible import visible
from tests.support.projects import make_database

COMMANDS = ("demo", "survey", "review", "generate", "serve")


class CommandsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(TemporaryDirectory()))
        make_database(
            self.folder / "coast.db",
            "CREATE TABLE quay (id INTEGER PRIMARY KEY, name TEXT)",
        )

    def invoke(self, *arguments: str) -> tuple[int, str]:
        found = CliRunner().invoke(app, arguments)
        return found.exit_code, found.output

    def test_each_command_says_what_it_does(self) -> None:
        for command in COMMANDS:
            code, text = self.invoke(command, "--help")
            self.assertEqual(code, 0, command)
            self.assertRegex(text, r"(?s)Usage: .*\n\n  [A-Z][^\n]+\.\n", command)

    def test_a_survey_is_reviewed_and_generated(self) -> None:
        project = str(self.folder / "made")
        code, text = self.invoke(
            "survey", str(self.folder / "coast.db"), "--project", project
        )
        self.assertEqual(code, 0, text)
        self.assertIn("1 table", text)
        code, text = self.invoke("review", "quay", "--project", project)
        self.assertEqual(code, 0, text)
        self.assertIn("title", text)
        code, text = self.invoke("generate", "--project", project)
        self.assertEqual(code, 0, text)

    def test_control_characters_of_a_database_are_shown_and_not_sent(self) -> None:
        self.assertNotIn("\x1b", visible("quay\x1b[31m\nnext"))


if __name__ == "__main__":
    unittest.main()
