"""From one measure to another: bars that float, a band, and a slope between two periods."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

from veduta.core.chart.definition import ChartDefinition, Layer
from veduta.core.chart.drawing.layers import draw_layers
from veduta.core.chart.drawing.marks import make_marks
from veduta.core.chart.drawing.picture import Drawing, Picture
from veduta.core.chart.kinds.base import ChartKind, ChartShape, register_kind
from veduta.core.chart.kinds.dots import Directed


@register_kind
class RangeBars(Directed):
    name = "range"
    title = "bars from one value to another"
    article = ""
    theme = "To compare"
    use = "Shows where each thing begins and ends, such as its lowest and highest value."
    glyph = '<path d="M4 9h5v9H4zM13.5 4h5v11h-5zM23 11h5v9h-5z"/>'
    measures = (2, 2)
    dimensions = (1, 1)

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        return (Layer(measures=(0, 1), how="range", colour="1"),)


@register_kind
class Band(ChartKind):
    name = "band"
    title = "band"
    theme = "Over time"
    use = "Shows the space between a low and a high measure, with a third as a line in it."
    glyph = (
        '<path opacity=".4" d="M3 12l9-6 8 4 9-6v10l-9 5-8-4-9 7z"/>'
        '<path fill="none" stroke="currentColor" stroke-width="2" d="M3 17l9-6 8 3.5 9-6"/>'
    )
    measures = (2, 3)
    dated = True
    dimensions = (1, 1)

    def check_extra_constraints(self, asked: ChartShape) -> str:
        is_ordered = asked.first is not None and bool(asked.first.grain)
        return "" if is_ordered else "A band goes from period to period: it needs a date to draw along."

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        between = Layer(measures=(0, 1), how="band", colour="quiet", opacity=0.35)
        edges = [Layer(measures=(i,), how="line", colour="quiet", width=1, opacity=0.6) for i in (0, 1)]
        middle = [Layer(measures=(2,), how="line", colour="1", width=2.4)] if len(definition.measures) > 2 else []
        return (between, *edges, *middle)

    def draw(self, picture: Picture) -> Drawing:
        return draw_layers(picture, self.list_layers(picture.definition), unnamed=(1, 2))


@register_kind
class Slope(ChartKind):
    name = "slope"
    title = "slope between the first and the last period"
    theme = "Over time"
    use = "Sets the last period against the first for each series: who rose, who fell."
    glyph = (
        '<path fill="none" stroke="currentColor" stroke-width="2" d="M6 17L26 6M6 8l20 9M6 20l20-2"/>'
        '<circle cx="6" cy="17" r="2.4"/><circle cx="26" cy="6" r="2.4"/>'
        '<circle cx="6" cy="8" r="2.4"/><circle cx="26" cy="17" r="2.4"/>'
    )
    measures = (1, 1)
    dated = True
    dimensions = (1, 2)

    def check_extra_constraints(self, asked: ChartShape) -> str:
        is_time = asked.first is not None and asked.first.is_time_axis
        return "" if is_time else "It goes from the first period to the last: it needs a date to draw along."

    def draw(self, picture: Picture) -> Drawing:
        first = picture.dimensions[0].key
        frame = picture.result.frame
        dated = [value for value in frame[first].to_list() if isinstance(value, dt.date)]
        ends = sorted({min(dated), max(dated)}) if dated else []
        of_ends = replace(picture.result, frame=frame.filter(frame[first].is_in(ends)))
        picture = replace(picture, result=of_ends, cells=[])
        layers = [Layer(measures=(0,), how="line"), Layer(measures=(0,), how="dot"), Layer(measures=(0,), how="text")]
        given = [make_marks(picture, layer=number) for number, _ in enumerate(layers)]
        drawing = draw_layers(picture, layers, given=given)
        drawing.notes.append("Only the first and the last period are drawn.")
        return drawing
