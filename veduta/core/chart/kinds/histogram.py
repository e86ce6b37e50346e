"""Histograms: how many rows, or how much of a measure, there is in each class of a number."""

from __future__ import annotations

from typing import Any

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.axes import build_number_axis, build_value_channel
from veduta.core.chart.drawing.colours import GROUND, colour_by_series
from veduta.core.chart.drawing.layer_context import DIMMED, POINTED_AT, SAID
from veduta.core.chart.drawing.marks import make_marks, to_rows
from veduta.core.chart.drawing.picture import Drawing, Picture, make_base_spec
from veduta.core.chart.drawing.references import draw_references
from veduta.core.chart.kinds.base import ChartKind, ChartShape, FitScore, register_kind
from veduta.core.data.fields import DataType
from veduta.core.phrases import describe_not_drawn
from veduta.core.value_classes import find_class_end, round_width


@register_kind
class Histogram(ChartKind):
    name = "histogram"
    title = "histogram"
    theme = "Distributions"
    use = "Shows how often small and large values occur, by classes of one width; empty classes stay empty."
    glyph = '<path d="M3 17h5v4H3zM8.500 10h5v11h-5zM14 4h5v17h-5zM19.500 8h5v13h-5zM25 15h4v6h-4z"/>'
    measures = (1, 1)
    dimensions = (1, 2)

    def check_extra_constraints(self, asked: ChartShape) -> str:
        first = asked.first
        return "" if first and first.width is not None else "It needs a number in classes."

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        return FitScore(0.9, "a number in classes, so a histogram")

    def shows_references(self, definition: ChartDefinition) -> bool:
        return True

    def draw(self, picture: Picture) -> Drawing:
        column = picture.dimensions[0]
        width = round_width(column.dimension.width or 1, column.kind is DataType.WHOLE)
        there = make_marks(picture)
        made = [mark for mark in there if isinstance(mark.along, int | float)]
        notes = (
            [describe_not_drawn(len(there) - len(made), "group", "without a number")] if len(made) < len(there) else []
        )
        for mark in made:
            mark.more |= {"low": mark.along, "high": find_class_end(mark.along, width)}
        along = _build_axis(column.name, build_number_axis(column.format))
        bars = {
            "mark": {"type": "bar", "stroke": GROUND, "strokeWidth": 0.6, "binSpacing": 0, **POINTED_AT},
            "encoding": {
                "x": along,
                "x2": {"field": "high"},
                "y": {**build_value_channel(picture.measures), "stack": "zero"},
                "color": colour_by_series(picture, made),
                "opacity": DIMMED,
                "description": SAID,
            },
        }
        behind, over = draw_references(picture, "y", along)
        return Drawing(make_base_spec(layer=[*behind, bars, *over]), to_rows(made), notes=notes, along="x")


def _build_axis(name: str, axis: dict[str, Any]) -> dict[str, Any]:
    return {
        "field": "low",
        "bin": "binned",
        "type": "quantitative",
        "scale": {"zero": False, "nice": False},
        "axis": {"title": name, "grid": False, "domain": True, "description": name, **axis},
    }
