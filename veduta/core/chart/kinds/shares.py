"""Shares of a whole: pie and ring; with a second measure as the radius."""

from __future__ import annotations

from typing import Any

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.colours import GROUND, build_colour_channel, choose_series_colours
from veduta.core.chart.drawing.layer_context import DIMMED, POINTED_AT, SAID
from veduta.core.chart.drawing.marks import Mark, is_rest, make_marks, to_rows
from veduta.core.chart.drawing.picture import Drawing, Picture, make_base_spec
from veduta.core.chart.kinds.base import ChartKind, ChartShape, register_kind
from veduta.core.chart.palettes import NAMED_COLOURS
from veduta.core.number_format import format_value
from veduta.core.phrases import describe_not_drawn, lower_first, pluralise

MOST_PARTS = 8
"""Parts of a circle that can be told apart; the others are gathered."""
EASY_PARTS = 5
LABELLED_SHARE = 0.03
OTHER, ALL_OTHERS = "Other", "All others"
OUTER = "min(width - 50, height) / 2 - 10"


class Circle(ChartKind):
    """What pie and ring share."""

    theme = "Shares"
    measures = (1, 2)
    highest_first = True
    dimensions = (1, 1)
    inner = "0"

    def check_extra_constraints(self, asked: ChartShape) -> str:
        return asked.explain_no_whole((0,))

    def list_coloured_groups(self, definition: ChartDefinition) -> tuple[Grouping, ...]:
        return definition.drawn[:1]

    def draw(self, picture: Picture) -> Drawing:
        made, notes = _make_parts(picture)
        paints = choose_series_colours(picture, [mark.name for mark in made if not _is_gathered(mark)])
        paints |= {mark.name: NAMED_COLOURS["quiet"] for mark in made if _is_gathered(mark)}
        for mark in made:
            mark.paint = mark.name
        shape: dict[str, Any] = {"type": "arc", "stroke": GROUND, "strokeWidth": 1, **POINTED_AT}
        shape |= {"innerRadius": {"expr": self.inner}}
        turn = {"type": "quantitative", "scale": {"domain": [0, 1]}, "stack": None}
        encoding: dict[str, Any] = {
            "theta": {"field": "start", **turn},
            "theta2": {"field": "end"},
            "color": build_colour_channel(paints),
            "opacity": DIMMED,
            "description": SAID,
        }
        if len(picture.measures) > 1:
            scale = {"type": "sqrt", "zero": True, "range": [0, {"expr": OUTER}]}
            encoding["radius"] = {"field": "radius", "type": "quantitative", "stack": None, "scale": scale}
            angle, radius = (lower_first(measure.name) for measure in picture.measures)
            notes.append(f"The angle is {angle}; how far a part reaches goes by {radius}, as an area.")
            return Drawing(make_base_spec(mark=shape, encoding=encoding), to_rows(made), notes=notes)
        shape["outerRadius"] = {"expr": OUTER}
        labels = {
            "mark": {
                "type": "text",
                "radius": {"expr": f"{OUTER} + 5"},
                "align": {"expr": "datum.middle < 0.5 ? 'left' : 'right'"},
                "aria": False,
            },
            "encoding": {
                "theta": {"field": "middle", **turn},
                "text": {"field": "share"},
            },
        }
        layers = [{"mark": shape, "encoding": encoding}, labels]
        return Drawing(make_base_spec(layer=layers), to_rows(made), notes=notes)


def _make_parts(picture: Picture) -> tuple[list[Mark], list[str]]:
    """The parts with their shares, the smallest gathered in one, and what is to be said of them."""
    angle, notes = picture.measures[0], []
    carried = {"radius": picture.measures[1].key} if len(picture.measures) > 1 else {}
    made = make_marks(picture, [angle], carry=carried)
    there = [mark for mark in made if mark.value is not None and mark.value > 0]
    if left_out := sum(mark.value is not None and mark.value < 0 for mark in made):
        notes.append(describe_not_drawn(left_out, "part", "below zero"))
    total = sum(mark.value for mark in there)
    can_gather = not carried or picture.measures[1].adds_up
    if len(there) > MOST_PARTS and can_gather:
        small = _find_smallest(there, MOST_PARTS - 1)
        rest = [mark for mark in there if not any(mark is other for other in small)]
        name = OTHER if OTHER not in {mark.name for mark in rest} else ALL_OTHERS
        notes.append(f"The {len(small):,} smallest parts are drawn as one, {name}.")
        there = [*rest, _gather(picture, small, name)]
    if len(there) > EASY_PARTS and not carried:
        notes.append("Horizontal bars would be easier to compare.")
    start = 0.0
    for mark in there:
        share = mark.value / total
        words = picture.format_percent(share)
        mark.more |= {"start": start, "middle": start + share / 2, "end": start + share}
        mark.more["share"] = words if share >= LABELLED_SHARE else ""
        start += share
        mark.tip.insert(len(picture.dimensions) + 1, ["Share", words])
        mark.said += f", {words}"
        if carried:
            column = picture.measures[1]
            radius = mark.more["radius"] or 0
            mark.tip.append([column.name, format_value(radius, column.kind, picture.formats[column.key])])
            mark.more["radius"] = max(0, radius)
    return there, notes


def _is_gathered(mark: Mark) -> bool:
    """Whether it is what was gathered, here or by the question."""
    return mark.point is None or is_rest(mark)


def _find_smallest(there: list[Mark], others: int) -> list[Mark]:
    """The smallest parts, but for so many others, and what a question gathered already; in their order."""
    ranked = sorted(there, key=lambda mark: (is_rest(mark), -mark.value))
    small = {id(mark) for mark in ranked[others:]}
    return [mark for mark in there if id(mark) in small]


def _gather(picture: Picture, small: list[Mark], name: str) -> Mark:
    angle = picture.measures[0]
    value = sum(mark.value for mark in small)
    text = format_value(value, angle.kind, picture.formats[angle.key])
    tip = [[picture.dimensions[0].name, f"{name} ({pluralise(len(small), 'value')})"], [angle.name, text]]
    more: dict[str, Any] = {}
    if len(picture.measures) > 1:
        more["radius"] = sum(mark.more["radius"] or 0 for mark in small)
    return Mark(name, name, "", value, text, tip, f"{name}: {text}", None, more=more)


@register_kind
class Pie(Circle):
    name = "pie"
    title = "pie"
    use = "Shows a few parts of one whole; a second measure can be the radius."
    glyph = '<path d="M16 2a10 10 0 1 0 10 10H16z"/><path opacity=".5" d="M18.5 1.5a9 9 0 0 1 8.5 8.5h-8.5z"/>'


@register_kind
class Ring(Circle):
    name = "ring"
    title = "ring"
    use = "Shows a few parts of one whole around an open middle."
    glyph = (
        '<circle cx="16" cy="12" r="7.5" fill="none" stroke="currentColor" stroke-width="5" stroke-dasharray="30 2.5"/>'
    )
    inner = f"0.58 * ({OUTER})"
