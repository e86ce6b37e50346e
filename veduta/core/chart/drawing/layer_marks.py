"""How the marks of a layer are drawn, by its way: bars, lines, areas, dots, ticks, texts, ranges, bands and links."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from veduta.core.chart.definition import Layer
from veduta.core.chart.drawing.colours import (
    get_colour,
)
from veduta.core.chart.drawing.labels import (
    clamp_to_width,
    fit_labels,
    label_above,
    label_bars,
    label_line_ends,
    label_stacks,
    touches_none,
)
from veduta.core.chart.drawing.layer_context import (
    POINTED_AT,
    SAID,
    Encoding,
    LayerContext,
    PlacedLayer,
    has_values_beside,
)
from veduta.core.chart.drawing.marks import Mark
from veduta.core.chart.drawing.picture import Picture
from veduta.core.chart.drawing.references import DASHES
from veduta.core.chart.drawing.shades import build_shade
from veduta.core.number_format import format_value, settle

BESIDE_BANDS = 1.35
"""How far a text may reach beyond its band."""


def _dim_unfinished(layer: Layer, unfinished: float | None = None) -> Encoding:
    conditions = [{"test": "datum.on === 0", "value": 0.25}]
    if unfinished is not None:
        conditions.append({"test": "datum.unfinished === 1", "value": unfinished})
    return {"condition": conditions, "value": layer.opacity or 1}


Builder = Callable[[LayerContext, PlacedLayer, Encoding], list[dict[str, Any]]]
BUILDERS: dict[str, Builder] = {}


def draws(*ways: str) -> Callable[[Builder], Builder]:
    """Register what draws a layer in some ways. Raises ValueError for a way that has one."""

    def register(builder: Builder) -> Builder:
        for how in ways:
            if how in BUILDERS:
                raise ValueError(f"Two builders draw a {how}.")
            BUILDERS[how] = builder
        return builder

    return register


def _build_shared_encoding(ground: LayerContext, each: PlacedLayer, across: Encoding) -> Encoding:
    colour = {"color": ground.colour}
    if each.shade:
        colour = {"fill": _shade(ground.picture, each), "detail": {"field": "series", "type": "nominal"}}
    return {ground.along_channel: ground.along, ground.across_channel: across, **colour}


def _shade(picture: Picture, each: PlacedLayer) -> Encoding:
    """The channel of a layer's shade; its marks say the measure that it is of."""
    column = each.shade
    assert column is not None, "the layer is shaded"
    if not any(column.name == measure.name for measure in each.measures):
        number_format = settle(column.format, [mark.more["shade"] for mark in each.made], column.kind)
        for mark in each.made:
            text = format_value(mark.more["shade"], column.kind, number_format)
            mark.tip.append([column.name, text])
            mark.said += f", {text} {column.name}"
    return build_shade(picture, column, each.made, "shade", each.layer.steps)


@draws("bar")
def _draw_bars(ground: LayerContext, each: PlacedLayer, across: Encoding) -> list[dict[str, Any]]:
    several = len(each.series) > 1
    stack = {"full": "normalize", "stacked": "zero", "grouped": None}[ground.stacking] if several else None
    if has_values_beside(ground, each):
        across = across | {"scale": {**across.get("scale", {}), "range": _reserve_beside(each.made)}}
    encoding = _build_shared_encoding(ground, each, across | {"stack": stack})
    encoding |= {"opacity": _dim_unfinished(each.layer, unfinished=0.55), "description": SAID}
    if several and ground.stacking == "grouped":
        encoding[f"{ground.along_channel}Offset"] = {"field": "series", "type": "nominal", "sort": each.series_in_order}
    elif several:
        encoding["order"] = ground.stacked_in_order
    bars = {"mark": {"type": "bar", **POINTED_AT}, "encoding": encoding}
    if has_values_beside(ground, each):
        return [bars, *_label_beside(ground, each.made, across)]
    return [bars, *_label_on(ground, each, across, stack)]


def _label_on(ground: LayerContext, each: PlacedLayer, across: Encoding, stack: str | None) -> list[dict[str, Any]]:
    """The values on upright bars, if they are asked for; not those of shares."""
    if ground.lying or ground.labels in ("usual", "none") or stack == "normalize":
        return []
    if stack == "zero":
        paints = ground.colour.get("scale", {})
        colours = dict(zip(paints.get("domain", ()), paints.get("range", ()), strict=True))
        return [label_stacks(ground.along, across | {"stack": stack}, ground.stacked_in_order, colours)]
    series = each.series_in_order if len(each.series) > 1 else []
    return [label_bars(ground.along, across | {"stack": None}, series)]


