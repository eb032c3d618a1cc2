"""Evidence of rows: patterns, formats, value lists, and samples that are bounded."""

import math
import sqlite3
import tempfile
import unittest
from collections import Counter
from decimal import Decimal
from pathlib import Path
from typing import Any

from lumet.evidence.inclusion_dependencies import find_by_values
from lumet.evidence.patterns import find_pattern
from lumet.evidence.profiling import profile_table
from lumet.evidence.sampling import SAMPLE_ROWS, read_samples
from lumet.evidence.storage_format_detection import find_format, without_none
from lumet.evidence.violations import count_orphans
from lumet.facts.connecting import open_for_reading, parse_address
from lumet.facts.reading import read_database
from tests.support.builders import database, table


class PatternsTest(unittest.TestCase):
    def test_each_pattern_and_what_only_looks_like_it(self) -> None:
        cases = {
            "e-mail": ["ada@lights.example", "b.c@x.example", "d@y.example"],
            "web address": ["https://x.example/a", "www.y.example", "http://z.example"],
            "colour": ["#2a6f97", "#fff", "#00000080"],
            "uuid": ["0f8fad5b-d9cb-469f-a165-70867728950e"] * 3,
            "image": ["a.png", "lamps/b.JPEG", "c d.webp"],
            "file": ["plan.pdf", "log 3.csv", "x/y.docx"],
            "json": ['{"a": 1}', "[1, 2]", "{}"],
            "percent": ["12 %", "3.5%", "-1%"],
            "phone": ["+44 1856 870000", "0131/55 66 77", "(020) 7946 0000"],
            "number": ["12", "-3.5", "4"],
            "code": ["LT-01", "LT-02", "A/7"],
            "": ["a lamp", "another one", "no more"],
        }
        for pattern, values in cases.items():
            self.assertEqual(find_pattern(values), pattern, values)
        self.assertEqual(find_pattern(["a@b.example", "c@d.example"]), "", "too few")
        mixed = ["x@y.example"] * 9 + ["nobody"]
        self.assertEqual(find_pattern(mixed), "", "nine of ten are not nearly all")


class FormatsTest(unittest.TestCase):
    def test_dates_and_flags_by_their_values(self) -> None:
        cases: dict[str, list[Any]] = {
            "DD.MM.YYYY": ["24.12.2026", "01.02.2025", "13.05.2024"],
            "YYYYMMDD": ["20261224", "20250201", "20240513"],
            "YYYY-MM-DD hh:mm": ["2026-12-24 08:00", "2025-02-01 23:59", "2024-05-13 00:00"],
            "Y/N": ["Y", "N", "Y", "N"],
            "ja/nein": ["ja", "nein", "ja"],
            "": ["01/02/2025", "03/04/2025", "05/06/2025"],  # of which month?
        }  # fmt: skip
        for name, values in cases.items():
            self.assertEqual(find_format(Counter(values)), name, values)

    def test_zeros_and_nines_stand_for_none_and_what_is_no_number_for_nothing(
        self,
    ) -> None:
        days = [20_261_200 + n for n in range(1, 29)]
        odd = [Decimal("NaN"), Decimal("Infinity")]
        cases: list[tuple[list[Any], tuple[str, str]]] = [
            ([*days, 0, 0, 0, 99_991_231], ("YYYYMMDD", "0")),
            ([*map(str, days), "00000000"], ("YYYYMMDD", "00000000")),
            ([*map(str, days), "99999999", "99999999", "0"], ("YYYYMMDD", "99999999")),
            ([*days, 99_999_999], ("YYYYMMDD", "99999999")),
            ([99_999_999, 99_999_998, 99_999_997, 99_999_996], ("", "")),
            ([odd[0], *map(Decimal, days), Decimal(0)], ("YYYYMMDD", "0")),
            ([*odd, Decimal(0), Decimal("12.5"), *map(Decimal, days[:2])], ("", "")),
            ([math.nan, math.inf, 0.0, 20_261_201.0], ("", "")),
            ([*range(9)], ("", "")),
        ]
        for values, expected in cases:
            self.assertEqual(without_none(Counter(values))[1:], expected, values)


class ProfilesTest(unittest.TestCase):
    def values(self, name: str, *more: str, rows: list[str]) -> tuple[str, ...]:
        made = table("lamp", "id INTEGER #", f"{name} TEXT", key="id", unique=more)
        profile, _ = profile_table(
            made, [[n, r] for n, r in enumerate(rows)], len(rows)
        )
        return profile.columns[name].values

    def test_value_lists_hold_no_person_s_data(self) -> None:
        rows = ["lit", "dark"] * 20
        self.assertEqual(sorted(self.values("state", rows=rows)), ["dark", "lit"])
        for name in ("keeper_name", "contact", "street", "iban"):
            self.assertEqual(self.values(name, rows=rows), (), name)
        self.assertEqual(self.values("state", rows=["lit", "dark", "dim"]), ())
        long = ["a sentence of many words about a lamp that went out", "lit"] * 20
        self.assertEqual(self.values("state", rows=long), ())

    def test_numbers_that_are_none_are_passed_over(self) -> None:
        made = table("gauge", "id INTEGER #", "depth NUMERIC", key="id")
        rows = [[n, Decimal("NaN") if n % 3 else Decimal(n - 9)] for n in range(40)]
        found = profile_table(made, rows, len(rows))[0].columns["depth"]
        self.assertEqual((found.magnitude, found.negative), (100, True))

    def test_a_key_s_texts_propose_what_holds_them(self) -> None:
        codes = [f"ST{n:03d}" for n in range(60)]
        station = table("station", "code TEXT !", "name TEXT", key="code")
        visit = table("visit", "id INTEGER #", "place TEXT", key="id")
        rows = {
            "station": [[code, f"Holm {code}"] for code in codes],
            "visit": [[n, codes[n % 60]] for n in range(200)],
        }
        sketches = {
            each.name: profile_table(each, rows[each.name], len(rows[each.name]))[1]
            for each in (station, visit)
        }
        found = find_by_values(database(station, visit), sketches)
        self.assertEqual(
            [(c.table, c.columns, c.referred_table, c.referred_columns) for c in found],
            [("visit", ("place",), "station", ("code",))],
        )


class SamplesTest(unittest.TestCase):
    def test_samples_are_bounded_repeatable_and_spread(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        with sqlite3.connect(folder / "lamps.db") as raw:
            raw.executescript(
                "CREATE TABLE lamp (id INTEGER PRIMARY KEY, place POINT, station INT);"
                "CREATE TABLE station (id INTEGER PRIMARY KEY); INSERT INTO station VALUES (1);"
                "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 80000)"
                " INSERT INTO lamp SELECT i, 'x', i % 2 + 1 FROM n;"
            )
        engine = open_for_reading(parse_address("lamps.db", folder))
        self.addCleanup(engine.dispose)
        facts = read_database(engine)
        first, _ = read_samples(engine, facts)
        again, _ = read_samples(engine, facts)
        lamp = first.table("lamp")
        self.assertEqual(first, again)
        self.assertEqual(first.cut, ())
        self.assertLessEqual(lamp.sampled, SAMPLE_ROWS)
        self.assertAlmostEqual(lamp.rows, 80_000, delta=8_000)
        station = facts.table("station")
        found = count_orphans(engine, facts.table("lamp"), ["station"], station, ["id"])
        self.assertEqual(found, 40_000)


if __name__ == "__main__":
    unittest.main()
