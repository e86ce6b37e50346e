"""Dressing: a drawing's specification with its parts as they are set to look. No kind of drawing knows of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from veduta.core.chart.drawing.axes import NO_LOGARITHM, on_logarithms, shortened
from veduta.core.chart.drawing.picture import Drawing, copied, units
from veduta.core.chart.look import AxisLook, DrawnPart, Look, PartName

Spec = dict[str, Any]
ANGLES = {"level": 0, "slanted": -35, "upright": -90}
SIZES = {"small": 9, "large": 14}
"""Letters of labels and texts, in pixels; 11 as usual."""
LENGTHS = ("bar", "area")
"""Marks that show values by lengths, which begin at zero."""
NO_LOGARITHMIC_LENGTHS = "The axis is not logarithmic: bars and areas show lengths from zero, which has no logarithm."
CUT_LENGTHS = "The lengths of bars and areas do not compare, as their axis does not begin at zero."


def parts_of(drawing: Drawing) -> list[DrawnPart]:
    """The parts that a drawing has, in the order in which they are read; only its texts where there is no
    specification."""
    texts = DrawnPart("title", "Title and note")
    if drawing.spec is None:
        return [texts, DrawnPart("table", "The whole table")] if drawing.table else [texts]
    found: dict[PartName, DrawnPart] = {}
    for part, channel in _channels(drawing):
        if part not in found:
            found[part] = _axis_part(part, channel, drawing)
    parts = [found[name] for name in ("value", "second", "along") if name in found]
    legends = [DrawnPart("legend", "Legend")] if any(True for _ in _legends(drawing.spec)) else []
    return [texts, *legends, *parts, DrawnPart("whole", "The whole drawing")]


def _axis_part(part: PartName, channel: Spec, drawing: Drawing) -> DrawnPart:
    side = channel["axis"].get("orient", "bottom" if _name_of(part, drawing) == "x" else "left")
    title = {"bottom": "Axis below", "top": "Axis above", "left": "Left axis", "right": "Right axis"}[side]
    return DrawnPart(part, title, channel.get("type") == "quantitative", side)


def dressed(drawing: Drawing, look: Look) -> Drawing:
    """The drawing with its parts as they are set to look, and told; those that are hidden can be shown again. What
    cannot be so is said."""
    drawing = replace(drawing, parts=parts_of(drawing))
    if drawing.table:
        return replace(drawing, table=replace(drawing.table, look=look.table))
    if drawing.spec is None or look == Look():
        return drawing
    notes: list[str] = []
    dressing = replace(drawing, spec=copied(drawing.spec), notes=notes)
    for part, channel in _channels(dressing):
        own: AxisLook = getattr(look, part)
        if own != AxisLook():
            _dress_axis(dressing, part, channel, own)
    if look.legend.place:
        for encoding, name in list(_legends(dressing.spec)):
            _place_legend(encoding, name, look.legend.place)
    if look.whole.size:
        dressing.spec = {**(dressing.spec or {}), "config": _letters(SIZES[look.whole.size])}
    return replace(dressing, notes=[*drawing.notes, *dict.fromkeys(notes)])


def _name_of(part: PartName, drawing: Drawing) -> str:
    """The channel that a part is the axis of."""
    along = drawing.along or "x"
    return along if part == "along" else {"x": "y", "y": "x"}[along]


def _channels(drawing: Drawing) -> Iterator[tuple[PartName, Spec]]:
    """The channels of all axes, with the part that each belongs to."""
    for unit in units(drawing.spec or {}):
        encoding = unit.get("encoding", {})
        for part in ("along", "value"):
            channel = encoding.get(_name_of(part, drawing))
            axis = channel.get("axis") if isinstance(channel, dict) else None
            if channel and isinstance(axis, dict):
                is_second = channel["type"] == "quantitative" and axis.get("orient") in ("right", "top")
                yield ("second" if part == "value" and is_second else part), channel


def _dress_axis(drawing: Drawing, part: PartName, channel: Spec, look: AxisLook) -> None:
    axis = channel["axis"]
    if look.title is not None:
        axis["title"] = look.title or None
    if look.grid:
        axis["grid"] = look.grid == "shown"
    if look.reversed:
        channel["scale"] = {**channel.get("scale", {}), "reverse": True}
    if channel["type"] == "quantitative":
        _dress_values(drawing, part, channel, look)
    else:
        _dress_names(drawing, channel, look)
    if look.hidden:
        channel["axis"] = None


def _dress_values(drawing: Drawing, part: PartName, channel: Spec, look: AxisLook) -> None:
    if look.ticks:
        channel["axis"]["tickCount"] = look.ticks
    scale = {**channel.get("scale", {})}
    ends = {"domainMin": look.low, "domainMax": look.high}
    scale |= {name: end for name, end in ends.items() if end is not None}
    if look.begins:
        scale["zero"] = look.begins == "zero"
    if scale:
        channel["scale"] = scale
    shows_lengths = any(_shows_lengths(unit, _name_of(part, drawing), channel) for unit in units(drawing.spec or {}))
    if look.scale == "logarithmic":
        _make_logarithmic(drawing, channel, shows_lengths)
    elif shows_lengths and ((look.low or 0) > 0 or (look.high or 0) < 0 or look.begins == "data"):
        drawing.notes.append(CUT_LENGTHS)
    if any(end is not None for end in ends.values()):
        for unit in units(drawing.spec or {}):
            if isinstance(unit["mark"], dict) and unit["mark"]["type"] not in ("text", "geoshape"):
                unit["mark"]["clip"] = True


def _shows_lengths(unit: Spec, name: str, channel: Spec) -> bool:
    mark = unit["mark"]["type"] if isinstance(unit["mark"], dict) else unit["mark"]
    return mark in LENGTHS and unit.get("encoding", {}).get(name) == channel and f"{name}2" not in unit["encoding"]


def _make_logarithmic(drawing: Drawing, channel: Spec, shows_lengths: bool) -> None:
    scale = channel.get("scale", {})
    values = [row[channel["field"]] for row in drawing.rows if isinstance(row.get(channel["field"]), int | float)]
    if shows_lengths or not values:
        drawing.notes.append(NO_LOGARITHMIC_LENGTHS)
    elif min(values) <= 0 or scale.get("domainMin", 1) <= 0:
        drawing.notes.append(NO_LOGARITHM)
    else:
        scale.pop("zero", None)
        on_logarithms(channel, scale.get("domainMin", min(values)), scale.get("domainMax", max(values)))


def _dress_names(drawing: Drawing, channel: Spec, look: AxisLook) -> None:
    axis = channel["axis"]
    if look.labels:
        axis["labelAngle"] = ANGLES[look.labels]
    if look.letters and channel["type"] == "nominal":
        axis["labelExpr"] = shortened(look.letters)
    if look.every:
        if isinstance(ticks := axis.get("tickCount"), dict):
            axis["tickCount"] = {**ticks, "step": ticks["step"] * look.every}
        else:
            there = dict.fromkeys(row[channel["field"]] for row in drawing.rows if channel["field"] in row)
            names = channel.get("scale", {}).get("domain") or list(there)
            axis |= {"values": names[:: look.every], "labelOverlap": False}


def _legends(spec: Spec | None) -> Iterator[tuple[Spec, str]]:
    """The encodings that have legends, with the channels."""
    for unit in units(spec or {}):
        for name, channel in unit.get("encoding", {}).items():
            if isinstance(channel, dict) and isinstance(channel.get("legend"), dict):
                yield unit["encoding"], name


def _place_legend(encoding: Spec, name: str, place: str) -> None:
    channel = encoding[name]
    if place == "none":
        channel["legend"] = None
        return
    legend = {**channel["legend"], "orient": place}
    if place in ("left", "right"):
        legend["columns"] = 1
        if "gradientLength" in legend:
            legend["gradientLength"] = 120
    channel["legend"] = legend


def _letters(size: int) -> Spec:
    """What makes all letters of a drawing larger or smaller."""
    labels = {"labelFontSize": size, "titleFontSize": size}
    return {"axis": labels, "legend": labels, "text": {"fontSize": size}, "title": {"fontSize": size + 1}}
