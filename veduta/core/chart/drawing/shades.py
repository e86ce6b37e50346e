"""Shades: a measure as a colour between pale and dark, smooth or in steps."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from veduta.core.chart.drawing.axes import build_number_axis
from veduta.core.chart.drawing.colours import interpolate_colours, needs_white
from veduta.core.chart.drawing.marks import Mark
from veduta.core.chart.drawing.picture import Picture
from veduta.core.chart.palettes import OWN, Paints
from veduta.core.data.fields import NumberFormat
from veduta.core.data.languages import get_language
from veduta.core.number_format import PARTS_OF_ONE, format_number
from veduta.core.phrases import lower_first
from veduta.core.query.query import Column
from veduta.core.value_classes import choose_class_width, count_decimals

MOST_STEPS = 9
STEPS_WORDS = {"0": "Smooth", "3": "3 steps", "5": "5 steps", "7": "7 steps"}
"""In about how many steps shades can be drawn, as settings offer it."""


def build_shade(
    picture: Picture, measure: Column, made: Sequence[Mark], field: str = "value", steps: int = 0
) -> dict[str, Any]:
    """The colour channel of a measure that stands in a field of the marks.

    It goes from pale to dark, or to both sides of zero, the same in all panels. In about so many `steps`, all values of
    a step have the shade of its middle."""
    values = (picture.whole or picture).result.frame[measure.key].drop_nulls().to_list()
    low, high = min(values, default=0), max(values, default=0)
    classes = Steps.from_range(low, high, steps) if steps and low < high else None
    if classes:
        low, high = classes.low, classes.high
    legend = {"title": None, "orient": "top", "description": f"Shades of {lower_first(measure.name)}"}
    for mark in made:
        value = mark.value if field == "value" else mark.more.get(field)
        if classes and value is not None:
            value = classes.find_middle(value)
        mark.more["strong"] = int(value is not None and needs_white(choose_shade(value, low, high, picture.paints)))
        if classes:
            mark.more["shade"] = value
    return {
        "field": "shade" if classes else field,
        "type": "quantitative",
        "scale": _scale(low, high, picture.paints) | ({"nice": False} if classes else {}),
        "legend": legend | (classes.build_legend(measure.format) if classes else _build_smooth_legend(measure.format)),
    }


def choose_shade(value: float, low: float, high: float, paints: Paints = OWN) -> str:
    """About the shade that a value has."""
    if low < 0 < high:
        below, middle, above = paints.around
        return interpolate_colours(middle, below if value < 0 else above, abs(value) / max(-low, high))
    pale, dark = paints.rising
    return interpolate_colours(pale, dark, (value - low) / (high - low) if high > low else 0)


def _scale(low: float, high: float, paints: Paints) -> dict[str, Any]:
    if low < 0 < high:
        most = max(-low, high)
        return {"domain": [-most, 0, most], "range": list(paints.around)}
    return {"domain": [low, high], "range": list(paints.rising), "nice": True}


def _build_smooth_legend(number_format: NumberFormat) -> dict[str, Any]:
    return {"gradientLength": 160, "gradientThickness": 8, **build_number_axis(number_format)}


@dataclass(frozen=True)
class Steps:
    """Steps of one width from `low` to `high`; each holds its lower end, the last both."""

    low: float
    high: float
    width: float

    @classmethod
    def from_range(cls, low: float, high: float, number: int) -> Steps:
        """About so many steps of a round width that hold all values."""
        width = choose_class_width(low, high, number)
        return cls(math.floor(low / width) * width, math.ceil(high / width) * width, width)

    @property
    def count(self) -> int:
        return round((self.high - self.low) / self.width)

    def end(self, number: int) -> float:
        """The lower end of a step, or the upper one of that before it."""
        return round(self.low + number * self.width, count_decimals(self.width))

    def find_middle(self, value: float) -> float:
        """The middle of the step that holds a value."""
        number = math.floor((value - self.low) / self.width)
        if number + 1 <= self.count and value >= self.end(number + 1):
            number += 1  # the quotient of numbers that are not exact may be a little low
        return self._find_middle_of(min(number, self.count - 1))

    def _find_middle_of(self, number: int) -> float:
        return (self.end(number) + self.end(number + 1)) / 2

    def build_legend(self, number_format: NumberFormat) -> dict[str, Any]:
        """An entry for each step."""
        ends = [_end_words(self.end(number), number_format) for number in range(self.count + 1)]
        entries = [
            f"abs(datum.value - {self._find_middle_of(i)!r}) < {self.width / 4!r} ? '{ends[i]} to {ends[i + 1]}'"
            for i in range(self.count)
        ]
        return {
            "type": "symbol",
            "symbolType": "square",
            "values": [self._find_middle_of(number) for number in range(self.count)],
            "labelExpr": " : ".join([*entries, "''"]),
        }


def _end_words(end: float, number_format: NumberFormat) -> str:
    """An end of a step as short as it can be said exactly: "€1.25M", "20%"."""
    size = max((size for size, _ in get_language(number_format.language).sizes if size <= abs(end)), default=1.0)
    if number_format.style in PARTS_OF_ONE:
        size = 1 / PARTS_OF_ONE[number_format.style][0]
    decimals = min(count_decimals(end / size), 9)
    return format_number(end, number_format.model_copy(update={"decimals": decimals, "shorten": True}))
