"""What every kind of drawing keeps to, whatever it is asked to draw."""

from __future__ import annotations

import datetime as dt
import itertools
import json
import unittest
from functools import cache
from pathlib import Path
from typing import Any
from unittest import mock

import jsonschema_rs
import polars as pl
from django.test import tag

from tests.core.support import SAILING_FIELDS, MemoryTable, context_of, field
from veduta.core.chart.complete_specification import complete
from veduta.core.chart.definition import load_definition
from veduta.core.chart.drawing.picture import Drawing, iterate_units
from veduta.core.chart.grammar.schema import simplify_names
from veduta.core.chart.kinds import CHART_KINDS, THEMES, ChartKind, ChartShape, get_kind
from veduta.core.chart.kinds.base import register_kind
from veduta.core.chart.question import AnsweredChart, ask
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.geography.shapes import Shapes, build_shapes, read_shapes
from veduta.core.model.model import Model
from veduta.demo.islands import generate_sea_areas

GRAMMARS = Path(__file__).parents[3] / "node_modules"
MONTH = {"field": "sailed", "grain": "month"}
DAY = {"field": "sailed", "grain": "day"}
WEEKDAY = {"field": "sailed", "grain": "weekday"}
MEASURES = [{"field": "fare", "aggregate": "sum"}, {}, {"field": "passengers", "aggregate": "mean"}]
DIMENSIONS = [
    [],
    ["route"],
    ["region"],
    [MONTH],
    [WEEKDAY],
    [DAY],
    ["passengers"],
    [{"field": "passengers", "width": 5}],
    [{"field": "fare", "width": 20}, "region"],
    [MONTH, "region"],
    ["route", "region"],
    ["region", MONTH],
]
LONG = "Landing stage of the harbour company at the outer end of the old northern mole "


def row(number: int, **changes) -> dict:
    usual = {
        "latitude": 58.0 + number % 7 / 10,
        "longitude": -3.0 - number % 7 / 10,
        "region": ("North Reach", "Inner Sound", "South Banks")[number % 3],
        "route": f"Route {number % 7}",
        "sailed": dt.date(2025, 1 + number % 12, 1 + number % 28),
        "fare": 10.0 * number - 30,
        "passengers": number % 40,
    }
    return usual | changes


ROWS = {
    "no rows": [],
    "one row": [row(5)],
    "some rows": [row(i) for i in range(40)],
    "empties": [row(i, **dict.fromkeys(("region", "sailed", "fare", "route")[i % 4 : i % 4 + 2])) for i in range(30)],
    "all empty": [dict.fromkeys(row(0)) for _ in range(3)],
    "negative": [row(i, fare=-1.5 * i) for i in range(20)],
    "nought": [row(i, fare=0.0, passengers=0) for i in range(20)],
    "huge": [row(i, fare=10.0 ** (i % 300)) for i in range(20)],
    "long names": [row(i, route=LONG * 3 + str(i % 5)) for i in range(20)],
}


MODELS: dict[int, tuple[Model, list[dict]]] = {}


@cache
def validator(grammar: str) -> jsonschema_rs.Draft7Validator:
    schema = json.loads((GRAMMARS / f"{grammar}/build/{grammar}-schema.json").read_text())
    return jsonschema_rs.Draft7Validator(simplify_names(schema))


FIELDS = [
    SAILING_FIELDS[0].model_copy(update={"shapes": "seas"}),
    *SAILING_FIELDS[1:],
    field("Latitude", DataType.DECIMAL, place="latitude"),
    field("Longitude", DataType.DECIMAL, place="longitude"),
]


@cache
def atlas() -> dict[str, Shapes]:
    read = read_shapes(json.dumps(generate_sea_areas()).encode())
    return {"seas": build_shapes("Sea areas", read.properties, read.geometries, "region")}


def model_of(rows: list[dict]) -> Model:
    """A model of these rows, with places, the same for the same list."""
    if id(rows) not in MODELS:
        columns = {f.id: pl.Series(f.id, [row.get(f.id) for row in rows], dtype=f.kind.dtype) for f in FIELDS}
        MODELS[id(rows)] = Model.from_table(MemoryTable(pl.DataFrame(columns), Schema(FIELDS)), Schema(FIELDS)), rows
    return MODELS[id(rows)][0]


def fitting(declared: ChartKind, rows: list[dict]) -> list[dict]:
    """The parts of charts that a kind can draw, with each number of measures and dimensions it takes."""
    model = model_of(rows)
    found = []
    for measures in range(1, len(MEASURES) + 1):
        for dimensions in DIMENSIONS:
            parts = {"show": MEASURES[:measures], "by": dimensions[:1], "kind": declared.name}
            if len(dimensions) > 1:
                parts["split"] = dimensions[1]
            if not declared.explain_unsupported(ChartShape(load_definition({"dataset": "d", **parts}), model)):
                found.append(parts)
    return found


def drawn(parts: dict, rows: list[dict]) -> AnsweredChart:
    model = model_of(rows)
    return ask(load_definition({"dataset": "d", **parts}), model, context_of(model), atlas=atlas())


