"""Conditions and values that people write in SQL: checked, and written out."""

import unittest

from lumet.expressions.conditions import check_expression, written_out
from lumet.expressions.queries import tables_in, value_type, with_rows_marked
from tests.support.builders import database, table

QUAY = table("quay", "id INTEGER #", "name TEXT", "depth DECIMAL(5,2)", key="id")
BERTH = table("berth", "id INTEGER #", "quay_id INTEGER", "open BOOLEAN", key="id")
BOTH = database(QUAY, BERTH)


class ConditionsTest(unittest.TestCase):
    def test_what_holds_and_what_is_wrong(self) -> None:
        cases = {
            "depth > 2": "",
            "name LIKE 'a%' OR depth IS NULL": "",
            "EXISTS (SELECT 1 FROM berth b WHERE b.quay_id = quay.id)": "",
            "depht > 2": "Nearest: depth",
            "EXISTS (SELECT 1 FROM birth)": "Nearest: berth",
            "depth": "not a condition",
            "depth > 2; DROP TABLE quay": "without a semicolon",
            "depth > 2 ORDER BY id": "nothing behind it",
            "depth > 2 -- deep": "no comments",
            "depth >": "no SQL condition",
            "depth = (SELECT id, name FROM quay)": "this one gives 2",
            "depth = (SELECT * FROM quay)": "all of its table's",
            "pg_sleep(9) > 1": "no function",
            "depth > :user_depth": "only columns and constants",
        }
        for text, expected in cases.items():
            found = " ".join(check_expression(text, QUAY, BOTH))
            (self.assertIn if expected else self.assertEqual)(expected, found, text)
        values = check_expression("depth * 2", QUAY, BOTH, is_condition=False)
        self.assertEqual(values, [])

    def test_attributes_are_bound_with_a_cast_of_the_server_s(self) -> None:
        text, types = (
            "depth = :user.depth AND name <> ':user.depth'",
            {"depth": "integer"},
        )
        for server, cast in (
            ("sqlite", "INTEGER"),
            ("postgresql", "bigint"),
            ("mariadb", "SIGNED"),
        ):
            found = written_out(text, server, types)
            self.assertIn(f"depth = CAST(:user_depth AS {cast}) AND", found)
            self.assertEqual(found.count(":user_depth"), 1, "a text stays a text")
        problem = check_expression("depth = :user.deph", QUAY, BOTH, types)
        self.assertIn("Nearest: depth", " ".join(problem))

    def test_values_have_types_and_read_tables_within_reach(self) -> None:
        self.assertEqual(value_type("depth * 2", QUAY, BOTH).kind, "decimal")
        count = "(SELECT count(*) FROM berth b WHERE b.quay_id = quay.id)"
        self.assertEqual(value_type(count, QUAY, BOTH).kind, "integer")
        marked = with_rows_marked(count, BOTH, {"berth", "quay"})
        self.assertIn("{berth}", marked)
        self.assertEqual(
            tables_in("SELECT name FROM quay JOIN berth ON quay_id = quay.id", BOTH),
            ("berth", "quay"),
        )


if __name__ == "__main__":
    unittest.main()
