import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_colours import luminance
from veduta.core.chart.contrast import (
    DARK_GROUND,
    LIGHT_GROUND,
    choose_ink,
    compute_contrast,
    derive_dark_colour,
    make_readable,
    write_colour,
)
from veduta.core.chart.palettes import NAMED_COLOURS, SERIES_COLOURS
from veduta.core.chart.theme import (
    DARK,
    DARK_COLOURS,
    LIGHT,
    compute_accent_tones,
    find_dark_colours,
    get_both_colours,
    get_both_paper_colours,
    get_both_text_colours,
    use_counterparts,
)

COLOURS = st.tuples(*[st.integers(0, 255)] * 3).map(lambda parts: "#" + "".join(f"{part:02X}" for part in parts))


def ratio(one: str, other: str) -> float:
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


class Papers(unittest.TestCase):
    @examples(100)
    @given(COLOURS)
    def test_all_texts_can_be_read_on_any_ground(self, colour):
        for ground, tokens in zip(get_both_paper_colours(colour), (LIGHT, DARK), strict=True):
            for ink in (tokens["muted"], tokens["ink"]):
                self.assertGreaterEqual(ratio(ink, ground), 4.49)

    def test_what_can_be_written_on_stays_as_it_is(self):
        self.assertEqual(get_both_paper_colours("#FBF0D9")[0], "#FBF0D9")


class Accents(unittest.TestCase):
    @examples(100)
    @given(st.from_regex(r"#[0-9A-F]{6}", fullmatch=True))
    def test_all_texts_in_and_on_an_accent_can_be_read(self, colour):
        tones = compute_accent_tones(colour)
        for theme, sheet in enumerate((LIGHT_GROUND, DARK_GROUND)):
            accent, tint, ink = (tones[name][theme] for name in ("lagoon", "lagoon-tint", "on-lagoon"))
            for text, ground in ((accent, sheet), (accent, tint), (ink, accent)):
                self.assertGreaterEqual(ratio(text, ground), 4.49)


class Tones(unittest.TestCase):
    @examples(60)
    @given(COLOURS, COLOURS)
    def test_contrast_is_that_of_wcag(self, one, other):
        self.assertAlmostEqual(compute_contrast(one, other), ratio(one, other), places=2)

    def test_ink_can_be_read_on_every_ground(self):
        for parts in itertools.product(range(0, 256, 17), repeat=3):
            ground = "#" + "".join(f"{part:02X}" for part in parts)
            self.assertGreaterEqual(ratio(choose_ink(ground), ground), 4.5, ground)

    @examples(60)
    @given(COLOURS, COLOURS)
    def test_a_text_of_any_colour_can_be_read_on_any_ground_in_both_themes(self, colour, ground):
        self.assertEqual(make_readable(colour, ground) == colour, compute_contrast(colour, ground) >= 4.5)
        for text, behind in zip(get_both_text_colours(colour, ground), get_both_colours(ground), strict=True):
            self.assertGreaterEqual(ratio(text, behind), 4.49)

    @examples(60)
    @given(COLOURS)
    def test_the_counterpart_stands_out_from_the_dark_sheet_as_the_colour_does_from_the_light_one(self, colour):
        light, dark = ratio(colour, LIGHT_GROUND), ratio(derive_dark_colour(colour), DARK_GROUND)
        self.assertTrue(abs(dark - light) < 0.15 or dark >= 15.9 or 2.9 < dark < 3.2, (light, dark))

    def test_series_have_the_counterparts_that_were_chosen(self):
        self.assertEqual(
            [get_both_colours(str(i + 1)) for i in range(8)], list(zip(SERIES_COLOURS, DARK_COLOURS, strict=True))
        )
        spec = {"mark": {"color": "#AA0000"}, "value": SERIES_COLOURS[0], "text": "no #AA0001 here", "x": "#EEEEEE"}
        self.assertEqual(set(find_dark_colours(spec)), {"#AA0000", "#EEEEEE"})
        self.assertNotIn(NAMED_COLOURS["ink"], find_dark_colours({"color": NAMED_COLOURS["ink"]}))

    @examples(40)
    @given(COLOURS, COLOURS, COLOURS)
    def test_a_counterpart_that_was_set_stands_wherever_its_colour_does(self, colour, dark, text):
        computed = get_both_colours(colour)
        with use_counterparts(lambda: {colour: dark}):
            self.assertEqual(get_both_colours(colour), (colour, dark))
            self.assertGreaterEqual(ratio(get_both_text_colours(text, colour)[1], dark), 4.49)
            self.assertEqual(find_dark_colours({"fill": colour}).get(colour, get_both_colours(colour)[1]), dark)
            ground = get_both_paper_colours(colour)[1]
            self.assertGreaterEqual(ratio(DARK["muted"], ground), 4.49)
        self.assertEqual(get_both_colours(colour), computed)

    def test_colours_are_read_as_css_writes_them(self):
        for text, colour in (
            ("#0b5d62", "#0B5D62"),
            ("#abc", "#AABBCC"),
            (" Teal ", "#008080"),
            ("rgb(255, 0, 0)", "#FF0000"),
            ("hsl(120 100% 25%)", "#008000"),
            ("oklch(0.5 0.4 200)", "#00717D"),
            ("red;background:url(x)", ""),
            ("", ""),
        ):
            with self.subTest(text=text):
                self.assertEqual(write_colour(text)[:2], colour[:2])
                self.assertEqual(len(write_colour(text)), len(colour))
