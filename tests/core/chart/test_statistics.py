"""The numbers that drawings work out, against plain loops and other libraries."""

from __future__ import annotations

import calendar
import datetime as dt
import math
import statistics
import unittest
from itertools import combinations

import numpy as np
import polars as pl
from django.test import tag
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import SAILING_FIELDS, MemoryTable, context_of, field, sailings, sailings_table
from veduta.core.calendar import Grain
from veduta.core.chart.definition import load_definition
from veduta.core.chart.drawing.colours import compute_luminance, interpolate_colours, needs_white
from veduta.core.chart.drawing.in_cells import draw_small_line
from veduta.core.chart.drawing.picture import iterate_units
from veduta.core.chart.kinds.cumulative import compute_running_total
from veduta.core.chart.kinds.target import compute_expected_share
from veduta.core.chart.kinds.waterfall import make_steps
from veduta.core.chart.question import ask
from veduta.core.chart.trend_lines import fit_line
from veduta.core.data.fields import DataType, Schema
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable
from veduta.core.model.model import Model

NUMBERS = st.floats(-1e6, 1e6).map(lambda value: round(value, 2))
FARE, PASSENGERS = ({"field": name, "aggregate": "sum"} for name in ("fare", "passengers"))


def drawn(rows, **parts):
    model = sailings(rows)
    return ask(load_definition({"dataset": "d", **parts}), model, context_of(model)).drawing


class Fits(unittest.TestCase):
    @examples(60)
    @given(st.lists(st.tuples(NUMBERS, NUMBERS), min_size=3, max_size=40, unique_by=lambda pair: pair[0]))
    def test_a_straight_line_is_that_of_least_squares(self, points):
        x, y = zip(*points, strict=True)
        slope, start = statistics.linear_regression(x, y)
        line = fit_line(x, y, "linear")
        spread = max(1.0, max(map(abs, y)))
        for along, value in zip(line.xs, line.ys, strict=True):
            self.assertAlmostEqual(value / spread, (start + slope * along) / spread, places=5)
        if len(set(y)) > 1:
            self.assertAlmostEqual(line.r_squared, statistics.correlation(x, y) ** 2, places=5)

    def test_known_curves_are_found_again(self):
        x = [0.5 * i for i in range(20)]
        for fit, curve, equation in (
            ("linear", lambda v: 3 * v - 2, "y = 3 x − 2"),
            ("quadratic", lambda v: 2 * v**2 - v + 5, "y = 2 x² − 1 x + 5"),
            ("cubic", lambda v: -(v**3) + 4 * v, None),
            ("exponential", lambda v: 2 * math.exp(0.3 * v), "y = 2 · e^(0.3 x)"),
        ):
            with self.subTest(fit):
                line = fit_line(x, [curve(v) for v in x], fit)
                self.assertAlmostEqual(line.r_squared, 1, places=9)
                self.assertTrue(np.allclose(line.ys, [curve(v) for v in line.xs]))
                self.assertEqual(line.equation, equation or line.equation)
                self.assertEqual(line.count, 20)

    @tag("long")
    def test_a_smoothed_line_follows_what_is_straight(self):
        x = list(range(30))
        line = fit_line(x, [2.0 * v for v in x], "smoothed")
        self.assertTrue(np.allclose(line.ys, [2.0 * v for v in line.xs]))
        self.assertEqual((line.equation, line.r_squared), ("", None))

    def test_what_has_no_line_says_why(self):
        self.assertIn("at least 2 points", fit_line([1, 1, 1], [1, 2, 3], "linear"))
        self.assertIn("at least 4 points", fit_line([1, 2, 3], [1, 2, 3], "cubic"))
        self.assertIn("above zero", fit_line([1, 2, 3], [1, 0, 3], "exponential"))
        self.assertIsNone(fit_line([1, 2, 3], [4, 4, 4], "linear").r_squared)

    def test_a_line_of_equal_values_has_no_slope(self):
        x = [1.0, 2.5, 3.0, 4.0, 17.0, 1e6]
        for fit in ("linear", "quadratic", "cubic", "exponential"):
            line = fit_line(x, [4.1] * len(x), fit)
            self.assertEqual(line.equation, "y = 4.1", fit)
            self.assertTrue(np.allclose(line.ys, 4.1))

    def test_each_colour_has_its_own_line_also_in_panels(self):
        rows = [
            {"route": f"R{i}", "region": "NS"[i % 2], "fare": float(i * i), "passengers": i, "cancelled": i % 3 == 0}
            for i in range(24)
        ]
        parts = {"kind": "scatter", "show": [PASSENGERS, FARE], "by": ["route"], "split": "region"}
        for panels in ({}, {"panels": {"by": ["cancelled"]}}):
            drawing = drawn(rows, **parts, **panels, settings={"fit": "linear", "fit_over": "each"})
            lines = [unit for unit in iterate_units(drawing.spec) if unit["mark"]["type"] == "line"]
            self.assertEqual(len(lines), 4 if panels else 2)
            self.assertEqual({each["encoding"]["color"]["field"] for each in lines}, {"paint"})

    def test_the_note_of_a_scatter_says_equation_and_count(self):
        rows = [{"route": f"R{i}", "fare": 3.0 * i + 1, "passengers": i} for i in range(8)]
        parts = {"kind": "scatter", "show": [PASSENGERS, FARE], "by": ["route"], "settings": {"fit": "linear"}}
        self.assertIn("The line: y = 3 x + 1, R² 1.000, from 8 dots.", drawn(rows, **parts).notes)


