from __future__ import annotations

import datetime as dt
import itertools
import unittest

from django.test import tag

from tests.core.chart.test_charts import FARE, MONTH
from tests.core.chart.test_kinds import FIELDS, ROWS, drawn, fitting, model_of, validator
from tests.core.support import context_of
from veduta.core.chart.contrast import compute_contrast
from veduta.core.chart.definition import load_definition
from veduta.core.chart.drawing.axes import NO_LOGARITHM
from veduta.core.chart.drawing.picture import iterate_units
from veduta.core.chart.drawing.style_overrides import CUT_LENGTHS, DRAWN_THROUGH, NO_LOGARITHMIC_LENGTHS
from veduta.core.chart.drawing.text_metrics import measure_text
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.kinds import CHART_KINDS
from veduta.core.chart.look import Sheet
from veduta.core.chart.question import ask
from veduta.core.chart.sentence import list_parameter_settings
from veduta.core.errors import DefinitionProblem
from veduta.core.model.definition import ModelDefinition, ParameterField
from veduta.core.model.model import Model

PASSENGERS = {"field": "passengers", "aggregate": "sum"}
SHOWN = [
    {"route": f"R{i}", "sailed": dt.date(2026, 1 + i, 5), "fare": 10.0 * (i + 1), "passengers": i} for i in range(6)
]
LOOKS = [
    {name: {"title": "Own", "reversed": True, "grid": "shown"} for name in ("along", "value", "second")},
    {name: {"title": "", "hidden": True} for name in ("along", "value", "second")},
    {
        "along": {"labels": "slanted", "letters": 5, "every": 2},
        "value": {"low": 1, "high": 9, "ticks": 3},
        "second": {"begins": "data", "scale": "logarithmic"},
        "legend": {"place": "left", "order": "reversed", "most": 2},
        "series": [{"name": "", "colour": "teal", "width": 3, "opacity": 0.4, "points": "shown", "dash": "dotted"}],
    },
    {"value": {"scale": "logarithmic", "begins": "zero"}, "legend": {"place": "none"}, "whole": {"size": "large"}},
    {
        "whole": {"patterns": True, "language": "fr"},
        "along": {"labels": "wrapped", "gaps": "bridged"},
        "legend": {"place": "inside"},
        "labels": {"says": "both", "colour": "worse"},
    },
]


def spec_of(look, rows=SHOWN, **parts):
    return drawn({"show": [FARE], "by": ["route"], "kind": "bar", "look": look, **parts}, rows)


class EveryKind(unittest.TestCase):
    @tag("long")
    def test_any_look_of_it_is_within_the_grammar(self):
        for declared, (name, rows) in itertools.product(CHART_KINDS.values(), ROWS.items()):
            some = fitting(declared, rows)[:: 4 if name == "some rows" else 12]
            for parts, look in itertools.product(some, LOOKS):
                with self.subTest(kind=declared.name, rows=name, look=look):
                    drawing = drawn({**parts, "look": look}, rows).drawing
                    if drawing.spec:
                        grammar = "vega" if "vega/" in drawing.spec["$schema"] else "vega-lite"
                        errors = [error.message[-200:] for error in validator(grammar).iter_errors(drawing.spec)]
                        self.assertEqual(errors, [])

    def test_the_usual_look_changes_nothing(self):
        plain, usual = (drawn({"show": [FARE], "by": ["route"], **more}, SHOWN) for more in ({}, {"look": {}}))
        self.assertEqual(plain.drawing, usual.drawing)