def _reserve_beside(made: Sequence[Mark]) -> list[dict[str, str]]:
    """From where to where lying bars reach, so that there is room for their values beside them."""
    room = _measure_beside(made)
    before = room if any(mark.value is not None and mark.value < 0 for mark in made) else 0
    after = room if not before or any((mark.value or 0) > 0 for mark in made) else 0
    has_room = _has_room_beside(made)
    return [{"expr": f"{has_room} ? {before} : 0"}, {"expr": f"{has_room} ? width - {after} : width"}]


def _measure_beside(made: Sequence[Mark]) -> int:
    """px that the longest value takes beside a bar."""
    return 10 + max((mark.more["wide"] for mark in made if "wide" in mark.more), default=0)


def _has_room_beside(made: Sequence[Mark]) -> str:
    """An expression for whether bars that leave room for their values can still be compared."""
    return f"width > {2 * _measure_beside(made)}"


def _label_beside(ground: LayerContext, made: Sequence[Mark], across: Encoding) -> list[dict[str, Any]]:
    """The values beside lying bars, where there is room: right of positive ones, left of negative ones."""
    no_room = {"test": f"!({_has_room_beside(made)})", "value": 0}
    chosen = [{"filter": "datum.labelled === 1"}] if ground.labels in ("ends", "extremes") else []
    return [
        {
            "transform": [{"filter": test}, *chosen],
            "mark": {"type": "text", "align": align, "dx": shift, "baseline": "middle", "aria": False},
            "encoding": {
                "y": ground.along,
                "x": across,
                "text": {"field": "words"},
                "opacity": {"condition": [no_room, {"test": "datum.on === 0", "value": 0.4}], "value": 1},
            },
        }
        for test, align, shift in (("datum.value >= 0", "left", 5), ("datum.value < 0", "right", -5))
    ]


@draws("line", "step", "area")
def _draw_lines(ground: LayerContext, each: PlacedLayer, across: Encoding) -> list[dict[str, Any]]:
    """Missing periods are gaps, the unfinished last one is dashed or pale; dots that cannot be seen are pointed at."""
    layer = each.layer
    is_area = layer.how == "area"
    full = is_area and ground.stacking == "full" and len(each.series) > 1
    across = across | {"stack": ("normalize" if full else "zero") if is_area else None}
    _mark_alone_and_tail(ground.picture, each.made)
    shape: dict[str, Any] = {"type": "area", "line": False}
    if not is_area:
        shape = {"type": "line", "strokeWidth": layer.width or 2, "strokeJoin": "round"}
        if layer.how == "step":
            shape["interpolate"] = "step-after"
        if layer.dash in DASHES:
            shape["strokeDash"] = DASHES[layer.dash]
    shape |= {"invalid": "break-paths-show-domains", "aria": False}
    if layer.opacity:
        shape["opacity"] = layer.opacity
    encoding = _build_shared_encoding(ground, each, across) | {"detail": {"field": "series", "type": "nominal"}}
    if ground.picture.selected is not None:
        encoding["opacity"] = {"value": 0.35}
    if is_area and len(each.series) > 1:
        encoding["order"] = ground.stacked_in_order
    pale = {"fillOpacity": 0.4} if is_area else {"strokeDash": [4, 4]}
    points = _build_shared_encoding(ground, each, across) | {
        "description": SAID,
        "opacity": {
            "condition": [{"test": "datum.alone === 1", "value": 1}, {"test": "datum.dot === 1", "value": 1}],
            "value": 0,
        },
    }
    words = []
    if ground.ends_named and not is_area:
        words.append(label_line_ends(ground.along, across, ground.colour))
    if ground.labels not in ("usual", "none") and not is_area:
        words.append(label_above(ground.along, across))
    return [
        {"transform": [{"filter": "datum.unfinished === 0"}], "mark": shape, "encoding": encoding},
        {"transform": [{"filter": "datum.tail === 1"}], "mark": shape | pale, "encoding": encoding},
        {
            "transform": [{"filter": "isValid(datum.value) && datum.point !== null"}],
            "mark": {"type": "point", "filled": True, "size": 50, **POINTED_AT},
            "encoding": points,
        },
        *words,
    ]


