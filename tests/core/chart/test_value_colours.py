import itertools
import unittest
from collections import Counter

from hypothesis import given as examples_of
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE, ROWS, asked, chart
from tests.core.chart.test_contrast import ratio
from tests.core.support import context_of, sailings
from veduta.core.chart.contrast import DARK_GROUND
from veduta.core.chart.drawing.colours import get_colour
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.kinds import CHART_KINDS
from veduta.core.chart.palettes import FURTHER_COLOURS, SERIES_COLOURS
from veduta.core.chart.question import ask
from veduta.core.chart.theme import get_both_colours
from veduta.core.chart.value_colours import GIVEN, ColourList, ValueColours, load_colour_lists, pick_given
from veduta.core.errors import DefinitionProblem

VALUES = st.lists(st.text("abc", max_size=2), max_size=40)


def listed(field, **colours):
    return ColourList(fields=(field,), colours=[{"values": [value], "colour": c} for value, c in colours.items()])


def colours_drawn(definition, colours, rows=ROWS):
    """The colours of the legend's entries."""
    model = sailings(rows)
    spec = ask(definition, model, context_of(model), colours=colours).drawing.spec
    spec = next((layer for layer in spec.get("layer", [spec]) if "color" in layer.get("encoding", {})), spec)
    scale = spec["encoding"]["color"]["scale"]
    return dict(zip(scale["domain"], scale["range"], strict=True))


class Given(unittest.TestCase):
    @examples(100)
    @examples_of(VALUES, VALUES)
    def test_each_value_keeps_the_colour_it_was_given_first(self, first, later):
        there = pick_given({}, first)
        self.assertEqual(set(there), set(first))
        new = pick_given(there, later)
        self.assertEqual(set(new), set(later) - set(first))
        used = Counter([*there.values(), *new.values()])
        self.assertLessEqual(max(used.values(), default=0) - min(used.get(str(i + 1), 0) for i in range(GIVEN)), 1)

    def test_all_colours_that_are_given_stand_out_from_both_grounds(self):
        for number in range(1, GIVEN + 1):
            light, dark = get_both_colours(str(number))
            self.assertGreaterEqual(ratio(light, "#FFFFFF"), 3)
            self.assertGreaterEqual(ratio(dark, DARK_GROUND), 2.9)
        self.assertEqual(len({*SERIES_COLOURS, *FURTHER_COLOURS}), GIVEN)


class Levels(unittest.TestCase):
    def test_the_narrower_goes_before_and_case_of_fields_does_not_count(self):
        colours = ValueColours([listed("Region", A="1", B="2")]).override([listed("REGION", B="better")])
        self.assertEqual([colours.find_colour(["region"], [value]) for value in ("A", "B", "C")], ["1", "better", ""])

    def test_combinations_and_all_kinds_of_values_have_colours(self):
        made = ColourList(
            fields=("Cancelled", "Region"),
            colours=[
                {"values": [True, None], "colour": "worse"},
                {"values": [3.0, "x"], "colour": "2"},
                {"values": ["no", "y"], "colour": "4"},
            ],
        )
        colours = ValueColours([made])
        self.assertEqual(colours.find_colour(("cancelled", "region"), (True, None)), "worse")
        self.assertEqual(colours.find_colour(("cancelled", "region"), (3, "x")), "2")
        self.assertEqual(colours.find_colour(("cancelled", "region"), (False, "y")), "4")  # as it is typed into a box
        self.assertEqual(colours.find_colour(("region", "cancelled"), (None, True)), "")

    def test_lists_that_are_not_whole_are_refused(self):
        for parts in (
            {"fields": []},
            {"fields": ["a", "b", "c", "d"]},
            {"fields": ["a"], "colours": [{"values": ["x", "y"], "colour": "1"}]},
            {"fields": ["a"], "colours": [{"values": ["x"], "colour": "url(x)"}]},
        ):
            with self.subTest(parts=parts), self.assertRaises(ValueError):
                ColourList.model_validate(parts)


