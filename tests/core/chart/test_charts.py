from __future__ import annotations

import datetime as dt
import json
import unittest

from tests.core.support import SAILING_FIELDS, context_of, sailings
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import ChartDefinition, check_fields, load_definition
from veduta.core.chart.kinds import get_kind
from veduta.core.chart.palettes import SERIES_COLOURS
from veduta.core.chart.question import OwnSelection, ask
from veduta.core.chart.sentence import write_default_title, write_sentence, write_sentence_text
from veduta.core.chart.theme import DARK_COLOURS, build_themes
from veduta.core.data.fields import DataType, NumberFormat, Schema
from veduta.core.errors import DefinitionProblem, MissingField, NewerDefinition
from veduta.core.number_format import format_number, settle

FARE = {"field": "fare", "aggregate": "sum"}
MONTH = {"field": "sailed", "grain": "month"}
ROWS = [
    {
        "region": r,
        "route": f"{r}-{i % 3}",
        "sailed": dt.date(2026, 1 + i % 5, 1 + i),
        "fare": 10.0 * i - 30,
        "passengers": i,
    }
    for i in range(20)
    for r in ("North Reach", "Inner Sound", "South Banks")
    if i % 5 != 2  # nothing sails in March
]


def chart(**parts) -> ChartDefinition:
    return load_definition({"dataset": "d", **parts})


def asked(definition, rows=None, selection=None, extra=()):
    model = sailings(ROWS if rows is None else rows)
    return ask(definition, model, context_of(model), extra, selection)


class Definitions(unittest.TestCase):
    def test_a_definition_survives_being_stored(self):
        definition = chart(
            show=[FARE, {}],
            by=["region", MONTH],
            split="route",
            only=[{"kind": "list", "field": "region", "values": ["A", None]}, {"kind": "relative", "field": "sailed"}],
            keep={"count": 3, "by": FARE},
            sort={"by": "own", "values": ["A", 3, True]},
        )
        self.assertEqual(load_definition(definition.model_dump_json()), definition)
        self.assertEqual(load_definition(json.loads(definition.model_dump_json())), definition)

    def test_one_from_a_newer_version_is_kept_and_said(self):
        with self.assertRaises(NewerDefinition) as caught:
            load_definition({"version": 99, "dataset": "d", "panels": ["new"]})
        self.assertIn("newer version", caught.exception.message)

    def test_unreadable_ones_are_explained(self):
        for data in (
            "{",
            "[]",
            5,
            None,
            {},
            {"dataset": "d", "sho": []},
            {"dataset": "d", "keep": {"count": 0}},
            {"dataset": "d", "by": [3]},
        ):
            with self.subTest(data=data), self.assertRaises(DefinitionProblem):
                load_definition(data)

    def test_all_fields_are_known(self):
        definition = chart(
            show=[FARE],
            by=["route"],
            only=[{"kind": "empty", "field": "cancelled"}],
            keep={"by": {"field": "passengers", "aggregate": "sum"}},
            sort={"by": "measure", "measure": {"field": "departure", "aggregate": "min"}},
        )
        self.assertEqual(definition.list_fields(), {"fare", "route", "cancelled", "passengers", "departure"})

    def test_a_missing_field_is_named(self):
        schema = Schema(SAILING_FIELDS)
        schema.gone = {"tonnage": "Tonnage"}
        with self.assertRaises(MissingField) as caught:
            check_fields(chart(show=[{"field": "tonnage", "aggregate": "sum"}]), schema)
        self.assertIn("“Tonnage” is missing", caught.exception.message)


