"""Previews and checks: what would change, why, and nothing is written."""

import json

from tests.project.test_command import SCRIPT, CommandCase
from tests.support.projects import make_database


class PreviewTest(CommandCase):
    def setUp(self) -> None:
        super().setUp()
        make_database(self.folder / "coast.db", SCRIPT)

    def unchanged(self, *arguments: str, expect: int = 1) -> str:
        before = self.snapshot()
        said = self.lumet(*arguments, expect=expect)
        self.assertEqual(self.snapshot(), before)
        return said

    def test_the_first_run_shows_tables_and_roles(self) -> None:
        said = self.unchanged("survey", "coast.db", "--preview")
        self.assertRegex(said, r"new +design/tables/light.toml")
        self.assertNotIn("SECRET_KEY", said)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["coast.db"])
        self.lumet("survey", "coast.db")
        said = self.unchanged("generate", "--preview")
        self.assertIn("  Lights: list, add, edit, delete", said)
        self.assertIn("  Administrator: everything; manages users", said)

    def test_later_runs_show_each_difference_with_its_reason(self) -> None:
        self.lumet("survey", "coast.db")
        self.lumet("generate")
        self.assertIn("Nothing would change.", self.unchanged("generate", "--preview", expect=0))  # fmt: skip
        self.decide("design/tables/light.toml", 'plural = "Lanterns"\n')
        self.decide("access.toml", "[role.viewer]\nshare_views = true\n")
        found = json.loads(self.unchanged("generate", "--preview", "--json"))["changes"]
        self.assertEqual(
            {each["path"]: (each["change"], each["reason"]) for each in found},
            {
                "coast/access.py": ("changed", "access.toml changed"),
                "coast/tables/light.py": (
                    "changed",
                    "design/tables/light.toml changed",
                ),
            },
        )
        self.assertIn(
            '+    singular, plural = _("Light"), _("Lanterns")', found[1]["diff"]
        )
        self.lumet("generate")
        make_database(self.folder / "coast.db", "ALTER TABLE light ADD height INTEGER;")
        said = self.unchanged("survey", "--preview")
        self.assertIn("+ light.height", said)
        self.assertIn('+#~ label = "Height"', said)
        self.lumet("survey")
        said = self.unchanged("generate", "--preview")
        self.assertIn("coast/tables/light.py   design/tables/light.toml changed, the database\'s light changed", said)  # fmt: skip
        self.lumet("generate", "--json", expect=2)

    def test_the_check_finds_what_does_not_fit(self) -> None:
        self.lumet("survey", "coast.db")
        self.lumet("generate")
        found = json.loads(self.unchanged("check", "--json", expect=0))
        self.assertEqual(found, {"clean": True, "database": [], "decisions": [],
                                 "generated": [], "conflicts": [], "renames": []})  # fmt: skip
        module = self.folder / "coast/tables/light.py"
        module.write_text(module.read_text().replace('_("Lights")', '_("Lamps")'))
        self.decide("design/tables/light.toml", 'plural = "Lanterns"\n')
        self.lumet("generate", expect=1)
        self.decide("design/tables/station.toml", 'plural = "Posts"\n')
        make_database(
            self.folder / "coast.db", "ALTER TABLE light RENAME colour TO hue;"
        )
        said = self.unchanged("check")
        for words in (
            "perhaps colour renamed",
            "coast/tables/station.py   design/tables/station.toml changed",
            "coast/tables/light.py:",
        ):
            self.assertIn(words, said)
        self.lumet("survey")
        found = json.loads(self.unchanged("check", "--json"))
        self.assertEqual(found["renames"][0]["old"], "colour")
        self.decide("design/tables/light.toml", 'titel = "x"\n')
        said = self.unchanged("check", "--no-database")
        self.assertIn("design/tables/light.toml:1: titel", said)
        (self.folder / "coast.db").unlink()
        self.assertIn("coast.db", self.unchanged("check", expect=3))
