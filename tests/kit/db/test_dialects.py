"""The servers, as the application works with them: each says the same by its own
means."""

import sqlite3
import tempfile
import unittest
from pathlib import Path
from typing import Any, ClassVar

from sqlalchemy import Column, Integer, MetaData, String, Table, bindparam, select, text
from sqlalchemy.exc import DBAPIError

from lumet.kit.db.dialects import server_of_url
from lumet.kit.db.engine import Database
from lumet.kit.db.errors import classify, is_lost
from tests.support.capabilities import needs
from tests.support.servers import MARIADB, POSTGRESQL, make_server_database

PLAN = """CREATE TABLE quay (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL,
  code VARCHAR(9) {binary} UNIQUE, built DATE, depth INTEGER CHECK (depth > 0));
CREATE TABLE berth (id INTEGER PRIMARY KEY, quay_id INTEGER REFERENCES quay(id));
INSERT INTO quay VALUES (1, 'Örsund', 'LT-1', '2026-03-09', 4),
  (2, 'SANDHOLM', 'lt-2', NULL, NULL), (3, '50%', 'LX', '2025-12-31', 9);
INSERT INTO berth VALUES (1, 1)"""
QUAY = Table("quay", MetaData(), Column("id", Integer), Column("name", String),
             Column("code", String), Column("built"), Column("depth", Integer))  # fmt: skip


class OnSqlite(unittest.TestCase):
    SLEEP: ClassVar[str] = (
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n)"
        " SELECT max(i) FROM n"
    )

    @classmethod
    def make(cls) -> str:
        folder = cls.enterClassContext(tempfile.TemporaryDirectory())
        with sqlite3.connect(Path(folder, "quay.db")) as raw:
            raw.executescript(PLAN.format(binary=""))
        return f"sqlite:///{folder}/quay.db"

    @classmethod
    def setUpClass(cls) -> None:
        url = cls.make()
        server = server_of_url(url)
        assert server is not None
        cls.server = server
        cls.database = Database(server.open(url, Path(), "DATABASE_URL"))
        cls.addClassCleanup(cls.database.engine.dispose)

    def ids(self, condition: Any, **values: Any) -> list[int]:
        with self.database.reading() as connection:
            rows = connection.execute(select(QUAY.c.id).where(condition), values)
            return sorted(rows.scalars())

    def refused(self, statement: str) -> Any:
        with self.assertRaises(DBAPIError) as caught, self.database.writing() as c:
            c.execute(text(statement))
        self.assertFalse(is_lost(caught.exception))
        return classify(caught.exception)

    def test_a_search_ignores_case_beyond_ascii_too(self) -> None:
        for word, is_folded, expected in (("%sandh%", False, [2]), ("%öRS%", True, [1]),
                                          ("%50\\%%", False, [3])):  # fmt: skip
            like = self.server.matcher(QUAY.c.name, is_folded)
            found = self.ids(like(bindparam("w"), escape="\\"), w=word)
            self.assertEqual(found, expected, word)

    def test_a_prefix_is_found_in_each_spelling_given(self) -> None:
        begins = self.server.begins_with(QUAY.c.code, 2)
        found = self.ids(begins, **self.server.prefix_values(["LT", "lt"]))
        self.assertEqual(found, [1, 2])
        self.assertEqual(self.ids(begins, **self.server.prefix_values(["%", "_"])), [])

    def test_periods_and_the_order_of_null(self) -> None:
        with self.database.reading() as connection:
            for unit, length in (("year", 4), ("month", 7), ("day", 10)):
                period = self.server.period(QUAY.c.built, unit)
                found = connection.scalars(select(period).order_by(QUAY.c.id)).all()
                self.assertEqual(found[::2], ["2026-03-09"[:length], "2025-12-31"[:length]])  # fmt: skip
                self.assertIsNone(found[1])
            order = select(QUAY.c.id).order_by(QUAY.c.depth)
            last = connection.execute(order).scalars().all()[-1]
        self.assertEqual(last == 2, self.server.nulls_are_largest)

    def test_errors_have_one_class_on_every_server(self) -> None:
        doubled = self.refused(
            "INSERT INTO quay (id, name, code) VALUES (9, 'x', 'LX')"
        )
        self.assertEqual(doubled.kind, "unique")
        cases = {
            "INSERT INTO quay (id, name) VALUES (9, NULL)": "needed",
            "DELETE FROM quay WHERE id = 1": "reference",
            "INSERT INTO quay (id, name, depth) VALUES (9, 'x', -1)": "rule",
        }
        for statement, kind in cases.items():
            self.assertEqual(self.refused(statement).kind, kind, statement)

    def test_a_statement_that_takes_too_long_is_ended_and_the_next_is_not(self) -> None:
        with (
            self.assertRaises(DBAPIError) as caught,
            self.database.reading(0.2) as connection,
        ):
            connection.execute(text(self.SLEEP)).all()
        self.assertEqual(classify(caught.exception).kind, "busy")
        self.assertEqual(self.ids(QUAY.c.id == 1), [1])


@needs("postgresql")
class OnPostgresql(OnSqlite):
    SLEEP = "SELECT pg_sleep(9)"

    @classmethod
    def make(cls) -> str:
        script = PLAN.format(binary="")
        return make_server_database(cls, POSTGRESQL, "lumet_test_quay", script)


@needs("mariadb")
class OnMariadb(OnSqlite):
    SLEEP = "SELECT count(*) FROM quay a, quay b, seq_1_to_200000000 c WHERE sqrt(c.seq) < -1"

    @classmethod
    def make(cls) -> str:
        script = PLAN.format(binary="COLLATE utf8mb4_bin")
        return make_server_database(cls, MARIADB, "lumet_test_quay", script)


if __name__ == "__main__":
    unittest.main()
