"""Dots by two measures, with a third as their size, and lines fitted to them."""

from __future__ import annotations

from typing import Any, Literal

from veduta.core.chart.drawing.axes import build_number_axis, label_value_axis
from veduta.core.chart.drawing.colours import colour_by_series
from veduta.core.chart.drawing.layer_context import POINTED_AT, SAID
from veduta.core.chart.drawing.marks import Mark, make_marks, to_rows
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings, make_base_spec
from veduta.core.chart.kinds.base import MANY_MARKS, ChartKind, ChartShape, FitScore, make_setting, register_kind
from veduta.core.chart.palettes import NAMED_COLOURS
from veduta.core.chart.trend_lines import FittedLine, fit_line
from veduta.core.number_format import format_value
from veduta.core.phrases import describe_not_drawn, lower_first, pluralise
from veduta.core.query.query import Column

FEWEST = 5
"""Things from which on dots show how two measures go together."""
MOST_SUITED = 5_000
SIZES = [20, 900]
"""Areas of the smallest and the largest dot, in square pixels."""
LEAST_SIZE, USUAL_SIZE = 12, 60
SPARSE = 300
"""Of so many dots each has its full size; of more they are smaller, so that they hide less of each other."""


class ScatterSettings(Settings):
    fit: Literal["none", "linear", "exponential", "quadratic", "cubic", "smoothed"] = make_setting(
        "Fitted line",
        "none",
        {
            "none": "None",
            "linear": "Straight",
            "exponential": "Exponential",
            "quadratic": "Curved (degree 2)",
            "cubic": "Curved (degree 3)",
            "smoothed": "Smoothed",
        },
    )
    fit_over: Literal["all", "each"] = make_setting("Fitted to", "all", {"all": "All dots", "each": "Each colour"})


@register_kind
class Scatter(ChartKind):
    name = "scatter"
    title = "dots by two measures"
    article = ""
    theme = "Relations"
    use = "Shows whether two measures of the same things go together; a third one sizes the dots."
    glyph = (
        '<path fill="none" stroke="currentColor" stroke-width="1.2" d="M4 3v18h25"/>'
        '<circle cx="9" cy="16" r="2"/><circle cx="14" cy="13" r="3"/><circle cx="18" cy="14" r="1.8"/>'
        '<circle cx="21" cy="8" r="2.6"/><circle cx="26" cy="6" r="2"/>'
    )
    measures = (2, 3)
    dimensions = (1, 2)
    most_groups = MANY_MARKS
    settings = ScatterSettings

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        first = asked.first
        alone = len(asked.groups) == 1 and len(asked.measures) == 2
        if not alone or first is None or first.grain or not FEWEST <= asked.count_values(first) <= MOST_SUITED:
            return None
        if asked.same_unit:
            return None
        return FitScore(0.72, "two measures of the same things, so dots")

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        return ["fit", "fit_over"] if len(asked.groups) > 1 else ["fit"]

    def draw(self, picture: Picture) -> Drawing:
        made = _make_dots(picture)
        crowd = max(1.0, len(made) / SPARSE)
        colour = colour_by_series(picture, made)
        x, y, *size = picture.measures
        encoding: dict[str, Any] = {
            "x": _build_axis("across", x),
            "y": _build_axis("value", y),
            "color": colour,
            "opacity": {"condition": [{"test": "datum.on === 0", "value": 0.15}], "value": 0.75 if crowd == 1 else 0.5},
            "description": SAID,
        }
        if size:
            scale = {"range": [max(LEAST_SIZE, size / crowd) for size in SIZES], "zero": True}
            encoding["size"] = {"field": "size", "type": "quantitative", "scale": scale, "legend": None}
        shape = {"type": "point", "filled": True, "size": max(LEAST_SIZE, USUAL_SIZE / crowd), **POINTED_AT}
        lines, notes = _fits(picture, made, colour)
        if missing := picture.result.frame.height - len(made):
            notes.append(describe_not_drawn(missing, "dot", "without both values"))
        if size:
            notes.append(f"The area of a dot is its {lower_first(size[0].name)}.")
        return Drawing(
            make_base_spec(layer=[{"mark": shape, "encoding": encoding}, *lines]), to_rows(made), notes=notes
        )


def _build_axis(field: str, measure: Column) -> dict[str, Any]:
    """A measure's channel. Dots show no lengths, so that the axis need not begin at zero."""
    axis = {"title": measure.name, "description": label_value_axis([measure]), **build_number_axis(measure.format)}
    return {"field": field, "type": "quantitative", "scale": {"zero": False, "nice": True}, "axis": axis}


def _make_dots(picture: Picture) -> list[Mark]:
    """A mark for each cell that has both values."""
    x, y, *size = picture.measures
    carried = {"across": x.key} | ({"size": size[0].key} if size else {})
    made = make_marks(picture, [y], carry=carried, apart=False)
    for mark in made:
        others = [(x, mark.more["across"]), *((each, mark.more["size"]) for each in size)]
        said = [[each.name, format_value(value, each.kind, picture.formats[each.key])] for each, value in others]
        here = len(picture.dimensions)
        mark.tip = [*mark.tip[:here], said[0], *mark.tip[here : here + 1], *said[1:], *mark.tip[here + 1 :]]
        mark.said = f"{mark.said}, " + ", ".join(f"{text} {name}" for name, text in said)
    return [mark for mark in made if mark.value is not None and mark.more["across"] is not None]


def _fits(picture: Picture, made: list[Mark], colour: dict[str, Any]) -> tuple[list[dict[str, Any]], list[str]]:
    """Fitted lines as layers, each in the `colour` of its dots, and what is to be said of them."""
    fit, each = picture.settings.fit, picture.settings.fit_over == "each"
    if fit == "none":
        return [], []
    by_paint: dict[str, list[Mark]] = {}
    for mark in made:
        by_paint.setdefault(mark.paint if each else "", []).append(mark)
    layers, notes = [], []
    for paint, dots in by_paint.items():
        line = fit_line([dot.more["across"] for dot in dots], [dot.value for dot in dots], fit)
        of = f" of {paint}" if paint else ""
        if isinstance(line, str):
            notes.append(f"No line{of}: {line}")
            continue
        layers.append(_draw_line(picture, line, paint, colour))
        notes.append(_describe_line(line, of))
    return layers, notes


def _draw_line(picture: Picture, line: FittedLine, paint: str, colour: dict[str, Any]) -> dict[str, Any]:
    x, y = picture.measures[:2]
    points = [{"across": a, "value": b, "paint": paint} for a, b in zip(line.xs, line.ys, strict=True)]
    encoding: dict[str, Any] = {"x": _build_axis("across", x), "y": _build_axis("value", y)}
    shape: dict[str, Any] = {"type": "line", "strokeWidth": 1.6, "strokeDash": [6, 3], "aria": False, "clip": True}
    if paint:
        encoding["color"] = colour
    else:
        shape["color"] = NAMED_COLOURS["ink"]
    return {"data": {"values": points}, "mark": shape, "encoding": encoding}


def _describe_line(line: FittedLine, of: str) -> str:
    if not line.equation:
        return f"The smoothed line{of} is from {pluralise(line.count, 'dot')}."
    explained = "" if line.r_squared is None else f", R² {line.r_squared:.3f}"
    return f"The line{of}: {line.equation}{explained}, from {pluralise(line.count, 'dot')}."
