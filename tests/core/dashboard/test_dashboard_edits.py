"""Edits of a dashboard: each does what it says, and what cannot be done is told."""

import unittest

from veduta.core.dashboard.definition import load_dashboard
from veduta.core.dashboard.edits import EDITS, apply_edit
from veduta.core.errors import DefinitionProblem

REGION = {"id": "region", "kind": "list", "dataset": "d", "field": "c3", "field_kind": "text", "name": "Region"}
TOP = {"id": "top", "kind": "parameter", "dataset": "d", "field": "top", "field_kind": "whole", "name": "Top"}
START = load_dashboard(
    {
        "blocks": [
            {"id": "fares", "kind": "chart", "chart": "1", "x": 0, "y": 0, "w": 6, "h": 4},
            {"id": "late", "kind": "chart", "chart": "2", "x": 6, "y": 0, "w": 6, "h": 4},
            {"id": "said", "kind": "text", "text": "Said", "x": 0, "y": 4, "w": 6, "h": 2},
        ],
        "controls": [REGION, TOP],
    }
)


def after(edit, **sent):
    return apply_edit(START, {"edit": edit, **sent})


def place(definition, name):
    block = definition.block(name)
    return (block.x, block.y, block.w, block.h)


class Edits(unittest.TestCase):
    def test_each_does_what_it_says(self):
        colours = [{"fields": ["Region"], "colours": [{"values": ["North Reach"], "colour": "#AA5500"}]}]
        examples = {
            "add_block": ({"id": "new", "kind": "heading"}, lambda d: place(d, "new") == (0, 6, 12, 1)),
            "move_block": ({"block": "said", "x": 6, "y": 0}, lambda d: place(d, "late") == (6, 2, 6, 4)),
            "step_block": ({"block": "said", "down": -1}, lambda d: place(d, "fares") == (0, 2, 6, 4)),
            "size_block": ({"block": "fares", "w": 3, "h": 6}, lambda d: place(d, "said") == (0, 6, 6, 2)),
            "grow_block": ({"block": "fares", "right": -1, "down": 1}, lambda d: place(d, "fares") == (0, 0, 5, 5)),
            "put_block": (
                {"block": "said", "target": "late", "side": "left"},
                lambda d: (place(d, "said"), place(d, "late")) == ((6, 0, 3, 4), (9, 0, 3, 4)),
            ),
            "even_row": ({"block": "said"}, lambda d: place(d, "said") == (0, 4, 12, 2)),
            "set_block": ({"block": "said", "text": "More"}, lambda d: d.block("said").text == "More"),
            "remove_blocks": ({"blocks": ["fares"]}, lambda d: place(d, "said") == (0, 0, 6, 2)),
            "duplicate_blocks": (
                {"copies": {"late": "again", "said": "too"}},
                lambda d: (place(d, "again"), place(d, "too")) == ((6, 4, 6, 4), (0, 6, 6, 2)),
            ),
            "add_control": (
                {"control": {**REGION, "id": "other"}},
                lambda d: [each.id for each in d.controls] == ["region", "top", "other"],
            ),
            "remove_control": ({"control": "region"}, lambda d: [each.id for each in d.controls] == ["top"]),
            "set_control": (
                {"control": "region", "choice": {"values": ["North Reach"]}},
                lambda d: d.controls[0].list.values == ("North Reach",),
            ),
            "set_colours": (
                {"colours": colours, "own_colours": True},
                lambda d: (d.own_colours, d.colours[0].fields) == (True, ("Region",)),
            ),
        }
        self.assertEqual(set(examples), set(EDITS))
        for name, (sent, holds) in examples.items():
            with self.subTest(edit=name):
                self.assertTrue(holds(after(name, **sent)))

    def test_what_cannot_be_done_is_told(self):
        for edit, sent in (
            ("add_block", {"id": "fares", "kind": "text"}),
            ("add_block", {"id": "new", "kind": "text", "target": "gone"}),
            ("add_block", {"id": "No id!", "kind": "text"}),
            ("move_block", {"block": "gone", "x": 0, "y": 0}),
            ("put_block", {"block": "said", "target": "late", "side": "within"}),
            ("remove_blocks", {"blocks": []}),
            ("duplicate_blocks", {"copies": {"late": "fares"}}),
            ("set_control", {"control": "region", "choice": {"set": [3]}}),
            ("add_control", {"control": REGION}),
            ("turn_over", {}),
        ):
            with self.subTest(edit=edit, sent=sent), self.assertRaises(DefinitionProblem):
                after(edit, **sent)

    def test_a_parameter_without_a_choice_has_no_limit(self):
        self.assertIsNone(after("set_control", control="top").controls[1].parameter.set)
        self.assertIsNone(after("set_control", control="region").controls[0].list)

    def test_what_is_said_of_nothing_stays(self):
        changed = after("set_block", block="said", title="Said by")
        self.assertEqual((changed.block("said").text, changed.block("said").title), ("Said", "Said by"))
