"""Parts of the application that stand alone: addresses, paging, reach, fields."""

import random
import tempfile
import unittest
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import (
    Column,
    Integer,
    MetaData,
    String,
    Table,
    create_engine,
    event,
    insert,
    select,
)
from sqlalchemy import text as sql
from sqlalchemy.schema import DropTable

from lumet.kit.access.denied import AccessDenied
from lumet.kit.access.guard import guard
from lumet.kit.access.reach import UNBOUNDED, Reach
from lumet.kit.access.roles import Role
from lumet.kit.common.exceptions import CannotStart
from lumet.kit.common.formatting import date_text, datetime_text, number_text
from lumet.kit.common.parsing import read_date, read_datetime, read_time
from lumet.kit.common.settings import read_settings
from lumet.kit.common.url_keys import decode_key, encode_key
from lumet.kit.db.keyset import branches, make_terms, read_place, write_place
from lumet.kit.pages.titles import parse_title

PARTS = st.one_of(
    st.text(max_size=20), st.integers(), st.dates(), st.decimals(allow_nan=False)
)


class AddressTest(unittest.TestCase):
    @settings(deadline=None)
    @given(st.lists(PARTS, min_size=1, max_size=3))
    def test_any_key_comes_back(self, parts: list[Any]) -> None:
        try:
            word = encode_key(parts)
        except UnicodeEncodeError:
            return  # a lone surrogate is in no database's text
        self.assertRegex(word, r"\A[A-Za-z0-9_~,-]+\Z")
        self.assertEqual(decode_key(word, [type(part) for part in parts]), tuple(parts))

    def test_words_of_addresses_and_odd_texts(self) -> None:
        cases = {
            "": "~",
            "edit": "edit",
            "a/b c": "a~2Fb~20c",
            "~": "~7E",
            "é,": "~C3~A9~2C",
        }
        for text, word in cases.items():
            with self.subTest(text):
                self.assertEqual(encode_key([text]), word)

    def test_each_record_has_one_address(self) -> None:
        for word, kind in (
            ("01", int),
            ("~41", str),
            ("1,2", int),
            ("~4", str),
            ("", str),
            ("x", int),
        ):
            with self.subTest(word), self.assertRaises(ValueError):
                decode_key(word, [kind])


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


class TextTest(unittest.TestCase):
    def test_titles_leave_out_what_is_empty(self) -> None:
        title = parse_title("{a} · {b}, no. {c}", "abc")
        self.assertEqual(title.join(["x", "y", "z"]), "x · y, no. z")
        self.assertEqual(title.join(["", "y", ""]), "y")
        self.assertEqual(parse_title("Light {a}", "a").join(["7"]), "Light 7")
        with self.assertRaises(KeyError):
            parse_title("{d}", "abc")

    def test_numbers_of_any_size(self) -> None:
        cases = [
            (1234567, None, "1,234,567"),
            (Decimal("1234.5"), 2, "1,234.50"),
            (12.3, None, "12.3"),
            (1e300, None, "1e+300"),
            (float("inf"), None, "inf"),
            (Decimal("NaN"), None, "NaN"),
            (-4, 1, "-4.0"),
        ]
        for value, scale, text in cases:
            with self.subTest(value):
                self.assertEqual(number_text(value, "en_GB", scale), text)


class SettingsTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_settings_are_asked_for_by_name(self) -> None:
        with self.assertRaises(CannotStart) as caught:
            read_settings(self.folder, {})
        self.assertIn("DATABASE_URL and SECRET_KEY", str(caught.exception))
        (self.folder / ".env").write_text(
            "DATABASE_URL='sqlite:///a${x}.db'\nSECRET_KEY=short\n"
        )
        with self.assertRaises(CannotStart) as caught:
            read_settings(self.folder, {})
        self.assertIn("SECRET_KEY is shorter", str(caught.exception))
        found = read_settings(self.folder, {"SECRET_KEY": "s" * 40, "HTTPS": "1"})
        self.assertEqual(
            (found.database_url, found.https), ("sqlite:///a${x}.db", True)
        )
        self.assertNotIn("s" * 40, repr(found))
        former = {"SECRET_KEY": "s" * 40, "FORMER_SECRET_KEYS": "old, older"}
        self.assertEqual(
            read_settings(self.folder, former).former_keys, ("old", "older")
        )


class ReadingTest(unittest.TestCase):
    def test_dates_in_many_ways(self) -> None:
        today = date(2026, 11, 28)
        cases = (
            ("en_GB", "3.4.", date(2026, 4, 3)), ("en_GB", "3/4/26", date(2026, 4, 3)),
            ("en_US", "3/4", date(2026, 3, 4)), ("de", "3.4.1958", date(1958, 4, 3)),
            ("en_GB", "3.4.58", date(1958, 4, 3)), ("sv", "2026-4-3", date(2026, 4, 3)),
            ("en_GB", "17 nov 2026", date(2026, 11, 17)), ("en_US", "Nov 17, 2026", date(2026, 11, 17)),
            ("de", "17. November 2026", date(2026, 11, 17)), ("fr", "17 nov. 2026", date(2026, 11, 17)),
            ("en_GB", "Sunday 3 May", date(2026, 5, 3)), ("en_GB", "9", date(2026, 11, 9)),
            ("en_GB", "20261117", date(2026, 11, 17)), ("en_GB", "today", today),
            ("de", "Tomorrow", date(2026, 11, 29)), ("en_GB", "+7", date(2026, 12, 5)),
            ("en_GB", "-3", date(2026, 11, 25)), ("en_GB", "+2w", date(2026, 12, 12)),
            ("en_GB", "+3m", date(2027, 2, 28)), ("en_GB", "-1y", date(2025, 11, 28)),
        )  # fmt: skip
        for language, text, wanted in cases:
            self.assertEqual(read_date(text, language, today), wanted, text)
        for text in ("", "13/13/2026", "31.2.2026", "lamp", "3 lamp 2026", "+99999y", "1 2 3 4",
                     "0000-00-00", "3.4.123", "1" * 5000, "17 Nov Nov"):  # fmt: skip
            with self.assertRaises(ValueError, msg=text):
                read_date(text, "en_GB", today)

    def test_what_a_date_is_written_as_is_read_again(self) -> None:
        for language in ("cs", "da", "de", "en_GB", "en_US", "es", "fi", "fr", "it", "nb",
                         "nl", "pl", "pt", "sv"):  # fmt: skip
            for month in range(1, 13):
                moment = datetime(2026, month, 28, 9, 40)
                text = date_text(moment.date(), language)
                self.assertEqual(
                    read_date(text, language, date.today()), moment.date(), text
                )
                text = datetime_text(moment, language)
                self.assertEqual(read_datetime(text, language, moment), moment, text)

    def test_times_in_many_ways(self) -> None:
        for text, wanted in (("9.40", "09:40"), ("0940", "09:40"), ("9:40 pm", "21:40"), ("12 am", "00:00"),
                             ("9h40", "09:40")):  # fmt: skip
            self.assertEqual(read_time(text).isoformat("minutes"), wanted, text)
        for text in ("25:00", "9", "13 pm", "9:4"):
            with self.assertRaises(ValueError, msg=text):
                read_time(text)
