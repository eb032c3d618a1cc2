"""Understanding check constraints."""

import unittest
from decimal import Decimal

from lumet.expressions.checks import OneOf, Within, read_check

CASES = {
    "kind IN ('a', 'b')": (OneOf("kind", ("a", "b")),),
    "(\"odd name\" in ('a'))": (OneOf("odd name", ("a",)),),
    "x BETWEEN -1 AND 2.5": (Within("x", Decimal(-1), Decimal("2.5")),),
    "x >= 1 AND x <= 40": (
        Within("x", lowest=Decimal(1)),
        Within("x", highest=Decimal(40)),
    ),
    "x >= 1 AND length(y) > 2": (Within("x", lowest=Decimal(1)),),
    # what is not wholly understood is left to the database
    "x > 1": (),
    "x IN (1, 2)": (),
    "x NOT IN ('a')": (),
    "x IN (SELECT y FROM z)": (),
    "x >= 1 OR y >= 1": (),
    "x >= y": (),
    "x BETWEEN 1 AND y": (),
    "lower(x) IN ('a')": (),
    "not sql at all ((": (),
}


class ChecksTest(unittest.TestCase):
    def test_checks_mean_what_they_say(self) -> None:
        for text, expected in CASES.items():
            with self.subTest(text):
                self.assertEqual(read_check(text, "sqlite"), expected)
