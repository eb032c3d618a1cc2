"""Python names from any names."""

import keyword
import unittest

import wtforms
from hypothesis import given, settings
from hypothesis import strategies as st

from lumet.generation.names import FIELD_NAMES, MODULE_NAMES, class_name, python_names

ODD = st.lists(
    st.one_of(
        st.text(min_size=1, max_size=70),
        st.sampled_from(
            ["class", "Class", "data", "_data", "a b", "a_b", "A-B", "1", "日本", "l"]
        ),
    ),
    unique=True,
    max_size=12,
)


class NamesTest(unittest.TestCase):
    @settings(deadline=None)
    @given(ODD)
    def test_every_name_gets_an_identifier_of_its_own(self, names: list[str]) -> None:
        for reserved in (FIELD_NAMES, MODULE_NAMES):
            found = python_names(names, reserved)
            self.assertEqual(list(found), names)
            self.assertEqual(len(set(found.values())), len(names))
            for identifier in found.values():
                self.assertTrue(identifier.isidentifier() and identifier.isascii())
                self.assertFalse(
                    keyword.iskeyword(identifier) or identifier.startswith("_")
                )
                self.assertNotIn(identifier, reserved)
                self.assertTrue(class_name(identifier).isidentifier())

    def test_good_names_stay(self) -> None:
        names = ["A_B", "a_b", "station_id", "class", "Größe", "stationCode"]
        found = python_names(names, FIELD_NAMES)
        self.assertEqual(
            list(found.values()),
            ["a_b_2", "a_b", "station_id", "class_", "grosse", "station_code"],
        )

    def test_all_that_a_form_holds_is_reserved(self) -> None:
        held = {
            name
            for name in dir(wtforms.Form)
            if not name.startswith("_") and name.islower()
        }
        self.assertLessEqual(held, FIELD_NAMES)
