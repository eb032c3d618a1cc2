"""What docs/how-to.md shows works as it stands there."""

import os
import re
import shlex
import subprocess
from pathlib import Path

from tests.support import capabilities
from tests.support.projects import COMMAND, ProjectCase, make_database
from tests.support.servers import POSTGRESQL, make_server_database, run

PAGE = Path(__file__).parents[2] / "docs/how-to.md"
_BLOCK = re.compile(r"^```(\w+)([^\n]*)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
_COMMAND = re.compile(r"\$ (\w+=\S+ )?lumet (.*)")


class HowToTest(ProjectCase):
    """One project for each part of the page that has a schema."""

    def lumet(self, words: str, status: int, **environment: str) -> None:
        known = {k: v for k, v in os.environ.items() if k not in ("DATABASE_URL", "SECRET_KEY")}  # fmt: skip
        ran = subprocess.run([COMMAND, *shlex.split(words)], cwd=self.folder, env={**known, **environment},
                             capture_output=True, text=True, check=False)  # fmt: skip
        self.assertEqual(ran.returncode, status, f"{words}: {ran.stdout}{ran.stderr}")

    def follow(self, title: str) -> None:
        """Do what a part says, block for block."""
        part = re.split(r"(?m)^## ", PAGE.read_text("utf-8"))
        (text,) = [each for each in part if each.startswith(title)]
        for language, given, body in _BLOCK.findall(text):
            name, _, place = given.strip().partition(" ")
            if language == "console":
                for n, line in enumerate(lines := body.splitlines()):
                    if found := _COMMAND.match(line):
                        after = lines[n + 1] if n + 1 < len(lines) else ""
                        pair = (found[1] or "").strip().partition("=")
                        self.lumet(found[2], int(after == "(status 1)"), **({pair[0]: pair[2]} if pair[0] else {}))  # fmt: skip
            elif name == "schema.sql":
                self.address = str(self.folder / "coast.db")
                if place:
                    self.address = make_server_database(type(self), POSTGRESQL, "lumet_test_how_to", body)  # fmt: skip
                else:
                    make_database(Path(self.address), body)
                self.lumet(f"survey {shlex.quote(self.address)}", 0)
            elif language == "sql" and "/" not in name:
                make_database(self.folder / (place or "coast.db"), body)
            else:
                path = self.folder / name
                path.parent.mkdir(parents=True, exist_ok=True)
                before = path.read_text() if path.exists() else ""
                # keys of the table itself stand before all sections
                path.write_text(before + body if body.startswith("[") else body + before)  # fmt: skip

    def module(self, name: str) -> str:
        (path,) = self.folder.glob(f"*/tables/{name}.py")
        return path.read_text()

    def test_codes_none_renames_and_environments(self) -> None:
        checks: tuple[tuple[str, str, str], ...] = (
            ("Show 0 as none", "light", "NoneAs.of(0, Integer)"),
            ("Use one table for all codes", "light", 'LookupField(_("Colour"), to="light_colour")'),
            ("Follow renamed columns", "keeper", 'phone_no = PhoneField(_("Telephone")'),
            ("Work with several environments", "light", "name ="),
        )  # fmt: skip
        for title, table, wanted in checks:
            with self.subTest(title):
                self.setUp()
                self.follow(title)
                self.assertIn(wanted, self.module(table))

    @capabilities.needs("postgresql")
    def test_a_procedure(self) -> None:
        self.follow("Call a stored procedure")
        self.assertIn("RoutineAction(", self.module("station"))
        run(self.address, ["CALL renumber_lights(1, 7, NULL)"])
