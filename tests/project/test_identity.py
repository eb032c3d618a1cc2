"""Projects that go on: under another name of the database, on another database, with
files missing, and from an earlier version."""

import shutil
import sqlite3
import tarfile
from pathlib import Path

from tests.project.test_command import CommandCase
from tests.support.projects import make_database

FIXTURE = Path(__file__).parent.parent / "fixtures" / "harbour-1.tar.xz"
OTHER = "CREATE TABLE visit (id INTEGER PRIMARY KEY); CREATE TABLE a (id INTEGER PRIMARY KEY); CREATE TABLE b (id INTEGER PRIMARY KEY);"


class IdentityTest(CommandCase):
    """The fixture is a project as the version before wrote it: with a decision, an
    edit in a table's module and one in a template, own code, and an open conflict."""

    def setUp(self) -> None:
        super().setUp()
        with tarfile.open(FIXTURE) as archive:
            archive.extractall(self.folder, filter="data")
        self.folder = self.folder / "harbour"

    def text(self, path: str) -> str:
        return (self.folder / path).read_text()

    def test_a_project_of_the_version_before_goes_on(self) -> None:
        own = self.text("harbour/custom/station.py")
        said = self.lumet("generate", expect=1)
        self.assertIn("harbour/tables/visit.py:43", said)
        module = self.text("harbour/tables/visit.py")
        for mine in ('_("Wind, Beaufort")', '_("Visit"), _("Rounds")'):
            self.assertIn(mine, module)
        self.assertIn(
            "{{ pages.plural }} ", self.text("harbour/kit/templates/print.html")
        )
        self.assertEqual(self.text("harbour/custom/station.py"), own)
        self.assertIn('+    singular, plural = _("Visit"), _("Inspections")', self.text("harbour/tables/visit.py.conflict"))  # fmt: skip
        (self.folder / "harbour/tables/visit.py.conflict").unlink()
        self.assertIn("settled      1", self.lumet("generate"))
        self.lumet("survey")
        self.assertNotIn("written", self.lumet("generate"))

    def test_the_package_stays_whatever_the_database_is_called(self) -> None:
        shutil.copy(self.folder / "harbour.db", self.folder / "staging-copy.db")
        self.lumet("survey", "staging-copy.db")
        self.assertIn(
            '\nname = "Harbour"\npackage = "harbour"\n', self.text("lumet.toml")
        )
        self.lumet("generate", expect=1)
        self.assertEqual(
            [p.name for p in self.folder.glob("staging*")], ["staging-copy.db"]
        )
        self.assertEqual(
            self.text(".gitattributes"), ".lumet/** -diff linguist-generated\n"
        )

    def test_another_database_is_refused_unless_it_is_meant(self) -> None:
        make_database(self.folder / "other.db", OTHER)
        before = self.snapshot()
        said = self.lumet("survey", "other.db", expect=2)
        self.assertIn("1 of its 3 tables is known", said)
        self.assertIn("--other-database", said)
        self.assertEqual(self.snapshot(), before)
        self.lumet("survey", "other.db", "--other-database")
        self.assertIn('package = "harbour"', self.text("lumet.toml"))
        with sqlite3.connect(self.folder / "harbour.db") as connection:
            for number in range(9):
                connection.execute(
                    f"CREATE TABLE new_{number} (id INTEGER PRIMARY KEY)"
                )
        self.assertIn("known", self.lumet("survey", "harbour.db", expect=2))

    def test_settings_and_access_rules_are_not_made_up_anew(self) -> None:
        for name in ("access.toml", "lumet.toml"):
            kept = self.text(name)
            (self.folder / name).unlink()
            for command in ("survey", "generate"):
                self.assertIn(f"{name} is missing", self.lumet(command, expect=2))
            (self.folder / name).write_text(kept)

    def test_a_table_that_is_not_chosen_is_not_called_dropped(self) -> None:
        said = self.lumet("survey", "--tables", "district")
        self.assertRegex(said, r"- station +not chosen; your file is kept")
        self.assertNotIn("dropped", said)
