"""survey.json: a round trip, its schema, and nothing in it that may not be."""

import json
import unittest
from pathlib import Path

from docs.build import survey_schema
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from lumet.evidence.model import ColumnProfile
from lumet.facts.model import Check, Column, Database, Default, Index, Table, Type
from lumet.inference.engine import infer, infer_access
from lumet.project.surveyfile import Survey, read_survey, to_inferred, write_survey
from tests.support.builders import database, evidence, reference, table
from tests.support.projects import ProjectCase

SCHEMA = Path(__file__).parent.parent.parent / "docs" / "survey.schema.json"
STATION = table(
    "station", "id INTEGER #", "name TEXT !", "kind TEXT =lit", key="id", unique=("name",),
    checks=("kind IN ('lit', 'dark')",), references=(reference("kind kinds.name", "cascade"),),
)  # fmt: skip


def made(found: Database) -> Survey:
    rows = evidence(90, station={"name": ColumnProfile(0.1, 0.5, values=("a",))})
    inferred = infer(found, rows)
    return Survey(
        found,
        rows,
        rules=1,
        tables={name: to_inferred(entries) for name, entries in inferred.items()},
        access=to_inferred(infer_access(inferred)),
    )


class SurveyFileTest(ProjectCase):
    def test_the_schema_is_current_and_every_survey_fits_it(self) -> None:
        kept = json.loads(SCHEMA.read_text(encoding="utf-8"))
        self.assertEqual(kept, survey_schema(), "python docs/build.py")
        Draft202012Validator.check_schema(kept)
        text = write_survey(made(database(STATION)))
        errors = list(Draft202012Validator(kept).iter_errors(json.loads(text)))
        self.assertEqual(errors, [])
        wrong = json.loads(text) | {"password": "x"}
        self.assertTrue(list(Draft202012Validator(kept).iter_errors(wrong)))

    def test_facts_come_back_as_they_were(self) -> None:
        self.check(made(database(STATION, table("v w", "x", view=True))))

    def check(self, survey: Survey) -> None:
        (self.folder / "survey.json").write_text(write_survey(survey), encoding="utf-8")
        back = read_survey(self.folder)
        self.assertEqual(back.database, survey.database)
        self.assertEqual(back.evidence, survey.evidence)
        self.assertEqual(write_survey(back), write_survey(survey))


NAMES = st.text(min_size=1, max_size=63).filter(lambda text: text.isprintable())


class RoundTripTest(unittest.TestCase):
    @settings(deadline=None)
    @given(st.lists(NAMES, min_size=1, max_size=4, unique=True), NAMES)
    def test_any_name_survives(self, names: list[str], other: str) -> None:
        columns = tuple(
            Column(
                n,
                Type("text", other, values=(n,)),
                default=Default(other, True),
                comment=n,
            )
            for n in names
        )
        one = Table(
            other, "table", columns, primary_key=(names[0],), comment=other,
            checks=(Check(other, names[0]),), indexes=(Index(other, tuple(names)),),
        )  # fmt: skip
        survey = Survey(Database("sqlite", "3", (one,), (other,)), evidence(), rules=1)
        folder = ProjectCase()
        folder.setUp()
        try:
            (folder.folder / "survey.json").write_text(
                write_survey(survey), encoding="utf-8"
            )
            self.assertEqual(read_survey(folder.folder).database, survey.database)
        finally:
            folder.doCleanups()
