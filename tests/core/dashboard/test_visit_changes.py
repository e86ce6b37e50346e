"""What has changed since somebody last looked."""

from __future__ import annotations

import doctest
import unittest

from veduta.core.dashboard import visit_changes
from veduta.core.dashboard.visit_changes import Summary, list_differences


def figures(**values: float | None) -> dict[str, Summary]:
    return {name: Summary(name=name.title(), value=value, text=f"{value}") for name, value in values.items()}


class Since(unittest.TestCase):
    def test_only_what_is_other_is_said_in_the_order_of_now(self):
        found = list_differences(figures(a=1, b=2, c=3), figures(c=6, b=2, a=0.5))
        self.assertEqual([(each.name, each.share) for each in found], [("C", "+100.0%"), ("A", "−50.0%")])

    def test_what_is_written_alike_is_not_said(self):
        before, now = (Summary(name="A", value=value, text="4.2") for value in (4.21, 4.22))
        self.assertEqual(list_differences({"a": before}, {"a": now}), [])

    def test_figures_that_come_and_go_are_not_compared(self):
        self.assertEqual(list_differences(figures(a=1), figures(b=2)), [])

    def test_a_value_that_there_was_not_has_no_share(self):
        (found,) = list_differences(figures(a=None), figures(a=3))
        self.assertEqual((found.before, found.now, found.share), ("None", "3", ""))

    def test_shares(self):
        self.assertEqual(doctest.testmod(visit_changes).failed, 0)
