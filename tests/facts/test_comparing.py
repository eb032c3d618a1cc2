"""Comparing two surveys."""

import unittest
from dataclasses import replace
from typing import Any

from lumet.facts.comparing import compare
from lumet.facts.model import Parameter, Routine, Type
from tests.support.builders import database, reference, table

STATION = (
    "id INTEGER #",
    "name VARCHAR(20) !",
    "tel TEXT",
    "height INTEGER",
    "remark TEXT",
)


def told(before: Any, after: Any) -> list[tuple[str, ...]]:
    return [
        (d.kind, d.what, d.table, d.name, d.before, d.after)
        for d in compare(before, after)
    ]


class ComparingTest(unittest.TestCase):
    def test_the_same_twice_has_no_difference(self) -> None:
        found = database(table("station", *STATION, key="id", unique=("name",)))
        self.assertEqual(compare(found, found), ())

    def test_every_kind_of_difference(self) -> None:
        before = database(
            table("old", "x TEXT"),
            table(
                "station", *STATION, key="id", unique=("name",), checks=("height > 1",),
                references=(reference("tel phone.no"),),
            ),
        )  # fmt: skip
        after = database(
            table("vessel", "id INTEGER #", "tons INTEGER", key="id"),
            table(
                "station", "id INTEGER #", "name VARCHAR(30) !", "phone TEXT", "height INTEGER !",
                "email DATE", key="id+name", unique=("name+phone",), checks=("height > 2",),
                references=(reference("height x.y", "cascade"),),
            ),
        )  # fmt: skip
        self.assertEqual(
            told(before, after),
            [
                ("dropped", "table", "old", "", "", ""),
                ("renamed", "column", "station", "phone", "tel", "phone"),
                ("added", "column", "station", "email", "", "DATE, may be empty"),
                ("dropped", "column", "station", "remark", "TEXT, may be empty", ""),
                ("retyped", "column", "station", "name", "VARCHAR(20)", "VARCHAR(30)"),
                (
                    "changed",
                    "column",
                    "station",
                    "height",
                    "INTEGER, may be empty",
                    "INTEGER, needed",
                ),
                ("changed", "key", "station", "id + name", "id", "id + name"),
                ("added", "reference", "station", "height → x", "", ""),
                ("dropped", "reference", "station", "tel → phone", "", ""),
                ("added", "unique", "station", "name + phone", "", ""),
                ("dropped", "unique", "station", "name", "", ""),
                ("added", "check", "station", "height > 2", "", ""),
                ("dropped", "check", "station", "height > 1", "", ""),
                ("added", "table", "vessel", "", "", ""),
            ],
        )

    def test_procedures_that_came_went_or_changed(self) -> None:
        number = Parameter("p", Type("integer", "int"))
        before = replace(database(), routines=(Routine("count", "function"), Routine("sum", "function")))  # fmt: skip
        after = replace(database(), routines=(Routine("renumber", "procedure"), Routine("sum", "function", (number,))))  # fmt: skip
        self.assertEqual(
            [each[:3] for each in told(before, after)],
            [
                ("dropped", "routine", "count"),
                ("added", "routine", "renumber"),
                ("changed", "routine", "sum"),
            ],
        )

    def test_a_table_under_another_name_is_perhaps_renamed(self) -> None:
        before = database(table("lights", *STATION, key="id"))
        after = database(table("light", *STATION, "extra TEXT", key="id"))
        found = compare(before, after)
        self.assertEqual(
            [(d.kind, d.before, d.name) for d in found],
            [("renamed", "lights", ""), ("added", "", "extra")],
        )
        self.assertGreater(found[0].confidence, 0.8)

    def test_a_rule_that_changed(self) -> None:
        old = database(table("a", "b INTEGER", references=(reference("b c.d"),)))
        new = database(
            table("a", "b INTEGER", references=(reference("b c.d", "cascade"),))
        )
        self.assertEqual(
            told(old, new),
            [("changed", "reference", "a", "b → c", "no rule", "cascade")],
        )
