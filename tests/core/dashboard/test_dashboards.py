import datetime as dt
import json
import unittest

from tests.core.support import SAILING_FIELDS, field, one_page
from veduta.core.chart.definition import load_definition
from veduta.core.dashboard.block_filters import collect_block_filters, collect_parameter_values, get_choice
from veduta.core.dashboard.controls import Control, DatesChoice, ListChoice, ParameterChoice
from veduta.core.dashboard.definition import ViewState, load_dashboard, load_state
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem, NewerDefinition
from veduta.core.number_format import REST_POINT
from veduta.core.query.filters import DatesFilter, ListFilter, PointsFilter, RelativeFilter

DATE = {
    "id": "date",
    "kind": "dates",
    "dataset": "d",
    "field": "sailed",
    "field_kind": "date",
    "name": "Sailed",
    "dates": {},
}
REGION = {"id": "region", "kind": "list", "dataset": "d", "field": "region", "field_kind": "text", "name": "Region"}
OTHER = Schema([field("Region", DataType.TEXT).model_copy(update={"id": "c9"}), field("Berths", DataType.WHOLE)])


class Definitions(unittest.TestCase):
    def test_it_survives_being_stored(self):
        data = one_page({"id": "a1", "kind": "text", "text": "Hello"}, controls=[DATE, REGION])
        dashboard = load_dashboard(data)
        self.assertEqual(load_dashboard(dashboard.model_dump(mode="json")), dashboard)

    def test_unusable_ones_are_explained(self):
        block = {"id": "a1", "kind": "text"}
        for data in (
            None,
            one_page(block, block),
            one_page({**block, "w": 13}),
            one_page({**block, "id": "<b>"}),
            {"pages": []},
        ):
            with self.subTest(data=data), self.assertRaises(DefinitionProblem):
                load_dashboard(data)
        with self.assertRaises(NewerDefinition):
            load_dashboard({"version": 3})

    def test_blocks_are_read_from_the_top_left(self):
        places = {"a": (6, 0), "b": (0, 4), "c": (0, 0)}
        dashboard = load_dashboard(
            one_page(*({"id": k, "kind": "heading", "x": x, "y": y} for k, (x, y) in places.items()))
        )
        self.assertEqual([block.id for block in dashboard.pages[0].in_reading_order], ["c", "a", "b"])


class States(unittest.TestCase):
    def test_an_address_holds_the_whole_state(self):
        state = ViewState(
            controls={
                "date": DatesChoice(kind="dates", start=dt.date(2026, 1, 1)),
                "region": ListChoice(values=("A", None)),
                "x": None,
            },
            selections=({"block": "b1", "mode": "leave_out", "points": (("A", 3), (None, True))},),
        )
        self.assertEqual(load_state(state.model_dump_json()), state)
        self.assertEqual(load_state(""), ViewState())

    def test_damaged_addresses_are_explained(self):
        for text in (
            "{",
            "[1]",
            '{"controls": 5}',
            '{"selections": [{"block": "b1", "points": []}]}',
            '{"controls": {"d": {"kind": "dates", "start": "2026-02-02", "end": "2026-01-01"}}}',
            '{"selections": [{"block": "../x", "points": [[1]]}]}',
        ):
            with self.subTest(text=text), self.assertRaises(DefinitionProblem) as caught:
                load_state(text)
            self.assertIn("plain address", caught.exception.hint)


