"""Classes of numbers against exact decimals, and as a dimension like others."""

from __future__ import annotations

import itertools
import math
import unittest
from collections import Counter
from decimal import Decimal

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import context_of, sailings
from veduta.core.chart.definition import load_definition
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.mark_filters import make_points_filters
from veduta.core.chart.question import ask
from veduta.core.errors import DefinitionProblem
from veduta.core.query.answer import answer
from veduta.core.query.query import Query
from veduta.core.value_classes import build_class_expression, choose_class_width, find_class_end

WIDTHS = (0.001, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 20.0, 1000.0)
DECIMALS = st.decimals(-10_000, 10_000, places=3).map(float)
ROWS = [{"passengers": n % 97, "fare": n / 10, "region": f"Region {n % 2}"} for n in range(400)]
ROWS += [{"passengers": None, "fare": None, "region": "Region 0"}]


def classed(values: list, width: float, whole: bool = False) -> list:
    dtype = pl.Int64 if whole else pl.Float64
    return (
        pl.DataFrame({"x": pl.Series(values, dtype=dtype)})
        .select(build_class_expression(pl.col("x"), width, whole))["x"]
        .to_list()
    )


class ClassesOfNumbers(unittest.TestCase):
    @given(st.lists(DECIMALS, min_size=1), st.sampled_from(WIDTHS))
    def test_each_number_stands_in_the_class_that_holds_it(self, values, width):
        step = Decimal(str(width))
        expected = [math.floor(Decimal(str(value)) / step) * step for value in values]
        self.assertEqual([Decimal(str(low)) for low in classed(values, width)], expected)

    @given(st.lists(st.integers(-(10**12), 10**12), min_size=1), st.integers(1, 1000))
    def test_so_do_whole_numbers(self, values, width):
        self.assertEqual(classed(values, width, whole=True), [value // width * width for value in values])

    def test_empties_have_none_and_huge_numbers_do_no_harm(self):
        self.assertEqual(classed([None, 1e300, -1e300], 20.0)[0], None)
        self.assertTrue(all(math.isfinite(low) for low in classed([1e300, -1e300], 20.0)))

    @given(st.floats(-1e9, 1e9), st.floats(-1e9, 1e9), st.integers(1, 100))
    def test_nice_widths_make_about_so_many(self, low, high, number):
        width = choose_class_width(low, high, number)
        if abs(high - low) > 1e-6:
            self.assertTrue(number / 2.6 <= abs(high - low) / width <= number * 2.6)
        self.assertGreater(width, 0)
        self.assertGreaterEqual(choose_class_width(low, high, number, whole=True), 1)

    def test_ends_are_exact(self):
        self.assertEqual(find_class_end(0.2, 0.1), 0.3)
        self.assertEqual(find_class_end(-0.1, 0.1), 0.0)


class ClassesAsADimension(unittest.TestCase):
    def setUp(self):
        self.model = sailings(ROWS)

    def asked(self, **parts):
        return ask(load_definition({"dataset": "d", **parts}), self.model, context_of(self.model))

    def test_a_histogram_counts_rows_in_each_and_leads_to_them(self):
        answered = self.asked(by=[{"field": "passengers", "width": 10}])
        self.assertEqual(answered.kind.name, "histogram")
        expected = Counter(row["passengers"] // 10 * 10 for row in ROWS if row["passengers"] is not None)
        drawn = {mark["low"]: mark["value"] for mark in answered.drawing.rows}
        self.assertEqual(drawn, expected)
        self.assertEqual(answered.drawing.rows[1]["name"], "10 to 19")
        self.assertIn("1 group without a number is not drawn.", answered.notes)
        for mark in answered.drawing.rows:
            filters = make_points_filters(answered.definition, [mark["point"]])
            self.assertEqual(
                answer(Query(filters=filters), self.model, context_of(self.model)).rows_read, mark["value"]
            )

    def test_they_split_other_charts_and_stand_in_tables(self):
        answered = self.asked(kind="bar", by=["region"], split={"field": "fare", "width": 20})
        expected = Counter((row["region"], None if row["fare"] is None else row["fare"] // 20 * 20) for row in ROWS)
        self.assertEqual({tuple(mark["point"]): mark["value"] for mark in answered.drawing.rows}, expected)
        self.assertIn("split by fare in classes of 20.", answered.sentence)
        table = self.asked(kind="table", by=[{"field": "fare", "width": 20}]).drawing.table
        self.assertEqual([line[0].text for line in table.rows], ["0 to under 20", "20 to under 40", "(empty)"])

    def test_filters_say_them(self):
        definition = load_definition({"dataset": "d", "by": [{"field": "passengers", "width": 10}]})
        (made,) = make_points_filters(definition, [[10], [20]])
        self.assertEqual(made.describe(self.model.schema), "Passengers is 10 to 19 or 20 to 29")

    def test_measures_of_many_values_begin_in_classes(self):
        def by(**change):
            definition = load_definition({"dataset": "d"})
            return apply_edit(definition, self.model, {"edit": "set_group", "clause": "by", **change}).by[0]

        self.assertEqual((by(field="fare").width, by(field="fare", classes=40).width), (2.0, 1.0))
        self.assertEqual(by(field="passengers").width, 5)
        self.assertIsNone(by(field="fare", width=0).width)
        self.assertEqual(by(field="fare", width=2.5).width, 2.5)
        for wrong in (
            {"field": "fare", "width": 0.001},
            {"field": "passengers", "width": 2.5},
            {"field": "fare", "width": -1},
        ):
            with self.subTest(wrong), self.assertRaises(DefinitionProblem):
                by(**wrong)

    def test_text_has_no_classes(self):
        with self.assertRaisesRegex(DefinitionProblem, "“Region” is not a number, so it has no classes"):
            self.asked(by=[{"field": "region", "width": 10}])


if __name__ == "__main__":
    unittest.main()


class FractionalWidthsOfWholeNumbers(unittest.TestCase):
    """A width that came about before the field was one of whole numbers is taken as a whole one, everywhere."""

    def test_no_bar_of_a_histogram_overlaps_the_next_one(self):
        model = sailings(ROWS)
        for width in (0.2, 1.5, 2.5, 9.7):
            parts = {"dataset": "d", "by": [{"field": "passengers", "width": width}], "kind": "histogram"}
            answered = ask(load_definition(parts), model, context_of(model))
            bars = sorted((row["low"], row["high"]) for row in answered.drawing.rows)
            self.assertTrue(all(high <= low for (_, high), (low, _) in itertools.pairwise(bars)), width)
            self.assertIn(f"in classes of {max(1, round(width))}", answered.sentence)
