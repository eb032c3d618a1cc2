"""What a person decides and cannot be, projects from elsewhere, and hostile names: said
with file and line, or left out with the reason; nothing is written elsewhere."""

import json
import shutil
import subprocess
import sys
from hashlib import sha256
from typing import Any

from lumet.errors import LumetError
from lumet.project.commands import run_generation, run_survey
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase, ProjectCase, run_command
from tests.support.servers import POSTGRESQL, make_server_database, run

SCRIPT = """
CREATE TABLE depot (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, opened DATE, district_no INTEGER);
CREATE TABLE crane (id INTEGER PRIMARY KEY, code TEXT NOT NULL, name TEXT NOT NULL, kind TEXT,
    depot_id INTEGER REFERENCES depot, changed_by INTEGER, token TEXT UNIQUE);
INSERT INTO depot VALUES (1, 'North', NULL, 1);
INSERT INTO crane VALUES (1, 'C1', 'Great', 'a', 1, NULL, 'SECRET1'), (2, 'C1', 'Small', 'b', 1, NULL, 'SECRET2');
"""


class DecisionsTest(ProjectCase):
    def refusal(self, file: str, lines: str) -> str:
        path = self.folder / file
        before = path.read_text()
        path.write_text(before + "\n" + lines + "\n")
        try:
            with self.assertRaises(LumetError) as refused:
                run_generation(self.folder)
        finally:
            path.write_text(before)
        return str(refused.exception)

    def test_what_would_be_an_error_page_is_refused_before(self) -> None:
        self.survey(SCRIPT)
        crane, depot = "design/tables/crane.toml", "design/tables/depot.toml"
        front = "design/front.toml"
        cases = (
            (crane, '[field.load]\nformula = "(SELECT name, id FROM depot)"', "one column"),
            (crane, '[field.load]\nformula = "(SELECT * FROM depot LIMIT 1)"', "one column"),
            (crane, '[field.load]\nformula = "(name, code)"', "One value is wanted"),
            (depot, '[field.opened]\nreferences = "crane.id"', "cannot be compared"),
            (crane, '[field.changed_by]\nautomatic = "changed by"', "another type"),
            ("design/patterns.toml", '[field."*.changed_by"]\nautomatic = "changed by"', "crane.changed_by"),
            (crane, "[field.name]\nhidden = true", "no record could be added"),
            (crane, "[field.name]\nread_only = true", "no record could be added"),
            ("design/patterns.toml", '[field."*.name"]\nhidden = true', "no record could be added"),
            (crane, '[field.name]\nreferences = "crane.code"', "Several records of crane have the same code"),
            (crane, '[transitions.name]\nlift = { from = ["a"], to = "b" }', "name is no choice"),
            (crane, '[transitions.nam]\nlift = { from = ["a"], to = "b" }', "has no column"),
            (crane, '[field.code]\nkind = "choice"\nchoices = ["C1"]\n[transitions.code]\nlift = { from = ["C1"], to = "C2" }', "code has no value"),
            (crane, '[field.code]\nkind = "choice"\nchoices = ["C1"]\n[transitions.code]\nlift = { from = ["C1"], to = "C1", roles = ["edtor"] }', "Nearest: editor"),
            (crane, '[transitions.code]\nlift = { form = ["C1"], to = "C1" }', "Write a transition as"),
            (crane, '[transitions.code]\nlift = { from = "C1", to = "C1" }', "takes a list of texts"),
            (crane, '[transitions.code]\nlift = { from = ["C1"], to = "C1", where = "nothing = 1" }', "nothing"),
            (crane, "[field.depot_id]\nrequired = 7", "true or false"),
            *((front, f"[cards]\n{card}", said) for card, said in (
                ('x = "bars"', "A card is written x = "),
                ('x = { kind = "pie" }', "There is no kind of card \"pie\""),
                ('x = { kind = "bars", table = "crane" }', "needs the column of its groups"),
                ('x = { kind = "bars", table = "cranes", by = "kind" }', "Nearest: crane."),
                ('x = { kind = "bars", table = "crane", by = "knd" }', "Nearest: kind."),
                ('x = { kind = "bars", table = "crane", by = "name" }', "makes no groups"),
                ('x = { kind = "line", table = "crane", by = "depot_id" }', "is no date"),
                ('x = { kind = "number", table = "crane", sum = "name" }', "no number that can be added up"),
                ('x = { kind = "number", table = "crane", average = "depot_id" }', "no number that can be added up"),
                ('x = { kind = "bars", table = "crane", by = "kind", sum = "load", average = "load" }', "not both"),
                ('x = { kind = "shares", table = "crane", by = "kind", average = "load" }', 'of kind "shares" has no average'),
                ('x = { kind = "number", table = "crane", by = "kind" }', "has no by"),
                ('x = { kind = "number", table = "crane", filter = "kind.si=a" }', "There is no filter \"si\""),
                ('x = { kind = "number", table = "crane", filter = "knd.is=a" }', "Nearest: kind."),
                ('x = { kind = "number", table = "crane", filter = "kind" }', "A filter is the query of a list"),
                ('x = { kind = "number", table = "crane", roles = ["boss"] }', "There is no role \"boss\""),
                ('x = { kind = "number", tabel = "crane" }', "Nearest: table."),
            )),
            (front, "[card]\nx = 1", "Nearest: cards."),
            ("access.toml", '[user]\ndistrict = "text"\n[role.editor.rows]\ndepot = "district_no = :user.district"', "of the type text"),
        )  # fmt: skip
        for file, lines, words in cases:
            with self.subTest(lines):
                said = self.refusal(file, lines)
                self.assertIn(words, said)
                self.assertRegex(said, r"\.toml:\d+: ")
        title = self.folder / crane
        title.write_text('title = "{token}"\n' + title.read_text())
        with self.assertRaises(LumetError) as refused:
            run_generation(self.folder)
        self.assertIn("which is hidden", str(refused.exception))