class Waterfalls(unittest.TestCase):
    @given(st.lists(st.one_of(st.none(), NUMBERS), max_size=20), st.one_of(st.none(), NUMBERS))
    def test_each_part_starts_where_the_one_before_ended(self, changes, begin):
        found = make_steps(changes, begin)
        at = begin or 0.0
        for step, change in zip(found[begin is not None :], changes, strict=False):
            self.assertAlmostEqual(step.start, at, places=4)
            at += change or 0.0
            self.assertAlmostEqual(step.end, at, places=4)
        self.assertTrue(found[-1].is_total)
        self.assertAlmostEqual(found[-1].end, at, places=4)

    def test_it_goes_from_one_measures_total_to_the_others(self):
        rows = [{"region": r, "fare": f, "passengers": p} for r, f, p in (("A", 5.0, 2), ("B", 1.0, 4))]
        marks = drawn(rows, kind="waterfall", show=[PASSENGERS, FARE], by=["region"]).rows
        bars = [(m["name"], m["value"], m["to"], m["series"][0]) for m in marks if m["layer"] == 0]
        self.assertEqual(
            bars,
            [("Passengers", 0, 6, "t"), ("A", 6, 9, "▲"), ("B", 9, 6, "▼"), ("Fare", 0, 6, "t")],
        )


class Shares(unittest.TestCase):
    @given(st.lists(st.floats(0, 1e6), min_size=1, max_size=30))
    def test_shares_so_far_end_with_the_whole(self, values):
        found = compute_running_total(values)
        if sum(values):
            self.assertAlmostEqual(found[-1], 1)
            self.assertEqual(found, sorted(found))
        else:
            self.assertEqual(set(found), {None})

    def test_parts_of_a_circle_are_their_shares_and_small_ones_are_gathered(self):
        rows = [{"route": f"R{i:02}", "fare": float(i)} for i in range(1, 13)]
        marks = drawn(rows, kind="pie", show=[FARE], by=["route"]).rows
        self.assertEqual(len(marks), 8)
        for mark in marks:
            self.assertAlmostEqual(mark["end"] - mark["start"], mark["value"] / 78)
        self.assertEqual((marks[-1]["name"], marks[-1]["value"], marks[-1]["point"]), ("Other", 15.0, None))
        self.assertAlmostEqual(marks[-1]["end"], 1)

    def test_nested_rectangles_have_the_area_of_their_values(self):
        rows = [{"region": f"N{i % 3}", "route": f"R{i}", "fare": 1.0 + i} for i in range(12)]
        marks = drawn(rows, kind="nested", show=[FARE], by=["route"]).rows
        whole = sum(mark["value"] for mark in marks)
        for mark in marks:
            area = (mark["right"] - mark["left"]) * (mark["bottom"] - mark["top"])
            self.assertAlmostEqual(area / (160 * 90), mark["value"] / whole)
        inside = drawn(rows, kind="nested", show=[FARE], by=["region"], split="route").rows
        for a in inside:
            for b in inside:
                apart = a["right"] <= b["left"] + 1e-6 or b["right"] <= a["left"] + 1e-6
                apart = apart or a["bottom"] <= b["top"] + 1e-6 or b["bottom"] <= a["top"] + 1e-6
                self.assertTrue(apart or a is b)


