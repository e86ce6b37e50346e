"""What lies behind the blocks of a page."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import one_page
from veduta.core.chart.contrast import DARK_INK, READABLE, compute_contrast
from veduta.core.chart.palettes import OWN
from veduta.core.dashboard.backgrounds import DARK_TEXT, PageGround, choose_page_tones, fade_colour, find_least_fade
from veduta.core.dashboard.block_looks import DARK_MUTED, LIGHT_MUTED
from veduta.core.dashboard.changes import list_changes
from veduta.core.dashboard.definition import load_dashboard
from veduta.core.dashboard.edits import apply_edit

COLOURS = st.integers(0, 0xFFFFFF).map(lambda number: f"#{number:06X}")
PLAIN = load_dashboard(one_page({"id": "fares", "kind": "chart", "chart": "1"}, {"id": "said", "kind": "text", "y": 4}))


class Grounds(unittest.TestCase):
    @given(COLOURS)
    def test_every_text_is_read_on_every_colour(self, colour: str):
        light, dark = choose_page_tones(PageGround(colour=colour), OWN)
        self.assertGreaterEqual(compute_contrast(LIGHT_MUTED, light), READABLE - 0.01)
        self.assertGreaterEqual(compute_contrast(DARK_MUTED, dark), READABLE - 0.01)

    @given(COLOURS, COLOURS)
    def test_texts_are_read_on_any_picture_that_is_faded_enough(self, colour: str, in_picture: str):
        ground = PageGround(colour=colour)
        light, dark = choose_page_tones(ground, OWN)
        least = find_least_fade(ground, OWN)
        self.assertGreaterEqual(compute_contrast(DARK_INK, fade_colour(in_picture, light, least)), READABLE - 0.05)
        self.assertGreaterEqual(compute_contrast(DARK_TEXT, fade_colour(in_picture, dark, least)), READABLE - 0.05)

    def test_colours_are_mixed_as_on_a_screen(self):
        self.assertEqual(fade_colour("#000000", "#FFFFFF", 50), "#808080")
        self.assertEqual(fade_colour("#102030", "#FFFFFF", 0), "#102030")

    def test_one_of_its_own_for_telephones_goes_with_what_is_set_for_them(self):
        definition = apply_edit(PLAIN, {"edit": "set_on_narrow", "block": "fares", "height": 300})
        ground = {"edit": "set_ground", "page": "p1", "ground": {"colour": "teal"}, "on_narrow": {"colour": "white"}}
        definition = apply_edit(definition, ground)
        moved = apply_edit(definition, {"edit": "move_on_narrow", "block": "said", "to": 0})
        self.assertEqual(moved.pages[0].narrow.ground, PageGround(colour="white"))
        self.assertEqual(moved.pages[0].narrow.blocks["fares"].height, 300)
        as_usual = apply_edit(moved, {"edit": "reset_narrow", "page": "p1"})
        self.assertIsNone(as_usual.pages[0].narrow.ground)

    def test_publishing_says_what_of_a_page_changes(self):
        after = apply_edit(PLAIN, {"edit": "set_ground", "page": "p1", "ground": {}, "gap": 12, "inner": "large"})
        said = [each.words for each in list_changes(PLAIN, after, lambda block: block.id)]
        self.assertEqual(said, ["its spacing changes (a page)"])
