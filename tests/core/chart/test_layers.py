from __future__ import annotations

import json
import unittest
from itertools import pairwise

from hypothesis import example, given
from hypothesis import strategies as st

from tests.core.chart import test_kinds
from tests.core.chart.test_charts import FARE, MONTH, asked, chart
from tests.core.chart.test_kinds import MEASURES, drawn, validator
from veduta.core.chart.drawing.shades import Steps

PASSENGERS = {"field": "passengers", "aggregate": "sum"}
NUMBERS = st.floats(-1e9, 1e9).map(lambda number: round(number, 3))


class StepsOfShades(unittest.TestCase):
    @given(st.lists(NUMBERS, min_size=2, unique=True), st.integers(1, 9))
    @example([0.1, 0.2, 0.3, 0.6], 6)
    @example([0, 10, 20, 30], 3)
    def test_each_value_has_the_middle_of_the_one_step_that_holds_it(self, values, number):
        steps = Steps.from_range(min(values), max(values), number)
        ends = [steps.end(i) for i in range(steps.count + 1)]
        self.assertLessEqual(steps.count, 3 * number + 2)
        for value in values:
            holding = [
                (low + high) / 2
                for i, (low, high) in enumerate(pairwise(ends))
                if low <= value < high or (i == steps.count - 1 and value == high)
            ]
            self.assertEqual([steps.find_middle(value)], holding)


class OrderOfSeries(unittest.TestCase):
    def drawn(self, **parts):
        answered = asked(chart(show=[FARE], by=[MONTH], split="region", **{"kind": "bar"} | parts))
        return answered, answered.drawing.spec["encoding"]["color"]["scale"]

    def test_an_own_one_holds_in_the_legend_and_in_stacks_and_leaves_colours(self):
        usual, own = self.drawn(), self.drawn(series_order=["South Banks", "Inner Sound"])
        self.assertEqual(own[1]["domain"], ["South Banks", "Inner Sound", "North Reach"])
        colours = [dict(zip(scale["domain"], scale["range"], strict=True)) for _, scale in (usual, own)]
        self.assertEqual(*colours)
        ranks = {(row["series"], row["rank"]) for row in own[0].drawing.rows}
        self.assertEqual(ranks, {("South Banks", 0), ("Inner Sound", 1), ("North Reach", 2)})

    def test_it_holds_side_by_side_and_in_a_crosstab(self):
        order = ["South Banks", "North Reach", "Inner Sound"]
        answered, _ = self.drawn(series_order=order, settings={"stacking": "grouped"})
        self.assertEqual(answered.drawing.spec["encoding"]["xOffset"]["sort"], order)
        self.assertEqual([name for name, _ in answered.series], order)
        table = asked(chart(kind="crosstab", show=[FARE], by=[MONTH], split="region", series_order=order))
        self.assertEqual([cell.text for cell in table.drawing.table.headings[0]][1:4], order)


