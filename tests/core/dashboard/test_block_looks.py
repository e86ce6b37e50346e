"""How a block looks and where a click on it leads: texts are always read, addresses lead to the web only."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from veduta.core.chart.contrast import DARK_INK, LIGHT_INK, compute_contrast
from veduta.core.chart.definition import load_definition
from veduta.core.chart.palettes import Paints
from veduta.core.dashboard.block_looks import DARK_MUTED, LIGHT_MUTED, BlockLook, apply_block_look, make_ground_look
from veduta.core.dashboard.clicks import Click, fill_address

COLOURS = st.integers(0, 0xFFFFFF).map("#{:06X}".format)
# What is rounded to whole numbers of red, green and blue may fall short by a little.
READ = 4.45


class Looks(unittest.TestCase):
    CHART = load_definition({"dataset": "d", "title": "Fares", "note": "By region", "foot": "Of all sailings"})

    def texts(self, title="", **look):
        return apply_block_look(self.CHART, title, BlockLook(**look)).texts

    def test_a_chart_has_the_texts_of_its_block(self):
        self.assertEqual(self.texts(), ("Fares", "By region", "Of all sailings"))
        self.assertEqual(
            self.texts("Takings", subtitle="In {period}", note="Until {latest}"),
            ("Takings", "In {period}", "Until {latest}"),
        )
        self.assertEqual(self.texts(parts=("dates", "total"))[1], "By region\n{total}\n{dates}")

    @examples(100)
    @given(COLOURS)
    def test_every_text_is_read_on_any_ground(self, colour):
        ground = make_ground_look(colour, Paints())
        on_light = (LIGHT_INK, DARK_MUTED) if ground.strong else (DARK_INK, LIGHT_MUTED)
        for text, paper in [(each, ground.light) for each in on_light] + [(DARK_MUTED, ground.dark)]:
            self.assertGreaterEqual(compute_contrast(text, paper), READ, (text, paper))

    def test_a_series_colour_is_a_ground_too(self):
        self.assertEqual(make_ground_look("1", Paints()).light, make_ground_look("#0B5D62", Paints()).light)


class Clicks(unittest.TestCase):
    def test_an_address_has_the_clicked_values(self):
        address = "https://ships.example/{vessel}/{ Region }?again={vessel}"
        values = {"Vessel": "Gull/1", "Region": "South Banks"}
        self.assertEqual(fill_address(address, values), "https://ships.example/Gull%2F1/South%20Banks?again=Gull%2F1")
        self.assertEqual(fill_address(address, {"Vessel": "Gull"}), "")

    def test_it_leads_to_the_web_and_to_the_same_place_of_it(self):
        for address in (
            "javascript:alert(1)",
            "ships.example/{Vessel}",
            "https://{Vessel}.example/",
            "https://ships.example@{Vessel}/",
            "//ships.example/",
            "https://",
        ):
            with self.subTest(address), self.assertRaises(ValueError):
                Click(does="address", address=address)

    def test_what_a_stored_address_makes_must_be_of_the_web(self):
        for address in ("javascript:alert('{Vessel}')", "{Vessel}", "//{Vessel}"):
            self.assertEqual(fill_address(address, {"Vessel": "Gull"}), "", address)

    def test_it_keeps_only_what_it_needs(self):
        click = Click.model_validate({"does": "page", "page": "p2", "dashboard": "d", "address": "nowhere"})
        self.assertEqual(click, Click(does="page", page="p2"))

    @examples(100)
    @given(st.text())
    def test_no_value_leads_elsewhere(self, value):
        made = fill_address("https://ships.example/{Vessel}", {"Vessel": value})
        self.assertTrue(made == "" or made.startswith("https://ships.example/"))
