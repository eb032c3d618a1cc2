"""The review: what was decided, why, by whom and where; and the pages made from the code."""

import json
import tomllib
from pathlib import Path

import jsonschema
from docs.build import decisions_schema, documents

from lumet.errors import LumetError, Mistakes
from lumet.project.access_review import review_access
from lumet.project.commands import run_generation, run_survey
from lumet.project.reviewing import as_json, chosen, review
from tests.support.projects import ProjectCase, run_command

SCRIPT = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, phone TEXT, cost DECIMAL(8,2),
    created_at TIMESTAMP);
CREATE TABLE keeper (id INTEGER PRIMARY KEY, first_name TEXT NOT NULL, last_name TEXT NOT NULL);
CREATE TABLE station_keeper (station_id INTEGER NOT NULL REFERENCES station ON DELETE CASCADE,
    keeper_id INTEGER NOT NULL REFERENCES keeper ON DELETE CASCADE, PRIMARY KEY (station_id, keeper_id));
CREATE TABLE visit (id INTEGER PRIMARY KEY, station_id INTEGER, seen_on DATE NOT NULL, remarks TEXT);
CREATE TABLE visit_finding (visit_id INTEGER NOT NULL REFERENCES visit ON DELETE CASCADE, line_no INTEGER,
    what TEXT, PRIMARY KEY (visit_id, line_no));