class Shaded(unittest.TestCase):
    def layered(self, rows=None, **layer):
        layers = [{"measures": [0], "how": "bar", **layer}]
        return asked(chart(kind="layers", show=[FARE], by=["route"], layers=layers), rows).drawing

    def test_marks_have_the_shade_of_a_measure_that_is_not_shown_and_say_it(self):
        drawing = self.layered(shade=PASSENGERS)
        self.assertEqual(drawing.spec["encoding"]["fill"]["field"], "shade")
        for row in drawing.rows:
            self.assertEqual([row["tip"][-1][0], row["shade"] >= 0], ["Passengers", True])
            self.assertIn(f"{row['tip'][-1][1]} Passengers", row["said"])

    def test_steps_are_named_in_the_legend(self):
        rows = [{"route": f"R{i}", "fare": 100.0 * i, "passengers": i} for i in range(11)]
        drawing = self.layered(rows, shade=FARE, steps=5)
        legend = drawing.spec["encoding"]["fill"]["legend"]
        self.assertEqual(legend["values"], [100, 300, 500, 700, 900])
        self.assertIn("'€200 to €400'" if "€" in legend["labelExpr"] else "'200 to 400'", legend["labelExpr"])
        shades = {row["value"]: row["shade"] for row in drawing.rows}
        self.assertEqual(shades, {100.0 * i: min(200 * (100 * i // 200) + 100, 900) for i in range(11)})

    def test_shades_of_several_layers_do_not_share_a_scale(self):
        layers = [
            {"measures": [0], "how": "bar", "shade": PASSENGERS},
            {"measures": [1], "how": "dot", "shade": FARE, "axis": "second"},
        ]
        definition = chart(kind="layers", show=[FARE, PASSENGERS], by=["route"], layers=layers)
        spec = asked(definition).drawing.spec
        self.assertEqual(spec["resolve"]["scale"]["fill"], "independent")
        self.assertTrue(validator("vega-lite").is_valid(spec))

    def test_what_a_layer_goes_by_is_among_the_fields_of_the_chart(self):
        definition = chart(show=[FARE], by=["route"], layers=[{"measures": [0], "how": "bar", "shade": PASSENGERS}])
        self.assertLessEqual({"fare", "passengers", "route"}, definition.list_fields())
        tested = chart(by=["route"], layers=[{"measures": [0], "how": "bar", "test": 'sum("#passengers") > 3'}])
        self.assertIn("passengers", tested.list_fields())


class Undivided(unittest.TestCase):
    """A layer that is not split over others that are."""

    def rows(self, **parts):
        layers = [{"measures": [0], "how": "bar"}, {"measures": [0], "how": "line", "undivided": True}]
        parts = {"show": [FARE], "by": [MONTH], "split": "region", "kind": "layers", "layers": layers, **parts}
        answered = asked(chart(**parts))
        bars, line = ([row for row in answered.drawing.rows if row["layer"] == number] for number in (0, 1))
        return answered, bars, line

    def test_it_shows_what_the_others_come_to_and_the_sentence_says_so(self):
        answered, bars, line = self.rows()
        self.assertEqual(len({row["name"] for row in line}), len(line))
        for row in line:
            parts = [bar["value"] for bar in bars if bar["name"] == row["name"] and bar["value"] is not None]
            self.assertEqual(row["value"], sum(parts) if parts else None)
            self.assertEqual(len(row["point"] or [""]), 1)
        self.assertIn("a line of all together", answered.sentence)
        self.assertEqual({row["paint"] for row in line}, {"Fare, all together"})

    def test_the_mean_of_all_is_no_sum_of_means(self):
        _, bars, line = self.rows(show=[{"field": "fare", "aggregate": "mean"}])
        row = max(line, key=lambda row: row["value"] or 0)
        own = [bar["value"] for bar in bars if bar["name"] == row["name"] and bar["value"] is not None]
        self.assertTrue(min(own) <= row["value"] <= max(own))

    def test_beside_shares_it_has_an_axis_of_its_own(self):
        answered, _, _ = self.rows(settings={"stacking": "full"})
        self.assertIn("Totals have an axis of their own beside shares.", answered.notes)
        self.assertIn('"orient": "right"', json.dumps(answered.drawing.spec))

    def test_without_a_split_there_is_nothing_to_put_together(self):
        _, bars, line = self.rows(split=None)
        self.assertEqual([row["value"] for row in bars], [row["value"] for row in line])


class RoomOfLyingBars(unittest.TestCase):
    """Names, series of each, whether they stand beside one another; the step and the least height they get."""

    TABLE = (
        (3, 1, "stacked", None, 60 + 3 * 17),
        (12, 1, "stacked", None, 60 + 12 * 17),
        (13, 1, "stacked", 24, 60 + 13 * 17),
        (13, 3, "stacked", 24, 60 + 13 * 17),
        (4, 3, "grouped", None, 60 + 4 * 21),
        (6, 2, "grouped", None, 60 + 6 * 17),
        (7, 2, "grouped", 12, 60 + 7 * 17),
        (5, 3, "grouped", 12, 60 + 5 * 21),
    )

    def test_each_can_be_read(self):
        for names, series, stacking, step, least in self.TABLE:
            rows = [
                test_kinds.row(i, route=f"Route {i % names:02}", region=f"Sea {i // names}")
                for i in range(names * series)
            ]
            parts = {"show": [MEASURES[0]], "by": ["route"], "kind": "lying", "settings": {"stacking": stacking}}
            with self.subTest(names=names, series=series, stacking=stacking):
                drawing = drawn({**parts, **({"split": "region"} if series > 1 else {})}, rows).drawing
                self.assertEqual(drawing.spec["height"], {"step": step} if step else "container")
                self.assertEqual(drawing.least_height, least)
