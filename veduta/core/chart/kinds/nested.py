"""Nested rectangles: parts of a whole, and their parts."""

from __future__ import annotations

from typing import Any

import squarify

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.colours import (
    GROUND,
    ON_LIGHT_SERIES,
    ON_SERIES,
    build_colour_channel,
    choose_series_colours,
    needs_white,
)
from veduta.core.chart.drawing.labels import show_if
from veduta.core.chart.drawing.layer_context import DIMMED, POINTED_AT, SAID
from veduta.core.chart.drawing.marks import Mark, make_marks, to_rows
from veduta.core.chart.drawing.picture import Drawing, Picture, make_base_spec
from veduta.core.chart.kinds.base import ChartKind, ChartShape, register_kind
from veduta.core.chart.palettes import NAMED_COLOURS
from veduta.core.data.fields import DataType
from veduta.core.phrases import describe_not_drawn

WIDTH, HEIGHT = 160.0, 90.0
HEADING = 5.0
"""The strip over the parts of a part, with its name."""
MOST_DRAWN = 400
WIDE = "(scale('x', datum.right) - scale('x', datum.left))"
HIGH = "(scale('y', datum.bottom) - scale('y', datum.top))"
"""Expressions for how wide and how high a rectangle is, in pixels."""

Rectangle = tuple[float, float, float, float]


@register_kind
class NestedRectangles(ChartKind):
    name = "nested"
    title = "nested rectangles"
    article = ""
    theme = "Shares"
    highest_first = True
    use = "Shows many parts of a whole by area, and within each its own parts, level within level."
    glyph = '<path d="M3 3h14v18H3zM18.5 3H29v10H18.5zM18.5 14.5H24V21h-5.5zM25.5 14.5H29V21h-3.5z"/>'
    measures = (1, 1)
    dimensions = (1, 4)

    def check_extra_constraints(self, asked: ChartShape) -> str:
        return asked.explain_no_whole()

    def list_coloured_groups(self, definition: ChartDefinition) -> tuple[Grouping, ...]:
        return definition.drawn[:1] if len(definition.drawn) > 1 else ()

    def draw(self, picture: Picture) -> Drawing:
        all_marks = make_marks(picture)
        there = sorted((m for m in all_marks if m.value is not None and m.value > 0), key=lambda m: -m.value)
        notes = []
        if left_out := sum(mark.value is not None and mark.value < 0 for mark in all_marks):
            notes.append(describe_not_drawn(left_out, "part", "below zero"))
        if len(there) > MOST_DRAWN:
            notes.append(f"The {MOST_DRAWN} largest of {len(there):,} parts are drawn.")
            there = there[:MOST_DRAWN]
        levels = len(picture.dimensions)
        headings = _place_within(there, (0, 0, WIDTH, HEIGHT), 0, levels)
        for heading in headings:
            heading["cut"] = int(picture.dimensions[heading["level"]].kind is DataType.TEXT)
            heading["wide"] = picture.measure_text(heading["name"], strong=True)
        total = sum(mark.value for mark in there)
        for mark in there:
            mark.paint = mark.name if levels > 1 else ""
            share = picture.format_percent(mark.value / total)
            mark.more["label"] = mark.tip[levels - 1][1]
            mark.tip.append(["Share", share])
            mark.said += f", {share}"
        can_be_cut = int(picture.dimensions[-1].kind is DataType.TEXT)
        paints = choose_series_colours(picture, list(dict.fromkeys(mark.paint for mark in there)))
        for mark in there:
            mark.more |= {"strong": int(needs_white(paints[mark.paint])), "short": picture.shorten_text(mark)}
            mark.more |= {
                "wide": picture.measure_text(mark.text),
                "short_wide": picture.measure_text(mark.more["short"]),
            }
            mark.more |= {"label_wide": picture.measure_text(mark.more["label"], strong=True), "cut": can_be_cut}
        colour = build_colour_channel(paints, in_legend=False)
        spec = make_base_spec(layer=[_draw_rectangles(colour), *_draw_labels(), *_draw_headings(headings)])
        return Drawing(spec, to_rows(there), notes=notes)


def _place(parts: list[Mark], within: Rectangle) -> None:
    """Gives the marks their rectangles, in proportion to their values, the largest first."""
    for mark, (x, y, width, height) in zip(parts, _squarify([mark.value for mark in parts], within), strict=True):
        mark.more |= {"left": x, "right": x + width, "top": y, "bottom": y + height}


