"""Lines and bands that marks are held against: numbers, what the groups or rows have, and days."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from veduta.core.calendar import Grain, find_period_start, label_period
from veduta.core.chart.definition import ReferenceMark
from veduta.core.chart.drawing.colours import GROUND, get_colour
from veduta.core.chart.drawing.labels import LETTER, LINE
from veduta.core.chart.drawing.marks import to_milliseconds
from veduta.core.chart.drawing.picture import Picture
from veduta.core.data.fields import DataType
from veduta.core.number_format import format_value
from veduta.core.query.query import Column

DASHES = {"dashed": [6, 4], "dotted": [1.5, 4]}
USUAL_DASH = [6, 3]
NOMINAL, BETWEEN_WORDS = 640, 10
"""A usual width, and room between words, in pixels."""
MOST_LEVELS, LONGEST = 3, 200
STATISTICS = {"mean": "the mean", "median": "the median", "min": "the lowest", "max": "the highest"}


@dataclass(frozen=True)
class ReferenceLine:
    """A reference that is worked out: where it begins, and ends if it is a band, as numbers and in words."""

    reference: ReferenceMark
    name: str
    start: float
    text: str
    end: float | None = None


def describe_reference(reference: ReferenceMark, formula: str = "") -> str:
    """What marks are held against, in words: its own, or how it is worked out.

    A `formula` is given with the fields' names."""
    if reference.said:
        return reference.said
    if reference.of == "formula":
        return formula or "a formula"
    if reference.of == "events":
        return "events"
    if reference.of == "rows":
        return "the value over all rows shown"
    if reference.of == "dates":
        days = [label_period(day, Grain.DAY) for day in (reference.start, reference.end) if day]
        return " to ".join(days)
    if reference.of == "number":
        number = f":{reference.parameter}" if reference.parameter else f"{reference.value:,.15g}"
        return number if reference.high is None else f"{number} to {reference.high:,.15g}"
    if reference.statistic == "percentile":
        return f"the percentile {reference.percent:g} of the groups shown"
    return f"{STATISTICS[reference.statistic]} of the groups shown"


def make_reference_lines(picture: Picture) -> list[ReferenceLine]:
    """The references on the axis of the measures, one for each measure that they are about."""
    if not picture.dimensions:
        return []
    found = []
    formulas = iter(picture.compared)
    for reference in picture.references:
        formula = next(formulas) if reference.of == "formula" else None
        if reference.of == "dates":
            continue
        measures = [column for column in picture.measures if column.kind.is_number]
        if reference.measure is not None:
            measures = measures[reference.measure : reference.measure + 1]
        elif reference.of in ("number", "formula"):
            measures = measures[:1]
        for column in measures:
            over = picture.whole if picture.whole and reference.over == "all" else picture
            value = _find_value(reference, over, formula or column)
            if value is None:
                continue
            name = describe_reference(reference, formula.name if formula else "")
            if reference.of not in ("number", "formula") and not reference.said and len(picture.measures) > 1:
                name += f" of {column.name}"
            text = format_value(value, DataType.DECIMAL, picture.formats[column.key])
            if reference.high is not None:
                text += f" to {format_value(reference.high, DataType.DECIMAL, picture.formats[column.key])}"
            found.append(ReferenceLine(reference, name, value, text, reference.high))
    return found


def _find_value(reference: ReferenceMark, picture: Picture, column: Column) -> float | None:
    if reference.of == "number":
        return picture.numbers.get(reference.parameter) if reference.parameter else reference.value
    if reference.of in ("rows", "formula"):
        value = picture.result.totals[()][column.key][0]
    elif reference.statistic == "percentile":
        value = picture.result.frame[column.key].quantile(reference.percent / 100, "linear")
    else:
        value = getattr(picture.result.frame[column.key], reference.statistic)()
    return float(value) if isinstance(value, int | float) else None


def list_reference_notes(picture: Picture) -> list[str]:
    """What the lines are, and what has no place on the drawing."""
    in_panels = picture.definition.panels is not None
    notes = list(dict.fromkeys(_note(line, in_panels) for line in make_reference_lines(picture)))
    dated = [each for each in picture.references if each.of == "dates"]
    if dated and not (picture.dimensions and picture.dimensions[0].dimension.is_time_axis):
        notes.append("Days to compare with need a time axis, and are not drawn.")
    return notes


def _note(line: ReferenceLine, in_panels: bool) -> str:
    shape = "line" if line.end is None else "band"
    reference = line.reference
    if in_panels and reference.of in ("groups", "rows") and reference.over == "panel":
        return f"The {shape} is {line.name}, in each panel by itself."
    return f"The {shape} is at {line.text}." if line.name == line.text else f"The {shape} is {line.name}: {line.text}."


def draw_references(
    picture: Picture, channel: str, along: dict[str, Any]
) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """Bands, which stand behind the marks, and lines with their numbers over them; `along` is the other channel."""
    found = make_reference_lines(picture)
    behind = [_draw_band(line, channel) for line in found if line.end is not None]
    over = [part for line in found if line.end is None for part in _draw_line(line, channel)]
    if picture.dimensions and picture.dimensions[0].dimension.is_time_axis:
        dated = [reference for reference in picture.references if reference.of == "dates"]
        for reference, words in zip(dated, _place_labels(picture, dated), strict=True):
            (behind if reference.end else over).extend(_draw_days(picture, reference, words, channel, along))
    return behind, over


