from __future__ import annotations

import datetime as dt
import unittest

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE, MONTH
from tests.core.support import MemoryTable, context_of, field, sailings
from veduta.core.chart.definition import load_definition
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.question import ask
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import RowAccessDenied, VedutaError
from veduta.core.model.model import Model

PER_PASSENGER = 'sum("#fare") / sum("#passengers")'
ROW = st.fixed_dictionaries(
    {
        "route": st.sampled_from(["Tern", "Quay", "Harrow"]),
        "region": st.sampled_from(["North Reach", "Inner Sound"]),
        "fare": st.integers(-500, 5_000).map(float),
        "passengers": st.integers(1, 90),
    }
)


def answered(model, *references, others=None, **parts):
    definition = load_definition({"dataset": "d", "show": [FARE], "kind": "bar", "references": references, **parts})
    return ask(definition, model, context_of(model), others={} if others is None else others)


def drawn(spec, kind):
    """The data of a specification's layers of a kind of mark, wherever they stand."""
    inside = [*spec.get("layer", ()), *spec.get("concat", ())]
    own = [spec["data"]["values"]] if spec.get("mark", {}).get("type") == kind and "values" in spec["data"] else []
    return own + [values for each in inside for values in drawn({"data": {}, **each}, kind)]


class Formulas(unittest.TestCase):
    @examples(40)
    @given(st.lists(ROW, min_size=1, max_size=30))
    def test_one_is_worked_out_over_all_rows_shown(self, rows):
        found = answered(sailings(rows), {"of": "formula", "formula": PER_PASSENGER}, by=["route"])
        value = drawn(found.drawing.spec, "rule")[0][0]["value"]
        expected = sum(row["fare"] for row in rows) / sum(row["passengers"] for row in rows)
        self.assertAlmostEqual(value, expected)
        self.assertIn("compared with sum(Fare) / sum(Passengers)", found.sentence)

    def test_in_panels_it_is_each_panels_or_that_of_all(self):
        rows = [
            {"route": "Tern", "region": region, "fare": fare, "passengers": 2}
            for region, fare in (("North Reach", 10.0), ("Inner Sound", 30.0))
        ]
        for over, expected in (("panel", [15.0, 5.0]), ("all", [10.0, 10.0])):
            reference = {"of": "formula", "formula": PER_PASSENGER, "over": over}
            found = answered(sailings(rows), reference, by=["route"], panels={"by": ["region"]})
            values = [values[0]["value"] for values in drawn(found.drawing.spec, "rule")]
            self.assertEqual(values, expected, over)

    def test_the_edit_stores_ids_and_refuses_what_is_no_number(self):
        model = sailings([{"fare": 1.0}])
        start = load_definition({"dataset": "d", "by": ["route"]})

        def edited(formula):
            reference = {"of": "formula", "formula": formula}
            return apply_edit(start, model, {"edit": "set_reference", "reference": reference})

        self.assertEqual(edited("mean(fare)").references[0].formula, 'mean("#fare")')
        for wrong in ("sum(fare) > 3", "sum(nothing)", "  "):
            with self.subTest(wrong), self.assertRaises(VedutaError):
                edited(wrong)


def table_of(rows):
    """A dataset of events."""
    schema = Schema((field("From", DataType.DATE), field("To", DataType.DATE), field("What", DataType.TEXT)))
    columns = {each.id: pl.Series(each.id, [row.get(each.id) for row in rows], each.kind.dtype) for each in schema}
    return Model.from_table(MemoryTable(pl.DataFrame(columns), schema), schema)


class Events(unittest.TestCase):
    REFERENCE = {"of": "events", "events": {"dataset": "e", "start": "from", "end": "to", "words": "what"}}

    def with_events(self, rows, **parts):
        model = sailings([{"sailed": dt.date(2026, month, 10), "fare": 5.0} for month in range(1, 7)])
        events = table_of(rows)
        parts = {"by": [MONTH], **parts}
        return answered(model, self.REFERENCE, others={"e": (events, context_of(events))}, **parts)

    def test_those_within_the_time_axis_are_days_and_spans_with_their_words(self):
        rows = [
            {"from": dt.date(2026, 5, 1), "what": "new timetable"},
            {"from": dt.date(2026, 2, 3), "to": dt.date(2026, 2, 17), "what": "storm"},
            {"from": dt.date(2025, 12, 20), "to": dt.date(2026, 1, 5), "what": "holidays"},
            {"from": dt.date(2026, 7, 1), "what": "after the last month"},
            {"from": None, "what": "no day"},
        ]
        found = self.with_events(rows, kind="line")
        spans = [values[0] for values in drawn(found.drawing.spec, "rect")]
        self.assertEqual([each["label"] for each in spans], ["holidays", "storm"])
        # What began before the axis is drawn from where it begins.
        day = 86_400_000
        first = (dt.date(2026, 1, 10).replace(day=1) - dt.date(1970, 1, 1)).days * day
        self.assertEqual([spans[0]["at"], spans[0]["to"]], [first, first + 4 * day])
        days = [values[0]["label"] for values in drawn(found.drawing.spec, "rule")]
        self.assertEqual(days, ["new timetable"])

    def test_words_that_would_run_into_each_other_stand_at_levels_and_of_more_only_the_line(self):
        rows = [{"from": dt.date(2026, 2, 1 + i), "what": f"event {i}"} for i in range(6)]
        found = self.with_events(rows, kind="line")
        self.assertEqual(len(drawn(found.drawing.spec, "rule")), 6)
        texts = [layer["mark"] for layer in found.drawing.spec["layer"] if layer["mark"]["type"] == "text"]
        self.assertEqual([mark["dy"] for mark in texts if "stroke" not in mark], [2, 15, 28])

    def test_words_at_the_right_end_stand_before_their_line(self):
        found = self.with_events([{"from": dt.date(2026, 6, 28), "what": "the last week of June"}], kind="line")
        texts = [layer["mark"] for layer in found.drawing.spec["layer"] if layer["mark"]["type"] == "text"]
        self.assertEqual({mark["align"] for mark in texts}, {"right"})

    def test_more_than_can_be_read_are_cut_and_said(self):
        rows = [{"from": dt.date(2026, 2, 1) + dt.timedelta(i), "what": f"event {i}"} for i in range(60)]
        found = self.with_events(rows, kind="line")
        self.assertEqual(len(drawn(found.drawing.spec, "rule")), 40)
        self.assertIn("The first 40 of 60 events are drawn.", found.notes)

    def test_what_cannot_be_shown_is_said_and_the_chart_is_drawn(self):
        class Closed(dict):
            def __getitem__(self, key):
                raise RowAccessDenied("You may not see these rows.")

        found = self.with_events([], by=["route"])
        self.assertIn("Events to compare with need a time axis, and are not drawn.", found.notes)
        model = sailings([{"sailed": dt.date(2026, 1, 1), "fare": 5.0}])
        found = answered(model, self.REFERENCE, others=Closed(), by=[MONTH])
        self.assertIn("Events to compare with are not drawn. You may not see these rows.", found.notes)
        self.assertTrue(found.drawing.spec)
        gone = {"of": "events", "events": {"dataset": "e", "start": "gone"}}
        events = table_of([])
        found = answered(model, gone, others={"e": (events, context_of(events))}, by=[MONTH])
        self.assertTrue(any("Events to compare with are not drawn." in note for note in found.notes))
