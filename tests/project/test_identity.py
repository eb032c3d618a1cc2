"""Projects that go on: under another name of the database, on another database, with
files missing, and from an earlier version."""

import shutil
import sqlite3
import tarfile
from pathlib import Path
from typing import Any
from unittest import mock

from lumet.generation import merge_writer
from lumet.project.commands import run_survey
from lumet.project.surveyfile import read_survey
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
        self.lumet("survey")  # newer rules may say more
        self.assertNotIn("conflict", self.lumet("generate"))
        self.assertIn('_("Wind, Beaufort")', self.text("harbour/tables/visit.py"))
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


class RenamedTest(CommandCase):
    """A table and a column of it were renamed; everything of the project names them."""

    SCRIPT = """
        CREATE TABLE keeper (id INTEGER PRIMARY KEY, name TEXT NOT NULL, tel TEXT, left_on DATE);
        CREATE TABLE light (id INTEGER PRIMARY KEY, name TEXT NOT NULL, keeper_id INTEGER REFERENCES keeper (id));
        INSERT INTO keeper VALUES (1, 'Una Brock', '555-1', NULL);
        INSERT INTO light VALUES (1, 'North Reach', 1);
    """
    DECISIONS = {
        "design/tables/keeper.toml": 'where = "tel IS NOT NULL"\n[field.tel]\nrule = "length(tel) > 2"\nmessage = "Too short."\n',
        "design/tables/light.toml": '[field.keeper_id]\nlookup_columns = ["tel"]\nwhere = "tel > \'\'"\n[field.number]\nkind = "integer"\nformula = "(SELECT count(*) FROM keeper k WHERE k.tel = light.name)"\n',
        "design/patterns.toml": '[field."keeper.tel"]\nunit = "line"\n',
        "design/queries/callers.sql": "SELECT keeper.id, keeper.tel FROM keeper\n",
        "design/front.toml": '[cards]\ncallers = { kind = "number", table = "keeper", filter = "tel.filled=1" }\n',
        "design/pages/coast.toml": '[cards.callers]\nkind = "rows"\ntable = "keeper"\nfilter = "tel.has=5&tel.filled=1"\n',
        "access.toml": '[role.viewer.rows]\nkeeper = "tel <> \'\'"\n[role.viewer.fields]\n"keeper.tel" = "read-only"\n',
    }  # fmt: skip

    def rename(self) -> Path:
        """Make the project, edit it, and rename in the database; return the edited
        module."""
        make_database(self.folder / "coast.db", self.SCRIPT)
        self.lumet("survey", "coast.db")
        (self.folder / "design/queries").mkdir()
        (self.folder / "design/queries/callers.sql").touch()
        (self.folder / "design/pages").mkdir()
        (self.folder / "design/pages/coast.toml").touch()
        for path, text in self.DECISIONS.items():
            self.decide(path, text)
        self.lumet("generate")
        module = self.folder / "coast/tables/keeper.py"
        module.write_text(module.read_text().replace('_("Name")', '_("Full name")'))
        (self.folder / "coast/custom/keeper.py").write_text("# by tel\n")
        rename = "ALTER TABLE keeper RENAME COLUMN tel TO phone; ALTER TABLE keeper RENAME TO guardian;"
        make_database(self.folder / "coast.db", rename)
        return module

    def texts(self) -> dict[str, bytes]:
        """Return all files of the project but the database, without their times."""
        files = (
            path
            for path in self.folder.rglob("*")
            if path.suffix not in (".db", ".pyc")
        )
        return {str(path): path.read_bytes() for path in files if path.is_file()}

    def test_a_survey_killed_at_any_write_is_finished_by_the_next(self) -> None:
        """Let the n-th write fail, for every n: answering what is still asked then ends
        in the same files."""
        self.rename()
        start = Path(shutil.copytree(self.folder, self.folder.parent / "start"))
        self.addCleanup(shutil.rmtree, start)
        address, asked = str(self.folder / "coast.db"), {"keeper=guardian", "keeper.tel=phone"}  # fmt: skip
        run_survey(self.folder, address, renamed=sorted(asked))
        wanted = self.texts()
        self.assertGreater(len(wanted), 20)
        writes = 0
        for step in range(200):
            shutil.rmtree(self.folder)
            shutil.copytree(start, self.folder)
            calls = iter(range(1000))

            def fail(real: Any, calls: Any = calls, step: int = step) -> Any:
                def call(*arguments: Any) -> Any:
                    if next(calls) == step:
                        raise KeyboardInterrupt
                    return real(*arguments)

                return call

            with (
                mock.patch.object(Path, "replace", fail(Path.replace)),
                mock.patch.object(merge_writer, "_write", fail(merge_writer._write)),
            ):
                try:
                    run_survey(self.folder, address, renamed=sorted(asked))
                except KeyboardInterrupt:
                    writes += 1
                else:
                    break
            run_survey(self.folder, address)
            left = {f"{q.old}={q.new}" if q.is_table else f"keeper.{q.old}={q.new}"
                    for q in read_survey(self.folder).questions}  # fmt: skip
            self.assertIn(left, (set(), asked), "both or none")
            run_survey(self.folder, address, renamed=sorted(left))
            found = self.texts()
            self.assertEqual(found.keys(), wanted.keys(), step)
            for path, text in found.items():
                self.assertEqual(text, wanted[path], f"{step}: {path}")
        self.assertGreater(writes, 20)

    def test_every_file_follows_and_no_question_is_lost(self) -> None:
        module = self.rename()
        self.lumet("survey", "--renamed", "keeper=light", expect=2)
        for _ in range(2):
            said = self.lumet("survey")
            self.assertIn("lumet survey --renamed keeper=guardian", said)
            self.assertIn("lumet survey --renamed guardian.tel=phone", said)
        before = self.snapshot()
        for wrong in ("keeper=nothing", "guardian.name=phone", "ship=guardian"):  # fmt: skip
            said = self.lumet("survey", "--renamed", wrong, expect=2)
            self.assertIn(f"--renamed {wrong}", said)
        self.assertEqual(self.snapshot(), before)
        said = self.lumet("survey", "--renamed", "keeper=guardian", "--renamed", "keeper.tel=phone")  # fmt: skip
        self.assertIn("coast/custom/keeper.py:1  # by tel", said)
        self.assertIn("design/queries/callers.sql:1  SELECT guardian.id, guardian.phone AS tel", said)  # fmt: skip
        self.assertNotIn("no longer apply", said)
        self.assertNotIn("Renamed?", said)
        self.lumet("generate")
        moved = self.folder / "coast/tables/guardian.py"
        self.assertIn('_("Full name")', moved.read_text())
        self.assertFalse(module.exists())
        self.assertNotIn("survey --renamed", self.lumet("survey"))
        texts = [(self.folder / path).read_text() for path in self.DECISIONS if "keeper" not in path]  # fmt: skip
        texts.append((self.folder / "design/tables/guardian.toml").read_text())
        self.assertFalse((self.folder / "design/tables/keeper.toml").exists())
        for text in texts:
            self.assertNotRegex(text, r"keeper\b(?!_)|(?<!AS )\btel\b")
