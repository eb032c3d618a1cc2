"""Reading decisions: every mistake at once, with file, line and the nearest name."""

import unittest
from typing import Any

from lumet.design.access import decide_access, read_access
from lumet.design.decision_file import Checker, DecisionFile
from lumet.design.decision_schema import (
    EMPTY,
    Detail,
    Entry,
    FieldDecisions,
    ListDecisions,
    PageDecisions,
    TableDecisions,
    keys_of,
)
from lumet.design.reading import (
    check_glossary,
    decide,
    read_patterns,
    read_table_file,
    sections_in_order,
)
from lumet.design.rewriting import rewrite
from lumet.errors import Mistake
from lumet.expressions.conditions import written_out
from tests.support.builders import database, reference, table

STATION = table("station", "id INTEGER #", "name TEXT !", "district TEXT", key="id")
LIGHT = table(
    "light",
    "id INTEGER #",
    "station_id INTEGER !",
    "range_nm REAL",
    key="id",
    references=(reference("station_id station.id"),),
)
BOTH = database(STATION, LIGHT)


OWNERS: dict[Any, tuple[str, ...]] = {
    TableDecisions: (),
    ListDecisions: ("list",),
    PageDecisions: ("record",),
    FieldDecisions: ("field", "name"),
}


def read(text: str, of: Any = STATION) -> tuple[dict[Any, Any], list[Mistake]]:
    mistakes: list[Mistake] = []
    checker = Checker(DecisionFile("design/tables/x.toml", text), mistakes)
    return read_table_file(checker, of, BOTH), mistakes


class MistakesTest(unittest.TestCase):
    def test_each_mistake_has_its_line_and_the_nearest_name(self) -> None:
        cases = {
            "titel = 'x'": "Nearest: title",
            "title = '{nmae}'": "Nearest: name",
            "title = 'no column'": "names columns in braces",
            "[list]\norder = ['-distrct']": "Nearest: district",
            "[list]\ncolumns = 'name'": "takes a list of texts",
            "list = 3": "write [list]",
            "field.nam.label = 'x'": "Nearest: name",
            "[field.name]\nlable = 'x'": "Nearest: label",
            "[field.name]\nkind = 'txt'": "Nearest: text",
            "[field.name]\nkind = 'sting'": "Nearest: text",
            "[field.name]\nkind = 'lookup'": "refers to no table",
            "[field.name]\nhidden = 'yes'": "takes true or false",
            "[field.name]\ncolours = { a = 'good' }": "There is no colour",
            "[details]\nlihgt = { by = 'x' }": "Nearest: light",
            "[details]\nlight = { by = 'station' }": "Nearest: station_id",
            "[details]\nlight = 'station_id'": "Write a detail as { by",
            "singular = ": "This is not TOML",
            "[field.name]\n[field.name]  #~\nhelp = 'x'": 'remove the heading that ends in "#~"',
        }
        for text, said in cases.items():
            with self.subTest(text):
                _, mistakes = read("# top\n" + text)
                self.assertEqual(len(mistakes), 1)
                self.assertIn(said, mistakes[0].problem)
                last = 1 + len(text.split("\n"))
                self.assertEqual(mistakes[0].line, 3 if "#~" in text else last)

    def test_a_value_must_fit_its_column(self) -> None:
        cases = {
            "station_id]\nrequired = false": "takes no NULL",
            "range_nm]\ngenerated = 'max + 1'": "another type",
            "range_nm]\nautomatic = 'created by'": "another type",
            "range_nm]\nkind = 'lookup'": "refers to no table",
            "range_nm]\ndepends_on = ['id']": "cannot follow",
        }
        for text, expected in cases.items():
            own, mistakes = read(f"[field.{text}", LIGHT)
            said = [mistake.problem for mistake in mistakes]
            self.assertEqual((own, len(said)), ({}, 1), text)
            self.assertIn(expected, said[0])

    def test_all_mistakes_come_at_once(self) -> None:
        text = "titel = 'x'\n[list]\norder = ['a', 'b']\n[field.name]\nkind = 1\nhidden = 2\n"
        _, mistakes = read(text)
        self.assertEqual([m.line for m in mistakes], [1, 3, 3, 5, 6])
        self.assertEqual(
            str(mistakes[0]).split("\n")[0], "design/tables/x.toml:1: titel = 'x'"
        )