class Choice(unittest.TestCase):
    def kind(self, rows=None, **parts):
        model = sailings(ROWS if rows is None else rows)
        return choose_kind(chart(**parts), model)

    def test_the_kind_suits_the_fields(self):
        many = [{"route": f"Route {i}"} for i in range(70)]
        for parts, kind in (
            ({"show": [FARE]}, "figure"),
            ({"show": [FARE], "by": [MONTH]}, "line"),
            ({"show": [FARE], "by": [MONTH], "split": "region"}, "line"),
            ({"show": [FARE], "by": [{"field": "sailed", "grain": "weekday"}]}, "bar"),
            ({"show": [FARE], "by": ["region"]}, "bar"),
            ({"show": [FARE], "by": ["route"]}, "lying"),
            ({"show": [FARE], "by": ["region", "route"]}, "crosstab"),
            ({"show": [FARE, {}], "by": ["region", "route"]}, "table"),
            ({"show": [{"field": "sailed", "aggregate": "max"}], "by": ["region"]}, "table"),
        ):
            with self.subTest(parts=parts):
                self.assertEqual(self.kind(**parts)[0].name, kind)
        self.assertEqual(self.kind(many, by=["route"])[0].name, "table")
        self.assertEqual(self.kind(many, by=["route"], keep={"count": 8})[0].name, "lying")

    def test_it_says_why(self):
        self.assertEqual(self.kind(show=[FARE], by=[MONTH])[1], "periods in order, so a line")

    def test_an_own_choice_is_kept_while_it_fits(self):
        self.assertEqual(self.kind(by=["region"], kind="area"), (get_kind("area"), ""))
        kind, why = self.kind(by=["region"], kind="crosstab")
        self.assertEqual(kind.name, "bar")
        self.assertIn("A crosstab needs two dimensions.", why)


