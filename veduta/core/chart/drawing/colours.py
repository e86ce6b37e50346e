"""Colours: each series its own, which stays with it whatever else is shown; and the legend that names them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from veduta.core.chart.drawing.axes import shorten_labels
from veduta.core.chart.drawing.marks import Mark
from veduta.core.chart.drawing.picture import Picture
from veduta.core.chart.look import ONLY
from veduta.core.chart.palettes import OWN
from veduta.core.phrases import join_names

GROUND = "#FFFFFF"
"""The sheet on which is drawn, for lines that keep filled marks apart."""
WHITE, BLACK = "#FEFEFE", "#010101"
"""Texts on strong and on pale shades; in the dark theme they change places."""
ON_SERIES, ON_LIGHT_SERIES = "#FDFDFD", "#020202"
"""Texts on series colours, which are all light in the dark theme."""
MOST_COMBINED = 3
"""Dimensions whose values together have a colour."""
MOST_IN_LEGEND = 24
IN_LEGEND = 24
"""Letters of a name in a legend; of a few twice as many."""
ALWAYS_NAMED = 8
"""So many entries of a legend always have a line; of more, those that have no room are counted."""
FEW = 4


def get_colour(name: str) -> str:
    """A colour of Veduta's own as #rrggbb."""
    return OWN.get_colour(name)


def compute_luminance(colour: str) -> float:
    """Relative luminance of a colour written #rrggbb, as WCAG 2.2 defines it."""
    srgb = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in srgb)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def interpolate_colours(low: str, high: str, share: float) -> str:
    """The colour at a share of the way from one to another."""
    ends = ([int(colour[i : i + 2], 16) for i in (1, 3, 5)] for colour in (low, high))
    return "#" + "".join(f"{round(a + (b - a) * min(max(share, 0), 1)):02X}" for a, b in zip(*ends, strict=True))


def needs_white(colour: str) -> bool:
    """Whether white text on a colour is easier to read than black text; the better one has at least 4.5:1."""
    return 1.05 / (compute_luminance(colour) + 0.05) > (compute_luminance(colour) + 0.05) / 0.05


def choose_series_colours(picture: Picture, series: Sequence[str]) -> dict[str, str]:
    """Each series' colour: its own, or that of its values, whatever else is shown, else by its place.

    They are in their order."""
    colours = _colour_by_position(picture, series)
    set_to = {
        each.name: picture.paints.get_colour(each.colour) for each in picture.definition.look.series if each.colour
    }
    if len(series) == 1 and ONLY in set_to:
        set_to[series[0]] = set_to[ONLY]
    own = _find_value_colours(picture) | set_to
    return colours | {name: own[name] for name in colours if name in own}


def _find_value_colours(picture: Picture) -> dict[str, str]:
    """The colours that the values of dimensions have, by what series of them are called."""
    columns = [column for column in picture.dimensions if column.grouping in picture.coloured]
    if not columns or len(columns) > MOST_COMBINED:
        return {}
    fields, found = [column.name for column in columns], {}
    for values in picture.result.frame.select([column.key for column in columns]).unique().iter_rows():
        if colour := picture.value_colours.find_colour(fields, values):
            words = [picture.label(column, value) for column, value in zip(columns, values, strict=True)]
            found[" · ".join(words)] = picture.paints.get_colour(colour)
    return found


def _colour_by_position(picture: Picture, series: Sequence[str]) -> dict[str, str]:
    """Colours by the places of values among all of the dimension, or else of the series."""
    order = [picture.label(picture.dimensions[-1], value) for value in picture.value_order]
    order += [picture.result.rest.name] if order and picture.result.rest else []
    positions = {word: position for position, word in enumerate(order)}
    fixed = bool(positions) and all(name in positions for name in series)
    names = sorted(series, key=positions.__getitem__) if fixed else list(series)
    there = picture.paints.series
    last = picture.dimensions[-1] if picture.dimensions else None
    own = [picture.label(last, value) for value in picture.result.orders.get(last.key, ())] if last else []
    shown = sorted(names, key=lambda name: own.index(name) if name in own else len(own)) if own else names
    if picture.whole and not fixed:
        for name in names:
            picture.palette.setdefault(name, there[len(picture.palette) % len(there)])
        return {name: picture.palette[name] for name in shown}
    numbers = [positions[name] if fixed else i for i, name in enumerate(names)]
    colours = dict(zip(names, _pick_distinct([i % len(there) for i in numbers], there), strict=True))
    return {name: colours[name] for name in shown}


def _pick_distinct(positions: list[int], there: Sequence[str]) -> list[str]:
    """The colours at these places; where two series share one while others are free, the later takes a free one."""
    free = [i for i in range(len(there)) if i not in positions]
    taken: set[int] = set()
    colours = []
    for position in positions:
        if position in taken and free:
            position = free.pop(0)
        taken.add(position)
        colours.append(there[position])
    return colours


def build_colour_channel(paints: dict[str, str], in_legend: bool = True) -> dict[str, Any]:
    """The colour channel: each entry of the legend with its colour."""
    return {
        "field": "paint",
        "type": "nominal",
        "scale": {"domain": list(paints), "range": list(paints.values())},
        "legend": build_legend(list(paints)) if in_legend and len(paints) <= MOST_IN_LEGEND else None,
        "sort": None,
    }


def colour_by_series(picture: Picture, made: list[Mark]) -> dict[str, Any]:
    """The colour channel of marks that are coloured by their series: one colour where there is only one."""
    series = list(dict.fromkeys(mark.series for mark in made))
    if len(series) <= 1 and len(picture.dimensions) < 2:
        return {"value": choose_series_colours(picture, series or [ONLY])[series[0] if series else ONLY]}
    for mark in made:
        mark.paint = mark.series
    return build_colour_channel(choose_series_colours(picture, series))


def count_legend_lines(channel: dict[str, Any], width: int) -> int:
    """How many lines the legend of a colour channel has in a drawing of some width, in pixels."""
    if not channel.get("legend"):
        return 0
    names = channel["legend"].get("values") or channel["scale"]["domain"]
    return -(-min(len(names), ALWAYS_NAMED) // max(1, width // _measure_entry(names)))


def _count_letters(names: Sequence[str]) -> int:
    return IN_LEGEND if len(names) > FEW else 2 * IN_LEGEND


def _measure_entry(names: Sequence[str]) -> int:
    """px that an entry of a legend takes."""
    return 34 + 6 * min(_count_letters(names), max(map(len, names), default=0))


def build_legend(names: Sequence[str], width: str = "width") -> dict[str, Any]:
    """As many entries side by side as fit the width, which is that of the drawing unless told otherwise."""
    letters, entry = _count_letters(names), _measure_entry(names)
    return {
        "title": None,
        "orient": "top",
        "labelLimit": 0,
        "labelExpr": shorten_labels(letters),
        "columns": {"expr": f"max(1, floor({width} / {entry}))"},
        "description": f"Colours: {join_names(names, most=10)}",
    }