def legends(part: Any) -> list[dict]:
    """The legends of a specification, wherever they stand."""
    if isinstance(part, list):
        return [legend for each in part for legend in legends(each)]
    if not isinstance(part, dict):
        return []
    own = [part["legend"]] if isinstance(part.get("legend"), dict) else []
    return own + [legend for each in part.values() for legend in legends(each)]


MEAN = {"field": "fare", "aggregate": "mean"}
SUM = {"field": "fare", "aggregate": "sum"}


class WhatDoesNotAddUp(unittest.TestCase):
    """Means, ratios and the like are never stacked, nor drawn as parts of a whole."""

    def stacks(self, **parts: Any) -> set[Any]:
        """The ways in which bars and areas of a chart are stacked."""
        spec = drawn({"by": ["route"], **parts}, ROWS["some rows"]).drawing.spec
        marks = [unit for unit in iterate_units(spec) if unit["mark"]["type"] in ("bar", "area")]
        return {channel.get("stack") for unit in marks for name, channel in unit["encoding"].items() if name in "xy"}

    def test_veduta_stacks_sums_and_puts_means_side_by_side(self):
        self.assertIn("zero", self.stacks(show=[SUM], split="region", kind="bar"))
        ratio = {"formula": 'sum("#fare") / count_rows()'}
        for measure in (MEAN, ratio, {"field": "route", "aggregate": "count_distinct"}):
            for name in ("bar", "lying", "layers"):
                self.assertNotIn("zero", self.stacks(show=[measure], split="region", kind=name))

    def test_measures_are_stacked_only_when_somebody_says_so(self):
        show = [SUM, {"formula": '2 * sum("#fare")'}]
        self.assertNotIn("zero", self.stacks(show=show, kind="bar"))
        self.assertIn("zero", self.stacks(show=show, kind="bar", settings={"stacking": "stacked"}))

    def test_means_that_are_told_to_be_stacked_stand_side_by_side_and_say_why(self):
        for stacking in ("stacked", "full"):
            answered = drawn(
                {"show": [MEAN], "by": ["route"], "split": "region", "kind": "bar", "settings": {"stacking": stacking}},
                ROWS["some rows"],
            )
            self.assertIn("Values of “Mean of fare” do not add up to a whole. They stand side by side.", answered.notes)
            self.assertIn("as grouped vertical bars", answered.sentence)

    def test_kinds_of_parts_say_why_not(self):
        for name in ("pie", "ring", "nested", "waterfall", "cumulative"):
            answered = drawn({"show": [MEAN], "by": ["route"], "kind": name}, ROWS["some rows"])
            self.assertNotEqual(answered.kind.name, name)
            self.assertIn("“Mean of fare” do not add up to a whole.", " ".join(answered.notes))
        area = drawn({"show": [MEAN], "by": [MONTH], "split": "region", "kind": "area"}, ROWS["some rows"])
        self.assertEqual(area.kind.name, "line")

    def test_running_totals_are_stacked_by_region_but_are_no_parts_of_a_year(self):
        running = {"formula": 'running(sum("#fare"))'}
        area = drawn({"show": [running], "by": [MONTH], "split": "region", "kind": "area"}, ROWS["some rows"])
        self.assertEqual(area.kind.name, "area")
        pie = drawn({"show": [running], "by": [MONTH], "kind": "pie"}, ROWS["some rows"])
        self.assertIn("do not add up to a whole over periods", " ".join(pie.notes))

    def test_areas_among_layers_that_cannot_be_stacked_are_lines(self):
        layers = [{"measures": [0], "how": "area"}]
        answered = drawn(
            {"show": [MEAN], "by": [MONTH], "split": "region", "kind": "layers", "layers": layers}, ROWS["some rows"]
        )
        self.assertEqual({unit["mark"]["type"] for unit in iterate_units(answered.drawing.spec)}, {"line", "point"})
        self.assertIn("They are drawn as lines.", " ".join(answered.notes))


