"""Charts that calculate: variations of a measure, what the sentence says of them, subtotals, comparisons."""

from __future__ import annotations

import datetime as dt
import statistics
import unittest
from typing import Any

import numpy as np

from tests.core.support import SAILING_FIELDS, context_of, sailings, sailings_table
from veduta.core.calendar import Grouping
from veduta.core.chart.definition import load_definition
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.question import ask
from veduta.core.chart.variations import VARIATIONS, list_variations
from veduta.core.errors import DefinitionProblem
from veduta.core.model.definition import load_model
from veduta.core.model.model import Model
from veduta.core.query.explain import explain
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query

DAYS = [
    (dt.date(2025, 1, 5), "N", "A", 10.0),
    (dt.date(2025, 2, 5), "N", "B", 30.0),
    (dt.date(2026, 1, 6), "N", "A", 40.0),
    (dt.date(2026, 2, 6), "S", "C", 60.0),
    (dt.date(2026, 3, 6), "S", "C", 20.0),
]
ROWS = [
    {"sailed": day, "region": region, "route": route, "fare": fare, "passengers": int(fare)}
    for day, region, route, fare in DAYS
]
FARE = {"field": "fare", "aggregate": "sum"}
MONTH = {"field": "sailed", "grain": "month"}


def asked(**parts):
    model = sailings(ROWS)
    return ask(load_definition({"dataset": "d", **parts}), model, context_of(model))


class Variations(unittest.TestCase):
    def vary(self, how: str, **parts: Any) -> list:
        model = sailings(ROWS)
        definition = load_definition({"dataset": "d", "show": [FARE], "by": [MONTH], **parts})
        changed = apply_edit(definition, model, {"edit": "vary_measure", "index": 0, "how": how})
        return ask(changed, model, context_of(model)).result.frame["m1"].to_list()

    def test_each_gives_what_its_words_say(self):
        shown = [10.0, 30.0, 40.0, 60.0, 20.0]
        wanted = {
            "year_before": [None, None, 10, 30, None],
            "growth": [None, None, 3, 1, None],
            "same_days": [None, None, 3, 1, None],
            "change": [None, None, 30, 30, None],
            "before": [None, 20, None, 20, -40],
            "to_date": [10, 40, 40, 100, 120],
            "mean_to_date": [10, 20, 40, 50, 40],
            "running": [10, 40, 80, 140, 160],
            "moving": [10, 20, 40, 50, 40],  # of calendar months: nothing was sailed in the ten between
            "share": [value / 160 for value in shown],
            "rank": [5, 3, 2, 1, 4],
            "less_mean": [value - 32 for value in shown],
        }
        self.assertEqual({*wanted, "share_of_parent"}, {each.key for each in VARIATIONS})
        for how, values in wanted.items():
            with self.subTest(how=how):
                for found, value in zip(self.vary(how), values, strict=True):
                    self.assertEqual(found is None, value is None)
                    self.assertAlmostEqual(found or 0, value or 0)

    def test_the_share_of_the_parent(self):
        rows = asked(show=[FARE], by=["region"], split="route").result.frame.rows()
        wholes: dict[Any, float] = {}
        for region, _, fare in rows:
            wholes[region] = wholes.get(region, 0) + fare
        shares = self.vary("share_of_parent", by=["region"], split="route")
        self.assertEqual(shares, [fare / wholes[region] for region, _, fare in rows])

    def offered(self, *groups: Grouping, measure: dict = FARE) -> dict[str, str]:
        return dict(list_variations(groups, sailings(ROWS).schema, Measure.model_validate(measure), {}))

    def test_only_those_are_offered_that_the_dimensions_allow(self):
        region, month = Grouping(field="region"), Grouping(field="sailed", grain="month")
        self.assertEqual(self.offered(month)["before"], "Change on the month before")
        self.assertFalse({"before", "share_of_parent"} & self.offered(region).keys())
        self.assertEqual(self.offered(region, month)["share_of_parent"], "Share of its region")

    def test_what_does_not_add_up_has_no_share_and_no_running_total(self):
        offered = self.offered(Grouping(field="region"), measure={"field": "fare", "aggregate": "mean"})
        self.assertFalse({"share", "running", "share_of_parent"} & offered.keys())
        self.assertIn("rank", offered)

    def test_one_that_does_not_exist_is_refused(self):
        with self.assertRaises(DefinitionProblem):
            self.vary("doubling")


