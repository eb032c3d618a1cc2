"""Keys in addresses."""

import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from lumet.kit.common.url_keys import decode_key, encode_key

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


if __name__ == "__main__":
    unittest.main()
