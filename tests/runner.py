"""Runs test classes side by side, each process with a database of its own.

Processes are spawned, because Polars' threads do not survive a fork. What took longest when `make test-seconds` last
recorded it starts first, so that no process waits for the last class. Browser tests stay together in as many parts as
there are processes: each part starts one server and one browser that serve all of its tests."""

from __future__ import annotations

import json
import multiprocessing
import os
import tempfile
import time
import unittest
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

from django.test.runner import DiscoverRunner, ParallelTestSuite, RemoteTestResult, RemoteTestRunner

RECORD = Path(__file__).parent / "seconds.json"
RECORDING = os.environ.get("VEDUTA_RECORD_SECONDS") == "1"
SLOWEST_SHOWN = 40


class TimedResult(RemoteTestResult):
    """Reports how long each test took; what its class sets up counts for the first of them."""

    def __init__(self, *args, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        self._started = time.perf_counter()

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        now = time.perf_counter()
        self.events.append(("addSeconds", self.test_index, now - self._started))
        self._started = now


class TimedRunner(RemoteTestRunner):
    resultclass = TimedResult


class SlowestFirst(ParallelTestSuite):
    """Suites of one class each, in the order in which they are best begun."""

    runner_class = TimedRunner

    def __init__(self, subsuites: list[unittest.TestSuite], processes: int, *args, **kwargs) -> None:
        recorded = read_seconds()
        self.seconds: dict[str, float] = {}
        browser = [suite for suite in subsuites if "browser" in _find_tags(suite)]
        rest = [suite for suite in subsuites if "browser" not in _find_tags(suite)]
        ordered = sorted(rest, key=lambda suite: -estimate_seconds(suite, recorded))
        # Only one of them prepares the demo data: the others begin with something else meanwhile.
        first, *others = divide_evenly(browser, processes, recorded) or [unittest.TestSuite()]
        super().__init__([first, *ordered[:1], *others, *ordered[1:]], processes, *args, **kwargs)

    def handle_event(self, result, tests, event) -> None:
        if event[0] == "addSeconds":
            self.seconds[tests[event[1]].id()] = event[2]
        else:
            super().handle_event(result, tests, event)

    def run(self, result):
        super().run(result)
        if RECORDING:
            record_seconds(self.seconds)
        return result


def divide_evenly(suites: list[unittest.TestSuite], parts: int, recorded: dict[str, float]) -> list[unittest.TestSuite]:
    """The tests of all suites in suites that take about the same time, with each class kept together."""
    tests: list[list[unittest.TestCase]] = [[] for _ in range(parts)]
    seconds = [0.0] * parts
    for suite in sorted(suites, key=lambda suite: -estimate_seconds(suite, recorded)):
        least = seconds.index(min(seconds))
        tests[least].extend(suite)
        seconds[least] += estimate_seconds(suite, recorded)
    return [unittest.TestSuite(part) for part in tests if part]


def read_seconds() -> dict[str, float]:
    return json.loads(RECORD.read_text()) if RECORD.exists() else {}


def estimate_seconds(suite: unittest.TestSuite, recorded: dict[str, float]) -> float:
    """As recorded; a second for each test of a class that is new."""
    tests = list(suite)
    name = tests[0].id().rpartition(".")[0] if tests else ""
    return recorded.get(name, float(len(tests)))


def record_seconds(seconds: dict[str, float]) -> None:
    """Writes the seconds of each class that was run to seconds.json, and shows the slowest tests."""
    classes: dict[str, float] = defaultdict(float)
    for name, taken in seconds.items():
        classes[name.rpartition(".")[0]] += taken
    recorded = read_seconds() | {name: round(taken, 1) for name, taken in classes.items()}
    RECORD.write_text(json.dumps(dict(sorted(recorded.items())), indent=1) + "\n")
    for name in sorted(seconds, key=lambda name: -seconds[name])[:SLOWEST_SHOWN]:
        print(f"{seconds[name]:8.2f} s  {name}")


class Runner(DiscoverRunner):
    parallel_test_suite = SlowestFirst

    def __init__(self, *args, **kwargs) -> None:
        multiprocessing.set_start_method("spawn", force=True)
        super().__init__(*args, **kwargs)

    def run_suite(self, suite, **kwargs):
        with tempfile.TemporaryDirectory(prefix="veduta-tests-") as folder:
            os.environ["VEDUTA_TEST_RUN"] = folder
            return super().run_suite(suite, **kwargs)


def _find_tags(suite: unittest.TestSuite) -> set[str]:
    return set(_read_tags(suite))


def _read_tags(suite: unittest.TestSuite) -> Iterator[str]:
    for test in suite:
        yield from getattr(test, "tags", ())
        yield from getattr(getattr(test, getattr(test, "_testMethodName", ""), None), "tags", ())