def _mark_alone_and_tail(picture: Picture, made: list[Mark]) -> None:
    """Mark the points that need a dot of their own.

    Those with no neighbour to draw a line to, the last two where the last period is unfinished, and those that are
    selected or coloured by a conditional format."""
    by_series: dict[str, list[Mark]] = {}
    for mark in made:
        by_series.setdefault(mark.series, []).append(mark)
    for line in by_series.values():
        for i, mark in enumerate(line):
            before = line[i - 1].value if i else None
            after = line[i + 1].value if i + 1 < len(line) else None
            tail = mark.unfinished or (i + 1 < len(line) and line[i + 1].unfinished)
            alone = mark.value is not None and before is None and after is None
            is_selected = picture.selected is not None and mark.on and mark.point is not None
            dot = is_selected or mark.more.get("format", -1) >= 0
            mark.more |= {"alone": int(alone), "tail": int(tail), "dot": int(dot)}


@draws("dot", "tick")
def _draw_points(ground: LayerContext, each: PlacedLayer, across: Encoding) -> list[dict[str, Any]]:
    layer = each.layer
    shape: dict[str, Any] = {"type": "point", "filled": True, "size": (layer.size or 9) ** 2, **POINTED_AT}
    if layer.how == "tick":
        shape = {"type": "tick", "thickness": layer.width or 2.5, **POINTED_AT}
    encoding = _build_shared_encoding(ground, each, across | {"stack": None}) | {
        "opacity": _dim_unfinished(layer, 0.55),
        "description": SAID,
    }
    return [{"transform": [{"filter": "isValid(datum.value)"}], "mark": shape, "encoding": encoding}]


@draws("text")
def _draw_texts(ground: LayerContext, each: PlacedLayer, across: Encoding) -> list[dict[str, Any]]:
    place: Encoding = {"align": "left", "dx": 6, "baseline": "middle"}
    encoding = _build_shared_encoding(ground, each, across | {"stack": None})
    opacity, text = _dim_unfinished(each.layer), {"field": "words"}
    if not ground.lying:
        places = len({mark.name for mark in each.made}) or 1
        room = f"{BESIDE_BANDS} * (bandwidth('x') || width / {places})"
        text = fit_labels(room)
        hidden = f"!({touches_none('name')}) || (datum.top !== 1 && datum.widest_short > {room})"
        opacity["condition"].insert(0, {"test": hidden, "value": 0})
        moved = clamp_to_width("scale('x', datum.name) + bandwidth('x') / 2")
        place = {"baseline": "bottom", "dy": -5, "dx": {"expr": moved}}
    encoding |= {"text": text, "opacity": opacity, "description": SAID}
    return [
        {
            "transform": [{"filter": "isValid(datum.value)"}],
            "mark": {"type": "text", **place, **POINTED_AT},
            "encoding": encoding,
        }
    ]


@draws("range")
def _draw_ranges(ground: LayerContext, each: PlacedLayer, across: Encoding) -> list[dict[str, Any]]:
    encoding = _build_shared_encoding(ground, each, across | {"stack": None})
    encoding |= {f"{ground.across_channel}2": {"field": "to"}, "description": SAID}
    encoding["opacity"] = _dim_unfinished(each.layer, unfinished=0.55)
    valid = "isValid(datum.value) && isValid(datum.to)"
    return [{"transform": [{"filter": valid}], "mark": {"type": "bar", **POINTED_AT}, "encoding": encoding}]


@draws("band")
def _draw_bands(ground: LayerContext, each: PlacedLayer, across: Encoding) -> list[dict[str, Any]]:
    shape = {"type": "area", "line": False, "opacity": each.layer.opacity or 0.28, "aria": False}
    shape["invalid"] = "break-paths-show-domains"
    encoding = _build_shared_encoding(ground, each, across | {"stack": None})
    encoding |= {f"{ground.across_channel}2": {"field": "to"}, "detail": {"field": "series", "type": "nominal"}}
    return [{"mark": shape, "encoding": encoding}]


@draws("link")
def _draw_links(ground: LayerContext, each: PlacedLayer, across: Encoding) -> list[dict[str, Any]]:
    layer = each.layer
    shape: dict[str, Any] = {"type": "rule", "strokeWidth": layer.width or 1.5, "aria": False}
    shape["strokeDash"] = DASHES.get(layer.dash, [1, 0])
    encoding = _build_shared_encoding(ground, each, across) | {
        f"{ground.across_channel}2": {"field": "to"},
        "opacity": _dim_unfinished(layer),
    }
    encoding["color"] = {"value": get_colour(layer.colour or "quiet")}
    valid = "isValid(datum.value) && isValid(datum.to)"
    return [{"transform": [{"filter": valid}], "mark": shape, "encoding": encoding}]