class TablePatternTest(unittest.TestCase):
    """Decisions about many tables at once hold where a table has the columns."""

    TEXT = """[table."*"]
title = "{name}!"
subtitle = ["district", "nothing"]
[table."*".list]
columns = ["district", "range_nm"]
order = ["-range_nm"]
[table."stat*".details]
"li*" = false
"""

    def decided(self, of: Any, *inferred: Entry) -> TableDecisions:
        mistakes: list[Mistake] = []
        checker = Checker(DecisionFile("design/patterns.toml", self.TEXT), mistakes)
        found = decide(of, inferred, {}, read_patterns(checker))
        self.assertEqual(mistakes, [])
        return found

    def test_what_a_table_lacks_is_left_out(self) -> None:
        block = Entry(
            ("details", "light"), (Detail(table="light", by=("station_id",)),)
        )
        station = self.decided(STATION, block)
        self.assertEqual((station.title, station.subtitle), ("{name}!", ("district",)))
        self.assertEqual(station.list.columns, ("district",))
        self.assertEqual(
            (station.list.order, station.details.get("light", ())), ((), ())
        )
        light = self.decided(LIGHT, Entry(("title",), "{station_id}"))
        self.assertEqual(
            (light.title, light.list.order), ("{station_id}", ("-range_nm",))
        )

    def test_each_mistake_has_its_line(self) -> None:
        for text, said in (
            ('[table."*"]\nlist = 3', "is a section of the pattern"),
            ('[table."*".list]\nlayouts = ["table"]', "[list] has here no key"),
            ('[table."*".details]\nlight = true', "can be hidden: false"),
            ('[table."*"]\nwhere = "1 = 1"', "A table's pattern has no key"),
            ("[glossary]\nstn = 3", "stn takes a text"),
            ('[glossary]\nlight_no = "light"', "not one word of a name"),
            ('[glossary]\nstm = "station"', "has the word stm. Nearest: stn."),
        ):
            mistakes: list[Mistake] = []
            checker = Checker(DecisionFile("design/patterns.toml", text), mistakes)
            read_patterns(checker)
            check_glossary(checker, {"stn", "light", "no"})
            self.assertEqual([m.line for m in mistakes], [2], text)
            self.assertIn(said, mistakes[0].problem)


class DoubledHeadingTest(unittest.TestCase):
    def test_your_own_heading_beside_the_machine_s_is_understood(self) -> None:
        """A person who wants to decide writes a heading without seeing ours."""
        text = "[field.name]\nhelp = 'x'\n\n[field.name]  #~\n#~ label = 'y'\n[list]\ncolumns = 1\n"
        own, mistakes = read(text)
        self.assertEqual(own, {("field", "name", "help"): "x"})
        self.assertEqual([m.line for m in mistakes], [7])
        entries = (Entry(("field", "name", "label"), "Name"),)
        self.assertEqual(
            rewrite(text, entries, ()).text,
            "[field.name]\n#~ label = \"Name\"\nhelp = 'x'\n\n[list]\ncolumns = 1\n",
        )