class Parts(unittest.TestCase):
    """Pies gather their smallest parts, whatever the order they are shown in."""

    def rows_of(self, kind: str = "pie", **parts: Any) -> list[dict]:
        rows = [row(i, route=f"R{i:02}", fare=float(1 + (i * 7) % 20)) for i in range(12)]
        return drawn({"show": [SUM], "by": ["route"], "kind": kind, **parts}, rows).drawing.rows

    def test_the_smallest_are_gathered_in_any_order(self):
        largest = {f"R{i:02}" for i in sorted(range(12), key=lambda i: -(1 + (i * 7) % 20))[:7]}
        for sort in (None, {"by": "name"}, {"by": "measure", "measure": SUM, "descending": False}):
            found = self.rows_of(**({"sort": sort} if sort else {}))
            self.assertEqual({each["name"] for each in found[:-1]}, largest)
            self.assertEqual(found[-1]["name"], "Other")
            self.assertAlmostEqual(found[-1]["end"], 1)

    def test_what_the_question_gathered_is_gathered_with_them(self):
        keep = {"count": 9, "by": SUM, "rest": True}
        found = self.rows_of(keep=keep)
        self.assertEqual([each["name"] for each in found].count("Other"), 1)
        self.assertEqual(found[-1]["name"], "Other")

    def test_a_value_called_other_is_not_mixed_up_with_the_rest(self):
        rows = [row(i, route="Other" if i == 0 else f"R{i:02}", fare=float(50 - i)) for i in range(12)]
        found = drawn({"show": [SUM], "by": ["route"], "kind": "ring"}, rows).drawing.rows
        self.assertEqual((found[0]["name"], found[-1]["name"]), ("Other", "All others"))

    def test_no_radii_are_added_that_do_not_add_up(self):
        show = [SUM, {"field": "passengers", "aggregate": "mean"}]
        self.assertEqual(len(self.rows_of(show=show)), 12)
        self.assertEqual(len(self.rows_of(show=[SUM, {}])), 8)

    def test_other_comes_last_beside_the_share_so_far(self):
        keep = {"count": 2, "by": SUM, "rest": True}
        self.assertEqual(self.rows_of("cumulative", keep=keep)[2]["name"], "Other")


class EveryKind(unittest.TestCase):
    def checked(self, answered: AnsweredChart) -> Drawing:
        drawing = answered.drawing
        outputs = (drawing.spec, drawing.table, drawing.figures, drawing.words)
        self.assertEqual(sum(each is not None for each in outputs), 1)
        if drawing.spec is not None:
            grammar = "vega-lite" if "vega-lite" in drawing.spec["$schema"] else "vega"
            self.assertEqual([error.message[-200:] for error in validator(grammar).iter_errors(drawing.spec)], [])
            json.dumps(drawing.rows, allow_nan=False)
            self.assertTrue(all(legend.get("values") != [] for legend in legends(drawing.spec)), "one names nothing")
            self.assertTrue(validator(grammar).is_valid(complete(answered)))
            self.marks_say_what_they_are(answered)
        return drawing

    def marks_say_what_they_are(self, answered: AnsweredChart) -> None:
        """A mark that can be pointed at says itself, and its point names values of the chart's dimensions."""
        dimensions = len(answered.result.dimensions)
        for mark in answered.drawing.rows:
            self.assertTrue(mark["said"])
            if mark["point"] is not None:
                self.assertLessEqual(len(mark["point"]), dimensions)
                self.assertTrue(mark["tip"])

    def test_the_grammar_is_checked(self):
        self.assertFalse(validator("vega-lite").is_valid({"mark": "pictogram", "encoding": {}}))

    @tag("long")
    def test_it_draws_all_that_fits_it(self):
        for declared, (name, rows) in itertools.product(CHART_KINDS.values(), ROWS.items()):
            found = fitting(declared, rows)
            for parts in found if name == "some rows" else found[::3]:
                with self.subTest(kind=declared.name, rows=name, parts=parts):
                    answered = drawn(parts, rows)
                    self.assertIs(answered.kind, declared)
                    self.checked(answered)

    @tag("long")
    def test_each_setting_makes_a_drawing(self):
        rows = ROWS["some rows"]
        for declared in CHART_KINDS.values():
            parts = fitting(declared, rows)[-1]
            for name, declared_field in declared.settings.model_fields.items():
                words = (declared_field.json_schema_extra or {}).get("words", {})
                for value in words:
                    with self.subTest(kind=declared.name, setting=name, value=value):
                        self.checked(drawn({**parts, "settings": {name: value}}, rows))

    @tag("long")
    def test_it_draws_five_thousand_marks(self):
        rows = [row(i, route=f"Route {i}") for i in range(5_000)]
        for declared in CHART_KINDS.values():
            parts = [each for each in fitting(declared, rows) if "route" in each["by"]]
            if parts:
                with self.subTest(kind=declared.name):
                    self.checked(drawn(parts[0], rows))

    def test_it_is_declared_whole(self):
        names = [each.title for each in CHART_KINDS.values()]
        self.assertEqual(len(names), len(set(names)))
        for each in CHART_KINDS.values():
            with self.subTest(kind=each.name):
                self.assertIn(each.theme, THEMES)
                self.assertTrue(each.use.endswith("."))
                self.assertTrue(fitting(each, ROWS["some rows"]), "nothing fits it")
                for field in each.settings.model_fields.values():
                    self.assertTrue(field.title)

    def test_one_name_stands_for_one_kind(self):
        with self.assertRaises(ValueError), mock.patch.dict(CHART_KINDS):
            register_kind(type(CHART_KINDS["line"]))
        with self.assertRaises(DefinitionProblem):
            get_kind("pictogram")

    def test_settings_of_other_kinds_do_no_harm(self):
        for declared in CHART_KINDS.values():
            settings = dict.fromkeys(declared.settings.model_fields, "nonsense") | {"else": 3}
            definition = load_definition({"dataset": "d", "settings": settings})
            self.assertEqual(declared.set(definition), declared.settings())
