"""What of a reader's state is not on a dashboard any more."""

from __future__ import annotations

import unittest

from tests.core.support import one_page
from veduta.core.dashboard.definition import ViewState, load_dashboard, load_state
from veduta.core.dashboard.stale_state import drop_stale_state, list_state_parts

REGION = {
    "id": "region", "kind": "list", "dataset": "d", "field": "region", "field_kind": "text", "name": "Region",
}  # fmt: skip
STATE = {
    "controls": {"region": {"values": ["North"]}, "old": None},
    "selections": [
        {"block": "a", "points": [["North"]]},
        {"block": "gone", "points": [["North"]]},
        {"block": "far", "dashboard": "other", "points": [["North"]]},
    ],
    "drills": {"a": [{"to": "route"}], "gone": [{"to": "route"}]},
    "sorts": {"a": "m0", "gone": "m0"},
}


class Leaving(unittest.TestCase):
    definition = load_dashboard(one_page({"id": "a", "kind": "chart", "chart": "a"}, controls=[REGION]))

    def test_what_is_gone_is_left_out_and_named(self):
        kept, gone = drop_stale_state(self.definition, load_state(STATE))
        self.assertEqual(gone, ["control old", "selection gone", "drill gone", "sort gone"])
        self.assertEqual(
            list_state_parts(kept), ["control region", "selection a", "selection far", "drill a", "sort a"]
        )

    def test_what_is_there_stays_as_it_is(self):
        kept, _ = drop_stale_state(self.definition, load_state(STATE))
        self.assertEqual(drop_stale_state(self.definition, kept), (kept, []))
        self.assertEqual(drop_stale_state(self.definition, ViewState()), (ViewState(), []))