class Axes(unittest.TestCase):
    def test_titles_ends_and_grids_are_as_they_are_set(self):
        look = {"value": {"title": "Takings", "low": -5, "high": 80, "ticks": 3, "grid": "none"}}
        y = spec_of(look).drawing.spec["encoding"]["y"]
        self.assertEqual((y["axis"]["title"], y["axis"]["tickCount"], y["axis"]["grid"]), ("Takings", 3, False))
        self.assertEqual((y["scale"]["domainMin"], y["scale"]["domainMax"]), (-5, 80))
        hidden = spec_of({"along": {"hidden": True}, "value": {"reversed": True}}).drawing.spec["encoding"]
        self.assertEqual((hidden["x"]["axis"], hidden["y"]["scale"]["reverse"]), (None, True))

    def test_each_goes_with_what_stands_on_it_when_bars_lie(self):
        look = {"value": {"title": "Takings"}, "along": {"title": "Boats to"}}
        encoding = spec_of(look, kind="lying").drawing.spec["layer"][0]["encoding"]
        self.assertEqual([encoding[name]["axis"]["title"] for name in "xy"], ["Takings", "Boats to"])

    def test_the_second_one_has_a_look_of_its_own(self):
        layers = [{"measures": [0], "how": "bar"}, {"measures": [1], "how": "line", "axis": "second"}]
        look = {"second": {"title": "People", "low": 0}}
        answered = spec_of(look, kind="layers", show=[FARE, PASSENGERS], layers=layers)
        first, second = (group["layer"][0]["encoding"]["y"] for group in answered.drawing.spec["layer"])
        self.assertEqual((first["axis"]["title"], second["axis"]["title"]), ("Fare", "People"))
        self.assertNotIn("scale", first)

    def test_lengths_that_do_not_begin_at_zero_are_said(self):
        for look in ({"low": 5}, {"high": -1}, {"begins": "data"}):
            self.assertIn(CUT_LENGTHS, spec_of({"value": look}).notes)
        for look in ({"low": -5}, {"begins": "zero"}, {"ticks": 5}):
            self.assertNotIn(CUT_LENGTHS, spec_of({"value": look}).notes)
        self.assertNotIn(CUT_LENGTHS, spec_of({"value": {"low": 5}}, kind="line").notes)

    def test_logarithms_are_drawn_of_positive_values_that_are_no_lengths(self):
        look = {"value": {"scale": "logarithmic"}}
        line = spec_of(look, kind="line", by=[MONTH])
        self.assertEqual(line.drawing.spec["layer"][0]["encoding"]["y"]["scale"]["type"], "log")
        self.assertIn(NO_LOGARITHMIC_LENGTHS, spec_of(look).notes)
        self.assertIn(NO_LOGARITHM, spec_of(look, kind="line", by=[MONTH], show=[PASSENGERS]).notes)

    def test_every_other_name_or_period_has_a_label(self):
        look = {"along": {"every": 2, "labels": "upright"}}
        axis = spec_of(look).drawing.spec["encoding"]["x"]["axis"]
        self.assertEqual((axis["labelAngle"], len(axis["values"])), (-90, 3))
        time = spec_of(look, kind="line", by=[MONTH]).drawing.spec["layer"][0]["encoding"]["x"]["axis"]
        self.assertEqual(time["tickCount"], {"interval": "month", "step": 2})


