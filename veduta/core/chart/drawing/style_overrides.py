"""Dressing: a drawing's specification with its parts as they are set to look. No kind of drawing knows of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from veduta.core.chart.contrast import LIGHT_GROUND, make_readable
from veduta.core.chart.drawing.axes import NO_LOGARITHM, SLANT, shorten_labels, use_logarithmic_scale, wrap_labels
from veduta.core.chart.drawing.colours import GROUND, get_colour
from veduta.core.chart.drawing.conditional_colours import is_on_marks
from veduta.core.chart.drawing.picture import Drawing, copy_spec, iterate_units
from veduta.core.chart.drawing.series_looks import add_patterns, find_mark_type, list_legend_entries, style_series
from veduta.core.chart.drawing.text_metrics import SIZES
from veduta.core.chart.look import ONLY, AxisLook, DrawnPart, LabelLook, LegendLook, Look, PartName, Sheet, WholeLook
from veduta.core.chart.theme import get_both_colours, get_both_paper_colours

Spec = dict[str, Any]
ANGLES = {"level": 0, "slanted": SLANT, "upright": -90}
INNER = {"small": 8, "large": 24}
"""Between a drawing and the edge of its sheet, in pixels; 5 as usual."""
LENGTHS = ("bar", "area")
"""Marks that show values by lengths, which begin at zero."""
WRAPPED = 14
"""Letters of a line of a wrapped label."""
INSIDE = {"orient": "top-right", "columns": 1, "fillColor": GROUND, "padding": 6, "offset": 0}
DRAWN_THROUGH = "Lines are drawn through periods without rows."
NO_LOGARITHMIC_LENGTHS = "The axis is not logarithmic: bars and areas show lengths from zero, which has no logarithm."
CUT_LENGTHS = "The lengths of bars and areas do not compare, as their axis does not begin at zero."


def list_drawn_parts(drawing: Drawing, has_labels: bool = False) -> list[DrawnPart]:
    """The parts of a drawing in reading order.

    Without a specification these are its texts only. Labels are listed even where none are drawn now."""
    texts = DrawnPart("title", "Title and note")
    if drawing.spec is None:
        tables = [DrawnPart("table", "The whole table"), DrawnPart("whole", "Its sheet")] if drawing.table else []
        return [texts, *tables]
    found: dict[PartName, DrawnPart] = {}
    for part, channel in _iterate_channels(drawing):
        if part not in found:
            found[part] = _make_axis_part(part, channel, drawing)
    parts = [found[name] for name in ("value", "second", "along") if name in found]
    types = [encoding[name].get("type") for encoding, name in _iterate_legends(drawing.spec)]
    legends = [DrawnPart("legend", "Legend", of_values="nominal" not in types)] if types else []
    entries = list_legend_entries(drawing)
    series = [DrawnPart("series", "Marks" if entries == [ONLY] else "Series")] if entries else []
    has_labels = has_labels or any(_is_label(unit) for unit in iterate_units(drawing.spec))
    labels = [DrawnPart("labels", "Labels")] if has_labels else []
    return [texts, *legends, *series, *labels, *parts, DrawnPart("whole", "The whole drawing")]


def _make_axis_part(part: PartName, channel: Spec, drawing: Drawing) -> DrawnPart:
    side = channel["axis"].get("orient", "bottom" if _name_of(part, drawing) == "x" else "left")
    title = {"bottom": "Axis below", "top": "Axis above", "left": "Left axis", "right": "Right axis"}[side]
    return DrawnPart(part, title, channel.get("type") == "quantitative", side)


def apply_style_overrides(drawing: Drawing, look: Look, has_labels: bool = False) -> Drawing:
    """The drawing with its parts formatted as the chart says, and listed for the page.

    Hidden parts can be shown again, labels too. What cannot be applied is noted."""
    drawing = replace(drawing, parts=list_drawn_parts(drawing, has_labels), sheet=_make_sheet(look.whole))
    if drawing.table:
        return replace(drawing, table=replace(drawing.table, look=look.table))
    if drawing.spec is None or look == Look():
        return drawing
    notes: list[str] = []
    dressing = replace(drawing, spec=copy_spec(drawing.spec), notes=notes)
    for part, channel in _iterate_channels(dressing):
        own: AxisLook = getattr(look, part)
        if own != AxisLook():
            _style_axis(dressing, part, channel, own)
    if look.legend != LegendLook():
        for encoding, name in list(_iterate_legends(dressing.spec)):
            _style_legend(encoding, name, look.legend)
    if look.labels != LabelLook():
        _style_labels(dressing.spec or {}, look.labels)
    if look.series:
        style_series(dressing.spec or {}, {each.name: each for each in look.series})
    dressing.spec = _apply_whole(dressing.spec or {}, look.whole)
    return replace(dressing, notes=[*drawing.notes, *dict.fromkeys(notes)])


def _apply_whole(spec: Spec, look: WholeLook) -> Spec:
    if look.patterns:
        spec = add_patterns(spec)
    if look.inner:
        spec = {**spec, "padding": INNER[look.inner]}
    return {**spec, "config": _set_letter_size(SIZES[look.size])} if look.size else spec


def _make_sheet(look: WholeLook) -> Sheet:
    ground = get_both_paper_colours(look.ground) if look.ground else None
    return Sheet(ground, get_both_colours(look.border) if look.border else None, look.inner, look.size)


def _name_of(part: PartName, drawing: Drawing) -> str:
    """The channel that a part is the axis of."""
    along = drawing.along or "x"
    return along if part == "along" else {"x": "y", "y": "x"}[along]


def _iterate_channels(drawing: Drawing) -> Iterator[tuple[PartName, Spec]]:
    """The channels of all axes, with the part that each belongs to."""
    for unit in iterate_units(drawing.spec or {}):
        encoding = unit.get("encoding", {})
        for part in ("along", "value"):
            channel = encoding.get(_name_of(part, drawing))
            axis = channel.get("axis") if isinstance(channel, dict) else None
            if channel and isinstance(axis, dict):
                is_second = channel["type"] == "quantitative" and axis.get("orient") in ("right", "top")
                yield ("second" if part == "value" and is_second else part), channel


def _style_axis(drawing: Drawing, part: PartName, channel: Spec, look: AxisLook) -> None:
    axis = channel["axis"]
    if look.title is not None:
        axis["title"] = look.title or None
    if look.grid:
        axis["grid"] = look.grid == "shown"
    if look.reversed:
        channel["scale"] = {**channel.get("scale", {}), "reverse": True}
    if channel["type"] == "quantitative":
        _style_values(drawing, part, channel, look)
    else:
        _style_names(drawing, channel, look)
    if look.hidden:
        channel["axis"] = None


def _style_values(drawing: Drawing, part: PartName, channel: Spec, look: AxisLook) -> None:
    if look.ticks:
        channel["axis"]["tickCount"] = look.ticks
    scale = {**channel.get("scale", {})}
    ends = {"domainMin": look.low, "domainMax": look.high}
    scale |= {name: end for name, end in ends.items() if end is not None}
    if look.begins:
        scale["zero"] = look.begins == "zero"
    if scale:
        channel["scale"] = scale
    shows_lengths = any(
        _shows_lengths(unit, _name_of(part, drawing), channel) for unit in iterate_units(drawing.spec or {})
    )
    if look.scale == "logarithmic":
        _make_logarithmic(drawing, channel, shows_lengths)
    elif shows_lengths and ((look.low or 0) > 0 or (look.high or 0) < 0 or look.begins == "data"):
        drawing.notes.append(CUT_LENGTHS)
    if any(end is not None for end in ends.values()):
        for unit in iterate_units(drawing.spec or {}):
            if isinstance(unit["mark"], dict) and unit["mark"]["type"] not in ("text", "geoshape"):
                unit["mark"]["clip"] = True


def _shows_lengths(unit: Spec, name: str, channel: Spec) -> bool:
    if find_mark_type(unit) not in LENGTHS or unit.get("encoding", {}).get(name) != channel:
        return False
    return f"{name}2" not in unit["encoding"]


def _make_logarithmic(drawing: Drawing, channel: Spec, shows_lengths: bool) -> None:
    scale = channel.get("scale", {})
    values = [row[channel["field"]] for row in drawing.rows if isinstance(row.get(channel["field"]), int | float)]
    if shows_lengths or not values:
        drawing.notes.append(NO_LOGARITHMIC_LENGTHS)
    elif min(values) <= 0 or scale.get("domainMin", 1) <= 0:
        drawing.notes.append(NO_LOGARITHM)
    else:
        scale.pop("zero", None)
        use_logarithmic_scale(channel, scale.get("domainMin", min(values)), scale.get("domainMax", max(values)))


def _style_names(drawing: Drawing, channel: Spec, look: AxisLook) -> None:
    axis = channel["axis"]
    if look.labels and isinstance(axis.get("labelAngle"), dict):  # level or slanted by the room there is
        for name in ("labelAlign", "labelBaseline", "labelLimit"):
            del axis[name]
    if look.labels == "wrapped":
        axis |= {"labelAngle": 0, "labelExpr": wrap_labels(look.letters or WRAPPED), "labelOverlap": "greedy"}
    elif look.labels:
        axis["labelAngle"] = ANGLES[look.labels]
    if look.gaps and _draw_through_gaps(drawing):
        drawing.notes.append(DRAWN_THROUGH)
    if look.letters and look.labels != "wrapped" and channel["type"] == "nominal":
        axis["labelExpr"] = shorten_labels(look.letters)
    if look.every:
        if isinstance(ticks := axis.get("tickCount"), dict):
            axis["tickCount"] = {**ticks, "step": ticks["step"] * look.every}
        else:
            there = dict.fromkeys(row[channel["field"]] for row in drawing.rows if channel["field"] in row)
            names = channel.get("scale", {}).get("domain") or list(there)
            axis |= {"values": names[:: look.every], "labelOverlap": False}


def _draw_through_gaps(drawing: Drawing) -> bool:
    """Lets lines go on through periods without rows. Returns whether there are any."""
    for unit in iterate_units(drawing.spec or {}):
        if find_mark_type(unit) == "line":
            unit["transform"] = [*unit.get("transform", ()), {"filter": "isValid(datum.value)"}]
    return any("value" in row and row["value"] is None for row in drawing.rows)


def _is_label(unit: Spec) -> bool:
    """Whether a unit writes the values of marks."""
    return find_mark_type(unit) == "text" and unit.get("encoding", {}).get("text", {}).get("field") == "words"


def _style_labels(spec: Spec, look: LabelLook) -> None:
    """The colour of labels; what they say has been known since their room was."""
    for unit in filter(_is_label, iterate_units(spec)):
        if look.colour and not is_on_marks(unit):
            unit["encoding"]["color"] = {"value": make_readable(get_colour(look.colour), LIGHT_GROUND)}


def _iterate_legends(spec: Spec | None) -> Iterator[tuple[Spec, str]]:
    """The encodings that have legends, with the channels."""
    for unit in iterate_units(spec or {}):
        for name, channel in unit.get("encoding", {}).items():
            if isinstance(channel, dict) and isinstance(channel.get("legend"), dict):
                yield unit["encoding"], name


def _style_legend(encoding: Spec, name: str, look: LegendLook) -> None:
    channel = encoding[name]
    if look.place == "none":
        channel["legend"] = None
        return
    legend = {**channel["legend"]}
    if look.place == "inside":
        legend |= INSIDE
    elif look.place:
        legend["orient"] = look.place
    if look.place in ("left", "right"):
        legend["columns"] = 1
        if "gradientLength" in legend:
            legend["gradientLength"] = 120
    entries = legend.get("values") or channel.get("scale", {}).get("domain")
    if isinstance(entries, list) and channel["type"] == "nominal":
        if look.order:
            legend["values"] = entries[::-1] if look.order == "reversed" else sorted(entries, key=str.casefold)
        if look.most:
            legend["symbolLimit"] = look.most
    channel["legend"] = legend


def _set_letter_size(size: int) -> Spec:
    """What makes all letters of a drawing larger or smaller."""
    labels = {"labelFontSize": size, "titleFontSize": size}
    return {"axis": labels, "legend": labels, "text": {"fontSize": size}, "title": {"fontSize": size + 1}}
