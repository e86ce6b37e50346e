"""What readers choose that charts show."""

from __future__ import annotations

import unittest

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.dashboard.block_filters import collect_block_filters, list_choosers
from veduta.core.dashboard.choosers import apply_choices
from veduta.core.dashboard.controls import ChooserChoice, Control
from veduta.core.dashboard.definition import ViewState, load_dashboard
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem

FARE, PASSENGERS = ({"field": name, "aggregate": "sum"} for name in ("fare", "passengers"))
MONTHS = {"field": "sailed", "grain": "month"}
CHOOSER = {
    "id": "what", "kind": "chooser", "dataset": "d", "field": "measure", "field_kind": "text", "name": "Measure",
    "options": [{"name": "Fare", "measure": FARE}, {"name": "Passengers", "measure": PASSENGERS}],
}  # fmt: skip


def chart(**parts) -> ChartDefinition:
    return load_definition({"dataset": "d", "show": [FARE], "by": ["route"], **parts})


def chosen(definition: ChartDefinition, option: dict, dataset: str = "d") -> ChartDefinition:
    control = Control.model_validate({**CHOOSER, "dataset": dataset, "options": [option]})
    return apply_choices(definition, [(control, ChooserChoice(option=0))])


class Choosers(unittest.TestCase):
    def test_a_measure_takes_the_place_of_the_first_and_of_what_goes_by_it(self):
        keep, sort = {"count": 3, "by": FARE}, {"by": "measure", "measure": FARE, "descending": True}
        found = chosen(chart(show=[FARE, PASSENGERS], keep=keep, sort=sort), {"name": "P", "measure": PASSENGERS})
        self.assertEqual([each.field for each in found.show], ["passengers", "passengers"])
        self.assertEqual((found.keep.by.field, found.sort.measure.field), ("passengers", "passengers"))

    def test_what_goes_by_another_measure_stays(self):
        keep = {"count": 3, "by": PASSENGERS}
        found = chosen(chart(keep=keep), {"name": "R", "measure": {"field": "late", "aggregate": "mean"}})
        self.assertEqual((found.show[0].field, found.keep.by.field), ("late", "passengers"))

    def test_a_dimension_takes_the_place_of_the_first(self):
        own = {"by": "own", "values": ["Merrin–Outer Light"]}
        found = chosen(chart(by=["route", "region"], sort=own), {"name": "Vessel", "by": {"field": "vessel"}})
        self.assertEqual([each.field for each in found.by], ["vessel", "region"])
        self.assertIsNone(found.sort)
        by_fare = {"by": "measure", "measure": FARE, "descending": True}
        self.assertEqual(chosen(chart(sort=by_fare), {"name": "Vessel", "by": {"field": "vessel"}}).sort.by, "measure")

    def test_periods_are_those_of_the_chosen_grain(self):
        found = chosen(chart(by=[MONTHS]), {"name": "Weeks", "grain": "week"})
        self.assertEqual(found.by[0].grain, "week")
        self.assertEqual(chosen(chart(), {"name": "Weeks", "grain": "week"}), chart(), "there are no periods")

    def test_other_data_and_options_that_are_gone_change_nothing(self):
        option = {"name": "Passengers", "measure": PASSENGERS}
        self.assertEqual(chosen(chart(), option, dataset="e"), chart())
        control = Control.model_validate(CHOOSER)
        self.assertEqual(apply_choices(chart(), [(control, ChooserChoice(option=7))]), chart())

    def test_a_title_gives_way_to_what_the_chart_then_says(self):
        option = {"name": "Passengers", "measure": PASSENGERS}
        self.assertEqual(chosen(chart(title="Fares by route"), option).title, "")
        self.assertEqual(chosen(chart(title="By route, {dates}"), option).title, "By route, {dates}")
        self.assertEqual(chosen(chart(title="Fares"), {"name": "Fare", "measure": FARE}).title, "Fares")

    def test_an_option_is_one_thing(self):
        for option in ({"name": "Nothing"}, {"name": "Two", "measure": FARE, "grain": "month"}):
            with self.assertRaises(DefinitionProblem):
                load_dashboard({"controls": [{**CHOOSER, "options": [option]}]})

    def test_it_reaches_what_it_is_set_to_and_filters_nothing(self):
        blocks = [{"id": name, "kind": "chart", "chart": name, "y": y} for name, y in (("a", 0), ("b", 4))]
        scope = {"of": "blocks", "names": ["a"]}
        data = {"pages": [{"id": "p1", "name": "One", "blocks": blocks}], "controls": [{**CHOOSER, "scope": scope}]}
        definition, state = load_dashboard({"version": 2, **data}), ViewState(controls={"what": {"option": 1}})
        self.assertEqual([choice.option for _, choice in list_choosers(definition, state, "a")], [1])
        self.assertEqual(list_choosers(definition, state, "b"), [])
        self.assertEqual(list_choosers(definition, ViewState(), "a"), [], "as it was made, until something is chosen")
        found = collect_block_filters("a", chart(), Schema([]), definition, state, lambda s: None, lambda d: Schema([]))
        self.assertEqual((found.filters, found.narrowings), ([], []))