class Parts(unittest.TestCase):
    def test_a_drawing_tells_those_it_has_in_reading_order(self):
        layers = [{"measures": [1], "how": "dot", "axis": "second"}]
        two = {"kind": "layers", "show": [FARE, PASSENGERS], "layers": layers}
        for more, expected in (
            ({}, ["series", "labels", "value", "along", "whole"]),
            ({"kind": "lying"}, ["series", "labels", "value", "along", "whole"]),
            ({"show": [FARE, PASSENGERS]}, ["legend", "series", "labels", "value", "along", "whole"]),
            (two, ["legend", "series", "value", "second", "along", "whole"]),
            ({"kind": "pie"}, ["legend", "whole"]),
            ({"kind": "table"}, ["table", "whole"]),
        ):
            with self.subTest(more):
                names = [part.name for part in spec_of({}, **more).drawing.parts]
                self.assertEqual(names, ["title", *expected])
        lying = {part.name: (part.side, part.of_values) for part in spec_of({}, kind="lying").drawing.parts}
        self.assertEqual((lying["value"], lying["along"]), (("bottom", True), ("left", False)))

    def test_an_axis_ends_where_parameters_say(self):
        known = ModelDefinition(
            parameters=(
                ParameterField(id="least", name="Least", kind="decimal", default=(-5,)),
                ParameterField(id="most", name="Most", kind="decimal", default=(500,), required=False),
            )
        )
        rows = ROWS["some rows"]
        whole = Model({"": (model_of(rows).tables[""], FIELDS)}, known)
        look = {"value": {"low": 3, "low_parameter": "least", "high_parameter": "most"}}
        definition = load_definition({"dataset": "d", "show": [FARE], "by": ["route"], "kind": "bar", "look": look})
        for values, expected in (({}, (-5, 500)), ({"most": None}, (-5, None)), ({"least": 600}, (600, None))):
            with self.subTest(values):
                model = whole.apply_reader(values)
                spec = ask(definition, model, context_of(model)).drawing.spec
                scale = next(
                    unit["encoding"]["y"]["scale"] for unit in iterate_units(spec) if unit["mark"]["type"] == "bar"
                )
                self.assertEqual((scale.get("domainMin"), scale.get("domainMax")), expected)
        self.assertEqual([name for name, _ in list_parameter_settings(definition, whole)], ["Least", "Most"])

    def test_the_sheet_has_a_ground_and_a_line_round_it(self):
        look = {"whole": {"ground": "#FBF0D9", "border": "ink", "inner": "large"}}
        for kind in ("bar", "table"):
            drawing = spec_of(look, kind=kind).drawing
            self.assertEqual(drawing.sheet.ground[0], "#FBF0D9")
            self.assertEqual((drawing.sheet.border[0], drawing.sheet.inner), ("#16262B", "large"))
        self.assertEqual(spec_of(look).drawing.spec["padding"], 24)
        self.assertEqual(spec_of({}).drawing.sheet, Sheet())

    def test_some_series_are_set_together_and_the_others_stay(self):
        parts = {"kind": "line", "by": [MONTH], "split": "region"}
        series = [{"name": "North Reach", "width": 5, "dash": "dotted"}, {"name": "Inner Sound", "opacity": 0.3}]
        drawn = spec_of({"series": series}, ROWS["some rows"], **parts).drawing
        lines = [
            unit
            for unit in iterate_units(drawn.spec)
            if unit["mark"]["type"] == "line" and "strokeWidth" in unit["encoding"]
        ]
        self.assertTrue(lines)
        for unit in lines:
            self.assertEqual(unit["encoding"]["color"]["field"], "paint")
            found = {
                channel: dict(
                    zip(*(unit["encoding"][channel]["scale"][each] for each in ("domain", "range")), strict=True)
                )
                for channel in ("strokeWidth", "strokeOpacity")
            }
            self.assertEqual(found["strokeWidth"]["North Reach"], 5)
            self.assertEqual(found["strokeOpacity"], {"North Reach": 1, "Inner Sound": 0.3, "South Banks": 1})
            self.assertLess(found["strokeWidth"]["South Banks"], 5)
        bars = spec_of({"series": series}, kind="bar", by=["region"], split="route").drawing
        self.assertNotIn("fillOpacity", str(bars.spec))  # no series of that name
        self.assertIn("series", [part.name for part in drawn.parts])
        heat = spec_of({}, by=["region", "route"], kind="heat").drawing
        self.assertNotIn("series", [part.name for part in heat.parts])

    def test_series_have_colours_of_their_own(self):
        two = {"kind": "bar", "by": ["route"], "show": [FARE, PASSENGERS]}
        red = [{"name": "Fare", "colour": "red"}]
        plain, own = (spec_of({"series": series}, **two).drawing for series in ([], red))
        before, after = (next(iterate_units(each.spec))["encoding"]["color"]["scale"] for each in (plain, own))
        self.assertEqual(after, {**before, "range": ["#FF0000", before["range"][1]]})

    def test_the_only_series_looks_as_it_is_set(self):
        look = {"series": [{"name": "", "colour": "#123456", "width": 4, "points": "shown", "dash": "dashed"}]}
        line = spec_of(look, kind="line", by=[MONTH]).drawing
        self.assertIn("series", [part.name for part in line.parts])
        first, _, points = iterate_units(line.spec)
        self.assertEqual(first["encoding"]["color"], {"value": "#123456"})
        self.assertEqual((first["mark"]["strokeWidth"], first["mark"]["strokeDash"]), (4, [6, 4]))
        self.assertEqual(points["encoding"]["opacity"]["condition"][0], {"test": "true", "value": 1})
        bars = spec_of({"series": [{"name": "", "colour": "#123456", "opacity": 0.5}]}).drawing
        bar = next(iterate_units(bars.spec))
        self.assertEqual((bar["encoding"]["color"], bar["mark"]["fillOpacity"]), ({"value": "#123456"}, 0.5))

    def test_series_are_told_apart_without_colours(self):
        look = {"whole": {"patterns": True}}
        rows = ROWS["some rows"]
        bars = spec_of(look, rows, kind="bar", by=["region"], split="route").drawing.spec
        entries = next(iterate_units(bars))["encoding"]["color"]["scale"]["domain"]
        self.assertEqual(bars["usermeta"]["patterns"]["of"], entries)
        line = next(iterate_units(spec_of(look, rows, kind="line", by=[MONTH], split="region").drawing.spec))[
            "encoding"
        ]
        dashes = line["strokeDash"]["scale"]
        self.assertEqual(dashes["domain"], line["color"]["scale"]["domain"])
        self.assertEqual(len({str(dash) for dash in dashes["range"]}), 3)
        points = spec_of(look, rows, kind="scatter", show=[FARE, PASSENGERS], by=["route", "region"]).drawing.spec
        shapes = next(iterate_units(points))["encoding"]["shape"]["scale"]["range"]
        self.assertEqual(len(set(shapes)), 3)
        own = {**look, "series": [{"name": "North Reach", "dash": "dotted"}]}
        line = next(iterate_units(spec_of(own, rows, kind="line", by=[MONTH], split="region").drawing.spec))["encoding"]
        self.assertIn([1.5, 3], line["strokeDash"]["scale"]["range"])
        self.assertNotIn("usermeta", spec_of(look).drawing.spec)

    def test_labels_say_names_and_have_a_colour_that_can_be_read(self):
        parts = {"kind": "bar", "settings": {"labels": "all"}}
        label = [unit for unit in iterate_units(spec_of({}, **parts).drawing.spec) if unit["mark"]["type"] == "text"]
        self.assertEqual([unit["encoding"]["text"]["field"] for unit in label], ["words"])
        for says in ("name", "both"):
            with self.subTest(says=says):
                drawing = spec_of({"labels": {"says": says, "colour": "yellow"}}, **parts).drawing
                large = spec_of({"labels": {"says": says}, "whole": {"size": "large"}}, **parts).drawing
                wide = {row["name"]: row["wide"] for row in large.rows}
                (unit,) = [unit for unit in iterate_units(drawing.spec) if unit["mark"]["type"] == "text"]
                for row in drawing.rows:
                    self.assertEqual(row["words"], row["name"] if says == "name" else f"{row['name']} {row['text']}")
                    self.assertEqual(row["wide"], measure_text(row["words"]))
                    self.assertLess(row["wide"], wide[row["name"]])
                self.assertGreaterEqual(compute_contrast(unit["encoding"]["color"]["value"], "#FFFFFF"), 4.5)
        self.assertIn("labels", [part.name for part in spec_of({}, kind="bar").drawing.parts])
        self.assertNotIn("labels", [part.name for part in spec_of({}, kind="pie").drawing.parts])

    def test_labels_of_an_axis_stand_in_lines_and_a_legend_inside(self):
        look = {"along": {"labels": "wrapped", "letters": 9}, "legend": {"place": "inside"}}
        encoding = next(iterate_units(spec_of(look, show=[FARE, PASSENGERS]).drawing.spec))["encoding"]
        self.assertIn("{1,9}", encoding["x"]["axis"]["labelExpr"])
        self.assertEqual(encoding["color"]["legend"]["orient"], "top-right")

    def test_lines_are_drawn_through_periods_without_rows_and_say_so(self):
        rows = [row for row in SHOWN if row["sailed"].month != 3]
        for gaps, said in (("", False), ("bridged", True)):
            with self.subTest(gaps=gaps):
                drawing = spec_of({"along": {"gaps": gaps}}, rows, kind="line", by=[MONTH]).drawing
                line = next(iterate_units(drawing.spec))
                self.assertEqual({"filter": "isValid(datum.value)"} in line["transform"], said)
                self.assertEqual(DRAWN_THROUGH in drawing.notes, said)
        whole = spec_of({"along": {"gaps": "bridged"}}, kind="line", by=[MONTH]).drawing
        self.assertNotIn(DRAWN_THROUGH, whole.notes)

    def test_points_of_some_lines_are_marked(self):
        look = {"series": [{"name": "North Reach", "points": "shown"}]}
        drawing = spec_of(look, ROWS["some rows"], kind="line", by=[MONTH], split="region").drawing
        conditions = [
            unit["encoding"].get("opacity", {}).get("condition", [{}])[0] for unit in iterate_units(drawing.spec)
        ]
        self.assertIn({"test": {"field": "paint", "oneOf": ["North Reach"]}, "value": 1}, conditions)

    def test_a_legend_is_in_another_order_and_counts_those_that_are_too_many(self):
        for order, expected in (
            ("", None),
            ("names", ["Fare", "Passengers"]),
            ("reversed", ["Fare", "Passengers"]),
        ):
            with self.subTest(order=order):
                look = {"legend": {"order": order, "most": 1}}
                drawing = spec_of(look, show=[PASSENGERS, FARE]).drawing
                colour = next(iterate_units(drawing.spec))["encoding"]["color"]
                self.assertEqual(colour["scale"]["domain"], ["Passengers", "Fare"])
                self.assertEqual((colour["legend"].get("values"), colour["legend"]["symbolLimit"]), (expected, 1))

    def test_headings_of_neighbours_are_grouped_by_what_stands_above_them(self):
        columns = [{"measure": 0, "above": "Together"}, {"measure": 1, "above": "Together"}]
        three = {"show": [FARE, PASSENGERS, {"field": "fare", "aggregate": "mean"}], "kind": "table"}
        first, second = spec_of({"columns": columns}, **three).drawing.table.headings
        self.assertEqual(
            [(cell.text, cell.span, cell.rows) for cell in first],
            [("Route", 1, 2), ("Together", 2, 1), ("Mean of fare", 1, 2)],
        )
        self.assertEqual([cell.text for cell in second], ["Fare", "Passengers"])
        self.assertEqual(len(spec_of({}, **three).drawing.table.headings), 1)

    def test_headings_name_what_can_be_moved(self):
        for show, by, expected in (
            ([FARE], ["route"], ["", ""]),
            ([FARE, PASSENGERS], ["route"], ["", "show:0", "show:1"]),
            ([FARE], ["region", "route"], ["by:0", "by:1", ""]),
        ):
            with self.subTest(show=show, by=by):
                (headings,) = spec_of({}, show=show, by=by, kind="table", rows=ROWS["some rows"]).drawing.table.headings
                self.assertEqual([cell.column for cell in headings], expected)

    def test_a_table_is_set_to_look_otherwise_as_a_whole(self):
        look = {"table": {"numbered": True, "held": True, "texts": "wrap"}}
        for kind, by in (("table", ["region"]), ("crosstab", ["region", MONTH])):
            table = spec_of(look, kind=kind, by=by).drawing.table
            self.assertEqual(table.look.classes, "numbered held texts-wrap")
        self.assertEqual(spec_of({}, kind="table").drawing.table.look.classes, "")

    def test_those_that_are_hidden_can_be_shown_again(self):
        look = {"value": {"hidden": True}, "legend": {"place": "none"}}
        drawing = spec_of(look, show=[FARE, PASSENGERS]).drawing
        self.assertEqual(
            [part.name for part in drawing.parts], ["title", "legend", "series", "labels", "value", "along", "whole"]
        )

    def test_a_setting_goes_back_to_the_usual(self):
        model = Model.__new__(Model)  # no edit of a look asks the model
        definition = load_definition({"dataset": "d", "look": {"value": {"title": "x", "low": 3}}})

        def edited(part, **changes):
            return apply_edit(definition, model, {"edit": "set_look", "part": part, "changes": changes}).look

        self.assertEqual(edited("value", title=None).value.title, None)
        self.assertEqual(edited("value", low=None, title="y").value.model_dump(exclude_defaults=True), {"title": "y"})
        for wrong in ({"low": 5, "high": 2}, {"low": "a"}, {"scale": "curved"}, {"unheard": 1}, {"ticks": 1}):
            with self.subTest(wrong), self.assertRaises(DefinitionProblem):
                edited("value", **wrong)
