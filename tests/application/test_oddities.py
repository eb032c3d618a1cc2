"""A database with every name that breaks things: it is surveyed, generated, and used."""

import re
import subprocess
import sys
from typing import Any

from tests.support.projects import ApplicationCase, read_form

SCRIPT = """
CREATE TABLE "order" (
    id INTEGER PRIMARY KEY, "class" TEXT, "def" INTEGER, "metadata" TEXT,
    "data" TEXT NOT NULL, "errors" TEXT, "validate" TEXT, "_hidden" TEXT, "__x" TEXT,
    "process" TEXT, "validate_name" TEXT, "filter_a" TEXT, "meta" TEXT, "self" TEXT,
    "l" TEXT, "csrf_token" TEXT, "return-to" TEXT, "is_new" TEXT, "None" TEXT);
CREATE TABLE "list" (id INTEGER PRIMARY KEY, name TEXT UNIQUE);
CREATE TABLE "metadata" (k TEXT PRIMARY KEY, v TEXT);
CREATE TABLE "Straße/Über ""q"" 'x'" (
    "Schlüssel nr." TEXT PRIMARY KEY, "a b" INTEGER, "a-b" INTEGER, "A_B" INTEGER,
    "a.b" TEXT, "日本" TEXT, "💡" TEXT, "1st" TEXT, "{curly}" TEXT, "back\\slash" TEXT,
    "perc%ent" TEXT, "colon:x" TEXT, "quo'te" TEXT, "quo""te" TEXT);
CREATE TABLE "child of" (
    id INTEGER PRIMARY KEY,
    "parent key" TEXT REFERENCES "Straße/Über ""q"" 'x'" ("Schlüssel nr."),
    "order" INTEGER REFERENCES "order" (id), lst INTEGER REFERENCES list);
CREATE TABLE "a_b" (id INTEGER PRIMARY KEY, x TEXT);
CREATE TABLE "a b" (id INTEGER PRIMARY KEY, x TEXT);
CREATE TABLE "a.b" (id INTEGER PRIMARY KEY, x TEXT);
CREATE TABLE "12" (x TEXT, y TEXT, PRIMARY KEY (x, y)) WITHOUT ROWID;
CREATE TABLE "---" (x TEXT);
CREATE TABLE "Column" (
    id INTEGER PRIMARY KEY, "Column" TEXT, "Table" TEXT, "Integer" TEXT, "required" TEXT,
    "text" TEXT DEFAULT (lower('X')), "decimal" DECIMAL(5,2), "str" TEXT, "_" TEXT);
CREATE TABLE "pages" (id INTEGER PRIMARY KEY, name TEXT, "ref" INTEGER REFERENCES nowhere (id));
CREATE TABLE "__init__" (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE "test" (
    id INTEGER PRIMARY KEY, name TEXT, b BLOB, j JSON, u UUID, g GEOMETRY, d DATE,
    m TIMESTAMP, t TIME, n DECIMAL(6,2), f REAL,
    gen TEXT GENERATED ALWAYS AS (upper(name)));
CREATE VIEW "v w" AS SELECT name, id AS "the id" FROM test;
CREATE VIEW "broken" AS SELECT * FROM gone;
CREATE TABLE only_key (id INTEGER PRIMARY KEY);
CREATE TABLE circle_a (id INTEGER PRIMARY KEY, b_id INTEGER REFERENCES circle_b, day DATE NOT NULL);
CREATE TABLE circle_b (id INTEGER PRIMARY KEY, a_id INTEGER REFERENCES circle_a, day DATE NOT NULL);
CREATE TABLE pair (a TEXT, b TEXT, name TEXT, PRIMARY KEY (a, b));
CREATE TABLE pair_child (
    id INTEGER PRIMARY KEY, a TEXT, b TEXT, note TEXT,
    FOREIGN KEY (a, b) REFERENCES pair (a, b) ON DELETE CASCADE);
INSERT INTO "order" (data) VALUES ('x');
INSERT INTO "Straße/Über ""q"" 'x'" ("Schlüssel nr.", "日本") VALUES
    ('k/1 ä,~''"', '灯'), ('', NULL), ('edit', NULL), ('../..', NULL);
INSERT INTO "child of" VALUES (1, 'k/1 ä,~''"', 1, NULL), (2, '', NULL, NULL);
INSERT INTO "12" VALUES ('', ''), ('a', 'b,c');
INSERT INTO test (name, b, j, g, d, m, t, n, f) VALUES
    ('odd', x'00ff', '{bad', x'01', 'no date', 1234567, '25:99', 'abc', 'inf'),
    ('<b>', x'00', '{}', 'g', '2020-02-30', '2020-01-01T10:00:00.5+02:00', '10:00', 12.345, 1e300);
INSERT INTO test (name) VALUES (CAST(x'ff41' AS TEXT));
INSERT INTO only_key VALUES (1);
INSERT INTO circle_a VALUES (1, NULL, '2026-01-01');
INSERT INTO circle_b VALUES (1, 1, '2026-01-02');
UPDATE circle_a SET b_id = 1;
INSERT INTO pair VALUES ('x', 'y', 'N');
INSERT INTO pair_child VALUES (1, 'x', 'y', 'note');
"""