""" + "".join(
    f"INSERT INTO station VALUES ({n}, 'Holm {n}', NULL, {n}.5, NULL);\n"
    f"INSERT INTO visit VALUES ({n}, {n % 39 + 1}, '2026-01-02', NULL);\n"
    for n in range(1, 41)
)


class ReviewTest(ProjectCase):
    def setUp(self) -> None:
        super().setUp()
        self.survey(SCRIPT)

    def test_a_glossary_explains_names(self) -> None:
        """In labels and what follows from them, at the next generation or survey; it
        comes before what every trade abbreviates."""
        path = self.folder / "design/patterns.toml"
        own = (
            '[glossary]\nvisit = "AtoN tour"\nno = "rank"\nseen = ""\nCost = "price"\n'
        )
        path.write_text(path.read_text() + own)

        def labels() -> dict[str, str]:
            tables = as_json(review(self.folder))["tables"]
            return {
                ".".join((each["table"], *decision["key"])): decision["value"]
                for each in tables
                for decision in each["decisions"]
                if decision["key"][-1] in ("singular", "plural", "label")
            }

        found = labels()
        wanted = {
            "visit.singular": "AtoN tour",
            "visit.plural": "AtoN tours",
            "visit.field.seen_on.label": "On",
            "visit_finding.field.line_no.label": "Line rank",
            "visit_finding.field.visit_id.label": "AtoN tour",
            "station.field.cost.label": "Price",
        }
        self.assertEqual({key: found[key] for key in wanted}, wanted)
        run_survey(self.folder, str(self.folder / "coast.db"))
        self.assertEqual(labels(), found)

    def test_what_programs_read(self) -> None:
        found = as_json(review(self.folder))
        reference = next(r for r in found["references"] if r["table"] == "visit")
        self.assertEqual(
            {k: v for k, v in reference.items() if k not in ("reason", "confidence")},
            {"table": "visit", "columns": ["station_id"], "referred_table": "station",
             "referred_columns": ["id"], "declared": False, "used": True, "orphan_fraction": 0.0},
        )  # fmt: skip
        declared = next(r for r in found["references"] if r["table"] == "visit_finding")
        self.assertEqual((declared["declared"], declared["confidence"]), (True, 1.0))
        titles = {t["table"]: t["columns"] for t in found["titles"]}
        self.assertEqual(titles["keeper"], ["first_name", "last_name"])
        self.assertEqual(titles["station_keeper"], ["station_id", "keeper_id"])
        edits = {(d["table"], d["detail"]): d["edit"] for d in found["details"]}
        self.assertEqual(edits["visit", "visit_finding"], "rows")
        self.assertEqual(edits["station", "visit"], "no")
        (junction,) = found["junctions"]
        self.assertEqual(
            (junction["table"], junction["columns"], junction["pure"]),
            ("station_keeper", ["station_id", "keeper_id"], True),
        )
        ran = run_command("review", "--json", cwd=self.folder)
        self.assertEqual(json.loads(ran.stdout), json.loads(json.dumps(found)))

    def test_the_survey_counts_what_the_review_does(self) -> None:
        script = (
            "CREATE TABLE odd (id INTEGER PRIMARY KEY, tags sting, kind TEXT);"
            + "".join(
                f"INSERT INTO odd VALUES ({n}, NULL, '{'ab'[n % 2]}');"
                for n in range(60)
            )
            + "CREATE TABLE loose (a TEXT NOT NULL, b TEXT);INSERT INTO loose VALUES ('x', 'y');"
        )
        self.survey(script, "odd.db")
        self.decide("design/tables/loose.toml", 'key = ["a"]\n')
        for decided in ("", '[field.tags]\nkind = "text"\n'):
            self.decide("design/tables/odd.toml", decided)
            (self.folder / "survey.json").unlink()  # as if it were the first
            told = run_command("survey", cwd=self.folder).stdout
            doubts = told.partition("check these first:\n")[2].partition("\n\n")[0]
            counted = [
                d
                for t in review(self.folder).tables
                for d in t.decisions
                if d.is_doubtful
            ]
            self.assertEqual(len(doubts.splitlines()), len(counted), doubts)
        self.assertNotIn("no key", told)
        self.assertIn('"a"', (self.folder / "survey.json").read_text())
        run_command("survey", "--private", "odd.k*", cwd=self.folder)
        self.assertNotIn('"a"\n', (self.folder / "survey.json").read_text())

    def test_cards_of_the_first_page_and_of_others(self) -> None:
        path = self.folder / "design/front.toml"
        own = 'dear = { kind = "number", table = "station", sum = "cost" }\nviews = false\n'
        path.write_text(path.read_text() + own)
        (self.folder / "design/pages").mkdir()
        further = self.folder / "design/pages/coast.toml"
        further.write_text('[cards]\nall = { kind = "tables" }\n')
        front, coast = as_json(review(self.folder))["pages"]
        cards = {card["name"]: card for card in front["cards"]}
        self.assertNotIn("views", cards)
        self.assertEqual(cards["recent"]["source"], "inferred")
        dear = cards["dear"]
        self.assertEqual((dear["source"], dear["value"]["sum"]), ("yours", "cost"))
        line = path.read_text().splitlines()[dear["line"] - 1]
        self.assertTrue(line.startswith("dear = "), line)
        self.assertEqual((coast["page"], coast["file"]), ("coast", "design/pages/coast.toml"))  # fmt: skip
        told = run_command("review", cwd=self.folder).stdout
        block = told.partition("First page")[2].partition("\n\n")[0]
        self.assertIn("number sum of cost of station", block)

    def test_who_decided_and_where(self) -> None:
        self.decide("design/tables/station.toml", 'singular = "Light station"\n')
        (self.folder / "design/patterns.toml").write_text(
            '[field."type:decimal*"]\nhelp = "in euro"\n[field."*.created_at"]\nhidden = true\n'
            '[table."*_keeper"]\npages = ["list"]\n'
        )
        table, column = chosen(review(self.folder), "station")
        by_path = {d.path: d for d in table.decisions}
        mine = by_path[("singular",)]
        self.assertEqual(
            (mine.value, mine.source, mine.line), ("Light station", "yours", 1)
        )
        self.assertEqual(
            by_path["field", "cost", "help"].source,
            'pattern "type:decimal*" in design/patterns.toml',
        )
        self.assertEqual(by_path["field", "created_at", "hidden"].value, True)
        file = (self.folder / table.file).read_text().split("\n")
        label = by_path["field", "name", "label"]
        self.assertIn("label", file[label.line - 1])
        self.assertEqual(column, "")
        said = run_command("review", "station.cost", cwd=self.folder).stdout
        self.assertIn('by pattern "type:decimal*" in design/patterns.toml', said)
        self.assertIn("design/tables/station.toml:", said)
        joined, _ = chosen(review(self.folder), "station_keeper")
        self.assertEqual(joined.value("pages"), ("list",))

    def test_a_name_that_is_not_there(self) -> None:
        for place, said in (
            ("visitt", "Nearest: visit"),
            ("visit.remark", "Nearest: remarks"),
        ):
            with self.assertRaisesRegex(LumetError, said):
                chosen(review(self.folder), place)

    def test_a_reference_can_be_denied(self) -> None:
        path = self.folder / "design/tables/visit.toml"
        path.write_text(path.read_text() + "\n[field.station_id]\nreferences = false\n")
        run_survey(self.folder, None)
        found = as_json(review(self.folder))
        self.assertFalse(
            any(r["table"] == "visit" and r["used"] for r in found["references"])
        )
        run_generation(self.folder)
        self.assertNotIn(
            "ForeignKey", (self.folder / "coast/tables/visit.py").read_text()
        )

    def test_a_title_in_a_circle_is_refused(self) -> None:
        self.decide("design/tables/visit.toml", 'title = "{station_id}"\n')
        run_generation(self.folder)
        self.decide(
            "design/tables/station.toml",
            'title = "{phone}"\n[field.phone]\nreferences = "visit.id"\n',
        )
        with self.assertRaises(Mistakes) as caught:
            run_generation(self.folder)
        said = str(caught.exception)
        self.assertIn("refers to itself: station → visit → station", said)
        self.assertIn("design/tables/station.toml:1", said)

    def test_a_form_without_a_needed_column_is_refused(self) -> None:
        self.decide("design/tables/keeper.toml", '[add]\ncolumns = ["first_name"]\n')
        with self.assertRaises(Mistakes) as caught:
            run_generation(self.folder)
        self.assertIn("keeper.toml:2", str(caught.exception))
        self.assertIn(
            "last_name needs a value, and is not on the form", str(caught.exception)
        )

    def test_the_same_database_gives_the_same_decisions(self) -> None:
        files = {p: p.read_bytes() for p in self.folder.rglob("*.toml")}
        again = self.folder / "again"
        run_survey(again, str(self.folder / "coast.db"))
        for path, content in files.items():
            made = again / path.relative_to(self.folder)
            self.assertEqual(made.read_bytes(), content, path.name)


class DocumentsTest(ProjectCase):
    def test_the_pages_made_from_the_code_are_current(self) -> None:
        docs = Path(__file__).parents[2] / "docs"
        for name, text in documents().items():
            kept = (docs / name).read_text(encoding="utf-8")
            self.assertEqual(kept, text, "python docs/build.py")

    def test_every_inferred_decision_fits_the_schema_for_editors(self) -> None:
        self.survey(SCRIPT)
        schema = decisions_schema()
        for path in (self.folder / "design/tables").iterdir():
            plain = path.read_text().replace("#~ ", "").replace("#~", "")
            jsonschema.validate(tomllib.loads(plain), schema)
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate({"field": {"name": {"kind": "lokup"}}}, schema)


class AccessTest(ProjectCase):
    SCRIPT = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL, district TEXT);
CREATE TABLE station_note (station_id INTEGER NOT NULL REFERENCES station ON DELETE CASCADE, line_no INTEGER,
    words TEXT, PRIMARY KEY (station_id, line_no));
CREATE VIEW bright AS SELECT s.name FROM station s;
"""

    def test_rights_are_told_in_words_with_what_changed(self) -> None:
        self.survey(self.SCRIPT)
        self.assertIsNone(review_access(self.folder).changes)
        run_generation(self.folder)
        self.assertEqual(review_access(self.folder).changes, [])
        self.decide(
            "access.toml",
            '[user]\narea = "text"\n[role.viewer.rows]\nstation = "district = :user.area"\n'
            '[role.mate.tables]\n"*" = ["view", "add", "edit", "delete"]\n'
            '[role.mate.fields]\n"station.district" = "hidden"\n',
        )
        found = review_access(self.folder)
        self.assertEqual(
            found.told["mate"]["station"], ["all but export", "hidden: district"]
        )
        changed = [(role, table, new) for role, table, _, new in found.changes or ()]
        self.assertIn(
            (
                "viewer",
                "station",
                ["view, export", "only rows where district = :user.area"],
            ),
            changed,
        )
        self.assertEqual({role for role, _, _ in changed}, {"viewer", "mate"})
        self.assertEqual(
            found.open_views,
            [("viewer", "bright", "station"), ("mate", "bright", "station")],
        )
        self.assertEqual(found.open_details, [("viewer", "station_note", "station")])
        told = run_command("review", "--access", cwd=self.folder)
        self.assertEqual(told.returncode, 0)
        for words in (
            "only rows where",
            "Not in the application yet",
            "Views that bypass a limit",
        ):
            self.assertIn(words, told.stdout)
        self.assertLessEqual(max(map(len, told.stdout.splitlines())), 80)

    def test_a_role_must_be_able_to_enter_what_it_may_add(self) -> None:
        self.survey(self.SCRIPT)
        self.decide(
            "access.toml", '[role.editor.fields]\n"station.name" = "read-only"\n'
        )
        with self.assertRaises(Mistakes) as caught:
            run_generation(self.folder)
        self.assertIn("access.toml:1", str(caught.exception))
        self.assertIn(
            "Editor may add to station, whose name is required", str(caught.exception)
        )
