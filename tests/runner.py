"""Runs test classes side by side, each process with a database of its own.

Processes are spawned, because Polars' threads do not survive a fork. Classes that take long are tagged, and start
first; browser tests stay together in two parts, so that two servers and two browsers serve them all."""

from __future__ import annotations

import multiprocessing
import unittest
from collections.abc import Iterable, Iterator

from django.test.runner import DiscoverRunner, ParallelTestSuite

FIRST = ("browser", "killing", "long")


class SlowestFirst(ParallelTestSuite):
    """Suites of one class each, in the order in which they are best begun."""

    def __init__(self, subsuites: list[unittest.TestSuite], *args, **kwargs) -> None:
        browser = halves([suite for suite in subsuites if _rank(suite) == 0])
        rest = sorted((suite for suite in subsuites if _rank(suite)), key=_rank)
        super().__init__([*browser, *rest], *args, **kwargs)


def halves(suites: list[unittest.TestSuite]) -> list[unittest.TestSuite]:
    """Suites put together to two that take about the same time; none that is empty."""
    parts: list[list[unittest.TestCase]] = [[], []]
    for suite in sorted(suites, key=_seconds, reverse=True):
        min(parts, key=_seconds).extend(suite)
    return [unittest.TestSuite(part) for part in parts if part]


def _seconds(tests: Iterable[unittest.TestCase]) -> float:
    return sum(getattr(test, "seconds", 1) for test in tests)


class Runner(DiscoverRunner):
    parallel_test_suite = SlowestFirst

    def __init__(self, *args, **kwargs) -> None:
        multiprocessing.set_start_method("spawn", force=True)
        super().__init__(*args, **kwargs)


def _rank(suite: unittest.TestSuite) -> int:
    tags = set(_tags(suite))
    return next((rank for rank, tag in enumerate(FIRST) if tag in tags), len(FIRST))


def _tags(suite: unittest.TestSuite) -> Iterator[str]:
    for test in suite:
        yield from getattr(test, "tags", ())
        yield from getattr(getattr(test, getattr(test, "_testMethodName", ""), None), "tags", ())