class Boxes(unittest.TestCase):
    def test_quartiles_agree_with_numpy(self):
        rows = [{"region": "ABC"[i % 3], "fare": float((i * 37) % 101)} for i in range(90)]
        marks = drawn(rows, kind="box", show=[{"field": "fare", "aggregate": "mean"}], by=["region"]).rows
        for region in "ABC":
            fares = [row["fare"] for row in rows if row["region"] == region]
            low, first, middle, third, high = np.percentile(fares, [0, 25, 50, 75, 100])
            whisker, box, median = (next(m for m in marks if m["layer"] == i and m["name"] == region) for i in range(3))
            self.assertEqual((whisker["value"], whisker["to"]), (low, high))
            self.assertEqual((box["value"], box["to"], median["value"]), (first, third, middle))

    @examples(40)
    @given(
        st.lists(
            st.tuples(st.sampled_from("AB"), st.sampled_from("CDE"), st.integers(1, 2), st.integers(1, 900)),
            min_size=1,
            max_size=20,
        )
    )
    def test_rectangles_of_levels_lie_within_those_above_and_do_not_overlap(self, cells):
        rows = [
            {"region": region, "route": route, "passengers": people, "fare": float(fare)}
            for region, route, people, fare in cells
        ]
        drawing = drawn(rows, kind="nested", show=[FARE], by=["region", "route", "passengers"])
        places = [(m["left"], m["top"], m["right"], m["bottom"]) for m in drawing.rows]
        self.assertEqual(len(places), len({cell[:3] for cell in cells}))
        for (left, top, right, bottom), (left2, top2, right2, bottom2) in combinations(places, 2):
            apart = right <= left2 + 1e-6 or right2 <= left + 1e-6 or bottom <= top2 + 1e-6 or bottom2 <= top + 1e-6
            self.assertTrue(apart)
        headings = drawing.spec["layer"][-1]["data"]["values"]
        self.assertEqual(len(headings), len({cell[0] for cell in cells}) + len({cell[:2] for cell in cells}))
        self.assertEqual({m["label"] for m in drawing.rows}, {str(cell[2]) for cell in cells})


