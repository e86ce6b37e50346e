"""Which marks are labelled, and that names where lines end do not touch."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.core.chart.test_kinds import MEASURES, MONTH, drawn, row, validator
from veduta.core.chart.drawing.labels import LINE, NOMINAL, choose, gaps, name_ends
from veduta.core.chart.drawing.marks import Mark

VALUES = st.lists(st.none() | st.floats(-1e6, 1e6), min_size=1, max_size=12)
ROWS = [row(i) for i in range(120)]


def line(values: list, series: str = "a") -> list[Mark]:
    return [Mark(i, str(i), series, value, "", [], "x", [i]) for i, value in enumerate(values)]


class Choosing(unittest.TestCase):
    @given(VALUES, VALUES)
    def test_those_that_are_asked_for_of_each_series(self, first, second):
        made = line(first, "a") + line(second, "b")
        for series, values in (("a", first), ("b", second)):
            there = [value for value in values if value is not None]

            def chosen(which, series=series):
                return [mark.value for mark in choose(made, which) if mark.series == series]

            self.assertEqual(chosen("all"), there)
            self.assertEqual(set(chosen("ends")), {*there[:1], *there[-1:]})
            self.assertEqual(set(chosen("extremes")), {max(there), min(there)} if there else set())

    @given(st.lists(st.floats(-1e6, 1e6), max_size=9))
    def test_a_gap_is_the_distance_to_the_nearest_before(self, values):
        for i, gap in enumerate(gaps(values)):
            self.assertEqual(gap, min([abs(values[i] - other) for other in values[:i]], default=float("inf")))

    def test_names_fit_where_lines_end_apart(self):
        spread = 100.0
        near = spread * LINE / NOMINAL
        self.assertTrue(name_ends(line([0, spread]) + line([0, spread - near * 1.1], "b")))
        self.assertFalse(name_ends(line([0, spread]) + line([0, spread - near * 0.9], "b")))


class Drawn(unittest.TestCase):
    def spec(self, **parts) -> dict:
        drawing = drawn({"show": MEASURES[:1], "by": [MONTH], **parts}, ROWS).drawing
        self.assertTrue(validator("vega-lite").is_valid(drawing.spec))
        return drawing.spec

    def texts(self, spec: dict) -> list[dict]:
        return [part for part in spec.get("layer", ()) if part["mark"].get("type") == "text"]

    def test_values_are_drawn_only_if_they_are_asked_for(self):
        for kind in ("bar", "line"):
            self.assertEqual(self.texts(self.spec(kind=kind)), [])
            self.assertEqual(len(self.texts(self.spec(kind=kind, settings={"labels": "extremes"}))), 1)
        self.assertEqual(self.texts(self.spec(kind="lying", by=["route"], settings={"labels": "none"})), [])
        self.assertEqual(len(self.texts(self.spec(kind="lying", by=["route"]))), 2)

    def test_names_at_the_ends_take_the_place_of_the_legend_where_they_fit(self):
        apart = [row(1, region=name, fare=fare) for name, fare in (("North Reach", 10.0), ("Inner Sound", 90.0))]
        near = [row(1, region=name, fare=fare) for name, fare in (("North Reach", 89.9), ("Inner Sound", 90.0))]
        parts = {"kind": "line", "show": MEASURES[:1], "by": [MONTH], "split": "region", "settings": {"names": "ends"}}
        for rows, has_legend in ((apart, False), (near, True)):
            spec = drawn(parts, rows).drawing.spec
            self.assertEqual(len(self.texts(spec)), 1)
            legends = [part["encoding"]["color"].get("legend") for part in spec["layer"] if "color" in part["encoding"]]
            self.assertEqual(any(legends), has_legend)


if __name__ == "__main__":
    unittest.main()
