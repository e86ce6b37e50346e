"""Values of a dimension that stand together under a name."""

from __future__ import annotations

import unittest
from collections import defaultdict
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import context_of, sailings
from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.drilling import apply_drill_step
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.mark_filters import make_points_filters
from veduta.core.chart.question import ask
from veduta.core.chart.value_groups import put_together
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model
from veduta.core.number_format import REST_POINT
from veduta.core.query.filters import label_grouping

ROWS = [
    {"region": region, "route": route, "fare": float(fare), "passengers": fare}
    for region, route, fare in (("North", "A", 1), ("South", "B", 2), (None, "C", 4), ("East", "A", 8), ("", "A", 16))
]
MODEL = sailings(ROWS)
FARE = {"field": "fare", "aggregate": "sum"}


def chart(*by, **parts) -> ChartDefinition:
    return load_definition({"dataset": "d", "kind": "table", "show": [FARE], "by": list(by), **parts})


def grouped(definition: ChartDefinition, *points: Any, name: str = "") -> ChartDefinition:
    return apply_drill_step(definition, put_together(definition, points, name, MODEL), MODEL)


def shown(definition: ChartDefinition, model: Model = MODEL) -> dict[Any, float]:
    depth = len(definition.groups)
    frame = ask(definition, model, context_of(model)).result.frame
    return {row[0] if depth == 1 else row[:depth]: row[depth] for row in frame.iter_rows()}


class Together(unittest.TestCase):
    def test_values_are_one_and_the_others_stay(self):
        found = grouped(chart("region"), ["North"], [None], name="Far")
        self.assertEqual(shown(found), {"Far": 5, "South": 2, "East": 8, "": 16})
        self.assertEqual(label_grouping(found.by[0], MODEL.schema), "Region with Far put together")

    def test_without_a_name_they_have_their_own(self):
        self.assertIn("North, South and empty", shown(grouped(chart("region"), ["North"], ["South"], [None])))

    def test_a_name_that_another_value_has_is_refused(self):
        coast = grouped(chart("region"), ["North"], [None], name="Coast")
        for definition, points, name in (
            (chart("region"), [["North"], [None]], "South"),
            (coast, [["South"], ["East"]], "Coast"),
        ):
            with self.assertRaisesRegex(DefinitionProblem, f"another value called “{name}”"):
                grouped(definition, *points, name=name)
        self.assertIn("North", shown(grouped(chart("region"), ["North"], [None], name="North")))
        self.assertIn("North", shown(grouped(coast, ["South"], ["East"], name="North")))

    def test_more_can_be_put_to_them(self):
        found = grouped(chart("region"), ["North"], ["South"], name="Coast")
        more = grouped(found, ["Coast"], ["East"], name="All")
        self.assertEqual(shown(more), {"All": 11, None: 4, "": 16})
        self.assertEqual([each.values for each in more.by[0].together], [("North", "South", "East")])
        beside = grouped(found, ["East"], [None], name="Far")
        self.assertEqual(shown(beside), {"Coast": 3, "Far": 12, "": 16})

    def test_those_of_the_dimension_in_which_the_marks_differ(self):
        both = chart("region", split={"field": "route"})
        found = grouped(both, ["North", "A"], ["North", "B"], name="AB")
        self.assertEqual([group.together != () for group in found.groups], [False, True])
        found = grouped(both, ["North", "A"], ["South", "B"], name="NS")
        self.assertEqual([group.together != () for group in found.groups], [True, False])

    def test_marks_of_them_are_their_rows(self):
        found = grouped(chart("region"), ["North"], [None], name="Far")
        (marks,) = make_points_filters(found, [["Far"]])
        narrowed = chart("route").model_copy(update={"only": (marks,)})
        self.assertEqual(shown(narrowed), {"A": 1, "C": 4})
        down = apply_edit(found, MODEL, {"edit": "only_marks", "points": [["Far"]]})
        self.assertEqual(shown(down), {"Far": 5})

    def test_totals_shares_and_the_first_so_many_go_by_them(self):
        share = {"formula": "share(sum(fare))", "name": "Share"}
        found = grouped(chart("region", show=[FARE, share]), ["North"], ["East"], name="Cold")
        frame = ask(found, MODEL, context_of(MODEL)).result.frame
        self.assertAlmostEqual(dict(zip(frame.to_series(0), frame.to_series(2), strict=True))["Cold"], 9 / 31)
        best = chart("region", keep={"count": 1, "by": FARE, "rest": True})
        best = grouped(best, ["North"], ["South"], ["East"], name="Land")
        self.assertEqual(next(iter(shown(best).values())), 16)
        with self.assertRaises(DefinitionProblem):
            make_points_filters(best, [[REST_POINT]])

    def test_a_random_grouping_is_the_one_of_a_loop(self):
        values = st.sampled_from(["North", "South", "East", "", None])

        @given(st.lists(st.tuples(values, st.integers(-99, 99)), min_size=1, max_size=20), st.sets(values, min_size=1))
        def check(rows, chosen):
            model = sailings([{"region": region, "fare": float(fare)} for region, fare in rows])
            expected: dict[Any, float] = defaultdict(float)
            for region, fare in rows:
                expected["In it" if region in chosen else region] += fare
            step = put_together(chart("region"), [[each] for each in chosen], "In it", model)
            self.assertEqual(shown(apply_drill_step(chart("region"), step, model), model), expected)

        check()

    def test_what_cannot_be_put_together_is_said(self):
        refused = [
            (chart("passengers"), [[1], [2]], "not a text"),
            (chart(), [["North"]], "no values of their own"),
            (chart("region"), [], "no values of their own"),
            (chart("region"), [["North"], [REST_POINT]], "gathered"),
        ]
        for definition, points, words in refused:
            with self.subTest(words), self.assertRaises(DefinitionProblem) as caught:
                put_together(definition, points, "", MODEL)
            self.assertIn(words, caught.exception.message)
        of_numbers = {"field": "passengers", "together": [{"name": "Few", "values": ["1"]}]}
        with self.assertRaises(DefinitionProblem):
            ask(chart(of_numbers), MODEL, context_of(MODEL))


class Making(unittest.TestCase):
    def test_they_are_put_together_and_apart_in_the_sentence(self):
        edit = {"edit": "group_marks", "points": [["North"], ["South"]], "name": "Coast"}
        found = apply_edit(chart("region", drill={"off": True}), MODEL, edit)
        self.assertEqual(shown(found), {"Coast": 3, None: 4, "East": 8, "": 16})
        self.assertTrue(found.drill.off)
        away = {"edit": "set_apart", "clause": "by", "index": 0, "name": "Coast"}
        self.assertEqual(apply_edit(found, MODEL, away).by, chart("region").by)
        with self.assertRaises(DefinitionProblem):
            apply_edit(chart("region"), MODEL, away)