class Figures(unittest.TestCase):
    def figure(self, months, **more):
        rows = [{"sailed": day, "fare": fare} for day, fare in months]
        by = [{"field": "sailed", "grain": "month"}]
        return drawn(rows, kind="trend", show=[FARE], by=by, **more).figures[0]

    def test_the_last_period_is_compared_with_the_one_before_and_a_year_before(self):
        days = [dt.date(2024 + (i + 10) // 12, (i + 10) % 12 + 1, 28) for i in range(14)]
        months = [(day, 100.0 + 10 * i) for i, day in enumerate(days)]
        figure = self.figure([*months, (dt.date(2025, 12, 31), 0.0)], settings={"better": "lower"})
        self.assertEqual((figure.of, figure.text), ("Dec 2025", "230.0"))
        self.assertEqual(
            [(change.text, change.tone) for change in figure.changes],
            [("▲ +4.5% on the month before", "worse"), ("▲ +109.1% on a year before", "worse")],
        )

    def test_an_unfinished_period_is_passed_over(self):
        figure = self.figure([(dt.date(2026, 1, 31), 10.0), (dt.date(2026, 2, 3), 1.0)])
        self.assertEqual((figure.of, figure.changes), ("Jan 2026", []))

    def test_the_way_there_has_gaps(self):
        self.assertEqual(draw_small_line([0, 10, None, 5, 5]).count("M"), 2)
        self.assertEqual(draw_small_line([4, None]), "")

    def test_a_single_one_is_compared_with_the_other_measures(self):
        rows = [{"fare": 90.0, "passengers": 80}, {"fare": 30.0, "passengers": 40}]
        compared = {"others": "compared", "better": "higher"}
        figures = drawn(rows, kind="figure", show=[FARE, PASSENGERS], settings=compared).figures
        self.assertEqual(len(figures), 1)
        self.assertEqual([(c.text, c.tone) for c in figures[0].changes], [("as passengers", "")])
        half = {"formula": 'sum("#fare") / 2', "name": "Half of it"}
        (figure,) = drawn(rows, kind="figure", show=[FARE, half], settings=compared).figures
        self.assertEqual([(c.text, c.tone) for c in figure.changes], [("▲ +100.0% on half of it", "better")])
        shares = [
            {"formula": formula, "name": name, "format": {"style": "percent"}}
            for formula, name in (("0.255", "Late"), ("0.3", "Goal"))
        ]
        (figure,) = drawn(rows, kind="figure", show=shares, settings=compared).figures
        self.assertEqual([(c.text, c.tone) for c in figure.changes], [("▼ −4.5 points on goal", "worse")])
        self.assertEqual(len(drawn(rows, kind="figure", show=[FARE, PASSENGERS]).figures), 2)

    def test_the_share_of_a_target(self):
        rows = [{"fare": 30.0, "passengers": 40}]
        figure = drawn(rows, kind="target", show=[FARE, PASSENGERS]).figures[0]
        self.assertEqual((figure.of, figure.filled, figure.aim), ("75.0% of passengers, 40", 75, 100))
        beyond = drawn([{"fare": 50.0, "passengers": 40}], kind="target", show=[FARE, PASSENGERS]).figures[0]
        self.assertEqual((beyond.filled, beyond.aim), (100, 80))
        none = drawn([{"fare": 50.0, "passengers": 0}], kind="target", show=[FARE, PASSENGERS])
        self.assertIn("no target above zero", none.notes[0])


class ExpectedByNow(unittest.TestCase):
    YEAR = [dt.date(2026, month, 1) for month in range(1, 13)]

    @given(st.integers(0, 364), st.lists(st.integers(0, 1000), min_size=12, max_size=12))
    def test_it_is_what_a_plain_loop_over_days_says(self, day, shape):
        until = dt.date(2026, 1, 1) + dt.timedelta(days=day)
        by_days = compute_expected_share(self.YEAR, Grain.MONTH, until)
        self.assertAlmostEqual(by_days, (day + 1) / 365)
        by_shape = compute_expected_share(self.YEAR, Grain.MONTH, until, dict(zip(self.YEAR, shape, strict=True)))
        passed = 0.0
        for n in range(day + 1):
            month = (dt.date(2026, 1, 1) + dt.timedelta(days=n)).month
            passed += shape[month - 1] / calendar.monthrange(2026, month)[1]
        if sum(shape):
            self.assertAlmostEqual(by_shape, passed / sum(shape))
        else:
            self.assertIsNone(by_shape)

    def test_the_figure_says_how_far_ahead_or_behind_it_is(self):
        # As much a month in 2026, with a target for the whole year; the year before most came late.
        rows = [{"sailed": dt.date(2026, month, 28), "fare": 60.0, "passengers": 100} for month in range(1, 9)]
        rows += [{"sailed": dt.date(2026, month, 1), "passengers": 100} for month in range(9, 13)]
        rows += [{"sailed": dt.date(2025, month, 1), "fare": 10.0 if month < 9 else 100.0} for month in range(1, 13)]
        asked = {
            "kind": "target",
            "show": [FARE, PASSENGERS],
            "by": [{"field": "sailed", "grain": "month"}],
            "only": [{"kind": "dates", "field": "sailed", "start": "2026-01-01", "end": "2026-12-31"}],
        }
        figure = drawn(rows, **asked, settings={"expected": "calendar"}).figures[0]
        self.assertEqual(figure.of, "40.0% of passengers, 1,200")
        self.assertEqual(figure.changes[0].text, "▼ 26.6 points behind what was expected by 31 Aug 2026: 66.6%, 799")
        figure = drawn(rows, **asked, settings={"expected": "year_before"}).figures[0]
        self.assertEqual(figure.changes[0].text, "▲ 23.3 points ahead of what was expected by 31 Aug 2026: 16.7%, 200")
        self.assertEqual((figure.changes[0].tone, figure.expected), ("better", 16.7))
        plain = drawn(rows, **asked).figures[0]
        self.assertEqual((plain.changes, plain.due), ([], 0))

    def due(self, rows: list, grain: str, goal: dict, only: dict, expected: str = "calendar") -> float:
        parts = {"kind": "target", "show": [FARE, goal], "by": [{"field": "sailed", "grain": grain}], "only": [only]}
        return round(drawn(rows, **parts, settings={"expected": expected}).figures[0].due, 4)

    def test_periods_that_the_filter_names_and_that_have_no_rows_yet_count(self):
        days = [dt.date(2026, 1, 1) + dt.timedelta(days=i) for i in range(150)]
        rows = [{"sailed": day, "fare": 1.0} for day in days]
        this_year = {"kind": "relative", "field": "sailed", "unit": "year", "count": 1}
        year = {"kind": "dates", "field": "sailed", "start": "2026-01-01", "end": "2026-12-31"}
        number = {"formula": "365"}
        for only in (this_year, year):
            for grain in ("day", "month", "quarter", "year"):
                self.assertEqual(self.due(rows, grain, number, only), round(150 / 365, 4), (only, grain))

    def test_a_target_from_a_table_says_the_same_as_one_that_is_a_number(self):
        rows = [{"sailed": dt.date(2026, 1, 1) + dt.timedelta(days=i), "fare": 1.0} for i in range(150)]
        goals = [{"month": dt.date(2026, month, 1), "goal": 30.0} for month in range(1, 13)]
        fields = [field("Month", DataType.DATE), field("Goal", DataType.DECIMAL)]
        table = MemoryTable(pl.DataFrame(goals), Schema(fields))
        definition = ModelDefinition(
            tables=(ModelTable(id="goals", dataset="g", name="Goals"),),
            joins=(ModelJoin(right="goals", keys=(JoinKey(left="sailed", right="month", grain="month"),)),),
        )
        model = Model({"": (sailings_table(rows), SAILING_FIELDS), "goals": (table, fields)}, definition)
        parts = {"kind": "target", "by": [{"field": "sailed", "grain": "month"}], "settings": {"expected": "calendar"}}
        for only in ([], [{"kind": "dates", "field": "sailed", "start": "2026-01-01", "end": "2026-12-31"}]):
            show = [FARE, {"field": "goals.goal", "aggregate": "sum"}]
            asked = load_definition({"dataset": "d", **parts, "show": show, "only": only})
            figure = ask(asked, model, context_of(model)).drawing.figures[0]
            self.assertEqual((round(figure.due, 4), round(figure.share, 4)), (round(150 / 365, 4), round(150 / 360, 4)))

    def test_only_the_named_days_of_a_period_count(self):
        rows = [{"sailed": dt.date(2026, 2, 1) + dt.timedelta(days=i), "fare": 1.0} for i in range(28)]
        some = {"kind": "dates", "field": "sailed", "start": "2026-02-15", "end": "2026-03-14"}
        self.assertEqual(self.due(rows, "month", {"formula": "28"}, some), 0.5)

    def test_the_year_before_counts_in_those_periods_too(self):
        rows = [{"sailed": dt.date(2025, month, 28), "fare": float(month)} for month in range(1, 13)]
        rows += [{"sailed": dt.date(2026, month, 28), "fare": 5.0} for month in range(1, 5)]
        year = {"kind": "dates", "field": "sailed", "start": "2026-01-01", "end": "2026-12-31"}
        self.assertEqual(self.due(rows, "month", {"formula": "60"}, year, "year_before"), round(10 / 78, 4))

    def test_without_a_year_before_it_goes_by_the_calendar(self):
        rows = [{"sailed": dt.date(2026, 1, 31), "fare": 1.0, "passengers": 2}]
        by = [{"field": "sailed", "grain": "month"}]
        drawing = drawn(rows, kind="target", show=[FARE, PASSENGERS], by=by, settings={"expected": "year_before"})
        self.assertIn("A year before there was nothing", drawing.notes[0])


class Contrast(unittest.TestCase):
    @given(st.integers(0, 0xFFFFFF))
    def test_text_on_any_colour_can_be_read(self, number):
        colour = f"#{number:06X}"
        light, dark = (1.05, compute_luminance(colour) + 0.05)
        contrast = light / dark if needs_white(colour) else dark / 0.05
        self.assertGreaterEqual(contrast, 4.5)

    def test_shades_lie_between_their_ends(self):
        self.assertEqual(interpolate_colours("#000000", "#FFFFFF", 0.5), "#808080")
        self.assertEqual(
            (interpolate_colours("#102030", "#FFFFFF", -1), interpolate_colours("#102030", "#A0B0C0", 2)),
            ("#102030", "#A0B0C0"),
        )
