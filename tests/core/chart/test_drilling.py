"""Charts whose dimensions give way to others."""

from __future__ import annotations

import datetime as dt
import unittest
from collections import defaultdict
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import SAILING_FIELDS, context_of, sailings_table
from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.drilling import (
    DrillStep,
    apply_drill_step,
    apply_drill_steps,
    list_drill_targets,
    list_other_dimensions,
)
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.kinds import get_kind
from veduta.core.chart.question import ask
from veduta.core.chart.sentence import write_sentence_text
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.model.definition import load_model
from veduta.core.model.model import Model
from veduta.core.number_format import REST_POINT

ROWS = [
    {"region": region, "route": route, "sailed": dt.date.fromisoformat(day), "fare": float(fare)}
    for region, route, day, fare in (
        ("North", "A", "2025-12-31", 1),
        ("North", "B", "2026-01-01", 2),
        ("South", "C", "2026-02-28", 4),
        (None, "D", "2024-02-29", 8),
        ("South", "B", "2026-03-01", 16),
    )
]
PATHS = [{"name": "Where", "fields": ["region", "route"]}, {"name": "Back", "fields": ["route", "passengers"]}]
FARE = {"field": "fare", "aggregate": "sum"}


def model_of(rows: list[dict[str, Any]]) -> Model:
    table, schema = sailings_table(rows), Schema(SAILING_FIELDS)
    return Model({"": (table, schema)}, load_model({"paths": PATHS}))


MODEL = model_of(ROWS)


def chart(*by, **parts) -> ChartDefinition:
    return load_definition({"dataset": "d", "show": [FARE], "by": list(by), **parts})


def months(grain: str = "month") -> dict[str, str]:
    return {"field": "sailed", "grain": grain}


def step(to: Any, *into: Any, position: int = 0) -> DrillStep:
    return DrillStep.model_validate({"position": position, "to": to, "into": into or None})


def shown(definition: ChartDefinition, model: Model = MODEL) -> dict[Any, float]:
    definition = definition.model_copy(update={"kind": "table"})
    frame = ask(definition, model, context_of(model)).result.frame
    return {tuple(row[: len(definition.groups)]): row[len(definition.groups)] for row in frame.iter_rows()}


class Ways(unittest.TestCase):
    def to(self, definition: ChartDefinition) -> list[tuple[int, str, bool]]:
        return [(way.position, way.to.grain or way.to.field, way.down) for way in list_drill_targets(definition, MODEL)]

    def test_a_dimension_leads_to_its_neighbours_on_every_path_it_is_on(self):
        self.assertEqual(self.to(chart("region")), [(0, "route", True)])
        self.assertEqual(self.to(chart("route")), [(0, "passengers", True), (0, "region", False)])

    def test_dates_have_a_path_of_their_own(self):
        self.assertEqual(self.to(chart(months("year"))), [(0, "quarter", True)])
        self.assertEqual(self.to(chart(months())), [(0, "week", True), (0, "quarter", False)])
        self.assertEqual(self.to(chart(months("day"))), [(0, "week", False)], "a date has no hours")

    def test_parts_that_come_back_lead_to_the_periods_that_have_them(self):
        self.assertEqual(self.to(chart(months("weekday"))), [(0, "month", True), (0, "week", True), (0, "day", True)])
        sundays = apply_drill_step(chart(months("weekday")), step(months(), 7), MODEL)
        self.assertEqual(shown(sundays), {(dt.date(2026, 3, 1),): 16})

    def test_a_title_that_goes_says_what_the_chart_is_narrowed_to(self):
        only = [{"kind": "list", "field": "region", "values": ["South"]}]
        found = apply_drill_step(chart(months("weekday"), only=only, title="Southern fares"), step(months()), MODEL)
        self.assertEqual(ask(found, MODEL, context_of(MODEL)).title, "Fare by month of sailed, only region is South")

    def test_those_of_every_dimension_but_not_to_where_another_is(self):
        both = chart(months(), split={"field": "region"})
        self.assertEqual(self.to(both), [(0, "week", True), (1, "route", True), (0, "quarter", False)])
        self.assertEqual(self.to(chart("region", "route")), [(1, "passengers", True)])

    def test_a_chart_leads_along_the_path_it_is_set_to(self):
        along = chart("route", drill={"along": "Where"})
        self.assertEqual(self.to(along), [(0, "region", False)])
        gone = chart("region", drill={"along": "Gone"})
        self.assertEqual(self.to(gone), [(0, "route", True)], "of a path that is gone, any")
        self.assertEqual(self.to(chart("region", drill={"off": True})), [])

    def test_periods_that_are_counted_lead_nowhere(self):
        self.assertEqual(self.to(chart(months(), aligned="sum(fare) > 1")), [])

    def test_it_may_be_broken_down_by_dimensions_it_is_not_by(self):
        fields = [group.field for group in list_other_dimensions(chart("region"), MODEL)]
        self.assertEqual(fields, ["route", "sailed", "departure", "cancelled"])
        self.assertEqual(list_other_dimensions(chart("region", drill={"others": False}), MODEL), [])
        self.assertEqual(list_other_dimensions(chart("region", drill={"off": True}), MODEL), [])


