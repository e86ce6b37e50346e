"""Marks and labels of a drawing in the colours of conditional formats. No kind of drawing knows of it."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from veduta.core.chart.conditional import ConditionalFormat
from veduta.core.chart.contrast import LIGHT_GROUND, make_readable
from veduta.core.chart.drawing.colours import (
    BLACK,
    ON_LIGHT_SERIES,
    ON_SERIES,
    WHITE,
    get_colour,
    needs_white,
)
from veduta.core.chart.drawing.picture import Drawing, copy_spec, iterate_units

Spec = dict[str, Any]
THROUGH_MANY = ("line", "area", "trail")
"""Marks that go through many points and have one colour; their points are coloured instead."""
ON_MARKS = (WHITE, BLACK, ON_SERIES, ON_LIGHT_SERIES)
"""The colours of texts that stand on marks."""


def apply_conditional_colours(drawing: Drawing, formats: Sequence[ConditionalFormat]) -> Drawing:
    """The drawing with the colours of conditional formats.

    The fields `format` and `label_format` of a mark say which of them it has."""
    if drawing.spec is None or not any(rule.ground or rule.colour for rule in formats):
        return drawing
    spec = copy_spec(drawing.spec)
    marks = [
        {"test": f"datum.format === {i}", "value": get_colour(rule.ground)}
        for i, rule in enumerate(formats)
        if rule.ground
    ]
    on_marks = [{**each, "value": WHITE if needs_white(each["value"]) else BLACK} for each in marks]
    labels = [
        {"test": f"datum.label_format === {i}", "value": make_readable(get_colour(rule.colour), LIGHT_GROUND)}
        for i, rule in enumerate(formats)
        if rule.colour
    ]
    for unit in iterate_units(spec):
        mark = unit["mark"]["type"] if isinstance(unit["mark"], dict) else unit["mark"]
        if mark in THROUGH_MANY or ("data" in unit and "values" in unit["data"]):
            continue
        if mark == "text":
            _paint(unit, on_marks if is_on_marks(unit) else labels)
        else:
            _paint(unit, marks)
    return replace(drawing, spec=spec)


def is_on_marks(unit: Spec) -> bool:
    """Whether texts stand on marks, whose colours decide theirs."""
    return any(colour in json.dumps(unit) for colour in ON_MARKS)


def _paint(unit: Spec, conditions: list[Spec]) -> None:
    """Puts conditions before what a unit's colour goes by."""
    if not conditions:
        return
    encoding = unit.setdefault("encoding", {})
    name = "fill" if "fill" in encoding else "color"
    channel = encoding.get(name, {})
    there = channel.get("condition", [])
    if not channel and isinstance(unit["mark"], dict) and "color" in unit["mark"]:
        channel = {"value": unit["mark"]["color"]}
    encoding[name] = {**channel, "condition": [*conditions, *(there if isinstance(there, list) else [there])]}