class Said(unittest.TestCase):
    def test_the_sentence_says_what_is_kept_compared_and_aligned(self):
        keep = {"count": 1, "by": FARE, "rest": True, "ties": True}
        said = asked(show=[FARE], by=["route"], keep=keep, references=[{"of": "rows"}]).sentence
        self.assertIn(
            "keep the top 1 by fare with ties and the others as one, compared with the value over all rows shown", said
        )
        said = asked(show=[FARE], by=[MONTH], split="region", aligned='sum("#fare") >= 30').sentence
        self.assertIn("by month of sailed counted from the first with sum(Fare) >= 30 split by region", said)
        only = [
            {"kind": "member", "field": "route", "keep": {"count": 2, "by": FARE}},
            {"kind": "measure", "measure": FARE, "low": 5},
        ]
        said = asked(show=[FARE], by=["region"], only=only).sentence
        self.assertIn("only route is among the top 2 by fare overall and groups whose fare is at least 5", said)

    def test_a_comparison_is_drawn_and_said_with_its_value(self):
        for compare, value in (("groups", "80"), ("rows", "32")):
            answered = asked(
                show=[{"field": "fare", "aggregate": "sum" if compare == "groups" else "mean"}],
                by=["region"],
                references=[{"of": compare}],
                kind="bar",
            )
            rule = next(layer for layer in answered.drawing.spec["layer"] if layer["mark"]["type"] == "rule")
            self.assertEqual([row["value"] for row in rule["data"]["values"]], [float(value)])
            self.assertTrue(any(value in note for note in answered.notes))

    def test_lines_and_bands_stand_where_they_are_said_to(self):
        rows = [{"route": f"R{i}", "sailed": dt.date(2026, 1 + i, 10), "fare": float(i * i)} for i in range(6)]
        model = sailings(rows)

        def lines(by, *references, **more):
            parts = {"dataset": "d", "show": [FARE], "by": [by], "kind": "bar", "references": references, **more}
            answered = ask(load_definition(parts), model, context_of(model))
            layers = answered.drawing.spec.get("layer", [])
            return [layer for layer in layers if "data" in layer], answered.notes

        fares = [float(i * i) for i in range(6)]
        for statistic, value in (
            ("median", statistics.median(fares)),
            ("min", 0.0),
            ("max", 25.0),
            ("percentile", float(np.percentile(fares, 90))),
        ):
            found, notes = lines("route", {"of": "groups", "statistic": statistic})
            self.assertAlmostEqual(found[0]["data"]["values"][0]["value"], value)
        found, notes = lines("route", {"of": "number", "value": 4, "high": 9, "said": "usual"})
        self.assertEqual(found[0]["data"]["values"], [{"start": 4.0, "end": 9.0}])
        self.assertIn("The band is usual: 4.00 to 9.00.", notes)
        storm = {"of": "dates", "start": "2026-02-03", "end": "2026-03-20", "said": "storm"}
        found, _ = lines(MONTH, storm)
        said = {"label": "storm", "tip": [["", "storm"], ["", "3 Feb 2026 to 20 Mar 2026"]]}
        self.assertEqual(found[0]["data"]["values"], [{"name": "Feb 2026", "to": "Mar 2026", **said}])
        found, _ = lines(MONTH, storm, kind="line")
        self.assertEqual(found[0]["data"]["values"][0]["at"], 1_770_076_800_000)
        _, notes = lines("route", storm)
        self.assertIn("Days to compare with need a time axis, and are not drawn.", notes)
        for wrong in ({"of": "number"}, {"of": "dates"}, {"of": "number", "value": 5, "high": 1}):
            with self.subTest(wrong), self.assertRaises(DefinitionProblem):
                load_definition({"dataset": "d", "references": [wrong]})

    def test_subtotals_close_each_group_and_other_rules_are_said(self):
        answered = asked(show=[FARE | {"total": "max"}, FARE], by=["region", "route"], kind="table", totals="all")
        texts = [[cell.text for cell in row] for row in answered.drawing.table.rows]
        self.assertIn(["Total N", "50.00", "80.00"], [[text for text in row if text] for row in texts])
        self.assertEqual([cell.text for cell in answered.drawing.table.totals[0]], ["Total", "80.00", "160.00"])
        self.assertIn("The total of Fare is the highest value shown.", answered.notes)

    def test_totals_name_the_rows_behind_them(self):
        layout = asked(show=[FARE], by=["region"], split="route", kind="crosstab").drawing.table
        self.assertEqual([row[-1].behind for row in layout.rows], [["N"], ["S"]])
        self.assertEqual(layout.totals[0][-1].behind, [])
        kept = asked(show=[FARE], by=["route"], kind="table", keep={"count": 1, "by": FARE}).drawing.table
        self.assertEqual(kept.rows[0][-1].behind, None)

    def test_text_as_a_measure_is_shown_in_a_table(self):
        answered = asked(
            show=[{"formula": "if(sum(\"#fare\") > 60, 'much', 'little')", "name": "How much"}], by=["region"]
        )
        self.assertEqual((answered.kind.name, answered.result.frame["m0"].to_list()), ("table", ["much", "much"]))

    def test_a_formula_of_the_model_is_called_by_its_name_whatever_aggregate_is_sent(self):
        formula = {"id": "taken", "name": "Taken", "text": 'sum("#fare")', "format": {"decimals": 1}}
        model = Model({"": (sailings_table(ROWS), SAILING_FIELDS)}, load_model({"formulas": [formula]}))
        for aggregate in ("count", "own"):
            show = [{"field": "formula.taken", "aggregate": aggregate}]
            answered = ask(load_definition({"dataset": "d", "show": show, "by": ["route"]}), model, context_of(model))
            self.assertIn("Show taken ", answered.sentence)
            self.assertEqual(answered.result.measures[0].format.decimals, 1)

    def test_parameters_stand_in_titles_and_in_the_sentence(self):
        definition = load_model({"parameters": [{"id": "most", "name": "Most", "default": [1], "required": False}]})
        model = Model({"": (sailings_table(ROWS), SAILING_FIELDS)}, definition)
        chart = load_definition(
            {
                "dataset": "d",
                "title": "The best :most",
                "show": [FARE],
                "by": ["route"],
                "keep": {"parameter": "most", "by": FARE},
            }
        )
        context = context_of(model)
        answered = ask(chart, model, context)
        self.assertEqual((answered.title, answered.result.groups), ("The best 1", 1))
        self.assertIn("with most 1.", answered.sentence)
        free = model.apply_reader({"most": None})
        self.assertEqual(ask(chart, free, context).result.groups, 3)


class Explained(unittest.TestCase):
    def test_the_steps_come_in_order_with_their_counts(self):
        model = sailings(ROWS)
        definition = load_definition(
            {
                "dataset": "d",
                "show": [{"formula": "growth(sum(\"#fare\"), 'year')"}],
                "by": [MONTH],
                "only": [
                    {"kind": "list", "field": "region", "values": ["N"]},
                    {"kind": "measure", "measure": FARE, "low": 20},
                ],
            }
        )
        query = Query(groups=definition.groups, measures=definition.measures, filters=definition.only, totals=((),))
        steps = {step.title: " ".join(step.lines) for step in explain(query, model, context_of(model))}
        self.assertEqual(list(steps), ["Tables", "Filters", "Groups", "Measures", "Groups left out", "Totals", "Drawn"])
        self.assertIn("5 rows", steps["Tables"])
        self.assertIn("only region is N: 3 rows left.", steps["Filters"])
        self.assertIn("2 groups in the end", steps["Groups"])
        self.assertIn("narrows only what is shown", steps["Measures"])
        self.assertIn("groups whose fare is at least 20", steps["Groups left out"])
        self.assertIn("worked out from the rows", steps["Totals"])
