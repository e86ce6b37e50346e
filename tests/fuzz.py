"""Random tests for a long time, with new examples: `make fuzz MINUTES=10`, or only those whose names contain ONLY.

A failure prints how to repeat it: put the line @reproduce_failure(…) above the test and run that test alone."""

from __future__ import annotations

import os
import sys
import time
import unittest

os.environ.setdefault("VEDUTA_EFFORT", "fuzz")
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "veduta.web.settings")


def random_tests(suite: unittest.TestSuite) -> list[unittest.TestCase]:
    """The tests that draw examples."""
    found = []
    for each in suite:
        if isinstance(each, unittest.TestSuite):
            found += random_tests(each)
        elif hasattr(getattr(each, each._testMethodName, None), "hypothesis"):
            found.append(each)
    return found


def main() -> int:
    minutes, only = float(os.environ.get("MINUTES") or 10), os.environ.get("ONLY") or ""
    loader = unittest.TestLoader()
    tests = [each for each in random_tests(loader.discover("tests/core", top_level_dir=".")) if only in each.id()]
    end, rounds, failed = time.monotonic() + 60 * minutes, 0, 0
    while time.monotonic() < end and tests:
        for test in tests:
            if time.monotonic() > end:
                break
            result = unittest.TextTestRunner(verbosity=0, stream=sys.stdout).run(test)
            failed += not result.wasSuccessful()
        rounds += 1
    from tests.core.query.random_questions import asked

    print(
        f"{len(tests)} random tests, {rounds} rounds, {asked.questions:,} questions of random formulas, {failed}"
        " failed."
    )
    return int(failed > 0)


if __name__ == "__main__":
    sys.exit(main())
