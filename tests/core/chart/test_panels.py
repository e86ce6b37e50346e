"""Panels: each is what its chart would be with only its rows, and all of them can be compared."""

from __future__ import annotations

import datetime as dt
import json
import unittest

from django.test import tag

from tests.core.chart.test_kinds import MEASURES, MONTH, ROWS, drawn, row
from tests.core.support import context_of, sailings
from veduta.core.chart.definition import load_definition
from veduta.core.chart.drawing.panels import MOST_PANELS, merge_sequences
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.kinds import CHART_KINDS
from veduta.core.chart.mark_filters import make_points_filters
from veduta.core.chart.question import AnsweredChart, OwnSelection, ask
from veduta.core.query.answer import answer
from veduta.core.query.query import Query

MANY = [row(i, route=f"Route {i % 5}", fare=float(i % 17)) for i in range(300)]
FARE = [MEASURES[0]]
ONLY_OF_PANELS = {"panel", "said", "tip", "point", "paint", "strong"}


def in_panels(of: list, rows=MANY, **parts) -> AnsweredChart:
    return drawn({"show": FARE, **parts, "panels": {"by": of, **parts.get("panels", {})}}, rows)


def of_panel(answered: AnsweredChart, number: int) -> list[dict]:
    return [each for each in answered.drawing.rows if each["panel"] == number]


def plain(rows: list[dict]) -> list[dict]:
    return [{name: value for name, value in each.items() if name not in ONLY_OF_PANELS} for each in rows]


def channels(answered: AnsweredChart, name: str, number: int | None = None) -> list[dict]:
    """A channel wherever it is drawn, in all panels or in one."""
    found = []

    def walk(part):
        if isinstance(part, dict):
            if name in part.get("encoding", {}):
                found.append(part["encoding"][name])
            for inside in part.values():
                walk(inside)
        elif isinstance(part, list):
            for inside in part:
                walk(inside)

    panels = answered.drawing.spec["concat"]
    walk(panels if number is None else panels[number])
    return found


