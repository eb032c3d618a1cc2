"""What is looked at before anything reads it, and what takes no longer for being long."""

import logging
import unittest

from lumet.kit.accounts.passwords import (
    AccountError,
    check_password,
    mixes_alphabets,
    skeleton,
)
from lumet.kit.common.exceptions import CannotStart
from lumet.kit.common.proxies import read_proxies
from lumet.kit.forms.fields import EmailField, JsonField, in_lines
from lumet.kit.forms.rules import like
from lumet.kit.web.cli import LineFormatter


class ProxiesTest(unittest.TestCase):
    def test_only_proxies_are_believed(self) -> None:
        cases = (
            # setting, peer, X-Forwarded-For, proxies that it came through
            ("", "127.0.0.1", "198.51.100.1", 0),
            ("127.0.0.1", "127.0.0.1", "198.51.100.1", 1),
            ("127.0.0.1", "127.0.0.2", "198.51.100.1", 0),
            ("10.0.0.0/8, 127.0.0.1", "127.0.0.1", "198.51.100.1, 10.1.2.3", 2),
            ("10.0.0.0/8", "10.1.1.1", "10.9.9.9", 1),
            ("127.0.0.1", "127.0.0.1", "forged, 198.51.100.1", 1),
            ("2", "127.0.0.1", "forged, 198.51.100.1, 10.1.2.3", 2),
            ("::1", "::1", "2001:db8::1", 1),
            ("127.0.0.1", "127.0.0.1", "1, " * 900, 0),
        )
        for setting, peer, forwarded, hops in cases:
            with self.subTest(setting=setting, peer=peer):
                environ = {"REMOTE_ADDR": peer, "HTTP_X_FORWARDED_FOR": forwarded}
                self.assertEqual(read_proxies(setting).hops(environ), hops)
        for wrong in ("lights.example", "99", "10.0.0.0/99", "-1"):
            with self.subTest(wrong), self.assertRaises(CannotStart):
                read_proxies(wrong)


class LengthTest(unittest.TestCase):
    """What ends by itself, however long it is: a backtracking expression would not."""

    def test_patterns_of_checks(self) -> None:
        test = like(lambda values: values["x"], "%a%b%c%d%e%")
        self.assertIs(test({"x": "abcd" * 50_000}), False)
        for text, fits in (("xaxbxcxdxe", True), ("edcba", False), ("abcde", True)):
            self.assertIs(test({"x": text}), fits)
        single = like(lambda values: values["x"], "a_c%")
        found = [single({"x": text}) for text in ("abc", "abcd", "ac")]
        self.assertEqual(found, [True, True, False])

    def test_addresses_of_mail(self) -> None:
        takes = EmailField.html_takes
        self.assertIsNone(takes.fullmatch("a@" + "." * 300_000 + "@"))
        self.assertIsNotNone(takes.fullmatch("a@" + "a." * 300_000 + "a"))
        cases = (("a@b.example", True), ("a@b", False), ("a@b..c", False), ("a@.b", False))  # fmt: skip
        for text, fits in cases:
            self.assertEqual(takes.fullmatch(text) is not None, fits, text)

    def test_nested_json(self) -> None:
        self.assertLess(len(in_lines("[" * 500 + "1," * 20_000 + "1" + "]" * 500)), 2e6)
        with self.assertRaises(ValueError):
            JsonField.parse(None, "[" * 100_000)  # type: ignore[arg-type]


class PasswordsTest(unittest.TestCase):
    def test_what_is_easy_to_guess(self) -> None:
        words = ("Skerry Lights", "administrator")
        easy = ("123456789012", "welcome12345", "admin1234567", "letmein12345",
                "Summer2026!!", "skerrylights1", "administrator12345", "passwordpassword",
                "qwertyuiop12", "aaaaaaaaaaaa", "abcabcabcabc")  # fmt: skip
        for password in easy:
            with self.subTest(password), self.assertRaises(AccountError):
                check_password("ina", password, 12, words)
        for password in ("kelp otter basalt dusk", "kqzvmwpxjtrb", "ÄÖ-werft-Möwe-71"):
            with self.subTest(password):
                check_password("ina", password, 12, words)

    def test_names_that_pass_for_another(self) -> None:
        for name, wanted in (("ina", False), ("іna", True), ("Ὀρέστης", False),
                             ("Ина 2", False), ("Zoë", False), ("ραul", True)):  # fmt: skip
            self.assertEqual(mixes_alphabets(name), wanted, name)

    def test_entries_of_the_log_cannot_be_forged(self) -> None:
        record = logging.LogRecord("a", logging.ERROR, "", 1, "request: %s", ("x\n2026-11-28 ERROR \x1b[31m",), None)  # fmt: skip
        lines = LineFormatter("%(levelname)s %(message)s").format(record).split("\n")
        self.assertEqual(lines, ["ERROR request: x", r"    2026-11-28 ERROR \x1b[31m"])

    def test_names_that_a_database_takes_for_the_same(self) -> None:
        for other in ("ànn", "ANN", "ann ", "Ａnn"):
            self.assertEqual(skeleton(other), skeleton("ann"))
        self.assertNotEqual(skeleton("anna"), skeleton("ann"))
