"""Random charts of random rows say what a plain loop says: values, stacks, parts of a whole, steps, shares so far."""

from __future__ import annotations

import math
import unittest
from collections import defaultdict
from collections.abc import Callable
from itertools import pairwise
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import context_of, sailings
from veduta.core.chart.definition import load_definition
from veduta.core.chart.drawing.picture import iterate_units
from veduta.core.chart.question import AnsweredChart, ask

Row = dict[str, Any]
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "region": st.sampled_from(["North Reach", "Inner Sound", "Outer Skerries", None]),
            "route": st.sampled_from([f"Route {i}" for i in range(12)]),
            "fare": st.none() | st.integers(-20, 90).map(float),
            "passengers": st.none() | st.integers(0, 9),
        }
    ),
    min_size=1,
    max_size=40,
)


def total(rows: list[Row], name: str) -> float | None:
    there = [row[name] for row in rows if row[name] is not None]
    return sum(there) if there else None


def mean(rows: list[Row]) -> float | None:
    there = [row["fare"] for row in rows if row["fare"] is not None]
    return sum(there) / len(there) if there else None


ADD_UP: dict[str, tuple[dict, Callable[[list[Row]], float | None]]] = {
    "sum": ({"field": "fare", "aggregate": "sum"}, lambda rows: total(rows, "fare")),
    "count of rows": ({}, len),
    "a sum by a formula": ({"formula": 'sum("#passengers") * 2'}, lambda rows: _twice(total(rows, "passengers"))),
}
OTHERS: dict[str, tuple[dict, Callable[[list[Row]], float | None]]] = {
    "mean": ({"field": "fare", "aggregate": "mean"}, mean),
    "distinct": (
        {"field": "passengers", "aggregate": "count_distinct"},
        lambda rows: len({row["passengers"] for row in rows} - {None}),
    ),
    "highest": (
        {"field": "fare", "aggregate": "max"},
        lambda rows: max((row["fare"] for row in rows if row["fare"] is not None), default=None),
    ),
    "a ratio": (
        {"formula": 'sum("#fare") / count_rows()'},
        lambda rows: None if total(rows, "fare") is None else total(rows, "fare") / len(rows),
    ),
}
MEASURES = ADD_UP | OTHERS


def _twice(value: float | None) -> float | None:
    return None if value is None else 2 * value


def drawn(rows: list[Row], **parts: Any) -> AnsweredChart:
    model = sailings(rows)
    return ask(load_definition({"dataset": "d", **parts}), model, context_of(model))


def by(rows: list[Row], *names: str) -> dict[tuple, list[Row]]:
    found: dict[tuple, list[Row]] = defaultdict(list)
    for row in rows:
        found[tuple(row[name] for name in names)].append(row)
    return found


def is_near(a: float | None, b: float | None) -> bool:
    return a is b is None or (a is not None and b is not None and math.isclose(a, b, abs_tol=1e-9))


class RandomCharts(unittest.TestCase):
    @examples(120)
    @given(ROWS, st.sampled_from(sorted(MEASURES)), st.sampled_from(["", "bar", "lying", "line", "area", "heat"]))
    def test_marks_have_the_values_of_a_loop_and_only_what_adds_up_is_stacked(self, rows, name, kind):
        measure, value_of = MEASURES[name]
        answered = drawn(rows, show=[measure], by=["route"], split="region", **({"kind": kind} if kind else {}))
        expected = {key: value_of(own) for key, own in by(rows, "route", "region").items()}
        for mark in answered.drawing.rows:
            if mark["point"] is not None:
                self.assertTrue(is_near(mark["value"], expected[tuple(mark["point"])]), (mark, expected))
        self.assertTrue({tuple(mark["point"]) for mark in answered.drawing.rows if mark["point"]} <= expected.keys())
        stacks = {
            channel.get("stack")
            for unit in iterate_units(answered.drawing.spec or {})
            for channel in unit["encoding"].values()
            if isinstance(channel, dict)
        }
        self.assertTrue(name in ADD_UP or not stacks & {"zero", "normalize"}, stacks)

    @examples(120)
    @given(ROWS, st.sampled_from(sorted(MEASURES)), st.sampled_from(["pie", "ring"]))
    def test_parts_of_a_whole_come_to_all_of_it_and_the_smallest_are_gathered(self, rows, name, kind):
        measure, value_of = MEASURES[name]
        answered = drawn(rows, show=[measure], by=["route"], kind=kind)
        if name not in ADD_UP:
            self.assertNotEqual(answered.kind.name, kind)
            return
        if answered.kind.name != kind:
            return  # values below zero are no parts
        values = {key: value for key, own in by(rows, "route").items() if (value := value_of(own)) and value > 0}
        parts = answered.drawing.rows
        self.assertAlmostEqual(sum(mark["end"] - mark["start"] for mark in parts), 1 if values else 0)
        own = [mark for mark in parts if mark["point"] is not None]
        for mark in own:
            self.assertAlmostEqual(mark["end"] - mark["start"], values[tuple(mark["point"])] / sum(values.values()))
        gathered = [value for key, value in values.items() if list(key) not in [mark["point"] for mark in own]]
        if gathered:
            self.assertLessEqual(max(gathered), min(values[tuple(mark["point"])] for mark in own))
            self.assertIs(parts[-1]["point"], None)

    @examples(120)
    @given(ROWS, st.sampled_from(sorted(MEASURES)))
    def test_a_waterfall_ends_at_the_total(self, rows, name):
        measure, value_of = MEASURES[name]
        answered = drawn(rows, show=[measure], by=["route"], kind="waterfall")
        self.assertEqual(answered.kind.name == "waterfall", name in ADD_UP)
        if answered.kind.name == "waterfall":
            bars = [row for row in answered.drawing.rows if row["layer"] == 0]
            self.assertTrue(is_near(bars[-1]["to"], value_of(rows) or 0))
            for before, after in pairwise(bars[:-1]):
                self.assertTrue(is_near(before["to"], after["value"]))

    @examples(120)
    @given(ROWS, st.sampled_from(sorted(MEASURES)), st.integers(1, 5))
    def test_shares_so_far_rise_to_all_with_other_last(self, rows, name, kept):
        measure, _ = MEASURES[name]
        keep = {"count": kept, "by": measure, "rest": True}
        answered = drawn(rows, show=[measure], by=["route"], keep=keep, kind="cumulative")
        self.assertEqual(answered.kind.name == "cumulative", name in ADD_UP)
        if answered.kind.name != "cumulative":
            return
        shares = [row["value"] for row in answered.drawing.rows if row["layer"] == 1 and row["value"] is not None]
        names = [row["name"] for row in answered.drawing.rows if row["layer"] == 0]
        if shares:
            self.assertAlmostEqual(shares[-1], 1)
        if "Other" in names:
            self.assertEqual(names[-1], "Other")

    @examples(80)
    @given(ROWS, st.sampled_from(sorted(MEASURES)))
    def test_an_undivided_layer_is_worked_out_from_the_rows(self, rows, name):
        measure, value_of = MEASURES[name]
        layers = [{"measures": [0], "how": "bar"}, {"measures": [0], "how": "dot", "undivided": True}]
        answered = drawn(rows, show=[measure], by=["route"], split="region", kind="layers", layers=layers)
        expected = {key: value_of(own) for key, own in by(rows, "route").items()}
        found = {tuple(row["point"]): row["value"] for row in answered.drawing.rows if row["layer"] == 1}
        self.assertEqual(found.keys(), expected.keys())
        self.assertTrue(all(is_near(value, expected[key]) for key, value in found.items()))


if __name__ == "__main__":
    unittest.main()