class DecideTest(unittest.TestCase):
    INFERRED = (
        Entry(("title",), "{id}"),
        Entry(("sections", "Station"), ["name", "district"]),
        Entry(("field", "name", "label"), "Name"),
        Entry(("field", "district", "label"), "District"),
        Entry(("details", "light"), {"by": "station_id"}),
    )

    def test_the_nearer_decision_wins(self) -> None:
        text = "title = '{name}'\n[sections]\nPlace = ['district']\n[field.name]\nlabel = 'Called'\n"
        own, mistakes = read(text)
        self.assertEqual(mistakes, [])
        patterns = {
            "*.name": {"label": "By pattern", "help": "h"},
            "st*.dis*": {"hidden": True},
        }
        made = decide(STATION, self.INFERRED, own, patterns)
        self.assertEqual(made.title, "{name}")
        self.assertEqual(made.field["name"].label, "Called")
        self.assertEqual(made.field["name"].help, "h")
        self.assertTrue(made.field["district"].hidden)
        self.assertEqual(made.sections, {"Station": ("name",), "Place": ("district",)})
        self.assertEqual(
            made.details["light"], (Detail(table="light", by=("station_id",)),)
        )

    def test_sections_keep_the_order_of_their_file(self) -> None:
        text = "[sections]\nPlace = ['district']\n#~ Station = ['name']\n"
        file = DecisionFile("station.toml", text)
        own, mistakes = read(text)
        self.assertEqual(mistakes, [])
        made = decide(STATION, self.INFERRED, own, {}, sections_in_order(file))
        self.assertEqual(list(made.sections), ["Place", "Station"])

    def test_columns_of_your_own_are_all_that_a_list_shows(self) -> None:
        inferred = [*self.INFERRED, Entry(("list", "wide_columns"), ["district"])]
        own, _mistakes = read("list.columns = ['name']")
        self.assertEqual(decide(STATION, inferred, own, {}).list.wide_columns, ())
        self.assertEqual(
            decide(STATION, inferred, {}, {}).list.wide_columns, ("district",)
        )

    def test_false_empties_whatever_was_inferred(self) -> None:
        for owner, section in OWNERS.items():
            for name, key in keys_of(owner).items():
                if not key.takes.can_be_emptied or name == "formula":  # never inferred
                    continue
                with self.subTest(section=section, key=name):
                    place = ".".join(section)
                    own, mistakes = read(
                        f"{f'[{place}]' if place else ''}\n{name} = false"
                    )
                    self.assertEqual(mistakes, [])
                    guess = Entry((*section, name), ["x"], "inferred")
                    made: Any = decide(STATION, [guess], own, {})
                    for part in section:
                        made = (
                            made[part]
                            if isinstance(made, dict)
                            else getattr(made, part)
                        )
                    self.assertEqual(getattr(made, name), EMPTY[name])
                    self.assertNotEqual(EMPTY[name], ("x",))

    def test_a_detail_can_be_decided_away(self) -> None:
        own, mistakes = read("[details]\nlight = false\n")
        self.assertEqual(
            (mistakes, decide(STATION, self.INFERRED, own, {}).details), ([], {})
        )

    def test_patterns_are_checked_too(self) -> None:
        mistakes: list[Mistake] = []
        text = "[field.\"*.x\"]\nhiden = true\n[feild.x]\nlabel = 'y'\n"
        read_patterns(Checker(DecisionFile("design/patterns.toml", text), mistakes))
        self.assertEqual([m.line for m in mistakes], [2, 3])


ACCESS = database(
    table("station", "id INTEGER #", "name TEXT", "district TEXT", key="id"),
    table("light", "id INTEGER #", "station_id INTEGER", "name TEXT", key="id"),
    table("lamp_x", "id INTEGER #", key="id"),
)
GROUPS = {"station": "Records", "light": "Records", "lamp_x": "Reference data"}


