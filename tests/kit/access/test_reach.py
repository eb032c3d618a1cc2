"""The reach and its guard."""

import unittest
from dataclasses import replace
from typing import Any

from sqlalchemy import (
    Column,
    Integer,
    MetaData,
    Table,
    create_engine,
    event,
    select,
)
from sqlalchemy import text as sql
from sqlalchemy.schema import DropTable

from lumet.kit.access.denied import AccessDenied
from lumet.kit.access.guard import guard
from lumet.kit.access.reach import UNBOUNDED, Reach
from lumet.kit.access.roles import Role


class ReachTest(unittest.TestCase):
    LIGHT = Table("light", MetaData(), Column("id", Integer, primary_key=True))
    READER = Role("viewer", "Reader", frozenset({"view"}))

    def refused(self, statement: Any, reach: Any, **options: Any) -> bool:
        try:
            guard(self.LIGHT.metadata, statement, {"reach": reach, **options})
        except AccessDenied:
            return True
        return False

    def test_a_statement_needs_a_reach_with_the_right_for_it(self) -> None:
        reader = Reach((self.READER,))
        some = Reach((replace(self.READER, name="some", rows={"light": "id > 1"}),))
        light = self.LIGHT
        cases = [
            (select(light), None, True),
            (select(light), reader, False),
            (select(light.alias()), Reach(), True),
            (select(light), some, True),
            (select(some.rows(light)), some, False),
            (select(some.rows(light).alias(), light.c.id), some, True),
            (select(some.rows(light)), reader, True),
            (light.insert(), reader, True),
            (light.update(), reader, True),
            (light.delete(), UNBOUNDED, False),
            (sql("SELECT * FROM light"), reader, True),
            (sql("SELECT * FROM light"), UNBOUNDED, False),
            (DropTable(light), reader, True),
            (select(1).where(select(light.c.id).exists()), None, True),
            (select(1), None, False),
        ]
        for statement, reach, expected in cases:
            with self.subTest(str(statement), reach=reach):
                self.assertEqual(self.refused(statement, reach), expected)

    def test_the_engine_s_event_stops_what_carries_none(self) -> None:
        engine = create_engine("sqlite://")
        self.LIGHT.metadata.create_all(engine)
        event.listen(
            engine,
            "before_execute",
            lambda c, s, m, p, o: guard(self.LIGHT.metadata, s, o),
        )
        with engine.connect() as connection:
            with self.assertRaises(AccessDenied):
                connection.execute(select(self.LIGHT))
            self.assertEqual(
                Reach((self.READER,)).run(connection, select(self.LIGHT)).all(), []
            )


if __name__ == "__main__":
    unittest.main()