class Drawings(unittest.TestCase):
    def test_axes_and_legends_are_said_in_plain_words(self):
        spec = asked(chart(show=[FARE], by=[MONTH], split="region")).drawing.spec
        encoding = spec["layer"][0]["encoding"]
        self.assertEqual(
            [encoding["x"]["axis"]["description"], encoding["y"]["axis"]["description"]],
            ["Month of sailed, from Jan 2026 to May 2026", "Values of fare"],
        )
        legend = encoding["color"]["legend"]["description"]
        self.assertEqual(legend, "Colours: Inner Sound, North Reach and South Banks")
        spec = asked(chart(show=[FARE], by=["route"], kind="lying")).drawing.spec
        along = spec["layer"][0]["encoding"]["y"]["axis"]
        self.assertRegex(along["description"], r"^Route, \d values?$")

    def test_missing_periods_are_gaps(self):
        drawn = asked(chart(show=[FARE], by=[MONTH])).drawing
        self.assertEqual([row["value"] is None for row in drawn.rows], [False, False, True, False, False])
        self.assertEqual(drawn.rows[2]["name"], "Mar 2026")

    def test_areas_are_filled_with_nought_so_that_they_stack(self):
        drawn = asked(chart(show=[FARE], by=[MONTH], split="region", kind="area")).drawing
        self.assertEqual({row["value"] for row in drawn.rows if row["name"] == "Mar 2026"}, {0})

    def test_the_unfinished_last_period_is_marked_and_said(self):
        daily = [{"sailed": dt.date(2026, 1, 14) + dt.timedelta(days=i), "fare": 1.0} for i in range(127)]
        answered = asked(chart(show=[FARE], by=[MONTH]), daily)
        self.assertEqual([(row["unfinished"], row["tail"]) for row in answered.drawing.rows][-2:], [(0, 1), (1, 1)])
        self.assertIn("The last month is unfinished: data to 20 May 2026.", answered.notes)
        self.assertIn(["Unfinished", "data to 20 May 2026"], answered.drawing.rows[-1]["tip"])
        self.assertIn("The first month is unfinished: data from 14 Jan 2026.", answered.notes)
        self.assertIn(["Unfinished", "data from 14 Jan 2026"], answered.drawing.rows[0]["tip"])

    def test_a_point_without_neighbours_is_seen(self):
        drawn = asked(
            chart(show=[FARE], by=[MONTH]), [{"sailed": dt.date(2026, m, 1), "fare": 1.0} for m in (1, 3, 4)]
        ).drawing
        self.assertEqual([row["alone"] for row in drawn.rows], [1, 0, 0, 0])

    def test_tooltips_state_dimensions_and_formatted_measures(self):
        drawn = asked(
            chart(show=[FARE | {"format": {"style": "currency", "decimals": 1}}], by=[MONTH], split="region")
        ).drawing
        self.assertEqual(
            drawn.rows[0]["tip"], [["Month of sailed", "Jan 2026"], ["Region", "Inner Sound"], ["Fare", "€180.0"]]
        )
        self.assertEqual(drawn.rows[0]["said"], "Jan 2026, Inner Sound: €180.0")

    def test_colours_stay_with_values_when_others_are_filtered_away(self):
        definition = chart(show=[FARE], by=[MONTH], split="region")
        scale = asked(definition).drawing.spec["layer"][0]["encoding"]["color"]["scale"]
        all_colours = dict(zip(scale["domain"], scale["range"], strict=True))
        only = definition.model_copy(
            update={"only": chart(only=[{"kind": "list", "field": "region", "values": ["South Banks"]}]).only}
        )
        scale = asked(only).drawing.spec["layer"][0]["encoding"]["color"]["scale"]
        self.assertEqual(
            dict(zip(scale["domain"], scale["range"], strict=True)), {"South Banks": all_colours["South Banks"]}
        )

    def test_selected_marks_stand_out(self):
        definition = chart(show=[FARE], by=["region"])
        drawn = asked(definition, selection=OwnSelection((("South Banks",),))).drawing
        self.assertEqual(
            {row["name"]: row["on"] for row in drawn.rows}, {"South Banks": 1, "Inner Sound": 0, "North Reach": 0}
        )
        left_out = asked(definition, selection=OwnSelection((("South Banks",),), excluded=True)).drawing
        self.assertEqual(
            {row["name"]: row["on"] for row in left_out.rows}, {"South Banks": 0, "Inner Sound": 1, "North Reach": 1}
        )

    def test_a_selected_range_of_the_axis_takes_all_series(self):
        drawn = asked(
            chart(show=[FARE], by=[MONTH], split="region"), selection=OwnSelection((("2026-02-01",),))
        ).drawing
        self.assertEqual({row["name"] for row in drawn.rows if row["dot"]}, {"Feb 2026"})

    def test_undated_rows_are_not_dropped_silently(self):
        answered = asked(chart(show=[FARE], by=[MONTH]), [{"sailed": dt.date(2026, 1, 1), "fare": 1.0}, {"fare": 2.0}])
        self.assertIn("Rows without Month of sailed are not drawn (1 mark).", answered.notes)

    def test_bars_are_longest_first(self):
        names = [row["name"] for row in asked(chart(show=[FARE], by=["route"]), ROWS[:9]).drawing.rows]
        values = {name: sum(r["fare"] for r in ROWS[:9] if r["route"] == name) for name in names}
        self.assertEqual(names, sorted(names, key=lambda name: (-values[name], name)))

    def test_themes_have_a_dark_colour_for_each(self):
        self.assertEqual(len(set(DARK_COLOURS)), len(SERIES_COLOURS))
        self.assertEqual(set(build_themes()), {"light", "dark", "dark_colours"})