class Following(unittest.TestCase):
    def setUp(self):
        self.schema = Schema(SAILING_FIELDS)
        self.chart = load_definition({"dataset": "d", "by": ["route"]})
        self.source = load_definition(
            {"dataset": "d", "by": [{"field": "sailed", "grain": "month"}], "split": "region"}
        )

    def follow(self, state, controls=(DATE, REGION), chart=None, schema=None, block="me"):
        dashboard = load_dashboard({"controls": list(controls)})
        sources = {"other": (self.source, self.schema), "figure": (load_definition({"dataset": "d"}), self.schema)}
        return collect_block_filters(
            block,
            chart or self.chart,
            schema or self.schema,
            dashboard,
            state,
            lambda selection: sources.get(selection.block),
            lambda dataset: self.schema,
        )

    def test_controls_filter_by_what_they_are_set_to(self):
        state = ViewState(controls={"region": ListChoice(values=("A",), exclude=True)})
        self.assertEqual(
            self.follow(state).filters,
            [RelativeFilter(field="sailed"), ListFilter(field="region", values=("A",), exclude=True)],
        )

    def test_a_control_set_to_all_filters_nothing(self):
        state = ViewState(controls={"date": None, "region": ListChoice(values=())})
        self.assertEqual(self.follow(state).filters, [])

    def test_a_range_of_days(self):
        state = ViewState(controls={"date": DatesChoice(kind="dates", end=dt.date(2026, 5, 1))})
        self.assertEqual(self.follow(state).filters, [DatesFilter(field="sailed", end=dt.date(2026, 5, 1))])

    def test_from_one_moment_to_another(self):
        choice = DatesChoice(kind="dates", start=dt.date(2026, 5, 1), start_time=dt.time(22), end=dt.date(2026, 5, 2))
        made = self.follow(load_state(ViewState(controls={"date": choice}).model_dump_json())).filters
        self.assertEqual([each.ends for each in made], [(dt.datetime(2026, 5, 1, 22), dt.date(2026, 5, 2))])
        day = {"start": "2026-05-01", "end": "2026-05-01"}
        with self.assertRaises(DefinitionProblem):
            load_state(
                json.dumps({"controls": {"d": {"kind": "dates", **day, "start_time": "22:00", "end_time": "06:00"}}})
            )

    def test_a_block_of_another_dataset_follows_by_the_name_of_the_field_or_says_that_it_cannot(self):
        chart = load_definition({"dataset": "ports"})
        found = self.follow(ViewState(controls={"region": ListChoice(values=("A",))}), chart=chart, schema=OTHER)
        self.assertEqual(found.filters, [ListFilter(field="c9", values=("A",))])
        self.assertEqual(found.not_followed, ["Sailed"])

    def test_a_control_that_narrows_nothing_is_not_worth_a_word(self):
        found = self.follow(
            ViewState(controls={"date": None}), chart=load_definition({"dataset": "ports"}), schema=OTHER
        )
        self.assertEqual(found.not_followed, [])

    def test_a_selection_filters_the_others_and_not_its_own_block(self):
        state = ViewState(selections=({"block": "other", "points": (("2026-03-01", "A"),)},))
        self.assertEqual(
            self.follow(state, ()).filters, [PointsFilter(groups=self.source.groups, points=(("2026-03-01", "A"),))]
        )
        self.assertEqual(self.follow(state, (), block="other").filters, [])

    def test_a_selected_range_of_the_axis_ignores_the_series(self):
        state = ViewState(selections=({"block": "other", "mode": "leave_out", "points": (("2026-03-01",),)},))
        self.assertEqual(
            self.follow(state, ()).filters,
            [PointsFilter(groups=self.source.by, points=(("2026-03-01",),), exclude=True)],
        )

    def test_a_selection_whose_field_is_not_there_is_not_followed_and_said(self):
        state = ViewState(selections=({"block": "other", "points": (("2026-03-01", "A"),)},))
        found = self.follow(state, (), chart=load_definition({"dataset": "ports"}), schema=OTHER)
        self.assertEqual((found.filters, found.not_followed), ([], ["Sailed"]))

    def test_selections_of_blocks_that_are_gone_or_have_no_marks_are_passed_over(self):
        for block in ("gone", "figure"):
            self.assertEqual(
                self.follow(ViewState(selections=({"block": block, "points": (("A",),)},)), ()).filters, []
            )

    def test_a_choice_of_the_wrong_kind_is_refused(self):
        control = Control.model_validate(DATE)
        with self.assertRaises(DefinitionProblem):
            get_choice(control, ViewState(controls={"date": ListChoice(values=("A",))}))

    def test_parameters_are_set_by_their_controls_and_filter_nothing_themselves(self):
        control = {
            "id": "late",
            "kind": "parameter",
            "dataset": "d",
            "field": "late_after",
            "field_kind": "whole",
            "name": "Late after",
            "parameter": {"set": [5]},
        }
        dashboard = load_dashboard({"controls": [control, REGION, {**control, "id": "of", "dataset": "ports"}]})
        for choice, expected in ((None, None), ({"set": [9]}, [9]), ({"set": None}, None)):
            state = load_state(json.dumps({"controls": {"late": choice}}))
            self.assertEqual(collect_parameter_values(dashboard, state, "d", "me"), {"late_after": expected})
        self.assertEqual(collect_parameter_values(dashboard, ViewState(), "d", "me"), {"late_after": [5]})
        self.assertEqual(self.follow(ViewState(), [control]).filters, [])

    def test_what_was_gathered_elsewhere_is_followed_in_its_own_dataset_only(self):
        keep = {"count": 1, "by": {"field": "fare", "aggregate": "sum"}, "rest": True}
        self.source = load_definition({"dataset": "d", "by": ["region"], "keep": keep})
        state = ViewState(selections=({"block": "other", "points": ((REST_POINT,),)},))
        (made,) = self.follow(state, ()).filters
        self.assertEqual(made.rest.field, "region")
        elsewhere = self.follow(state, (), chart=load_definition({"dataset": "ports"}), schema=OTHER)
        self.assertEqual((elsewhere.filters, elsewhere.not_followed), ([], ["Region"]))


class Words(unittest.TestCase):
    def test_what_controls_are_set_to(self):
        dates, region = Control.model_validate(DATE), Control.model_validate(REGION)
        parameter = Control.model_validate(
            {**REGION, "kind": "parameter", "choices": [{"value": "A", "label": "the first"}]}
        )
        for choice, control, words in (
            (DatesChoice(kind="relative", unit="month", count=3), dates, "the last 3 months"),
            (DatesChoice(kind="dates"), dates, "all"),
            (DatesChoice(kind="dates", start=dt.date(2026, 5, 1), end=dt.date(2026, 5, 31)), dates, "May 2026"),
            (ListChoice(values=()), region, "all"),
            (ListChoice(values=("A", "B")), region, "A or B"),
            (ListChoice(values=("A", None), exclude=True), region, "all but A or empty"),
            (ParameterChoice(set=("A", "B")), parameter, "the first or B"),
            (ParameterChoice(set=None), parameter, "no limit"),
        ):
            with self.subTest(words):
                self.assertEqual(choice.describe(control), words)
