"""Palettes: what is said of them, and how charts are drawn with them."""

import itertools
import unittest

from coloraide import Color
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE, MONTH, ROWS, chart
from tests.core.support import context_of, sailings
from veduta.core.chart.palettes import (
    AROUND,
    FURTHER_COLOURS,
    OWN,
    RISING,
    SERIES_COLOURS,
    Paints,
    check_palette,
    find_nearest_colour,
    read_palette,
)
from veduta.core.chart.question import ask
from veduta.core.chart.theme import build_themes, get_both_colours
from veduta.core.errors import DefinitionProblem

COLOURS = st.from_regex(r"#[0-9A-F]{6}", fullmatch=True)
READERS = (None, "protan", "deutan", "tritan")


def difference(one, other, reader):
    a, b = (Color(each).filter(reader) if reader else Color(each) for each in (one, other))
    return a.delta_e(b, method="2000")


class Checked(unittest.TestCase):
    def test_vedutas_own_colours_pass(self):
        for kind, colours in (("series", SERIES_COLOURS), ("rising", RISING), ("around", AROUND)):
            self.assertEqual([each.words for each in check_palette(kind, colours)], [])

    def test_pairs_that_look_alike_are_named_with_who_sees_them_so(self):
        found = check_palette("series", ("#B8433A", "#7B8F5B", "#B8453A"))
        self.assertEqual([each.places for each in found], [(0, 2)])
        self.assertIn("#B8433A and #B8453A look alike to everybody", found[0].words)
        red, green = "#C06030", "#708020"
        words = " ".join(each.words for each in check_palette("series", (red, green)))
        seen = [difference(red, green, reader) for reader in READERS]
        self.assertGreater(seen[0], 12)
        self.assertEqual("see no red" in words, seen[1] < 8)
        self.assertEqual("see no green" in words, seen[2] < 8)

    def test_what_hardly_stands_out_is_named(self):
        found = check_palette("series", ("#F5F0C0", "#0B5D62"))
        self.assertEqual([each.places for each in found], [(0,)])
        self.assertIn("stands out from the light", found[0].words)

    def test_shades_need_ends_of_different_lightness(self):
        self.assertEqual(len(check_palette("rising", ("#808080", "#909090"))), 1)
        self.assertEqual(
            [each.places for each in check_palette("around", ("#B8433A", "#B0B0B0", "#0B5D62"))][:1], [(0, 1)]
        )

    @examples(25)
    @given(st.lists(COLOURS, min_size=2, max_size=5, unique=True))
    def test_what_is_offered_instead_passes_with_all_others(self, colours):
        for each in check_palette("series", colours):
            if each.instead:
                place = each.places[-1]
                for other in (colour for i, colour in enumerate(colours) if i != place):
                    for reader, least in zip(READERS, (12, 8, 8, 3.5), strict=True):
                        self.assertGreaterEqual(difference(other, each.instead, reader), least)
                self.assertGreaterEqual(Color(each.instead).contrast("#FFFFFF", method="wcag21"), 3)

    def test_the_nearest_is_the_colour_itself_if_it_passes(self):
        self.assertEqual(find_nearest_colour(SERIES_COLOURS, 2), SERIES_COLOURS[2])


class Read(unittest.TestCase):
    def test_colours_are_written_in_any_way(self):
        self.assertEqual(
            read_palette("series", "teal, rgb(11, 93, 98)\n hsl(0 100% 50%),\n\n#abc"),
            ("#008080", "#0B5D62", "#FF0000", "#AABBCC"),
        )

    def test_what_is_no_palette_is_refused(self):
        for kind, text, words in (
            ("series", "teal", "2 to 24 colours, and these are 1"),
            ("rising", "teal, red, blue", "2 colours, and these are 3"),
            ("around", "teal, red", "3 colours"),
            ("series", "teal, reddish", "“reddish” is no colour"),
            ("series", "", "these are 0"),
        ):
            with self.subTest(text=text), self.assertRaises(DefinitionProblem) as caught:
                read_palette(kind, text)
            self.assertIn(words, str(caught.exception))


class Drawn(unittest.TestCase):
    PAINTS = Paints.from_palettes({"series": ("#112233", "#AA5500"), "rising": ("#FFFFE0", "#400040")})

    def drawn(self, paints, **parts):
        model = sailings(ROWS)
        return ask(chart(show=[FARE], **parts), model, context_of(model), paints=paints).drawing

    def test_names_are_the_palettes_colours_and_then_vedutas(self):
        names = [self.PAINTS.get_colour(str(number)) for number in range(1, 25)]
        self.assertEqual(names[:3], ["#112233", "#AA5500", SERIES_COLOURS[2]])
        self.assertEqual(names[8:], list(FURTHER_COLOURS))
        self.assertEqual([OWN.get_colour(str(i + 1)) for i in range(8)], list(SERIES_COLOURS))
        self.assertEqual(self.PAINTS.get_colour("better"), OWN.get_colour("better"))

    def test_series_layers_and_conditions_have_them(self):
        spec = self.drawn(self.PAINTS, by=[MONTH], split="region").spec
        found = str(spec)
        self.assertTrue({"#112233", "#AA5500"} <= {each for each in self.PAINTS.series if each in found})
        self.assertNotIn(SERIES_COLOURS[0], found)
        rule = {"test": "above", "value": 0, "ground": "2"}
        table = self.drawn(self.PAINTS, by=["region"], kind="table", conditional=[rule]).table
        self.assertIn("#AA5500", {cell.look.ground for row in table.rows for cell in row if cell.look})
        layered = self.drawn(
            self.PAINTS, by=["region"], kind="layers", layers=[{"measures": [0], "how": "bar", "colour": "1"}]
        )
        self.assertIn("#112233", str(layered.spec))

    def test_shades_go_between_its_ends_in_drawings_and_in_cells(self):
        heat = self.drawn(
            self.PAINTS, by=["region"], split="route", kind="heat", only=[{"kind": "range", "field": "fare", "low": 1}]
        )
        self.assertIn("#400040", str(heat.spec))
        look = {"columns": [{"measure": 0, "draws": "shade"}]}
        positive = [{"kind": "range", "field": "fare", "low": 1}]
        table = self.drawn(self.PAINTS, by=["route"], kind="table", look=look, only=positive).table
        grounds = [row[1].look.ground for row in table.rows]
        self.assertEqual({grounds[0], grounds[-1]} & {"#400040", "#FFFFE0"}, {"#400040", "#FFFFE0"})

    def test_without_palettes_nothing_changes(self):
        for parts in ({"by": [MONTH], "split": "region"}, {"by": ["region"], "split": "route", "kind": "heat"}):
            self.assertEqual(self.drawn(Paints.from_palettes({}), **parts).spec, self.drawn(OWN, **parts).spec)

    def test_both_themes_know_them(self):
        made = build_themes(self.PAINTS)
        self.assertEqual(made["light"]["range"]["category"][:2], ["#112233", "#AA5500"])
        self.assertEqual(made["dark"]["range"]["category"][0], get_both_colours("#112233")[1])
        for name, shown in itertools.product(("light", "dark"), [made]):
            self.assertEqual(len(shown[name]["range"]["category"]), 8)