class Written(unittest.TestCase):
    def test_lines_are_gathered_by_their_fields(self):
        lists = load_colour_lists(
            [
                ("Region", "North Reach", "teal"),
                ("", " ", ""),
                ("Cancelled · Region", "yes · (empty)", "2"),
                ("Region", "Quay", "1"),
            ]
        )
        self.assertEqual([each.fields for each in lists], [("Region",), ("Cancelled", "Region")])
        self.assertEqual(lists[1].colours[0].values, ("yes", None))
        self.assertEqual(len(lists[0].colours), 2)

    def test_a_line_that_is_not_whole_is_said(self):
        for row in (("Region", "Quay", ""), ("", "Quay", "1"), ("Region", "a · b", "1"), ("Region", "Quay", "reddish")):
            with self.subTest(row=row), self.assertRaises(DefinitionProblem) as caught:
                load_colour_lists([row])
            self.assertIn(row[1], caught.exception.message)


class Charts(unittest.TestCase):
    REGIONS = ("Inner Sound", "North Reach", "South Banks")
    COLOURS = ValueColours([listed("Region", **dict(zip(REGIONS, ("3", "#AA0000", "better"), strict=True)))])
    EXPECTED = dict(zip(REGIONS, (get_colour("3"), "#AA0000", get_colour("better")), strict=True))

    def test_a_value_has_one_colour_in_every_kind_whatever_is_filtered(self):
        positive = [row | {"fare": abs(row["fare"]) + 1} for row in ROWS]
        for kind, by, more in (
            ("bar", ["route"], {"split": "region"}),
            ("line", [{"field": "sailed", "grain": "month"}], {"split": "region"}),
            ("area", [{"field": "sailed", "grain": "month"}], {"split": "region"}),
            ("pie", ["region"], {}),
            ("ring", ["region"], {}),
            ("nested", ["region", "route"], {}),
            ("lollipop", ["route"], {"split": "region"}),
        ):
            for kept in itertools.chain([self.REGIONS], itertools.combinations(self.REGIONS, 2)):
                only = [{"kind": "list", "field": "region", "values": list(kept)}]
                with self.subTest(kind=kind, kept=kept):
                    drawn = colours_drawn(
                        chart(show=[FARE], by=by, kind=kind, only=only, **more), self.COLOURS, positive
                    )
                    self.assertEqual(drawn, {name: self.EXPECTED[name] for name in kept})

    def test_a_chart_sets_its_own_and_can_take_none_from_elsewhere(self):
        own = {"colours": [listed("region", **{"Inner Sound": "ink"}).model_dump(mode="json")]}
        asks = {"show": [FARE], "by": ["route"], "split": "region", "kind": "bar"}
        drawn = colours_drawn(chart(**asks, **own), self.COLOURS)
        self.assertEqual(drawn, self.EXPECTED | {"Inner Sound": get_colour("ink")})
        drawn = colours_drawn(chart(**asks, **own, own_colours=True), self.COLOURS)
        self.assertEqual(list(drawn.values()), [get_colour("ink"), *SERIES_COLOURS[1:3]])

    def test_combinations_colour_the_series_they_make(self):
        made = ColourList(
            fields=("Region", "Route"), colours=[{"values": ["South Banks", "South Banks-1"], "colour": "#00AA00"}]
        )
        month = {"field": "sailed", "grain": "month"}
        definition = chart(show=[FARE], by=[month, "region"], split="route", kind="bar")
        drawn = colours_drawn(definition, ValueColours([made]))
        self.assertEqual(
            [name for name, colour in drawn.items() if colour == "#00AA00"], ["South Banks · South Banks-1"]
        )

    def test_measures_keep_the_colours_of_their_places(self):
        passengers = {"field": "passengers", "aggregate": "sum"}
        definition = chart(show=[FARE, passengers], by=["route"], split="region", kind="bar")
        self.assertFalse({"#AA0000"} & set(colours_drawn(definition, self.COLOURS).values()))
        self.assertEqual(CHART_KINDS["bar"].list_coloured_groups(definition), ())

    def test_what_the_chart_does_not_colour_cannot_be_set(self):
        with self.assertRaises(DefinitionProblem):
            change = {"edit": "set_value_colour", "values": ["A"], "colour": "1"}
            apply_edit(chart(show=[FARE], by=["region"], kind="bar"), sailings(ROWS), change)
        self.assertTrue(asked(chart(show=[FARE], by=["region"], kind="bar")).drawing.spec)
