"""Long lines: fewer points, every extreme, every gap."""

from __future__ import annotations

import datetime as dt
import itertools
import random
import unittest

from tests.core.support import context_of, sailings
from veduta.core.chart.definition import load_definition
from veduta.core.chart.drawing.downsampling import MOST_POINTS
from veduta.core.chart.question import AnsweredChart, ask

FIRST = dt.datetime(2012, 1, 1)
HOUR = {"field": "departure", "grain": "hour"}


def rows(count: int, without: range = range(0), regions: int = 1) -> list[dict]:
    chance = random.Random(7)
    return [
        {"departure": FIRST + dt.timedelta(hours=i), "region": f"Region {i % regions}", "fare": chance.gauss(100, 5)}
        for i in range(count)
        if i not in without
    ]


def drawn(there: list[dict], **parts) -> AnsweredChart:
    model = sailings(there)
    asked = {"dataset": "d", "kind": "line", "show": [{"field": "fare", "aggregate": "sum"}], "by": [HOUR], **parts}
    return ask(load_definition(asked), model, context_of(model))


def at(moment: dt.datetime) -> int:
    return int((moment - dt.datetime(1970, 1, 1)).total_seconds() * 1000)


class Thinning(unittest.TestCase):
    def test_short_lines_stay_whole(self):
        answered = drawn(rows(3_000))
        self.assertEqual(len(answered.drawing.rows), 3_000)
        self.assertFalse(any("points are drawn" in note for note in answered.notes))

    def test_a_long_line_keeps_its_ends_and_the_extremes_of_every_stretch(self):
        there = rows(60_000)
        answered = drawn(there)
        points = {each["at"]: each["value"] for each in answered.drawing.rows}
        self.assertLessEqual(len(points), MOST_POINTS)
        self.assertIn(
            "of 60,000 points are drawn; the lowest and the highest are among them.", " ".join(answered.notes)
        )
        for first, last in itertools.pairwise(range(0, 60_001, 6_000)):
            stretch = [each["fare"] for each in there[first:last]]
            shown = [
                value
                for time, value in points.items()
                if at(there[first]["departure"]) <= time <= at(there[last - 1]["departure"])
            ]
            self.assertEqual((min(shown), max(shown)), (min(stretch), max(stretch)))
        for end in (there[0], there[-1]):
            self.assertEqual(points[at(end["departure"])], end["fare"])

    def test_gaps_stay_gaps(self):
        gap = range(20_000, 23_000)
        answered = drawn(rows(40_000, without=gap))
        empty = [each["at"] for each in answered.drawing.rows if each["value"] is None]
        self.assertEqual(empty, [at(FIRST + dt.timedelta(hours=gap.start))])

    def test_every_series_keeps_its_extremes(self):
        there = rows(20_000, regions=4)
        answered = drawn(there, split="region")
        self.assertLessEqual(len(answered.drawing.rows), MOST_POINTS)
        self.assertIn("19,996 gaps are drawn through.", answered.notes)
        for region in {each["region"] for each in there}:
            shown = [each["value"] for each in answered.drawing.rows if each["series"] == region]
            whole = [each["fare"] for each in there if each["region"] == region]
            self.assertEqual((min(shown), max(shown)), (min(whole), max(whole)))


if __name__ == "__main__":
    unittest.main()