class AccessTest(unittest.TestCase):
    READER = (
        Entry(("role", "viewer", "label"), "Reader"),
        Entry(("role", "viewer", "tables", "*"), ["view"]),
    )

    def read(self, text: str) -> tuple[Any, list[Mistake]]:
        mistakes: list[Mistake] = []
        checker = Checker(DecisionFile("access.toml", text), mistakes)
        own = read_access(checker, ACCESS, GROUPS)
        return decide_access(self.READER, own), mistakes

    def test_the_nearest_pattern_decides(self) -> None:
        text = """[role.mate.tables]
"*" = ["view"]
"group:Reference data" = []
"l*" = ["view", "edit"]
light = ["delete"]
"""
        decided, mistakes = self.read(text)
        mate = {role.name: role for role in decided.roles}["mate"]
        self.assertEqual(mistakes, [])
        self.assertEqual(mate.rights_on("light", "Records"), ("delete",))
        self.assertEqual(mate.rights_on("lamp_x", "Reference data"), ("view", "edit"))
        self.assertEqual(mate.rights_on("station", "Reference data"), ())
        self.assertEqual(mate.rights_on("station", "Records"), ("view",))

    def test_a_ready_role_can_be_dropped(self) -> None:
        decided, _ = self.read("role.viewer = false\n[role.mate]\nlabel = 'Mate'\n")
        self.assertEqual([role.name for role in decided.roles], ["mate"])

    def test_conditions_and_limits_are_kept_by_table_and_column(self) -> None:
        text = """[user]
district = "text"
level = "integer"
[role.mate.rows]
station = "district = :user.district"
"group:Records" = "id > :user.level"
[role.mate.changes]
station = "name <> ':user.x' AND EXISTS (SELECT 1 FROM light l WHERE l.station_id = station.id)"
[role.mate.fields]
"*.name" = "read-only"
"station.name" = "set once"
"""
        decided, mistakes = self.read(text)
        self.assertEqual(mistakes, [])
        mate = {role.name: role for role in decided.roles}["mate"]
        self.assertEqual(
            mate.rows_on("station", "Records"), "district = :user.district"
        )
        self.assertEqual(mate.rows_on("light", "Records"), "id > :user.level")
        self.assertEqual(mate.rows_on("lamp_x", "Reference data"), "")
        self.assertEqual(mate.limit_on("station", "name"), "set once")
        self.assertEqual(mate.limit_on("light", "name"), "read-only")
        self.assertEqual(
            written_out(mate.rows_on("station", ""), "postgresql", decided.attributes),
            "district = CAST(:user_district AS text)",
        )
        self.assertIn(
            "name <> '\\:user.x' AND",
            written_out(mate.changes_on("station", ""), "sqlite", decided.attributes),
        )

    def test_wrong_rights_and_patterns_are_reported(self) -> None:
        cases = {
            "[role.a.tables]\nlight = ['veiw']": "Nearest: view",
            "[role.a.tables]\nlihgt = ['view']": "Nearest: light",
            "[role.a.tables]\n'group:Recrods' = []": "Nearest: Records",
            "[role.a]\nmanage_users = 1": "true or false",
            "[rôle]\na = 1".replace("rôle", "roles"): "Nearest: role",
            "[user]\nlevel = 'number'": "no type",
            "[user]\nname = 'text'": "a name of letters",
            "[role.a.rows]\nstation = 'distrct = 1'": "Nearest: district",
            "[role.a.rows]\nstation = 'district = :user.level'": "declare it in [user]",
            "[role.a.rows]\nstation = 'stations.id = 1'": 'No table is called "stations"',
            "[role.a.rows]\nstation = 'id = 1 -- all'": "no comments",
            "[role.a.rows]\nlight = 'true) OR (true'": "no SQL condition",
            "[role.a.rows]\nstation = 'id'": "a value, not a condition",
            "[role.anyone.rows]\nstation = 'district = :user.name'": "is not known here",
            "[role.anyone]\nread_audit_log = true": "signed in",
            "[role.a.fields]\n'station.nam' = 'hidden'": "Nearest: station.name",
            "[role.a.fields]\n'station.name' = 'hiden'": "Nearest: hidden",
            "[role.a.fields]\n'station.id' = 'hidden'": "cannot be hidden",
            "[role.a.fields]\nname = 'hidden'": "Write TABLE.COLUMN",
        }
        for text, said in cases.items():
            with self.subTest(text):
                _, mistakes = self.read(text)
                self.assertEqual(len(mistakes), 1)
                self.assertIn(said, mistakes[0].problem)
