"""Runs the tests and ends with a line that counts them.

LUMET_REQUIRED names what must be there, separated by commas: browser, postgresql,
mariadb. What is required and missing fails; what is missing otherwise is left out, and
said in one line.
"""

import sys
import time
import unittest

from tests.support import capabilities

TOP = "tests"


class CountingResult(unittest.TextTestResult):
    """Counts what passed, and knows how long each test took."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def main() -> int:
    """Run the named tests, or all; return the exit status."""
    began = time.monotonic()
    loader = unittest.defaultTestLoader
    named = sys.argv[1:]
    suite = (
        loader.loadTestsFromNames(named)
        if named
        else loader.discover(TOP, top_level_dir=".")
    )
    result = unittest.TextTestRunner(resultclass=CountingResult, verbosity=1).run(suite)
    for line in capabilities.left_out():
        print(line)
    assert isinstance(result, CountingResult)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    print(f"took {time.monotonic() - began:.0f} s")
    print(f"{result.passed} passed, {failed} failed, {len(result.skipped)} skipped")
    return 1 if failed or not result.testsRun else 0


if __name__ == "__main__":
    sys.exit(main())
