"""What comes along to another dashboard."""

from __future__ import annotations

import unittest

from tests.core.support import one_page
from veduta.core.dashboard.carried_controls import carry_controls
from veduta.core.dashboard.definition import DashboardDefinition, load_dashboard, load_state


def dashboard(*controls: dict[str, str]) -> DashboardDefinition:
    shared = {"kind": "list", "dataset": "d", "field_kind": "text", "name": "A control"}
    return load_dashboard(one_page(controls=[shared | each for each in controls]))


SOURCE = dashboard({"id": "r", "field": "region"}, {"id": "v", "field": "vessel"}, {"id": "p", "field": "port"})
STATE = load_state({"controls": {"r": {"values": ["North"]}, "v": None}})


class Leading(unittest.TestCase):
    def test_controls_of_the_same_field_are_set_alike(self):
        target = dashboard(
            {"id": "where", "field": "region"}, {"id": "ship", "field": "vessel"}, {"id": "at", "field": "port"}
        )
        self.assertEqual(carry_controls(SOURCE, STATE, target), {"where": STATE.controls["r"], "ship": None})

    def test_those_of_other_data_or_another_kind_are_not(self):
        target = dashboard(
            {"id": "a", "field": "region", "dataset": "e"}, {"id": "b", "field": "region", "kind": "text"}
        )
        self.assertEqual(carry_controls(SOURCE, STATE, target), {})

    def test_what_readers_chose_to_see_is_not(self):
        choosing = {"id": "what", "kind": "chooser", "field": "measure", "options": [{"name": "Rows", "measure": {}}]}
        state = load_state({"controls": {"what": {"option": 0}}})
        self.assertEqual(len(state.controls), 1)
        self.assertEqual(carry_controls(dashboard(choosing), state, dashboard(choosing | {"id": "other"})), {})
