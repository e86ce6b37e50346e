"""What publishing changes for readers: each change once, in words, and nothing where nothing changes."""

import unittest

from tests.core.dashboard.test_dashboard_edits import FARES, LATE, REGION, SAID, TOP
from tests.core.support import one_page
from veduta.core.dashboard.changes import list_changes
from veduta.core.dashboard.definition import load_dashboard
from veduta.core.dashboard.edits import apply_edit

START = load_dashboard(one_page(FARES, LATE, SAID, controls=[REGION, TOP]))
NORTH = {"kind": "list", "field": "c3", "values": ["North Reach"]}


def told(*edits, start=START):
    after = start
    for edit in edits:
        after = apply_edit(after, edit)
    found = list_changes(start, after, lambda block: block.title or block.text or block.id)
    return [f"{change.name} {change.words}" for change in found]


class Changes(unittest.TestCase):
    def test_nothing_changes_for_nobody(self):
        self.assertEqual(told(), [])
        self.assertEqual(told({"edit": "lock_blocks", "blocks": ["late"]}), [])
        self.assertEqual(told({"edit": "add_block", "id": "later", "kind": "place", "text": "Winter"}), [])

    def test_each_change_is_told(self):
        for edit, words in (
            ({"edit": "set_block", "block": "said", "text": "More"}, "More its text changes"),
            ({"edit": "size_block", "block": "said", "w": 3, "h": 2}, "Said its place changes"),
            (
                {"edit": "set_look", "block": "late", "title": "Late", "look": {"ground": "none"}},
                "Late its title and its look change",
            ),
            ({"edit": "remove_blocks", "blocks": ["said"]}, "Said is there no longer"),
            ({"edit": "add_block", "id": "new", "kind": "text", "text": "New"}, "New is new"),
            ({"edit": "add_page", "id": "p2", "name": "Quays"}, "Quays is a new page"),
            ({"edit": "set_page", "page": "p1", "name": "Routes"}, "Routes its name changes (a page)"),
            ({"edit": "remove_control", "control": "top"}, "Top is a control no longer"),
            (
                {"edit": "set_control", "control": "region", "choice": {"values": ["North Reach"]}},
                "Region is set to something else at first",
            ),
            ({"edit": "set_scope", "narrows": "region", "scope": {"of": "none"}}, "Region reaches other blocks"),
            ({"edit": "shape_control", "control": "region", "single": True}, "Region is set in another way"),
            ({"edit": "add_filter", "id": "f", "dataset": "d", "filter": NORTH}, "A filter of the dashboard is new"),
            (
                {"edit": "set_click", "block": "fares", "other": "late", "does": "nothing"},
                "fares what a click on it does changes",
            ),
            ({"edit": "set_colours", "own_colours": True}, "Colours of values change"),
            ({"edit": "set_colours", "letters": "large"}, "The size of letters changes"),
            ({"edit": "set_paper", "paper": {"size": "A3"}}, "The paper it is printed on changes"),
        ):
            with self.subTest(words):
                self.assertEqual(told(edit), [words])

    def test_blocks_that_go_to_another_page_say_so(self):
        pages = apply_edit(START, {"edit": "add_page", "id": "p2", "name": "Quays"})
        moved = told({"edit": "move_to_page", "blocks": ["said"], "page": "p2"}, start=pages)
        self.assertEqual(moved, ["Said its page changes"])
        self.assertEqual(
            told({"edit": "move_page", "page": "p2", "to": 0}, start=pages), ["The pages stand in another order"]
        )
        gone = told({"edit": "remove_page", "page": "p1"}, start=pages)
        self.assertEqual(gone[0], "Page 1 is a page no longer")
        self.assertIn("Said is there no longer on the page “Page 1”", gone)
