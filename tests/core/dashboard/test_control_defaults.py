"""What controls are set to when a reader comes."""

from __future__ import annotations

import unittest

from veduta.core.dashboard.control_defaults import with_defaults
from veduta.core.dashboard.controls import Choice, DatesChoice, ListChoice, ParameterChoice, TextChoice
from veduta.core.dashboard.definition import load_dashboard

REGION = {
    "id": "region", "kind": "list", "dataset": "d", "field": "c3", "field_kind": "text", "name": "Region",
    "list": {"values": ["Inner Sound"]},
}  # fmt: skip
PERSON = {"region": ("North Reach", "South Banks")}


def first(control: dict, attributes=PERSON, last=None, highest=None) -> Choice | None:
    definition = load_dashboard({"controls": [control]})
    (made,) = with_defaults(definition, attributes, last or {}, lambda each: highest).controls
    return getattr(made, made.kind)


class Firsts(unittest.TestCase):
    def test_what_is_said_of_the_reader(self):
        of_reader = {**REGION, "first": "reader", "attribute": "region"}
        self.assertEqual(first(of_reader), ListChoice(values=PERSON["region"]))
        self.assertEqual(first({**of_reader, "single": True}), ListChoice(values=("North Reach",)))
        self.assertEqual(first({**of_reader, "kind": "text", "list": None}), TextChoice(text="North Reach"))
        parameter = {**of_reader, "kind": "parameter", "list": None}
        self.assertEqual(first(parameter), ParameterChoice(set=PERSON["region"]))

    def test_what_is_not_known_stays_as_the_dashboard_has_it(self):
        as_set = ListChoice(values=("Inner Sound",))
        self.assertEqual(first({**REGION, "first": "reader", "attribute": "port"}), as_set)
        self.assertEqual(first({**REGION, "first": "last"}), as_set)
        self.assertEqual(first({**REGION, "first": "highest"}), as_set)
        number = {**REGION, "field_kind": "whole", "first": "reader", "attribute": "region"}
        self.assertEqual(first(number), as_set, "an attribute is text")
        self.assertEqual(first(REGION), as_set)

    def test_the_last_time_and_the_latest_value(self):
        again = {**REGION, "first": "last"}
        had = ListChoice(values=("South Banks",), exclude=True)
        self.assertEqual(first(again, last={"region": had}), had)
        self.assertEqual(first(again, last={"region": DatesChoice()}), ListChoice(values=("Inner Sound",)))
        self.assertEqual(first({**REGION, "first": "highest"}, highest="Z"), ListChoice(values=("Z",)))
        day = {**REGION, "kind": "dates", "field_kind": "date", "list": None, "first": "highest", "single": True}
        latest = DatesChoice(kind="dates", start="2026-02-28", end="2026-02-28")
        self.assertEqual(first(day, highest="2026-02-28"), latest)