class Panels(unittest.TestCase):
    @tag("long")
    def test_each_is_the_chart_of_its_rows(self):
        regions = sorted({each["region"] for each in MANY})
        for name, kind in CHART_KINDS.items():
            for parts in ({"by": [MONTH]}, {"by": [MONTH], "split": "route"}, {"by": [MONTH], "show": MEASURES[:2]}):
                asked = {"kind": name, "show": FARE, **parts}
                alone = drawn(asked, MANY)
                if kind.panels != "drawn" or alone.kind is not kind or alone.drawing.spec is None:
                    continue
                answered = in_panels(["region"], **asked)
                for number, region in enumerate(regions):
                    with self.subTest(kind=name, parts=parts, region=region):
                        filters = [{"kind": "list", "field": "region", "values": [region]}]
                        single = drawn({**asked, "only": filters}, MANY)
                        self.assertEqual(plain(of_panel(answered, number)), plain(single.drawing.rows))

    @tag("long")
    def test_every_kind_draws_them_of_any_rows(self):
        for name in CHART_KINDS:
            for said, rows in ROWS.items():
                for by in (["route"], ["region", MONTH]):
                    with self.subTest(kind=name, rows=said, by=by):
                        answered = in_panels(by, rows, kind=name, by=["region"], show=MEASURES[:2])
                        json.dumps([answered.drawing.spec, answered.drawing.rows], allow_nan=False)

    def test_marks_say_their_panel_and_lead_to_its_rows(self):
        answered = in_panels(["region"], by=["route"], kind="bar")
        model = sailings(MANY)
        for mark in answered.drawing.rows:
            route, region = mark["point"]
            behind = make_points_filters(answered.definition, [mark["point"]])
            found = answer(Query(filters=behind), model, context_of(model)).rows_read
            self.assertEqual(found, sum((each["route"], each["region"]) == (route, region) for each in MANY))
            self.assertTrue(mark["said"].startswith(f"{region}, {route}"))
            self.assertEqual(mark["tip"][0], ["Region", region])

    def test_selected_marks_stand_out_in_their_panel_only(self):
        definition = load_definition({"dataset": "d", "show": FARE, "by": ["route"], "panels": {"by": ["region"]}})
        model = sailings(MANY)
        selection = OwnSelection((("Route 1", "Inner Sound"),))
        rows = ask(definition, model, context_of(model), selection=selection).drawing.rows
        self.assertEqual([each["point"] for each in rows if each["on"]], [["Route 1", "Inner Sound"]])
        whole = OwnSelection((("Route 1",),))
        rows = ask(definition, model, context_of(model), selection=whole).drawing.rows
        self.assertEqual({each["point"][0] for each in rows if each["on"]}, {"Route 1"})
        self.assertEqual(len([each for each in rows if each["on"]]), 3)

    def test_two_dimensions_make_rows_and_columns_without_gaps(self):
        rows = [each for each in MANY if (each["region"], each["route"]) != ("Inner Sound", "Route 2")]
        answered = in_panels(["region", "route"], rows, by=[MONTH], kind="line")
        self.assertEqual((answered.drawing.panels.count, answered.drawing.panels.columns), (15, 5))
        self.assertEqual(of_panel(answered, 2), [])

    def test_they_stand_in_the_order_of_their_values_with_empties_last(self):
        rows = [row(1, region=name) for name in ("North Reach", None, "Inner Sound")]
        answered = in_panels(["region"], rows, by=["route"], kind="bar")
        said = [panel["title"]["text"] for panel in answered.drawing.spec["concat"]]
        self.assertEqual(said, ["Inner Sound", "North Reach", "(empty)"])

    def test_more_than_can_be_read_are_left_out_and_said(self):
        rows = [row(i, route=f"Route {i:03}") for i in range(MOST_PANELS + 15)]
        answered = in_panels(["route"], rows, by=["region"], kind="bar")
        self.assertEqual(answered.drawing.panels.count, MOST_PANELS)
        self.assertIn("Panels are drawn of the first 60 of 75 values of Route.", answered.notes)

    def test_names_along_are_common_unless_scales_are_their_own(self):
        rows = [row(i, region="North Reach", route=f"Route {i}") for i in (1, 2)]
        rows += [row(3, region="Inner Sound", route="Route 3")]
        common = in_panels(["region"], rows, by=["route"], kind="lying")
        self.assertEqual(
            {tuple(each["scale"]["domain"]) for each in channels(common, "y")}, {("Route 3", "Route 2", "Route 1")}
        )
        self.assertEqual(common.drawing.spec["resolve"]["scale"], {"x": "shared", "y": "shared"})
        own = in_panels(["region"], rows, by=["route"], kind="lying", panels={"scales": "own"})
        self.assertEqual([each.get("scale") for each in channels(own, "y")], [None] * len(channels(own, "y")))
        values = in_panels(["region"], rows, by=["route"], kind="lying", panels={"scales": "values"})
        self.assertEqual(values.drawing.spec["resolve"]["scale"], {"x": "independent", "y": "shared"})

    def test_a_series_has_one_colour_in_all_panels(self):
        rows = [row(1, region="North Reach", route="Route 1"), row(2, region="North Reach", route="Route 2")]
        rows += [row(3, region="Inner Sound", route="Route 2")]
        for show in (FARE, MEASURES[:2]):
            answered = in_panels(["region"], rows, by=[MONTH], split="route", show=show, kind="bar")
            scales = [each["scale"] for each in channels(answered, "color")]
            self.assertTrue(all(scale == scales[0] for scale in scales))
            self.assertEqual(len(set(scales[0]["range"])), 2 * len(show))

    def test_shades_are_those_of_all_panels(self):
        parts = {"by": ["route"], "split": MONTH, "kind": "heat"}
        common = in_panels(["region"], **parts)
        domains = {tuple(each["scale"]["domain"]) for each in channels(common, "color") if "scale" in each}
        values = [each["value"] for each in common.drawing.rows]
        self.assertEqual(domains, {(min(values), max(values))})

    def test_what_is_kept_within_is_kept_in_each(self):
        keep = {"of": "within", "count": 2}
        answered = in_panels(["region"], by=["route"], kind="bar", keep=keep)
        for number in range(3):
            self.assertEqual(len(of_panel(answered, number)), 2)
        self.assertIn("keep the top 2 of route in each region by", answered.sentence)

    def test_what_marks_are_held_against_is_of_each_panel_or_of_all(self):
        def lines(of: str, over: str) -> list[float]:
            answered = in_panels(["region"], by=["route"], kind="bar", references=[{"of": of, "over": over}])
            layers = [layer for panel in answered.drawing.spec["concat"] for layer in panel["layer"]]
            return [layer["data"]["values"][0]["value"] for layer in layers if layer["mark"]["type"] == "rule"]

        by_region = [
            sum(each["fare"] for each in MANY if each["region"] == name) for name in sorted({e["region"] for e in MANY})
        ]
        self.assertEqual(lines("rows", "panel"), by_region)
        self.assertEqual(lines("rows", "all"), [sum(by_region)] * 3)
        self.assertEqual(lines("groups", "panel"), [total / 5 for total in by_region])
        self.assertEqual(lines("groups", "all"), [sum(by_region) / 15] * 3)

    def test_the_last_period_is_unfinished_in_panels_that_have_it(self):
        rows = [
            row(1, region="North Reach", sailed=dt.date(2026, 3, 10)),
            row(2, region="Inner Sound", sailed=dt.date(2026, 1, 5)),
        ]
        answered = in_panels(["region"], rows, by=[MONTH], kind="bar")
        self.assertEqual(
            [(each["name"], each["unfinished"]) for each in answered.drawing.rows], [("Jan 2026", 0), ("Mar 2026", 1)]
        )

    def test_tables_have_their_dimensions_as_columns(self):
        answered = in_panels(["region"], by=["route"], kind="table")
        self.assertEqual([cell.text for cell in answered.drawing.table.headings[0]], ["Route", "Region", "Fare"])

    def test_figures_are_called_by_their_panels(self):
        answered = in_panels(["region"], kind="figure")
        totals = {name: sum(e["fare"] for e in MANY if e["region"] == name) for name in {e["region"] for e in MANY}}
        self.assertEqual({f.name: float(f.exact.replace(",", "")) for f in answered.drawing.figures}, totals)

    def test_the_order_of_all_keeps_the_order_of_each(self):
        self.assertEqual(merge_sequences(["ac", "bc", "ab"]), ["a", "b", "c"])
        self.assertEqual(merge_sequences(["ab", "ba", "c"]), ["a", "b", "c"])
        self.assertEqual(merge_sequences([[], ["a"]]), ["a"])