class OdditiesTest(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "design/patterns.toml"
        path.write_text(path.read_text() + '[field."*.*"]\neditable_key = true\n')
        child = cls.folder / "design/tables/child of.toml"
        lines = '[list]\ncolumns = ["parent key", "order"]\n'
        child.write_text(f'title = "Child of {{id}}"\n{child.read_text()}\n{lines}')

    def test_every_page_opens_and_every_form_saves_unchanged(self) -> None:
        client = self.client()
        before = list(self.dump())
        pages = self.app.extensions["site"].registry.pages
        self.assertEqual(len(pages), 20)
        # SQLite changes nothing in a table that refers to one that is not there
        self.assertFalse(pages["pages"].offers("add"))
        for name in pages:
            listed = self.open(client, f"/t/{name}")
            if pages[name].offers("add"):
                self.open(client, f"/t/{name}/add")
            for key in re.findall(rf'href="/t/{name}/r/([^/"]+)"', listed):
                changes = [
                    f"/{each}"
                    for each in ("edit", "delete")
                    if pages[name].offers(each)
                ]
                for suffix in ("", *changes):
                    page = self.open(client, f"/t/{name}/r/{key}{suffix}")
                    if suffix == "/edit":
                        answer = client.post(
                            f"/t/{name}/r/{key}/edit", data=read_form(page)
                        )
                        with self.subTest(name, key=key):
                            self.assertEqual(answer.status_code, 302)
            for heading in re.findall(r'href="([^"]*\?sort=[^"]*)"', listed):
                self.open(client, heading)
        self.assertEqual(list(self.dump()), before)

    def open(self, client: Any, address: str) -> str:
        answer = client.get(address)
        with self.subTest(address):
            self.assertEqual(answer.status_code, 200)
        return str(answer.get_data(as_text=True))

    def dump(self) -> Any:
        for name in ("order", "test", "child of", "12", "pair", "Column"):
            yield self.rows(f'SELECT * FROM "{name}"')

    def test_each_odd_column_can_be_entered(self) -> None:
        client = self.client()
        data = {
            key: "x" for key in self.form_data(client, "/t/order/add") if "-" not in key
        }
        data |= {"def_": "7"}
        answer = client.post("/t/order/add", data=data)
        self.assertEqual(answer.status_code, 302, answer.get_data(as_text=True)[-3000:])
        # a column called csrf_token is hidden like any other token
        row = self.rows('SELECT * FROM "order" WHERE id = 2')[0]
        self.assertEqual(row, (2, "x", 7, *["x"] * 12, None, *["x"] * 3))

    def test_records_with_odd_keys_are_reached(self) -> None:
        client = self.client()
        page = self.open(client, "/t/child_of")
        links = re.findall(r'href="(/t/stra[^"]*)"', page)
        self.assertIn("/t/strasse_uber_q_x/r/~", links)
        for link in links:
            self.open(client, link)
        self.assertIn("Child 1</a>", self.open(client, "/t/pair/r/x,y"))
        edited = self.form_data(client, "/t/n12/r/a,b~2Cc/edit") | {"y": "d/e"}
        answer = client.post("/t/n12/r/a,b~2Cc/edit", data=edited)
        self.assertEqual(answer.location, "/t/n12/r/a,d~2Fe")

    def test_what_was_generated_is_clean_to_a_stranger_s_tools(self) -> None:
        self.assert_clean()

    def test_the_application_s_own_tests_pass_and_it_needs_nothing_else(self) -> None:
        """Run its tests where importing Lumet fails."""
        block = "import sys; sys.modules['lumet'] = None; import unittest; unittest.main(module='tests.test_application')"
        ran = subprocess.run(
            [sys.executable, "-c", block],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertIn("Ran 2 tests", ran.stderr)
