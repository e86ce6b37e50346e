from __future__ import annotations

import datetime as dt
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE, asked, chart
from tests.core.chart.test_colours import luminance
from veduta.core.chart.drawing.colours import BLACK, WHITE, interpolate_colours
from veduta.core.chart.drawing.in_cells import STEPS, STRONG, choose_shade_step, is_strong, place_bar
from veduta.core.chart.palettes import AROUND, RISING
from veduta.core.chart.theme import DARK_SHADES, get_both_colours, get_both_text_colours
from veduta.core.errors import DefinitionProblem

NUMBERS = st.floats(-1e9, 1e9).map(lambda number: round(number, 2))
PASSENGERS = {"field": "passengers", "aggregate": "sum"}


def contrast(one: str, other: str) -> float:
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


class Cells(unittest.TestCase):
    @given(st.lists(NUMBERS, min_size=1))
    def test_bars_have_lengths_in_proportion_from_a_common_zero(self, values):
        low, high = min(values), max(values)
        spread = (max(high, 0) - min(low, 0)) or 1
        for value in values:
            start, length, negative = place_bar(value, low, high)
            self.assertAlmostEqual(length, 100 * abs(value) / spread, delta=0.02)
            zero = start + length if negative else start
            self.assertAlmostEqual(zero, 100 * -min(low, 0) / spread, delta=0.03)
            self.assertTrue(-0.01 <= start <= start + length <= 100.02)

    @given(st.lists(NUMBERS, min_size=1))
    def test_shades_rise_with_their_values(self, values):
        ordered = sorted(values)
        steps = [choose_shade_step(value, ordered[0], ordered[-1]) for value in ordered]
        ranks = [int(step[5:]) * (-1 if step.startswith("fall") else 1) for step in steps]
        self.assertEqual(ranks, sorted(ranks))
        self.assertEqual(any(step.startswith("fall") for step in steps), ordered[0] < 0 < ordered[-1])

    def test_numbers_on_every_shade_have_enough_contrast_in_both_themes(self):
        for way, (near, far) in {"rise": RISING, "fall": (AROUND[1], AROUND[0])}.items():
            for step in range(1, STEPS + 1):
                text = WHITE if is_strong(f"{way}-{step}") else BLACK
                share = (step - 1) / (STEPS - 1)
                dark = interpolate_colours(DARK_SHADES[near], DARK_SHADES[far], share)
                with self.subTest(way=way, step=step):
                    self.assertGreaterEqual(contrast(interpolate_colours(near, far, share), text), 4.5)
                    self.assertGreaterEqual(round(contrast(dark, DARK_SHADES[text]), 2), 4.5)
        self.assertEqual(set(STRONG), {"rise", "fall"})