@dataclass(frozen=True)
class _ReferenceLabel:
    """Where the words of a day stand: at which level, if there is one for them, and at which side of its line."""

    level: int | None
    side: str


def _place_labels(picture: Picture, dated: Sequence[ReferenceMark]) -> list[_ReferenceLabel]:
    """The places of the words of days along a time axis, where they do not run into each other."""
    days = picture.result.frame[picture.dimensions[0].key].drop_nulls().to_list()
    if not days or not isinstance(days[0], dt.date):
        return [_ReferenceLabel(0, "left")] * len(dated)
    first, last = to_milliseconds(min(days)), to_milliseconds(max(days))
    taken = [-math.inf] * MOST_LEVELS
    placed = {}
    for number, reference in sorted(enumerate(dated), key=lambda each: each[1].start or dt.date.max):
        at = (to_milliseconds(reference.start) - first) / max(1, last - first) * NOMINAL if reference.start else 0
        width = min(LONGEST, LETTER * len(describe_reference(reference))) + BETWEEN_WORDS
        begin, side = (at, "left") if at + width <= NOMINAL else (at - width, "right")
        level = next((i for i, end in enumerate(taken) if end <= begin), None)
        placed[number] = _ReferenceLabel(level, side)
        if level is not None:
            taken[level] = begin + width
    return [placed[number] for number in range(len(dated))]


def _look(reference: ReferenceMark) -> dict[str, Any]:
    dash = [1, 0] if reference.dash == "solid" else DASHES.get(reference.dash, USUAL_DASH)
    return {"strokeDash": dash, "strokeWidth": 1.4, "color": get_colour(reference.colour or "ink"), "aria": False}


def _draw_band(line: ReferenceLine, channel: str) -> dict[str, Any]:
    mark = {"type": "rect", "color": get_colour(line.reference.colour or "quiet"), "opacity": 0.18, "aria": False}
    ends = {channel: {"field": "start", "type": "quantitative"}, f"{channel}2": {"field": "end"}}
    return {"data": {"values": [{"start": line.start, "end": line.end}]}, "mark": mark, "encoding": ends}


def _draw_line(line: ReferenceLine, channel: str) -> list[dict[str, Any]]:
    """A dashed rule, and its number at its end."""
    label = line.reference.said or line.text
    data = {"values": [{"value": line.start, "label": label}]}
    value = {channel: {"field": "value", "type": "quantitative"}}
    if channel == "y":
        at_end: dict[str, Any] = {"x": {"value": {"expr": "width"}}}
        text = {"type": "text", "align": "right", "baseline": "bottom", "dy": -4, "aria": False}
    else:
        at_end = {"y": {"value": 0}}
        text = {"type": "text", "align": "left", "baseline": "top", "dx": 5, "aria": False}
    return [
        {"data": data, "mark": {"type": "rule", **_look(line.reference)}, "encoding": value},
        {"data": data, "mark": text, "encoding": {**value, **at_end, "text": {"field": "label"}}},
    ]


def _draw_days(
    picture: Picture, reference: ReferenceMark, place_of_words: _ReferenceLabel, channel: str, along: dict[str, Any]
) -> list[dict[str, Any]]:
    """A day as a line across the time axis, or a span of days as a band, with its words."""
    other = "x" if channel == "y" else "y"
    start, end = (_find_position(picture, day, along) if day else None for day in (reference.start, reference.end))
    words = describe_reference(reference)
    days = describe_reference(reference.model_copy(update={"said": ""}))
    tip = [["", words], ["", days]] if words != days else [["", days]]
    data = {"values": [{along["field"]: start, "to": end, "label": words, "tip": tip}]}
    place = {other: {"field": along["field"], "type": along["type"]}}
    if reference.end is None:
        mark: dict[str, Any] = {"type": "rule", **_look(reference)}
        encoding: dict[str, Any] = place
    else:
        mark = {"type": "rect", "color": get_colour(reference.colour or "quiet"), "opacity": 0.18, "aria": False}
        encoding = place | {f"{other}2": {"field": "to"}}
    drawn = [{"data": data, "mark": mark | {"tooltip": {"content": "data"}}, "encoding": encoding}]
    if place_of_words.level is None:
        return drawn
    side = place_of_words.side
    dy = 2 + (LINE * place_of_words.level if other == "x" else 0)
    dx = 4 if side == "left" else -4
    text = {"type": "text", "align": side, "baseline": "top", "dx": dx, "dy": dy, "limit": LONGEST, "aria": False}
    top = {"y": {"value": 0}} if other == "x" else {"x": {"value": 0}}
    encoding = {**place, **top, "text": {"field": "label"}}
    halo = text | {"stroke": GROUND, "strokeWidth": 3, "strokeOpacity": 0.85, "color": GROUND}
    return [*drawn, *({"data": data, "mark": mark, "encoding": encoding} for mark in (halo, text))]


def _find_position(picture: Picture, day: dt.date, along: dict[str, Any]) -> Any:
    """Where a day stands along: its moment, or the period that holds it where each has a band."""
    if along["field"] == "at":
        return to_milliseconds(day)
    grain = picture.dimensions[0].dimension.period
    return label_period(find_period_start(day, grain), grain)