class Layouts(unittest.TestCase):
    def test_a_table_totals_what_it_shows_anew_from_the_rows(self):
        mean = {"field": "fare", "aggregate": "mean", "format": {"decimals": 2}}
        rows = [{"region": "A", "fare": 1.0}, {"region": "A", "fare": 2.0}, {"region": "B", "fare": 9.0}]
        layout = asked(chart(kind="table", show=[mean], by=["region"]), rows).drawing.table
        self.assertEqual([[cell.text for cell in row] for row in layout.rows], [["B", "9.00"], ["A", "1.50"]])
        self.assertEqual([cell.text for cell in layout.totals[0]], ["Total", "4.00"])

    def test_a_crosstab_agrees_with_a_plain_count(self):
        layout = asked(chart(kind="crosstab", by=["region"], split={"field": "sailed", "grain": "month"})).drawing.table
        months = [1, 2, 4, 5]
        self.assertEqual(
            [cell.text for cell in layout.headings[0]],
            ["Region", "Jan 2026", "Feb 2026", "Apr 2026", "May 2026", "Total"],
        )
        for row in layout.rows:
            mine = [r for r in ROWS if r["region"] == row[0].text]
            self.assertEqual(
                [cell.text for cell in row[1:]],
                [str(sum(r["sailed"].month == m for r in mine)) for m in months] + [str(len(mine))],
            )
        self.assertEqual(layout.totals[0][-1].text, str(len(ROWS)))

    def test_cells_without_rows_are_dashes_and_cannot_be_selected(self):
        rows = [{"region": "A", "route": "x"}, {"region": "B", "route": "y"}]
        layout = asked(chart(kind="crosstab", by=["region"], split="route"), rows).drawing.table
        self.assertEqual([(cell.text, cell.point) for cell in layout.rows[0][1:3]], [("1", ["A", "x"]), ("–", None)])

    def test_a_long_table_comes_in_pages_that_are_together_all_of_it(self):
        model, definition = sailings([{"route": f"{i:04}"} for i in range(1_200)]), chart(kind="table", by=["route"])
        seen = []
        while len(seen) < 1_200:
            table = ask(definition, model, context_of(model), rows_from=len(seen)).drawing.table
            self.assertEqual(table.rows_there, 1_200)
            seen += [row[0].text for row in table.rows]
        self.assertEqual(sorted(seen), [f"{i:04}" for i in range(1_200)])
        self.assertEqual(ask(definition, model, context_of(model), rows_from=5_000).drawing.table.rows, [])

    def test_a_long_table_with_subtotals_says_that_it_is_cut(self):
        rows = [{"region": "A", "route": str(i)} for i in range(1_200)]
        answered = asked(chart(kind="table", by=["region", "route"], totals="all"), rows)
        self.assertEqual((len(answered.drawing.table.rows), answered.drawing.table.rows_there), (1_001, 0))
        self.assertIn("The table shows the first 1,000 of 1,200 rows.", answered.notes)

    def test_figures(self):
        figures = asked(
            chart(show=[FARE | {"name": "Takings", "format": {"shorten": True}}, {}]), [{"fare": 7_420_000.0}]
        ).drawing.figures
        self.assertEqual(
            [(figure.name, figure.text) for figure in figures], [("Takings", "7.42M"), ("Count of rows", "1")]
        )


class Sentences(unittest.TestCase):
    def test_sentences(self):
        schema = Schema(SAILING_FIELDS)
        for kind, parts, words in (
            ("figure", {}, "Show count of rows as a single figure."),
            ("area", {"show": [FARE], "by": [MONTH]}, "Show fare as an area by month of sailed."),
            (
                "bar",
                {"show": [FARE], "by": ["route"], "split": "region", "settings": {"stacking": "full"}},
                "Show fare as vertical bars to 100% by route split by region.",
            ),
            (
                "lying",
                {
                    "show": [FARE, {"field": "fare", "aggregate": "median"}],
                    "by": ["route"],
                    "settings": {"stacking": "grouped"},
                    "only": [
                        {"kind": "list", "field": "region", "values": ["A"]},
                        {"kind": "empty", "field": "fare", "exclude": True},
                    ],
                    "keep": {"count": 5, "by": FARE},
                    "sort": {"by": "name", "descending": True},
                },
                "Show sum of fare and median of fare as grouped horizontal bars by route,"
                " only region is A and fare is not empty, keep the top 5 by fare, sorted from Z to A.",
            ),
            (
                "line",
                {"by": [MONTH], "sort": {"by": "time", "descending": True}},
                "Show count of rows as a line by month of sailed, sorted latest first.",
            ),
        ):
            with self.subTest(words=words):
                self.assertEqual(write_sentence_text(chart(**parts), get_kind(kind), schema), words)

    def test_every_clause_can_be_reached(self):
        schema = Schema(SAILING_FIELDS)
        definition = chart(
            show=[FARE, {}],
            by=[MONTH, "route"],
            split="region",
            only=[{"kind": "empty", "field": "fare"}] * 2,
            keep={},
            sort={},
        )
        parts = write_sentence(definition, get_kind("table"), schema)
        reached = [(part.clause, part.index) for part in parts if part.clause]
        expected = [
            ("show", 0),
            ("show", 1),
            ("as", 0),
            ("by", 0),
            ("by", 1),
            ("split", 0),
            ("only", 0),
            ("only", 1),
            ("keep", 0),
            ("sort", 0),
        ]
        self.assertEqual(reached, expected)

    def test_titles(self):
        schema = Schema(SAILING_FIELDS)
        self.assertEqual(
            write_default_title(chart(show=[FARE], by=[MONTH], split="region"), schema),
            "Fare by month of sailed, split by region",
        )


