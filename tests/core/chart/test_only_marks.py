"""Marks of a chart that become its filters."""

from __future__ import annotations

import unittest

from tests.core.support import context_of, sailings
from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.question import ask
from veduta.core.errors import DefinitionProblem

ROWS = [
    {"region": region, "route": route, "fare": float(fare)}
    for region, route, fare in (
        ("North", "A", 1),
        ("North", "B", 2),
        ("South", "C", 4),
        (None, "D", 8),
        ("South", "B", 16),
    )
]
MODEL = sailings(ROWS)


def chart(*by: str, **parts) -> ChartDefinition:
    show = [{"field": "fare", "aggregate": "sum"}]
    return load_definition({"dataset": "d", "kind": "table", "show": show, "by": list(by), **parts})


def after(definition: ChartDefinition, *points: list, exclude: bool = False) -> ChartDefinition:
    return apply_edit(definition, MODEL, {"edit": "only_marks", "points": list(points), "exclude": exclude})


def shown(definition: ChartDefinition) -> set[tuple]:
    return {row[:-1] for row in ask(definition, MODEL, context_of(MODEL)).result.frame.iter_rows()}


class OnlyMarks(unittest.TestCase):
    def test_of_one_dimension_they_are_a_list_of_its_values(self):
        only = after(chart("region"), ["North"])
        self.assertEqual([(each.kind, each.values) for each in only.only], [("list", ("North",))])
        self.assertEqual(shown(only), {("North",)})
        self.assertEqual(shown(after(only, ["South"])), {("South",)}, "in the place of the list that is there")

    def test_what_is_left_out_is_listed_together(self):
        without = after(after(chart("region"), ["North"], exclude=True), [None], exclude=True)
        self.assertEqual([each.values for each in without.only], [("North", None)])
        self.assertEqual(shown(without), {("South",)})

    def test_of_several_dimensions_they_are_marks(self):
        marks = [["North", "B"], ["South", "C"]]
        self.assertEqual(shown(after(chart("region", "route"), *marks)), {("North", "B"), ("South", "C")})
        left = shown(after(chart("region", "route"), *marks, exclude=True))
        self.assertEqual(left, {("North", "A"), (None, "D"), ("South", "B")})

    def test_a_list_that_leaves_out_and_one_that_lets_pass_stand_beside_each_other(self):
        both = after(after(chart("region"), ["North"], exclude=True), ["South"])
        self.assertEqual([each.exclude for each in both.only], [True, False])
        self.assertEqual(shown(both), {("South",)})

    def test_a_chart_without_dimensions_has_no_such_marks(self):
        for points in ([["North"]], [[]], "North"):
            with self.subTest(points), self.assertRaises(DefinitionProblem):
                apply_edit(chart(), MODEL, {"edit": "only_marks", "points": points})