class Steps(unittest.TestCase):
    def test_down_for_all(self):
        self.assertEqual(shown(apply_drill_step(chart("region"), step("route"), MODEL)), shown(chart("route")))

    def test_down_into_one_value(self):
        into = apply_drill_step(chart("region"), step("route", "South"), MODEL)
        self.assertEqual(shown(into), {("C",): 4, ("B",): 16})
        self.assertEqual([each.kind for each in into.only], ["list"])
        empty = apply_drill_step(chart("region"), step("route", None), MODEL)
        self.assertEqual(shown(empty), {("D",): 8}, "an empty value is one as well")

    def test_into_a_period_and_on(self):
        year = apply_drill_step(chart(months("year")), step(months("quarter"), "2026-01-01"), MODEL)
        self.assertEqual([value for _, value in sorted(shown(year).items())], [22])
        again = apply_drill_step(year, step(months("month"), "2026-01-01"), MODEL)
        self.assertEqual(sorted(shown(again).values()), [2, 4, 16])

    def test_the_dimension_at_the_position_gives_way(self):
        split = chart(months("year"), split={"field": "region"})
        found = apply_drill_step(split, step("route", "South", position=1), MODEL)
        self.assertEqual((found.by[0].grain, found.split.field), ("year", "route"))
        panels = chart(months("year"), panels={"by": ["region"]})
        self.assertEqual(
            apply_drill_step(panels, step("route", position=1), MODEL).panels.by, (Grouping(field="route"),)
        )

    def test_a_chart_without_dimensions_gets_one(self):
        self.assertEqual(shown(apply_drill_step(chart(), step("region"), MODEL)), shown(chart("region")))
        with self.assertRaises(DefinitionProblem):
            apply_drill_step(chart(), step("region", "North"), MODEL)

    def test_into_a_mark_of_several_dimensions(self):
        split = chart(months("year"), split={"field": "region"})
        found = apply_drill_step(split, step("route", "2026-01-01", "South"), MODEL)
        self.assertEqual(shown(found), {("C", "South"): 4, ("B", "South"): 16})
        gone = apply_drill_step(split, step("route", None, None), MODEL)
        self.assertEqual(shown(gone), {})

    def test_into_what_was_gathered(self):
        keep = {"count": 1, "by": FARE, "rest": True}
        found = apply_drill_step(chart("region", keep=keep), step("route", REST_POINT), MODEL)
        self.assertEqual(shown(found.model_copy(update={"keep": None})), {("A",): 1, ("B",): 2, ("D",): 8})

    def test_what_went_by_the_values_that_are_gone_goes(self):
        own = {"by": "own", "values": ["South"]}
        found = apply_drill_step(chart("region", sort=own, title="By region"), step("route"), MODEL)
        self.assertEqual((found.sort, found.title), (None, ""))
        told = apply_drill_step(chart("region", title="{highest} leads"), step("route"), MODEL)
        self.assertEqual(told.title, "{highest} leads")
        by_fare = {"by": "measure", "measure": FARE, "descending": True}
        kept = apply_drill_step(chart("region", sort=by_fare, keep={"count": 1, "by": FARE}), step("route"), MODEL)
        self.assertEqual((kept.sort.by, kept.keep.count), ("measure", 1))
        over_time = apply_drill_step(kept, step(months()), MODEL)
        self.assertEqual((over_time.sort, over_time.keep), (None, None), "periods stand in their order, all of them")
        split = chart(months(), split={"field": "region"}, series_order=["South"])
        self.assertEqual(apply_drill_step(split, step("route", position=1), MODEL).series_order, ())
        self.assertEqual(apply_drill_step(split, step(months("week")), MODEL).series_order, ("South",))

    def test_the_kind_follows_where_another_suits(self):
        line = chart(months(), kind="line")
        self.assertEqual(apply_drill_step(line, step(months("week")), MODEL).kind, "line")
        self.assertIsNone(apply_drill_step(line, step("region"), MODEL).kind, "regions are not in an order")
        bars = chart("region", kind="bar")
        self.assertEqual(apply_drill_step(bars, step("route"), MODEL).kind, "bar")

    def test_a_table_is_unfolded_in_place(self):
        unfold = DrillStep.model_validate({"to": "route", "unfold": True})
        found = apply_drill_step(chart("region", kind="table", title="By region"), unfold, MODEL)
        self.assertEqual([group.field for group in found.by], ["region", "route"])
        self.assertEqual((found.totals, found.look.table.folded, found.title), ("all", True, ""))
        self.assertEqual(shown(found), shown(chart("region", "route")))
        for other in (chart("region", kind="bar"), chart("region", "cancelled", kind="table")):
            with self.assertRaises(DefinitionProblem):
                apply_drill_step(other, unfold, MODEL)

    def test_what_is_not_offered_is_refused(self):
        closed = {"drill": {"others": False}}
        refused = [
            (chart("region", **closed), step("cancelled")),
            (chart("region", drill={"off": True}), step("route")),
            (chart("region"), step("fare")),
            (chart("region"), step("nothing")),
            (chart("region"), step("route", "South", position=4)),
            (chart("region"), step("route", "South", "C")),
            (chart("region"), step("region")),
        ]
        for definition, wanted in refused:
            with self.subTest(wanted), self.assertRaises(DefinitionProblem):
                apply_drill_step(definition, wanted, MODEL)
        self.assertEqual(apply_drill_step(chart("region", **closed), step("route"), MODEL).by[0].field, "route")

    def test_steps_are_taken_up_to_the_first_that_does_not_fit(self):
        found = apply_drill_steps(chart("region"), [step("route", "South"), step("nothing"), step("cancelled")], MODEL)
        self.assertEqual([each.to.field for each in found.steps], ["route"])
        self.assertEqual(found.stages, (chart("region"),))
        self.assertEqual(shown(found.chart), {("C",): 4, ("B",): 16})


