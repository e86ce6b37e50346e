"""Shades: a measure as a colour between pale and dark."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from veduta.core.chart.drawing.axes import number_axis
from veduta.core.chart.drawing.colours import between, needs_white
from veduta.core.chart.drawing.marks import Mark
from veduta.core.chart.drawing.picture import Picture
from veduta.core.query.query import Column
from veduta.core.words import in_sentence

RISING = ["#E3EFEE", "#0B5D63"]
AROUND_ZERO = ["#B8433B", "#EFF2F1", "#0B5D63"]


def shade(picture: Picture, measure: Column, made: Sequence[Mark], field: str = "value") -> dict[str, Any]:
    """The colour channel of a measure, which stands in a field of the marks: from pale to dark, or to both sides of
    zero; the same in all panels."""
    values = (picture.whole or picture).result.frame[measure.key].drop_nulls().to_list()
    low, high = min(values, default=0), max(values, default=0)
    if low < 0 < high:
        most = max(-low, high)
        scale: dict[str, Any] = {"domain": [-most, 0, most], "range": AROUND_ZERO}
    else:
        scale = {"domain": [low, high], "range": RISING, "nice": True}
    legend = {
        "title": None,
        "orient": "top",
        "gradientLength": 160,
        "gradientThickness": 8,
        "description": f"Shades of {in_sentence(measure.name)}",
        **number_axis(measure.format),
    }
    for mark in made:
        value = mark.value if field == "value" else mark.more.get(field)
        mark.more["strong"] = int(value is not None and needs_white(shade_of(value, low, high)))
    return {"field": field, "type": "quantitative", "scale": scale, "legend": legend}


def shade_of(value: float, low: float, high: float) -> str:
    """About the shade that a value has."""
    if low < 0 < high:
        far = AROUND_ZERO[0] if value < 0 else AROUND_ZERO[2]
        return between(AROUND_ZERO[1], far, abs(value) / max(-low, high))
    return between(RISING[0], RISING[1], (value - low) / (high - low) if high > low else 0)
