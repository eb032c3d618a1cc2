"""Following a renamed column: only what names it changes, and only a person's lines."""

import unittest

from lumet.design.renaming import FileKind, Renamed, follow
from lumet.expressions.renaming import Names, rename_in_sql
from lumet.facts.model import Database, Table
from tests.support.builders import column, reference

KEEPER = ("id INTEGER", "name TEXT", "phone_no TEXT", "hotel TEXT")


def database(phone: str = "phone_no") -> Database:
    columns = tuple(column(each.replace("phone_no", phone)) for each in KEEPER)
    light = tuple(
        column(each) for each in ("id INTEGER", "keeper_id INTEGER", "tel TEXT")
    )
    found = (reference("keeper_id keeper.id"),)
    tables = (
        Table("keeper", "table", columns, ("id",)),
        Table("light", "table", light, ("id",), references=found),
    )
    return Database("sqlite", "3", tables)


TEXT = """# tel stays in a comment
title = "{name} ({tel})"   # the tel
where = "tel IS NOT NULL AND hotel <> 'tel.'"
[list]
columns = ["tel", 'name', "hotel"]
order = ["-tel"]
column_widths = { record-title = 90, tel = 120, "hotel" = 70 }
[sections]
"tel" = ["tel", "name"]
[field.tel]  #~
#~ label = "Tel"
help = "tel, with its code"
[field.hotel]  #~
#~ label = "tel"
[field.supervisor_tel]
references = "keeper.tel"
[details]
keeper = { by = "tel", label = "tel" }
[transitions.tel]
tel = { from = ["tel"], to = "tel", where = "tel > 'tel'", fields = ["tel", "name"] }
[actions.tel]
call = "tel"
parameters = { tel = "{tel}", word = "tel" }
"""
EXPECTED = """# tel stays in a comment
title = "{name} ({phone_no})"   # the tel
where = "phone_no IS NOT NULL AND hotel <> 'tel.'"
[list]
columns = ["phone_no", 'name', "hotel"]
order = ["-phone_no"]
column_widths = { record-title = 90, phone_no = 120, "hotel" = 70 }
[sections]
"tel" = ["phone_no", "name"]
[field.phone_no]  #~
#~ label = "Tel"
help = "tel, with its code"
[field.hotel]  #~
#~ label = "tel"
[field.supervisor_tel]
references = "keeper.phone_no"
[details]
keeper = { by = "phone_no", label = "tel" }
[transitions.phone_no]
tel = { from = ["tel"], to = "tel", where = "phone_no > 'tel'", fields = ["phone_no", "name"] }
[actions.tel]
call = "tel"
parameters = { tel = "{phone_no}", word = "tel" }
"""


class FollowTest(unittest.TestCase):
    def test_only_what_names_the_column_changes(self) -> None:
        renamed = Renamed("keeper", "tel", "phone_no")
        text, changed = follow(TEXT, renamed, database(), "keeper")
        self.assertEqual(text, EXPECTED)
        self.assertEqual(
            [line.line for line in changed], [2, 3, 5, 6, 7, 9, 10, 16, 18, 19, 20, 23]
        )
        self.assertEqual(
            follow(EXPECTED, renamed, database(), "keeper"), (EXPECTED, [])
        )

    def test_files_of_others_and_patterns(self) -> None:
        renamed = Renamed("keeper", "tel", "phone")
        other = 'title = "{tel}"\n[details]\nkeeper = { by = ["tel"] }\n'
        text, _ = follow(other, renamed, database("phone"), "station")
        self.assertEqual(text, other.replace('["tel"]', '["phone"]'))
        pattern = (
            '[field."keeper.tel"]\nhidden = true\n[field."*.tel"]\nhidden = false\n'
        )
        text, _ = follow(pattern, renamed, database("phone"), kind=FileKind.PATTERNS)
        self.assertEqual(text, pattern.replace("keeper.tel", "keeper.phone"))

    def test_sql_follows_by_what_its_names_mean(self) -> None:
        column = Names("keeper", "tel", "phone", False, database("phone"))
        table = Names("guardian", "keeper", "guardian", True, Database("sqlite", "3", (
            Table("guardian", "table", database().table("keeper").columns, ("id",)), database().table("light"))))  # fmt: skip
        inner = "(SELECT count(*) FROM light WHERE tel = {} AND light.tel = 'tel')"
        for names, over, text, expected in (
            (column, "keeper", "tel > '' AND name = :user.tel", "phone > '' AND name = :user.tel"),
            (column, "keeper", inner.format("keeper.tel"), inner.format("keeper.phone")),
            (column, "light", "tel > ''", "tel > ''"),
            (column, "light", "EXISTS (SELECT 1 FROM keeper k WHERE k.tel = light.tel)", "EXISTS (SELECT 1 FROM keeper k WHERE k.phone = light.tel)"),
            (column, "keeper", '"tel" IS NOT', '"tel" IS NOT'),
            (column, "", "SELECT k.tel FROM keeper k", "SELECT k.phone AS tel FROM keeper k"),
            (table, "light", "EXISTS (SELECT 1 FROM keeper WHERE keeper.id = keeper_id)", "EXISTS (SELECT 1 FROM guardian WHERE guardian.id = keeper_id)"),
            (table, "guardian", "keeper.name > ''", "guardian.name > ''"),
        ):  # fmt: skip
            self.assertEqual(rename_in_sql(text, names, over), expected)
