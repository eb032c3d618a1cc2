"""Pagination by keys."""

import random
import unittest
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import (
    Column,
    Integer,
    MetaData,
    String,
    Table,
    create_engine,
    insert,
    select,
)

from lumet.kit.db.keyset import branches, make_terms, read_place, write_place


class KeysetTest(unittest.TestCase):
    def test_no_row_is_lost_or_shown_twice_in_any_order(self) -> None:
        """Page through rows with NULLs and ties, forwards and backwards, in random orders,
        and compare with the whole list."""
        chance = random.Random(7)
        table = Table(
            "t",
            MetaData(),
            Column("id", Integer, primary_key=True),
            Column("a", Integer),
            Column("b", String),
        )
        engine = create_engine("sqlite://")
        table.metadata.create_all(engine)
        rows = [
            {
                "id": n,
                "a": chance.choice([None, 1, 2, 3]),
                "b": chance.choice([None, "", "x", "Y"]),
            }
            for n in range(1, 61)
        ]
        with engine.connect() as connection:
            connection.execute(insert(table), rows)
            for _ in range(60):
                columns = chance.sample(["a", "b"], chance.randint(0, 2))
                plan = [
                    (table.c[name], chance.random() < 0.5, True) for name in columns
                ]
                plan.append(
                    (table.c.id, plan[-1][1] if plan else chance.random() < 0.5, False)
                )
                self.check(connection, table, plan, chance.randint(1, 9))

    def check(self, connection: Any, table: Table, plan: list[Any], size: int) -> None:
        forward = make_terms(plan, nulls_are_largest=False)
        wanted = connection.execute(
            select(table).order_by(*[t.ordered() for t in forward])
        ).all()
        for terms, expected in (
            (forward, wanted),
            ([term.flipped() for term in forward], wanted[::-1]),
        ):
            found = connection.execute(
                select(table).order_by(*[t.ordered() for t in terms]).limit(size)
            ).all()
            while True:
                last = [
                    found[-1][table.c.keys().index(t.expression.key)] for t in terms
                ]
                place = read_place(write_place(last), len(last))
                page: list[Any] = []
                for branch in branches(terms, [value is None for value in place]):
                    statement = (
                        select(table).where(*branch.where).order_by(*branch.order)
                    )
                    bound = {f"v{n}": value for n, value in enumerate(place)}
                    page += connection.execute(
                        statement.limit(size - len(page)), bound
                    ).all()
                    if len(page) == size:
                        break
                if not page:
                    break
                found += page
            self.assertEqual(found, expected)

    def test_places_carry_every_type_and_refuse_others(self) -> None:
        values = [
            None,
            1,
            2.5,
            "é",
            date(2026, 1, 2),
            datetime(2026, 1, 2, 3),
            Decimal("1.10"),
        ]
        self.assertEqual(read_place(write_place(values), len(values)), values)
        for word in ("", "x", "e30", write_place([1]), "W3siZXZhbCI6IjEifSwxXQ"):
            with self.subTest(word), self.assertRaises(ValueError):
                read_place(word, 2)


if __name__ == "__main__":
    unittest.main()
