"""Series of a drawing, told from one another by looks of their own. No kind of drawing knows of it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from veduta.core.chart.drawing.conditional_colours import ON_MARKS
from veduta.core.chart.drawing.picture import Drawing, iterate_units
from veduta.core.chart.look import ONLY, SeriesLook

Spec = dict[str, Any]
LINES = ("line", "rule", "trail")
LINE_WIDTH = 2
DASHES = {"solid": [1, 0], "dashed": [6, 4], "dotted": [1.5, 3]}
AS_LINES = {"symbolType": "stroke", "symbolSize": 180, "symbolStrokeWidth": 2.5}
"""Entries of a legend that show how lines are dashed."""
OFTEN_UNSEEN = {"test": "datum.dot === 1", "value": 1}
"""What points of lines say that are only seen where they are chosen."""
SERIES_DASHES = ([1, 0], [6, 3], [2, 2], [10, 3, 2, 3], [10, 5], [2, 5])
SHAPES = ("circle", "square", "triangle-up", "diamond", "cross", "triangle-down")
"""By which series are told apart in the place of colours."""
FILLED = ("bar", "area", "arc", "rect")
OF_SERIES = ("line", "area", "bar", "point", "tick")
"""Marks of one colour that stand for values, and are no help to read them."""


def list_legend_entries(drawing: Drawing) -> list[str]:
    """The series that have a colour each, by what the legend calls them; one that is alone has no name."""
    found: dict[str, None] = {}
    for unit in iterate_units(drawing.spec or {}):
        found |= dict.fromkeys(_find_domain(unit))
    if not found and any(_is_of_only_series(unit) for unit in iterate_units(drawing.spec or {})):
        return [ONLY]
    return list(found)


def has_lines(drawing: Drawing) -> bool:
    """Whether some series of a drawing are lines."""
    return any(find_mark_type(unit) in LINES and "encoding" in unit for unit in iterate_units(drawing.spec or {}))


def _is_of_only_series(unit: Spec) -> bool:
    return find_mark_type(unit) in OF_SERIES and "value" in unit.get("encoding", {}).get("color", {})


def _find_domain(unit: Spec) -> list[str]:
    colour = unit.get("encoding", {}).get("color", {})
    is_series = colour.get("field") == "paint" and find_mark_type(unit) != "arc"
    return colour["scale"].get("domain", []) if is_series else []


def find_mark_type(unit: Spec) -> str:
    return str(unit["mark"]["type"] if isinstance(unit["mark"], dict) else unit["mark"])


def style_series(spec: Spec, looks: Mapping[str, SeriesLook]) -> None:
    """Lines of some series wider or dashed, and their marks paler; the others as they are."""
    for unit in iterate_units(spec):
        domain, mark = _find_domain(unit), unit["mark"] if isinstance(unit["mark"], dict) else {}
        if ONLY in looks and _is_of_only_series(unit):
            _style_only_series(unit, mark, looks[ONLY])
            continue
        own = {name: looks[name] for name in domain if name in looks}
        if not own or find_mark_type(unit) == "text":
            continue
        if pointed := [name for name, look in own.items() if look.points]:
            _show_points(unit, {"field": "paint", "oneOf": pointed})
        is_line = find_mark_type(unit) in LINES
        usual: dict[str, Any] = {"strokeWidth": mark.get("strokeWidth", LINE_WIDTH), "strokeDash": [1, 0]}
        usual |= {"strokeOpacity": mark.get("strokeOpacity", 1), "fillOpacity": mark.get("fillOpacity", 1)}
        set_to: dict[str, dict[str, Any]] = {
            "strokeWidth": {name: look.width for name, look in own.items() if is_line and look.width},
            "strokeDash": {name: DASHES[look.dash] for name, look in own.items() if is_line and look.dash},
        }
        pale = {name: look.opacity for name, look in own.items() if look.opacity is not None}
        set_to["strokeOpacity" if is_line else "fillOpacity"] = pale
        if is_line and unit["encoding"]["color"].get("legend"):
            unit["encoding"]["color"]["legend"] |= AS_LINES
        for channel, values in set_to.items():
            says_otherwise = channel in unit["encoding"] or (channel == "strokeDash" and channel in mark)
            if values and not says_otherwise:
                mark.pop(channel, None)  # it would go before the channel
                shown = [values.get(name, usual[channel]) for name in domain]
                scale = {"type": "ordinal", "domain": domain, "range": shown}
                unit["encoding"][channel] = {"field": "paint", "type": "nominal", "scale": scale, "legend": None}


def _style_only_series(unit: Spec, mark: Spec, look: SeriesLook) -> None:
    is_line = find_mark_type(unit) in LINES
    if is_line and look.width:
        mark["strokeWidth"] = look.width
    if is_line and look.dash and "strokeDash" not in mark:  # an unfinished end, or a layer, says otherwise
        mark["strokeDash"] = DASHES[look.dash]
    if look.opacity is not None:
        mark["strokeOpacity" if is_line else "fillOpacity"] = look.opacity
    if look.points:
        _show_points(unit, "true")


def _show_points(unit: Spec, test: str | Spec) -> None:
    """Marks those points of lines for which a test holds; they are otherwise only seen where they are chosen."""
    conditions = unit["encoding"].get("opacity", {}).get("condition")
    if isinstance(conditions, list) and OFTEN_UNSEEN in conditions:
        shown = {"test": test, "value": 1}
        unit["encoding"]["opacity"] = {**unit["encoding"]["opacity"], "condition": [shown, *conditions]}


def add_patterns(spec: Spec) -> Spec:
    """The drawing with dashes and shapes that tell series apart without colour.

    Also the names of series that a page fills with patterns, in order; behind texts `on` such fills is some of the
    ground."""
    filled: dict[str, None] = {}
    for unit in iterate_units(spec):
        colour, kind = unit.get("encoding", {}).get("color", {}), find_mark_type(unit)
        domain = colour["scale"].get("domain", []) if colour.get("field") == "paint" else []
        if len(domain) < 2 or kind == "text":
            continue
        channel = {"field": "paint", "type": "nominal"}
        says_otherwise = "strokeDash" in unit["encoding"] or "strokeDash" in unit["mark"]
        if kind in LINES and not says_otherwise:
            dashes = [SERIES_DASHES[i % len(SERIES_DASHES)] for i in range(len(domain))]
            scale = {"type": "ordinal", "domain": domain, "range": dashes}
            unit["encoding"]["strokeDash"] = {**channel, "scale": scale, "legend": None}
            if colour.get("legend"):
                colour["legend"] |= AS_LINES
        elif kind == "point" and OFTEN_UNSEEN not in (unit["encoding"].get("opacity", {}).get("condition") or ()):
            shapes = [SHAPES[i % len(SHAPES)] for i in range(len(domain))]
            shaped = {"scale": {"domain": domain, "range": shapes}, "legend": colour.get("legend")}
            unit["encoding"]["shape"] = {**channel, **shaped}
        elif kind in FILLED:
            filled |= dict.fromkeys(domain)
    return {**spec, "usermeta": {"patterns": {"of": list(filled), "on": list(ON_MARKS)}}} if filled else spec