def _squarify(values: list[float], within: Rectangle) -> list[Rectangle]:
    """Squarified rectangles (Bruls, Huizing, van Wijk 2000); those of nothing where there is no room."""
    x, y, width, height = within
    if not values or width <= 0 or height <= 0:
        return [(x, y, 0, 0)] * len(values)
    sizes = squarify.normalize_sizes(values, width, height)
    return [(each["x"], each["y"], each["dx"], each["dy"]) for each in squarify.squarify(sizes, x, y, width, height)]


def _place_within(parts: list[Mark], within: Rectangle, level: int, levels: int) -> list[dict[str, Any]]:
    """Rectangles of a level's values with those of the levels below inside them.

    Adds the headings of all levels but the last."""
    if level == levels - 1:
        _place(parts, within)
        return []
    by_name: dict[str, list[Mark]] = {}
    for mark in parts:
        by_name.setdefault(mark.tip[level][1], []).append(mark)
    sums = {name: sum(mark.value for mark in inside) for name, inside in by_name.items()}
    names = sorted(sums, key=lambda name: -sums[name])
    headings = []
    for name, (x, y, width, height) in zip(names, _squarify([sums[name] for name in names], within), strict=True):
        strip = min(HEADING, height / 3)
        headings.append({"left": x, "right": x + width, "top": y, "name": name, "level": level})
        inside = (x, y + strip, width - 0.4, height - strip - 0.6)
        headings += _place_within(by_name[name], inside, level + 1, levels)
    return headings


def _make_scales(field_x: str, field_y: str) -> dict[str, Any]:
    x = {"field": field_x, "type": "quantitative", "scale": {"domain": [0, WIDTH], "nice": False}, "axis": None}
    y = {"field": field_y, "type": "quantitative", "scale": {"domain": [HEIGHT, 0], "nice": False}, "axis": None}
    return {"x": x, "y": y}


def _draw_rectangles(colour: dict[str, Any]) -> dict[str, Any]:
    return {
        "mark": {"type": "rect", "stroke": GROUND, "strokeWidth": 1.2, **POINTED_AT},
        "encoding": {
            **_make_scales("left", "top"),
            "x2": {"field": "right"},
            "y2": {"field": "bottom"},
            "color": colour,
            "opacity": DIMMED,
            "description": SAID,
        },
    }


def _draw_labels() -> list[dict[str, Any]]:
    """Name and value in each rectangle that has room for them.

    A long name is cut, with a sign; a value or a date never is."""
    room = f"{WIDE} - 10"
    text = {"type": "text", "align": "left", "baseline": "top", "dx": 5, "limit": {"expr": room}, "aria": False}
    colour = {"condition": {"test": "datum.strong === 1", "value": ON_SERIES}, "value": ON_LIGHT_SERIES}
    common = {**_make_scales("left", "top"), "color": colour}
    named = f"{HIGH} > 18 && (datum.cut === 1 ? {WIDE} > 34 : {room} >= datum.label_wide)"
    valued = f"{HIGH} > 34 && {room} >= datum.short_wide"
    whole = {"test": f"{room} >= datum.wide", "value": {"expr": "datum.text"}}
    return [
        {
            "mark": {**text, "dy": 5, "fontWeight": 600},
            "encoding": {**common, "text": {"field": "label"}, "opacity": show_if(named)},
        },
        {
            "mark": {**text, "dy": 19},
            "encoding": {**common, "text": {"field": "short", "condition": whole}, "opacity": show_if(valued)},
        },
    ]


def _draw_headings(headings: list[dict[str, Any]]) -> list[dict[str, Any]]:
    if not headings:
        return []
    limit = {"expr": f"{WIDE} - 8"}
    text = {"type": "text", "align": "left", "baseline": "top", "dx": 2, "dy": 3, "limit": limit, "aria": False}
    text |= {"fontWeight": {"expr": "datum.level ? 400 : 600"}, "color": NAMED_COLOURS["ink"]}
    opacity = show_if(f"datum.cut === 1 ? {WIDE} > 30 : {WIDE} - 8 >= datum.wide")
    encoding = {**_make_scales("left", "top"), "text": {"field": "name"}, "opacity": opacity}
    return [{"data": {"values": headings}, "mark": text, "encoding": encoding}]