class Making(unittest.TestCase):
    def test_whoever_makes_a_chart_may_go_anywhere(self):
        closed = chart("region", drill={"off": True})
        sent = step("route", "South").model_dump(mode="json")
        after = apply_edit(closed, MODEL, {"edit": "drill", "step": sent})
        self.assertEqual((shown(after), after.drill.off), ({("C",): 4, ("B",): 16}, True))

    def test_where_readers_may_go_is_said_in_the_sentence(self):
        for drill, words in (
            ({}, ""),
            ({"off": True}, ", not drilled"),
            ({"along": "Where"}, ", drilled along Where"),
            ({"along": "Where", "others": False}, ", drilled along Where only"),
            ({"others": False}, ", drilled along its paths only"),
        ):
            with self.subTest(drill):
                set_ = apply_edit(chart("region", kind="table"), MODEL, {"edit": "set_drill", "drill": drill})
                said = write_sentence_text(set_, get_kind("table"), MODEL.schema)
                self.assertEqual(said, f"Show fare as a table by region{words}.")
                removed = apply_edit(set_, MODEL, {"edit": "remove", "clause": "drill"})
                self.assertEqual(removed, chart("region", kind="table"))

    def test_a_path_that_there_is_not_is_refused(self):
        with self.assertRaises(DefinitionProblem):
            apply_edit(chart("region"), MODEL, {"edit": "set_drill", "drill": {"along": "Nowhere"}})


class AgainstALoop(unittest.TestCase):
    row = st.fixed_dictionaries(
        {
            "region": st.sampled_from(["North", "South", "", None]),
            "route": st.sampled_from(["A", "B", "A ", None]),
            "sailed": st.dates(dt.date(2023, 12, 25), dt.date(2024, 3, 3)) | st.none(),
            "fare": st.integers(-(10**9), 10**9).map(float),
        }
    )

    @given(st.lists(row, min_size=1, max_size=12), st.data())
    def test_the_parts_of_a_mark_are_those_of_its_rows(self, rows, data):
        mark = data.draw(st.sampled_from([(row["region"], row["sailed"]) for row in rows]))
        day = mark[1] and mark[1].isoformat()
        by_both = chart("region", split=months("day"))
        found = apply_drill_step(by_both, step("route", mark[0], day), model := model_of(rows))
        expected: dict[Any, float] = defaultdict(float)
        for row in rows:
            if (row["region"], row["sailed"]) == mark:
                expected[(row["route"], mark[1])] += row["fare"]
        self.assertEqual(shown(found, model), expected)

    @given(st.lists(row, min_size=1, max_size=12), st.data())
    def test_the_parts_of_a_value_are_those_of_its_rows(self, rows, data):
        model = model_of(rows)
        value = data.draw(st.sampled_from([row["region"] for row in rows]))
        day = data.draw(st.sampled_from([row["sailed"] for row in rows if row["region"] == value]))
        month = day and day.replace(day=1)
        by_month = apply_drill_step(chart("region"), step(months(), value), model)
        found = apply_drill_step(by_month, step("route", month and month.isoformat()), model)
        expected: dict[Any, float] = defaultdict(float)
        for row in rows:
            if row["region"] == value and (row["sailed"] and row["sailed"].replace(day=1)) == month:
                expected[(row["route"],)] += row["fare"]
        self.assertEqual(shown(found, model), expected)
