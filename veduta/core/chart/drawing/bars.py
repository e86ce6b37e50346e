"""Vertical and horizontal bars: stacked, grouped or to 100%."""

from __future__ import annotations

from typing import Any

from veduta.core.calendar import Grain
from veduta.core.chart.definition import ChartKind
from veduta.core.chart.drawing.base import (
    SAID,
    TOOLTIP,
    Drawing,
    Picture,
    base_spec,
    colour,
    draws,
    marks,
    number_axis,
    reference_layers,
    said_across,
    said_along,
    series_of,
    shortened,
)
from veduta.core.chart.drawing.lines import filled_in

LABELLED = 40  # so many horizontal bars carry their value beside them
STEP = 24
LETTER = 6
"""About how wide a letter of a label is, in pixels."""


@draws(ChartKind.BAR)
@draws(ChartKind.LYING)
def draw_bars(picture: Picture) -> Drawing:
    rows = filled_in(picture, marks(picture), zero=False)
    lying = picture.kind is ChartKind.LYING
    stacking = picture.definition.stacking
    several = len(series_of(rows)) > 1
    notes = []
    if several and stacking == "full" and any((row["y"] or 0) < 0 for row in rows):
        notes.append("Shares to 100% do not make sense with negative values.")
    measure = picture.result.measures[0]
    along: dict[str, Any] = {
        "field": "name",
        "type": "nominal",
        "sort": None,
        "axis": {
            "title": None,
            "labelLimit": 0,
            "labelExpr": shortened(28),
            "labelOverlap": False if lying else "greedy",
            "description": said_along(picture, rows),
        },
    }
    if not lying:
        along["axis"]["labelAngle"] = _angle(picture, rows)
    full = several and stacking == "full"
    axis = {"labelExpr": "format(datum.value, '.0%')"} if full else number_axis(measure.format)
    across: dict[str, Any] = {"field": "y", "type": "quantitative"}
    across["axis"] = {"title": None, "description": said_across(picture), **axis}
    across["stack"] = ("normalize" if full else "zero" if stacking == "stacked" else None) if several else None
    encoding: dict[str, Any] = {
        "y" if lying else "x": along,
        "x" if lying else "y": across,
        "color": colour(picture, rows),
        "opacity": {
            "condition": [{"test": "datum.on === 0", "value": 0.25}, {"test": "datum.open === 1", "value": 0.55}],
            "value": 1,
        },
        "description": SAID,
    }
    if several and stacking == "grouped":
        encoding["yOffset" if lying else "xOffset"] = {"field": "s", "type": "nominal", "sort": None}
    bars = {"mark": {"type": "bar", "tooltip": TOOLTIP, "cursor": "pointer"}, "encoding": encoding}
    labels = _labels(along, across) if lying and not several and len(rows) <= LABELLED else []
    layers = [*labels, *reference_layers(picture, "x" if lying else "y")]
    spec = base_spec(layer=[bars, *layers]) if layers else base_spec(**bars)
    if labels and rows:
        longest = max(len(row["text"]) for row in rows)
        spec["padding"] = {"left": 0, "top": 0, "bottom": 0, "right": LETTER * longest}
    if lying:
        names = len({row["name"] for row in rows})
        per_name = len(series_of(rows)) if several and stacking == "grouped" else 1
        if names * per_name > 12:
            spec["height"] = {"step": STEP if per_name == 1 else 12}
    return Drawing(picture.kind, spec, rows, notes=notes)


def _angle(picture: Picture, rows: list[dict[str, Any]]) -> int:
    names = {row["name"] for row in rows}
    is_time = bool(picture.result.dimensions) and picture.result.dimensions[0].dimension.is_time_axis
    fits = sum(map(len, names)) <= 90 or picture.result.dimensions[0].dimension.grain is Grain.WEEKDAY
    return 0 if is_time or fits else -35


def _labels(along: dict[str, Any], across: dict[str, Any]) -> list[dict[str, Any]]:
    """The values beside the bars: right of positive ones, left of negative ones."""
    return [
        {
            "transform": [{"filter": test}],
            "mark": {"type": "text", "align": align, "dx": shift, "baseline": "middle", "aria": False},
            "encoding": {
                "y": along,
                "x": across,
                "text": {"field": "text"},
                "opacity": {"condition": {"test": "datum.on === 0", "value": 0.4}, "value": 1},
            },
        }
        for test, align, shift in (("datum.y >= 0", "left", 5), ("datum.y < 0", "right", -5))
    ]
