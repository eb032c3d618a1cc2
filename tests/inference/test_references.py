"""References that nobody declared: found through dirt, told from false friends."""

import random
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import ClassVar

from lumet.project.commands import run_survey
from lumet.project.reviewing import Review, ReviewedReference, review
from tests.support.projects import make_database

ROWS = 400


def values(*columns: object) -> str:
    return ", ".join("NULL" if c is None else repr(c) for c in columns)


class FoundCase(unittest.TestCase):
    """A database is surveyed once; `inserts` are made by `fill`."""

    SCHEMA: ClassVar[str]
    found: ClassVar[Review]

    @classmethod
    def fill(cls, chance: random.Random) -> list[str]:
        raise NotImplementedError

    @classmethod
    def setUpClass(cls) -> None:
        folder = TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        path = Path(folder.name)
        inserts = "".join(
            f"INSERT INTO {each};\n" for each in cls.fill(random.Random(7))
        )
        database = make_database(path / "coast.db", cls.SCHEMA + inserts)
        run_survey(path, str(database))
        cls.found = review(path)

    def of(self, table: str, *columns: str) -> ReviewedReference | None:
        return next(
            (
                r
                for r in self.found.references
                if (r.table, r.columns) == (table, columns)
            ),
            None,
        )

    def check_used(self, expected: dict[tuple[str, ...], str]) -> None:
        used = {
            (r.table, *r.columns): f"{r.referred_table}.{'+'.join(r.referred_columns)}"
            for r in self.found.references
            if r.used
        }
        self.assertEqual(used, expected)


class DirtTest(FoundCase):
    SCHEMA = """
CREATE TABLE station (id INTEGER PRIMARY KEY, code TEXT, name TEXT);
CREATE TABLE keeper (id INTEGER PRIMARY KEY, first_name TEXT, last_name TEXT, supervisor INTEGER);
CREATE TABLE crossing (
    id INTEGER PRIMARY KEY, from_station BIGINT, to_station INT, master_id INTEGER,
    station_code TEXT, keeper_id INTEGER, lost_station_id INTEGER, gone_station_id INTEGER);
CREATE TABLE light (station_id INTEGER, number INTEGER, name TEXT);
CREATE TABLE lamp (id INTEGER PRIMARY KEY, station_id INTEGER, light_number INTEGER, watts INTEGER);
CREATE TABLE empty_log (id INTEGER PRIMARY KEY, keeper_id INTEGER, text TEXT);
"""

    @classmethod
    def fill(cls, chance: random.Random) -> list[str]:
        found = [
            f"station VALUES ({values(n, f'ST{n:03d}', f'Holm {n}')})"
            for n in range(1, 121)
        ]
        found += [
            f"keeper VALUES ({values(n, 'Ada', f'Lor{n}', chance.randint(1, 9) if n % 4 else None)})"
            for n in range(1, 61)
        ]
        for n in range(1, ROWS + 1):
            code = (
                f"ST{chance.randint(1, 120):03d}" if n % 6 else f"OLD{n}"
            )  # 17 % orphans
            lost = chance.randint(1, 120) if n % 3 else chance.randint(5000, 9000)
            row = (n, chance.randint(1, 120), chance.randint(1, 120), chance.randint(1, 60), code,
                   chance.randint(1, 60), lost,
                   n % 120 + 1 if n % 9 > 1 else 9000 + n)  # fmt: skip
            found.append(f"crossing VALUES ({values(*row)})")
        lights = [(s, n) for s in range(1, 121) for n in range(1, 4)]
        found += [f"light VALUES ({values(s, n, 'a light')})" for s, n in lights]
        for n in range(1, ROWS + 1):
            row = (n, *chance.choice(lights), chance.randint(40, 900))
            found.append(f"lamp VALUES ({values(*row)})")
        return found

    def test_all_are_found_and_nothing_else_is_used(self) -> None:
        self.check_used(
            {
                ("crossing", "from_station"): "station.id",
                ("crossing", "to_station"): "station.id",
                ("crossing", "master_id"): "keeper.id",
                ("crossing", "station_code"): "station.code",
                ("crossing", "keeper_id"): "keeper.id",
                ("keeper", "supervisor"): "keeper.id",
                ("light", "station_id"): "station.id",
                ("lamp", "station_id"): "station.id",
                ("lamp", "station_id", "light_number"): "light.station_id+number",
                ("empty_log", "keeper_id"): "keeper.id",
            }
        )

    def test_orphans_are_counted_and_said(self) -> None:
        found = self.of("crossing", "station_code")
        assert found is not None
        self.assertAlmostEqual(found.orphan_fraction or 0, 66 / 400, delta=0.01)
        self.assertIn("of the rows without", found.reason)
        for column in ("lost_station_id", "gone_station_id"):  # a third; 22 %
            self.assertIsNone(self.of("crossing", column), column)

    def test_a_key_that_nobody_declared(self) -> None:
        light = next(table for table in self.found.tables if table.name == "light")
        self.assertEqual(light.value("key"), ["station_id", "number"])


class FalseFriendsTest(FoundCase):
    SCHEMA = """
CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, length INTEGER, built INTEGER, crew INTEGER);
CREATE TABLE grade (code TEXT PRIMARY KEY, label TEXT);
CREATE TABLE weather (code TEXT PRIMARY KEY, label TEXT);
CREATE TABLE berth (no TEXT PRIMARY KEY, depth INTEGER);
CREATE TABLE voyage (
    id INTEGER PRIMARY KEY, vessel_id INTEGER, berth_no INTEGER, year INTEGER, line_no INTEGER,
    is_night INTEGER, passengers INTEGER, vessel_count INTEGER, sky TEXT, priority INTEGER,
    level INTEGER, stops INTEGER, weather_level INTEGER, on_hand INTEGER, owner_id INTEGER,
    owner_type TEXT);
CREATE TABLE handler (id INTEGER PRIMARY KEY, first_name TEXT, last_name TEXT, title TEXT);
CREATE TABLE setting (title TEXT PRIMARY KEY, value TEXT);
"""

    @classmethod
    def fill(cls, chance: random.Random) -> list[str]:
        found = [
            f"vessel VALUES ({values(n, f'Tern {n}', chance.randint(5, 90), 1950 + n % 70, n % 9)})"
            for n in range(1, 201)
        ]
        for name in ("grade", "weather"):
            found += [f"{name} VALUES ({values(c, name + c)})" for c in "ABCDEFGHIJKL"]
        found += [f"berth VALUES ({values(f'{n:04d}', n)})" for n in range(1, 60)]
        for n in range(1, ROWS + 1):
            row = (n, chance.randint(1, 200), chance.randint(1, 59), 2000 + n % 20, n % 7 + 1, n % 2,
                   chance.randint(1, 150), chance.randint(1, 9), chance.choice("ABCDEFGHIJKL"),
                   n % 3 + 1, n % 5 + 1, chance.randint(1, 12), n % 4 + 1, chance.randint(1, 30),
                   chance.randint(1, 90), chance.choice(["handler", "vessel"]))  # fmt: skip
            found.append(f"voyage VALUES ({values(*row)})")
        for n in range(1, 121):
            found.append(
                f"handler VALUES ({values(n, 'Ada', f'Lor{n}', f'key {n % 9}')})"
            )
            found.append(f"setting VALUES ({values(f'key {n}', n)})")
        return found

    def test_chance_is_no_reference(self) -> None:
        self.check_used({("voyage", "vessel_id"): "vessel.id"})

    def test_a_number_is_no_text(self) -> None:
        self.assertIsNone(self.of("voyage", "berth_no"))
