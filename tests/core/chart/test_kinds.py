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

from tests.core.support import SAILING_FIELDS, MemoryTable, context_of, field
from veduta.core.chart.definition import load_definition
from veduta.core.chart.drawing.picture import Drawing
from veduta.core.chart.grammar.schema import with_plain_names
from veduta.core.chart.kinds import KINDS, THEMES, Asked, Kind, kind_named
from veduta.core.chart.kinds.base import kind
from veduta.core.chart.outside import complete
from veduta.core.chart.question import Answered, ask
from veduta.core.data.fields import Kind as ValueKind
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.geography.shapes import Shapes, read_shapes, shapes_by
from veduta.core.model.model import Model
from veduta.demo.islands import sea_areas

GRAMMARS = Path(__file__).parents[3] / "node_modules"
MONTH = {"field": "sailed", "grain": "month"}
DAY = {"field": "sailed", "grain": "day"}
WEEKDAY = {"field": "sailed", "grain": "weekday"}
MEASURES = [{"field": "fare", "aggregate": "sum"}, {"field": "passengers", "aggregate": "mean"}, {}]
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
    return jsonschema_rs.Draft7Validator(with_plain_names(schema))


FIELDS = [
    SAILING_FIELDS[0].model_copy(update={"shapes": "seas"}),
    *SAILING_FIELDS[1:],
    field("Latitude", ValueKind.DECIMAL, place="latitude"),
    field("Longitude", ValueKind.DECIMAL, place="longitude"),
]


@cache
def atlas() -> dict[str, Shapes]:
    read = read_shapes(json.dumps(sea_areas()).encode())
    return {"seas": shapes_by("Sea areas", read.properties, read.geometries, "region")}


def model_of(rows: list[dict]) -> Model:
    """A model of these rows, with places, the same for the same list."""
    if id(rows) not in MODELS:
        columns = {f.id: pl.Series(f.id, [row.get(f.id) for row in rows], dtype=f.kind.dtype) for f in FIELDS}
        MODELS[id(rows)] = Model.of_one(MemoryTable(pl.DataFrame(columns), Schema(FIELDS)), Schema(FIELDS)), rows
    return MODELS[id(rows)][0]


def fitting(declared: Kind, rows: list[dict]) -> list[dict]:
    """The parts of charts that a kind can draw, with each number of measures and dimensions it takes."""
    model = model_of(rows)
    found = []
    for measures in range(1, len(MEASURES) + 1):
        for dimensions in DIMENSIONS:
            parts = {"show": MEASURES[:measures], "by": dimensions[:1], "kind": declared.name}
            if len(dimensions) > 1:
                parts["split"] = dimensions[1]
            if not declared.unfit(Asked(load_definition({"dataset": "d", **parts}), model)):
                found.append(parts)
    return found


def drawn(parts: dict, rows: list[dict]) -> Answered:
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


class EveryKind(unittest.TestCase):
    def checked(self, answered: Answered) -> Drawing:
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

    def marks_say_what_they_are(self, answered: Answered) -> None:
        """A mark that can be pointed at says itself, and its point names values of the chart's dimensions."""
        dimensions = len(answered.result.dimensions)
        for mark in answered.drawing.rows:
            self.assertTrue(mark["said"])
            if mark["point"] is not None:
                self.assertLessEqual(len(mark["point"]), dimensions)
                self.assertTrue(mark["tip"])

    def test_the_grammar_is_checked(self):
        self.assertFalse(validator("vega-lite").is_valid({"mark": "pictogram", "encoding": {}}))

    def test_it_draws_all_that_fits_it(self):
        for declared, (name, rows) in itertools.product(KINDS.values(), ROWS.items()):
            found = fitting(declared, rows)
            for parts in found if name == "some rows" else found[::3]:
                with self.subTest(kind=declared.name, rows=name, parts=parts):
                    answered = drawn(parts, rows)
                    self.assertIs(answered.kind, declared)
                    self.checked(answered)

    def test_each_setting_makes_a_drawing(self):
        rows = ROWS["some rows"]
        for declared in KINDS.values():
            parts = fitting(declared, rows)[-1]
            for name, declared_field in declared.settings.model_fields.items():
                words = (declared_field.json_schema_extra or {}).get("words", {})
                for value in words:
                    with self.subTest(kind=declared.name, setting=name, value=value):
                        self.checked(drawn({**parts, "settings": {name: value}}, rows))

    def test_it_draws_five_thousand_marks(self):
        rows = [row(i, route=f"Route {i}") for i in range(5_000)]
        for declared in KINDS.values():
            parts = [each for each in fitting(declared, rows) if "route" in each["by"]]
            if parts:
                with self.subTest(kind=declared.name):
                    self.checked(drawn(parts[0], rows))

    def test_it_is_declared_whole(self):
        names = [each.title for each in KINDS.values()]
        self.assertEqual(len(names), len(set(names)))
        for each in KINDS.values():
            with self.subTest(kind=each.name):
                self.assertIn(each.theme, THEMES)
                self.assertTrue(each.use.endswith("."))
                self.assertTrue(fitting(each, ROWS["some rows"]), "nothing fits it")
                for field in each.settings.model_fields.values():
                    self.assertTrue(field.title)

    def test_one_name_stands_for_one_kind(self):
        with self.assertRaises(ValueError), mock.patch.dict(KINDS):
            kind(type(KINDS["line"]))
        with self.assertRaises(DefinitionProblem):
            kind_named("pictogram")

    def test_settings_of_other_kinds_do_no_harm(self):
        for declared in KINDS.values():
            settings = dict.fromkeys(declared.settings.model_fields, "nonsense") | {"else": 3}
            definition = load_definition({"dataset": "d", "settings": settings})
            self.assertEqual(declared.set(definition), declared.settings())