class EditingPanels(unittest.TestCase):
    def after(self, *changes):
        definition = load_definition({"dataset": "d", "by": ["route"]})
        for change in changes:
            definition = apply_edit(definition, sailings(MANY), change)
        return definition

    def test_a_field_and_a_second_one_make_them(self):
        panels = {"clause": "panels", "edit": "set_group"}
        one = {**panels, "field": "region"}
        self.assertEqual([g.field for g in self.after(one).panels.by], ["region"])
        two = self.after(one, {**panels, "index": 1, "field": "sailed", "grain": "year"})
        self.assertEqual([(g.field, g.grain) for g in two.panels.by], [("region", None), ("sailed", "year")])
        again = self.after(one, {"edit": "add_field", "field": "cancelled", "to": "panels"})
        self.assertEqual([g.field for g in again.panels.by], ["region", "cancelled"])
        third = self.after(
            one,
            {"edit": "add_field", "field": "cancelled", "to": "panels"},
            {"edit": "add_field", "field": "passengers", "to": "panels"},
        )
        self.assertEqual([g.field for g in third.panels.by], ["region", "passengers"])

    def test_they_are_arranged_and_taken_away(self):
        one = {"edit": "set_group", "clause": "panels", "field": "region"}
        set_so = self.after(one, {"edit": "set_panels", "arranged": "below"}, {"edit": "set_panels", "scales": "own"})
        self.assertEqual((set_so.panels.arranged, set_so.panels.scales), ("below", "own"))
        self.assertIsNone(self.after(one, {"edit": "remove", "clause": "panels"}).panels)
        two = {"edit": "add_field", "field": "cancelled", "to": "panels"}
        left = self.after(one, two, {"edit": "remove", "clause": "panels", "index": 0})
        self.assertEqual([g.field for g in left.panels.by], ["cancelled"])
