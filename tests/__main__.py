"""Runs the tests and ends with a line that counts them.

LUMET_REQUIRED names what must be there, separated by commas: browser, postgresql,
mariadb. What is required and missing fails; what is missing otherwise is left out, and
said in one line. Without names, about half of the tests by their time, the walks over
whole applications among them, run beside the rest in a process of their own.
"""

import re
import subprocess
import sys
import tempfile
import time
import unittest
from collections import defaultdict
from collections.abc import Iterator
from typing import Any

from tests.support import capabilities

TOP = "tests"
SHOWN = 12  # modules
BESIDE = (
    "tests.application.test_accessibility",
    "tests.application.test_walks",
    "tests.application.test_custom",
    "tests.application.test_extending",
    "tests.application.test_kinds",
    "tests.application.test_row_rules",
    "tests.application.test_spelled_dates",
    "tests.application.test_mounted",
    "tests.application.test_none",
    "tests.application.test_parts",
    "tests.application.test_renames",
    "tests.live.test_live",
    "tests.project.test_distribution",
    "tests.project.test_how_to",
    "tests.project.test_identity",
    "tests.project.test_story",
)


class CountingResult(unittest.TextTestResult):
    """Counts what passed, and how long each module took, with what its classes set up."""

    passed = 0

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.seconds: defaultdict[str, float] = defaultdict(float)
        self.before = time.monotonic()

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        now = time.monotonic()
        self.seconds[type(test).__module__] += now - self.before
        self.before = now


def cases(suite: Any) -> Iterator[unittest.TestCase]:
    """Yield the tests of a suite."""
    for each in suite:
        if isinstance(each, unittest.TestSuite):
            yield from cases(each)
        else:
            yield each


def main() -> int:
    """Run the named tests, or all; return the exit status."""
    began = time.monotonic()
    loader = unittest.defaultTestLoader
    named = sys.argv[1:]
    if named:
        counts = run(loader.loadTestsFromNames(named))
    else:
        found = cases(loader.discover(TOP, top_level_dir="."))
        rest = [each for each in found if type(each).__module__ not in BESIDE]
        with tempfile.TemporaryFile("w+") as said:
            beside = [sys.executable, "-m", TOP, *BESIDE]
            other = subprocess.Popen(beside, stdout=said, stderr=subprocess.STDOUT)
            counts = run(unittest.TestSuite(rest))
            status = other.wait()
            said.seek(0)
            text = said.read()
        print(text)
        last = re.search(r"(\d+) passed, (\d+) failed, (\d+) skipped\s*$", text)
        # without its last line it ended before its time
        walked = map(int, last.groups()) if last else (0, 1, 0)
        counts = [sum(pair) for pair in zip(counts, walked, strict=True)]
        counts[1] += int(status != 0 and counts[1] == 0)
    passed, failed, skipped = counts
    print(f"took {time.monotonic() - began:.0f} s")
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not passed + skipped else 0


def run(suite: unittest.TestSuite) -> list[int]:
    """Run tests; return how many passed, failed and were skipped."""
    result = unittest.TextTestRunner(resultclass=CountingResult, verbosity=1).run(suite)
    for line in capabilities.left_out():
        print(line)
    assert isinstance(result, CountingResult)
    slowest = sorted(result.seconds.items(), key=lambda pair: -pair[1])[:SHOWN]
    print("slowest:", ", ".join(f"{name[6:]} {spent:.0f} s" for name, spent in slowest))
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return [result.passed, failed, len(result.skipped)]


if __name__ == "__main__":
    sys.exit(main())
