"""Reading dates and times, and writing numbers and titles."""

import unittest
from datetime import date, datetime
from decimal import Decimal

from lumet.kit.common.formatting import date_text, datetime_text, number_text
from lumet.kit.common.parsing import read_date, read_datetime, read_time
from lumet.kit.pages.titles import parse_title


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


class TextTest(unittest.TestCase):
    def test_titles_leave_out_what_is_empty(self) -> None:
        title = parse_title("{a} · {b}, no. {c}")
        self.assertEqual(title.join(["x", "y", "z"]), "x · y, no. z")
        self.assertEqual(title.join(["", "y", ""]), "y")
        self.assertEqual(parse_title("Light {a}").join(["7"]), "Light 7")

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


if __name__ == "__main__":
    unittest.main()
