"""Histograms: how many rows, or how much of a measure, there is in each class of a number."""

from __future__ import annotations

from typing import Any

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.axes import across, number_axis
from veduta.core.chart.drawing.colours import GROUND, colour_by_series
from veduta.core.chart.drawing.layers import DIMMED, POINTED_AT, SAID
from veduta.core.chart.drawing.marks import marks, rows_of
from veduta.core.chart.drawing.picture import Drawing, Picture, base_spec
from veduta.core.chart.drawing.references import reference_layers
from veduta.core.chart.kinds.base import Asked, Kind, Suits, kind
from veduta.core.classes import class_end, width_of
from veduta.core.data.fields import Kind as ValueKind
from veduta.core.words import not_drawn


@kind
class Histogram(Kind):
    name = "histogram"
    title = "histogram"
    theme = "Distributions"
    use = "Shows how often small and large values occur, by classes of one width; empty classes stay empty."
    glyph = '<path d="M3 17h5v4H3zM8.500 10h5v11h-5zM14 4h5v17h-5zM19.500 8h5v13h-5zM25 15h4v6h-4z"/>'
    measures = (1, 1)
    dimensions = (1, 2)

    def unfit_besides(self, asked: Asked) -> str:
        first = asked.first
        return "" if first and first.width is not None else "It needs a number in classes."

    def suits(self, asked: Asked) -> Suits | None:
        return Suits(0.9, "a number in classes, so a histogram")

    def shows_references(self, definition: ChartDefinition) -> bool:
        return True

    def draw(self, picture: Picture) -> Drawing:
        column = picture.dimensions[0]
        width = width_of(column.dimension.width or 1, column.kind is ValueKind.WHOLE)
        there = marks(picture)
        made = [mark for mark in there if isinstance(mark.along, int | float)]
        notes = [not_drawn(len(there) - len(made), "group", "without a number")] if len(made) < len(there) else []
        for mark in made:
            mark.more |= {"low": mark.along, "high": class_end(mark.along, width)}
        along = _along(column.name, number_axis(column.format))
        bars = {
            "mark": {"type": "bar", "stroke": GROUND, "strokeWidth": 0.6, "binSpacing": 0, **POINTED_AT},
            "encoding": {
                "x": along,
                "x2": {"field": "high"},
                "y": {**across(picture.measures), "stack": "zero"},
                "color": colour_by_series(picture, made),
                "opacity": DIMMED,
                "description": SAID,
            },
        }
        behind, over = reference_layers(picture, "y", along)
        return Drawing(base_spec(layer=[*behind, bars, *over]), rows_of(made), notes=notes, along="x")


def _along(name: str, axis: dict[str, Any]) -> dict[str, Any]:
    return {
        "field": "low",
        "bin": "binned",
        "type": "quantitative",
        "scale": {"zero": False, "nice": False},
        "axis": {"title": name, "grid": False, "domain": True, "description": name, **axis},
    }
