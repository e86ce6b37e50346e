"""Marks of a chart as the filter for the rows behind them."""

from __future__ import annotations

import unittest

from veduta.core.chart.definition import load_definition
from veduta.core.chart.mark_filters import make_points_filters
from veduta.core.errors import DefinitionProblem
from veduta.core.number_format import REST_POINT

FARE = {"field": "fare", "aggregate": "sum"}
TOP_TWO = {"count": 2, "by": FARE, "rest": True}


def chart(**parts):
    return load_definition({"dataset": "d", **parts})


class Points(unittest.TestCase):
    def test_marks_are_told_by_as_many_dimensions_as_they_have(self):
        two = chart(by=["region"], split="route")
        for points, names in (([["North Reach", "Tern–Quay"]], ["region", "route"]), ([["North Reach"]], ["region"])):
            (made,) = make_points_filters(two, points, exclude=True)
            self.assertEqual([group.field for group in made.groups], names)
            self.assertEqual((made.points, made.exclude), (tuple(map(tuple, points)), True))

    def test_a_figure_has_no_marks(self):
        self.assertEqual(make_points_filters(chart(), [["North Reach"]]), ())

    def test_a_count_of_periods_tells_no_rows_apart(self):
        month, test = {"field": "sailed", "grain": "month"}, 'sum("#fare") > 0'
        aligned = chart(by=[month], split="route", aligned=test)
        (made,) = make_points_filters(aligned, [[3, "Tern–Quay"]])
        self.assertEqual(([group.field for group in made.groups], made.points), (["route"], (("Tern–Quay",),)))
        self.assertEqual(make_points_filters(chart(by=[month], aligned=test), [[3]]), ())

    def test_what_was_gathered_is_all_that_the_question_does_not_keep(self):
        only = [
            {"kind": "range", "field": "fare", "low": 1},
            {"kind": "measure", "measure": FARE, "low": 5},
        ]
        (made,) = make_points_filters(chart(by=["route"], keep=TOP_TWO, only=only), [[REST_POINT]])
        self.assertEqual((made.rest.field, made.rest.keep.count, made.rest.follows), ("route", 2, True))
        self.assertEqual([each.kind for each in made.rest.filters], ["range"])

    def test_what_cannot_be_selected_is_said(self):
        for definition, message in (
            (chart(by=["route"]), "gathers nothing any more"),
            (chart(by=["region"], split="route", keep={**TOP_TWO, "of": "within"}), "in each group"),
        ):
            with self.subTest(message), self.assertRaises(DefinitionProblem) as caught:
                make_points_filters(definition, [[REST_POINT]])
            self.assertIn(message, caught.exception.message)

    def test_nonsense_is_refused(self):
        for points in (None, 5, "ab", [], [[]], [5], [[{"x": 1}]], {"a": 1}):
            with self.subTest(points), self.assertRaises(DefinitionProblem):
                make_points_filters(chart(by=["region"]), points)