class Formats(unittest.TestCase):
    def test_numbers(self):
        for value, parts, text in (
            (None, {}, "–"),
            (1234.5, {"decimals": 1}, "1,234.5"),
            (1234.5, {"decimals": 0, "thousands": False}, "1234"),
            (-0.004, {"decimals": 2}, "0.00"),
            (-5, {"decimals": 0}, "−5"),
            (0.125, {"style": "percent", "decimals": 1}, "12.5%"),
            (2, {"style": "percent", "decimals": 0}, "200%"),
            (1999, {"style": "currency", "currency": "GBP", "decimals": 2}, "£1,999.00"),
            (1_500, {"shorten": True, "decimals": 1}, "1.5k"),
            (2.5e9, {"shorten": True, "decimals": 1}, "2.5bn"),
            (999, {"shorten": True, "decimals": 0}, "999"),
            (10**30, {"decimals": 0}, f"{10**30:,}"),
            (None, {"empty": "none yet"}, "none yet"),
            (0.0125, {"style": "permille", "decimals": 1}, "12.5‰"),
            (-1234, {"negative": "brackets", "decimals": 0}, "(1,234)"),
            (-5, {"style": "currency", "negative": "brackets", "decimals": 2, "after": " lost"}, "(€5.00 lost)"),
            (12, {"sign": True, "decimals": 0, "before": "≈ ", "after": " t"}, "+≈ 12 t"),
            (-12, {"sign": True, "decimals": 0}, "−12"),
            (0, {"sign": True, "decimals": 0}, "0"),
            (-0.001, {"negative": "brackets", "decimals": 2}, "0.00"),
        ):
            with self.subTest(text=text):
                self.assertEqual(format_number(value, NumberFormat(**parts)), text)

    def test_units_stand_on_axes_too_and_are_no_expressions(self):
        unit = '"+a(1)+"'
        show = [FARE | {"format": {"after": unit, "negative": "brackets"}}]
        spec = asked(chart(show=show, by=["route"], kind="bar")).drawing.spec
        expression = spec["encoding"]["y"]["axis"]["labelExpr"]
        self.assertIn(json.dumps(unit), expression)
        self.assertIn("'(' + ", expression)

    def test_decimals_are_settled_for_a_whole_column(self):
        for values, kind, decimals in (
            ([1.5, 2000.25], DataType.DECIMAL, 0),
            ([1.5, 200.25], DataType.DECIMAL, 1),
            ([0.333], DataType.DECIMAL, 2),
            ([5], DataType.WHOLE, 0),
            ([], DataType.DECIMAL, 2),
        ):
            with self.subTest(values=values):
                self.assertEqual(settle(NumberFormat(), values, kind).decimals, decimals)
        self.assertEqual(settle(NumberFormat(), [2000.25], DataType.DECIMAL, records=True).decimals, 2)
        self.assertEqual(settle(NumberFormat(), [2000.0], DataType.DECIMAL, records=True).decimals, 0)
        self.assertEqual(settle(NumberFormat(decimals=4), [1.0], DataType.DECIMAL).decimals, 4)
