"""Dots along a dimension: alone on a stem, two with a line between them, and many in a strip."""

from __future__ import annotations

from typing import Literal

from veduta.core.chart.definition import ChartDefinition, Layer
from veduta.core.chart.drawing.layers import draw_layers
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings
from veduta.core.chart.kinds.base import MANY_MARKS, ChartKind, make_setting, register_kind


class Direction(Settings):
    direction: Literal["lying", "upright"] = make_setting(
        "Direction", "lying", {"lying": "Names at the left", "upright": "Names below"}
    )


class Directed(ChartKind):
    """What kinds share that are drawn in layers, lying or upright."""

    settings = Direction

    def draw(self, picture: Picture) -> Drawing:
        return draw_layers(picture, self.list_layers(picture.definition), lying=picture.settings.direction == "lying")


@register_kind
class Lollipops(Directed):
    name = "lollipop"
    title = "dots on stems"
    article = ""
    theme = "To compare"
    highest_first = True
    use = "Ranks many things with less ink than bars, from the same zero line."
    glyph = (
        '<path fill="none" stroke="currentColor" stroke-width="1.6" d="M3 5h20M3 12h13M3 19h7"/>'
        '<circle cx="24" cy="5" r="3"/><circle cx="17" cy="12" r="3"/><circle cx="11" cy="19" r="3"/>'
    )
    measures = (1, 1)
    dimensions = (1, 1)

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        return (Layer(measures=(0,), how="link", width=1.5), Layer(measures=(0,), how="dot", size=11))


@register_kind
class Dumbbells(Directed):
    name = "dumbbell"
    title = "pairs of dots"
    article = ""
    theme = "To compare"
    highest_first = True
    use = "Shows how far two measures of the same things lie apart, such as actual and target."
    glyph = (
        '<path fill="none" stroke="currentColor" stroke-width="1.6" stroke-dasharray="2 2" d="M7 6h16M5 18h12"/>'
        '<circle cx="6" cy="6" r="3"/><circle cx="24" cy="6" r="3"/>'
        '<circle cx="5" cy="18" r="3"/><circle cx="18" cy="18" r="3"/>'
    )
    measures = (2, 2)
    dimensions = (1, 1)

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        between = Layer(measures=(0, 1), how="link", dash="dotted", width=2)
        return (between, *(Layer(measures=(i,), how="dot", size=11) for i in (1, 0)))


@register_kind
class Strip(Directed):
    name = "strip"
    title = "strip of marks"
    theme = "Distributions"
    use = "Shows for each group how the values of its members spread, a short line for each."
    glyph = (
        '<path fill="none" stroke="currentColor" stroke-width="1.8" '
        'd="M5 3v5M9 3v5M10.5 3v5M14 3v5M25 3v5M8 13v5M17 13v5M18.8 13v5M21 13v5M27 13v5"/>'
    )
    measures = (1, 1)
    dimensions = (2, 2)
    most_groups = MANY_MARKS

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        return (Layer(measures=(0,), how="tick", colour="1", opacity=0.7),)

    def draw(self, picture: Picture) -> Drawing:
        drawing = super().draw(picture)
        member = picture.dimensions[1].name
        drawing.notes.append(f"Each line is a value of {member}; its tooltip says which.")
        return drawing
