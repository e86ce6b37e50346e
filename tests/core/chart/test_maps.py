"""Maps: which areas are filled, where points stand, and which names fit."""

from __future__ import annotations

import itertools
import math
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.core.chart.test_kinds import MEASURES, atlas, drawn, model_of, row
from tests.core.support import context_of
from veduta.core.chart.definition import load_definition
from veduta.core.chart.drawing.labels import LINE
from veduta.core.chart.kinds.maps import measure_distances
from veduta.core.chart.question import ask

ROWS = [row(i) for i in range(42)]
PLACES = st.lists(
    st.tuples(st.floats(-179, 179), st.floats(-84, 84), st.floats(0, 90), st.floats(0, 90)),
    min_size=1,
    max_size=8,
    unique=True,
)


class Areas(unittest.TestCase):
    def test_each_name_fills_its_area_with_its_number(self):
        answered = drawn({"kind": "areas", "by": ["region"], "show": MEASURES[:1]}, ROWS)
        expected = {
            name: sum(each["fare"] for each in ROWS if each["region"] == name) for name in {e["region"] for e in ROWS}
        }
        self.assertEqual({mark["area"]: mark["value"] for mark in answered.drawing.rows}, expected)

    def test_names_without_an_area_are_said(self):
        rows = [*ROWS, row(1, region="Far Deep"), row(2, region=None), row(3, region="north reach")]
        notes = drawn({"kind": "areas", "by": ["region"], "show": MEASURES[:1]}, rows).notes
        self.assertIn("1 value has no area in these shapes: Far Deep.", notes)
        self.assertIn("1 more value means an area drawn already.", notes)
        self.assertIn("1 group without a name is not drawn.", notes)

    def test_shapes_that_are_gone_are_said(self):
        model = model_of(ROWS)
        definition = load_definition({"dataset": "d", "kind": "areas", "by": ["region"]})
        answered = ask(definition, model, context_of(model))
        self.assertIn("The shapes of Region are gone: choose others on the page of its dataset.", answered.notes)

    def test_what_names_no_areas_is_drawn_otherwise(self):
        answered = drawn({"kind": "areas", "by": ["route"]}, ROWS)
        self.assertEqual(answered.kind.name, "lying")
        self.assertIn("It needs a dimension that is set to be areas of shapes", " ".join(answered.notes))


class Points(unittest.TestCase):
    def test_points_stand_at_the_mean_place_of_their_rows_whatever_is_filtered(self):
        rows = [row(1, route="R", latitude=58.0, longitude=-3.0), row(2, route="R", latitude=59.0, longitude=-4.0)]
        rows.append(row(3, route="S", latitude=None, longitude=None))
        only = [{"kind": "list", "field": "region", "values": [rows[0]["region"]]}]
        for filters in ([], only):
            answered = drawn({"kind": "points", "by": ["route"], "only": filters}, rows)
            self.assertEqual([(m["name"], m["lat"], m["lon"]) for m in answered.drawing.rows], [("R", 58.5, -3.5)])
        answered = drawn({"kind": "points", "by": ["route"]}, rows)
        self.assertIn("1 group without a place is not drawn.", answered.notes)

    def test_a_second_measure_is_the_shade_and_a_second_dimension_the_colour(self):
        shaded = drawn({"kind": "points", "by": ["route"], "show": [MEASURES[0], MEASURES[2]]}, ROWS)
        marks = {mark["name"]: mark["shade"] for mark in shaded.drawing.rows}
        for name, value in marks.items():
            of_it = [each["passengers"] for each in ROWS if each["route"] == name]
            self.assertAlmostEqual(value, sum(of_it) / len(of_it))
        split = drawn({"kind": "points", "by": ["route"], "split": "region"}, ROWS)
        self.assertEqual({mark["paint"] for mark in split.drawing.rows}, {each["region"] for each in ROWS})
        both = drawn({"kind": "points", "by": ["route"], "split": "region", "show": MEASURES[:2]}, ROWS)
        self.assertNotEqual(both.kind.name, "points")

    def test_the_shapes_that_hold_the_points_stand_behind_them(self):
        self.assertIn("datasets", drawn({"kind": "points", "by": ["route"]}, ROWS).drawing.spec)
        far = [row(1, latitude=10.0, longitude=100.0)]
        self.assertNotIn("datasets", drawn({"kind": "points", "by": ["route"]}, far).drawing.spec)
        without = drawn({"kind": "points", "by": ["route"], "settings": {"ground": "none"}}, ROWS)
        self.assertNotIn("datasets", without.drawing.spec)
        self.assertEqual(len(atlas()), 1)


class NamesOnMaps(unittest.TestCase):
    @given(PLACES, st.floats(1, 1e6))
    def test_those_shown_at_a_scale_never_touch(self, places, scale):
        shown = [
            (math.radians(lon) * scale, math.log(math.tan(math.pi / 4 + math.radians(lat) / 2)) * scale, left, right)
            for (lon, lat, left, right), least in zip(places, measure_distances(places), strict=True)
            if scale >= least
        ]
        self.assertTrue(shown)
        for (x, y, left, right), (other_x, other_y, other_left, other_right) in itertools.combinations(shown, 2):
            beside = x + right <= other_x - other_left + 1e-6 or other_x + other_right <= x - left + 1e-6
            apart = beside or abs(y - other_y) >= LINE - 1e-6
            self.assertTrue(apart)


if __name__ == "__main__":
    unittest.main()