class Tables(unittest.TestCase):
    ROWS = [
        {"route": route, "sailed": dt.date(2026, month, 3), "fare": fare * month, "passengers": month}
        for route, fare in (("Tern", 10.0), ("Quay", -5.0))
        for month in (1, 2, 4)
    ]

    def table(self, columns, rows=ROWS, **parts):
        look = {"columns": columns}
        asks = {"kind": "table", "show": [FARE, PASSENGERS], "by": ["route"], "look": look, **parts}
        return asked(chart(**asks), rows).drawing.table

    def test_totals_are_neither_drawn_on_nor_part_of_the_range(self):
        table = self.table([{"measure": 0, "draws": "bar"}, {"measure": 1, "draws": "shade"}], totals="all")
        cells = {row[0].text: row[1:] for row in table.rows}
        bars = [cells[route][0].bar for route in ("Tern", "Quay")]
        self.assertEqual(bars, [(33.33, 66.67, False), (0.0, 33.33, True)])
        self.assertEqual({cells[route][1].shade for route in cells}, {"rise-5"})  # all are equal
        self.assertEqual([(cell.bar, cell.shade) for cell in table.totals[0]], [(None, "")] * 3)

    def test_totals_are_drawn_on_and_count_when_asked(self):
        month = {"field": "sailed", "grain": "month"}
        for parts in ({"by": ["route", month], "totals": "all"}, {"kind": "crosstab", "by": ["route"], "split": month}):
            for totals in (False, True):
                with self.subTest(parts=parts, totals=totals):
                    table = self.table([{"measure": 0, "draws": "bar", "totals": totals}], show=[FARE], **parts)
                    self.assertEqual(table.totals[0][-1].bar is not None, totals)
                    lengths = [cell.bar[1] for row in table.rows for cell in row if cell.bar and cell.point]
                    self.assertEqual(max(lengths) < 60, totals)

    def test_in_a_crosstab_they_are_of_all_values_of_a_measure_but_totals(self):
        by = {"by": ["route"], "split": {"field": "sailed", "grain": "month"}}
        look = {"columns": [{"measure": 0, "draws": "bar"}]}
        table = asked(chart(kind="crosstab", show=[FARE], look=look, **by), self.ROWS).drawing.table
        bars = {row[0].text: [cell.bar for cell in row[1:]] for row in table.rows}
        self.assertEqual(bars["Tern"], [(33.33, 16.67, False), (33.33, 33.33, False), (33.33, 66.67, False), None])
        self.assertEqual(bars["Quay"][2], (0.0, 33.33, True))
        self.assertEqual({cell.bar for cell in table.totals[0]}, {None})

    def test_they_follow_the_filters(self):
        only = [{"kind": "list", "field": "route", "values": ["Tern"]}]
        table = self.table([{"measure": 0, "draws": "bar"}], only=only)
        self.assertEqual(table.rows[0][1].bar, (0.0, 100.0, False))

    def cells(self, column, rows=ROWS, **parts):
        """The cells of the first measure of each row, by the row's first word."""
        table = self.table([{"measure": 0, **column}], rows, **parts)
        return {row[0].text: row[-2] for row in table.rows}

    def test_bars_are_relative_to_fixed_ends_and_stay_within_them(self):
        cells = self.cells({"draws": "bar", "over": "fixed", "low": 0, "high": 35})
        self.assertEqual((cells["Tern"].bar, cells["Quay"].bar), ((0.0, 100.0, False), (0.0, 0.0, False)))
        look = {"draws": "bar", "side": "right", "high_colour": "teal", "low_colour": "worse"}
        cells = self.cells(look)
        self.assertEqual([cells[name].bar_colour for name in ("Tern", "Quay")], ["#008080", "worse"])
        self.assertEqual(cells["Tern"].bar_side, "right")

    def test_columns_share_a_range_and_groups_have_their_own(self):
        columns = [{"measure": i, "draws": "bar", "over": "table"} for i in (0, 1)]
        table = self.table(columns)
        tern = next(row for row in table.rows if row[0].text == "Tern")
        self.assertEqual([cell.bar[1] for cell in tern[1:]], [66.67, 6.67])  # 70 and 7, of -35 to 70
        rows = [row | {"region": "North" if row["route"] == "Tern" else "South"} for row in self.ROWS]
        by = [{"field": "region"}, {"field": "sailed", "grain": "month"}]
        table = self.table([{"measure": 1, "draws": "bar", "over": "groups"}], rows, by=by)
        for name in ("North", "South"):
            self.assertEqual(max(row[-1].bar[1] for row in table.rows if row[0].text == name), 100.0)

    def test_shades_go_between_colours_of_ones_own_and_around_a_middle(self):
        cells = self.cells({"draws": "shade", "low_colour": "#FFFFFF", "high_colour": "#000000"})
        # Negative values are there, so that zero is the middle.
        self.assertEqual((cells["Tern"].look.ground, cells["Quay"].look.ground[:2]), ("#000000", "#F"))
        around = {"draws": "shade", "middle": 70, "middle_colour": "#FF0000"}
        self.assertEqual(self.cells(around)["Quay"].look.ground, "#E3EFEE")  # the middle is the highest, so is none
        around["over"], around["high"] = "fixed", 140
        self.assertEqual(self.cells(around)["Tern"].look.ground, "#FF0000")

    def test_a_range_that_ends_before_it_begins_is_refused(self):
        for column in ({"low": 3, "high": 1}, {"low": 1, "middle": 1}, {"middle": 5, "high": 2}):
            with self.subTest(column=column), self.assertRaises(DefinitionProblem):
                self.cells({"draws": "bar", **column})

    @examples(40)
    @given(st.lists(NUMBERS, min_size=1, max_size=6), st.sampled_from(["", "table", "groups", "fixed"]), st.data())
    def test_any_values_have_bars_within_their_cells_and_numbers_that_can_be_read(self, values, over, data):
        ends = sorted(data.draw(st.lists(NUMBERS, min_size=2, max_size=2, unique=True)))
        rows = [{"route": str(i), "region": str(i % 2), "fare": value} for i, value in enumerate(values)]
        fixed = {"low": ends[0], "high": ends[1]} if over == "fixed" else {}
        by = {"by": ["region", "route"]}
        for draws in ("bar", "shade"):
            column = {"measure": 0, "draws": draws, "over": over, "high_colour": "#AA3300", **fixed}
            for row in self.table([column], rows, **by).rows:
                cell = row[-2]
                if draws == "bar":
                    self.assertTrue(-0.01 <= cell.bar[0] <= cell.bar[0] + cell.bar[1] <= 100.02, cell.bar)
                else:
                    for text, ground in zip(
                        get_both_text_colours("", cell.look.ground), get_both_colours(cell.look.ground), strict=True
                    ):
                        self.assertGreaterEqual(contrast(text, ground), 4.49)

    def test_a_small_line_goes_by_periods_with_gaps(self):
        table = self.table([{"measure": 0, "trend": {"field": "sailed", "grain": "month"}}])
        (tern,) = (row for row in table.rows if row[0].text == "Tern")
        # March is missing, so that the line begins anew in April.
        self.assertEqual((tern[1].line.count("M"), tern[1].line.count("L")), (2, 1))
        self.assertEqual(tern[1].line_said, "by month, Jan 2026 to Apr 2026")
        self.assertEqual(tern[2].line, "")

    @examples(20)
    @given(st.lists(st.tuples(st.sampled_from("AB"), st.sampled_from([None, 1.5, -2.0, 0.0]))))
    def test_any_rows_are_drawn(self, cells):
        rows = [{"route": route, "fare": fare, "sailed": dt.date(2026, 1, 1)} for route, fare in cells]
        columns = [
            {"measure": 0, "draws": "bar", "trend": {"field": "sailed", "grain": "month"}},
            {"measure": 1, "draws": "shade"},
        ]
        table = self.table(columns, rows)
        self.assertEqual(len(table.rows), len({route for route, _ in cells}))