class KeyTest(ApplicationCase):
    """A key that was declared by hand and that two records share; hidden columns."""

    SCRIPT = SCRIPT.replace("id INTEGER PRIMARY KEY, code", "id INTEGER, code")

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "design/tables/crane.toml"
        path.write_text('key = ["code"]\n' + path.read_text())

    def test_one_delete_is_never_two(self) -> None:
        client = self.client()
        before = self.rows("SELECT * FROM crane ORDER BY id")
        answer = client.post("/t/crane/r/C1/delete")
        self.assertEqual(answer.status_code, 409)
        self.assertIn("Several cranes have this key", answer.text)
        form = self.form_data(client, "/t/crane/r/C1/edit")
        saved = client.post("/t/crane/r/C1/edit", data=form | {"name": "Greater"})
        self.assertEqual(saved.status_code, 422)
        self.assertIn("Several cranes have this key", saved.text)
        self.assertEqual(self.rows("SELECT * FROM crane ORDER BY id"), before)
        self.assertNotIn("Greater", client.get("/log").text)


class ElsewhereTest(ProjectCase):
    """A project folder with crafted files changes nothing outside itself."""

    def test_paths_that_lead_out_of_the_project(self) -> None:
        self.survey(SCRIPT)
        run_generation(self.folder)
        outside = self.folder.parent / f"{self.folder.name} victim.txt"
        self.addCleanup(outside.unlink, missing_ok=True)
        link = self.folder / "out"
        link.symlink_to(self.folder.parent)
        state = self.folder / ".lumet"
        kept = (state / "written.json").read_text()
        for name in (
            f"../{outside.name}",
            str(outside),
            f"out/{outside.name}",
            f"design/../../{outside.name}",
        ):
            with self.subTest(name):
                outside.write_text("precious")
                staging = state / "staging"
                staging.mkdir(exist_ok=True)
                (staging / "0").write_text("crafted")
                (staging / "plan.json").write_text(json.dumps([[name, True]]))
                self.assertIn("outside the project", self.run_refused("survey"))
                (staging / "plan.json").write_text(json.dumps([[name, False]]))
                self.assertIn("outside the project", self.run_refused("generate"))
                shutil.rmtree(staging)
                made = json.loads(kept)
                made["files"][name] = sha256(b"precious").hexdigest()
                (state / "written.json").write_text(json.dumps(made))
                self.assertIn("outside the project", self.run_refused("generate"))
                (state / "written.json").write_text(kept)
                self.assertEqual(outside.read_text(), "precious")

    def run_refused(self, command: str) -> str:
        ran = run_command(command, cwd=self.folder)
        self.assertNotEqual(ran.returncode, 0)
        self.assertNotIn("Traceback", ran.stderr)
        return " ".join(ran.stderr.split())


@needs("postgresql")
class SuperuserTest(ProjectCase):
    """A view's functions are not run with a superuser's rights."""

    def test_views_are_not_read_by_a_superuser(self) -> None:
        address = make_server_database(
            type(self), POSTGRESQL, "lumet_test_superuser",
            "CREATE TABLE mark (n int);\n"
            "CREATE TABLE harbour (id int PRIMARY KEY, name text);\n"
            "INSERT INTO harbour SELECT n, 'H' || n FROM generate_series(1, 50) n;\n"
            "CREATE FUNCTION noting() RETURNS int LANGUAGE plpgsql VOLATILE AS $$ BEGIN"
            " PERFORM dblink('dbname=lumet_test_superuser', 'INSERT INTO mark VALUES (1)');"
            " RETURN 1; END $$;\n"
            "CREATE EXTENSION IF NOT EXISTS dblink;\n"
            "CREATE VIEW trap AS SELECT name, noting() AS n FROM harbour;\n",
        )  # fmt: skip
        report = run_survey(self.folder, address)
        self.assertEqual(report.unread, ("trap",))
        self.assertEqual(report.unanalysed, ("harbour",))
        from tests.support.servers import connect

        engine = connect(address)
        with engine.connect() as connection:
            found = connection.exec_driver_sql("SELECT count(*) FROM mark").scalar()
        engine.dispose()
        self.assertEqual(found, 0)
        said = run_command("survey", address, cwd=self.folder).stdout
        self.assertIn("Ask for: ANALYZE;", " ".join(said.split()))
        self.assertIn("superuser", said)
        run(address, ["ANALYZE"])
        self.assertEqual(run_survey(self.folder, address).unanalysed, ())


class NamesTest(ApplicationCase):
    """Tables and columns named like whatever a generated module uses."""

    @classmethod
    def make(cls) -> str:
        from lumet.generation.names import FIELD_NAMES, MODULE_NAMES

        names = sorted({*FIELD_NAMES, *MODULE_NAMES, "check_rules", "longest_bytes"})
        columns = ", ".join(
            f'"{name}" TEXT' for name in names if name not in ("csrf_token", "id")
        )
        tables = [
            "longest_bytes",
            "decimal",
            "required",
            "text",
            "metadata",
            "field",
            "rules",
        ]
        script = [f"CREATE TABLE wide (id INTEGER PRIMARY KEY, {columns});"]
        script += [f'CREATE TABLE "{t}" (id INTEGER PRIMARY KEY, name TEXT NOT NULL, "{t}" TEXT);' for t in tables]  # fmt: skip
        cls.SCRIPT = "\n".join(script)
        return str(super().make())

    def test_every_name_can_be_used(self) -> None:
        from wtforms import Form

        client = self.client()
        for name, pages in self.app.extensions["site"].registry.pages.items():
            data = self.form_data(client, f"/t/{name}/add")
            typed = {key: "7" for key in data if key in pages.fields}
            answer = client.post(f"/t/{name}/add", data=data | typed)
            self.assertEqual(answer.status_code, 302, (name, answer.text[-600:]))
            self.assertEqual(client.get(answer.location).status_code, 200)
        self.assertTrue(set(self.rows("SELECT * FROM wide")[0][1:]) <= {"7"})
        from lumet.generation.names import FIELD_NAMES

        own = {
            name for name in dir(Form) if name.islower() and not name.startswith("_")
        }
        self.assertLessEqual(own, FIELD_NAMES, "all that a form has is reserved")

    def test_it_passes_a_stranger_s_tools(self) -> None:
        ran = subprocess.run(
            [sys.executable, "-m", "compileall", "-q", str(self.folder / self.package)],
            check=False,
        )
        self.assertEqual(ran.returncode, 0)


HOSTILE = (
    'quo"te', "it's", '"""', "new\nline", "\x1b[31mred\x1b[0m", "line\u2028sep", "n" * 300,
    "../up", "per%cent", "..", "class", "{{ 7*7 }}", "[table]", "a.b", "tab\tbed", "back\\slash",
)  # fmt: skip


class HostileTest(ApplicationCase):
    """A database whose names and comments are hostile is surveyed, generated and used."""

    @classmethod
    def make(cls) -> str:
        made = []
        for number, name in enumerate(HOSTILE):
            quoted = name.replace('"', '""')
            made.append(
                f'CREATE TABLE "{quoted}" (id INTEGER PRIMARY KEY, name TEXT NOT NULL,'
                f' "{quoted} c" TEXT, above INTEGER REFERENCES "{quoted}");'
                f"INSERT INTO \"{quoted}\" VALUES (1, 'one {number}', '{{{{ 7*7 }}}}', NULL);"
            )
        cls.SCRIPT = "\n".join(made)
        return str(super().make())

    def test_all_of_it_is_used_and_nothing_else_is_touched(self) -> None:
        beside = [
            p.name for p in self.folder.parent.iterdir() if p.name.startswith("up")
        ]
        self.assertEqual(beside, [])
        client = self.client()
        pages = self.app.extensions["site"].registry.pages
        self.assertEqual(len(pages), len(HOSTILE))
        for name in pages:
            answer = client.get(f"/t/{name}")
            self.assertEqual(answer.status_code, 200, name)
            self.assertNotIn(">49<", answer.text)
            self.assertEqual(client.get(f"/t/{name}/r/1").status_code, 200)
            data = self.form_data(client, f"/t/{name}/r/1/edit")
            saved = client.post(f"/t/{name}/r/1/edit", data=data | {"name": "two"})
            self.assertEqual(saved.status_code, 302)

    def test_the_terminal_shows_control_characters_escaped(self) -> None:
        for command in (
            ("survey",),
            ("review",),
            ("generate",),
            ("review", "--access"),
        ):
            ran: Any = run_command(*command, cwd=self.folder)
            self.assertEqual(ran.returncode, 0, ran.stderr)
            for said in (ran.stdout, ran.stderr):
                odd = {c for c in said if not c.isprintable() and c != "\n"}
                self.assertEqual(odd, set(), command)
