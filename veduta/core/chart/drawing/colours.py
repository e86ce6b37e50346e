"""Colours: each series its own, which stays with it whatever else is shown; and the legend that names them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from veduta.core.chart.drawing.axes import shortened
from veduta.core.chart.drawing.marks import Mark
from veduta.core.chart.drawing.picture import Picture
from veduta.core.words import listed

SERIES_COLOURS = ("#0B5D62", "#C9850F", "#B8433A", "#4F62B5", "#7B8F5B", "#C56CC0", "#807061", "#659494")
NAMED_COLOURS = {"better": "#1F7A5C", "worse": "#B3322C", "quiet": "#8A9A9D", "ink": "#16262B"}
"""Colours that mean something; beside them stand the series colours, named 1 to 8, and any as #rrggbb."""
MOST_IN_LEGEND = 24
IN_LEGEND = 24
"""Letters of a name in a legend."""


def colour_named(name: str) -> str:
    """A colour as #rrggbb."""
    if name.isdecimal():
        return SERIES_COLOURS[(int(name) - 1) % len(SERIES_COLOURS)]
    return NAMED_COLOURS.get(name, name)


def series_colours(picture: Picture, series: Sequence[str]) -> dict[str, str]:
    """Each series' colour: each value's own whatever else is shown, else by its place."""
    order = [picture.words(picture.dimensions[-1], value) for value in picture.value_order]
    order += [picture.result.rest.name] if order and picture.result.rest else []
    positions = {word: position for position, word in enumerate(order)}
    fixed = bool(positions) and all(name in positions for name in series)
    names = sorted(series, key=positions.__getitem__) if fixed else list(series)
    numbers = [positions[name] if fixed else i for i, name in enumerate(names)]
    return dict(zip(names, _distinct([i % len(SERIES_COLOURS) for i in numbers]), strict=True))


def _distinct(positions: list[int]) -> list[str]:
    """The colours at these places; where two series share one while others are free, the later takes a free one."""
    free = [i for i in range(len(SERIES_COLOURS)) if i not in positions]
    taken: set[int] = set()
    colours = []
    for position in positions:
        if position in taken and free:
            position = free.pop(0)
        taken.add(position)
        colours.append(SERIES_COLOURS[position])
    return colours


def colour_channel(paints: dict[str, str], in_legend: bool = True) -> dict[str, Any]:
    """The colour channel: each entry of the legend with its colour."""
    return {
        "field": "paint",
        "type": "nominal",
        "scale": {"domain": list(paints), "range": list(paints.values())},
        "legend": legend(list(paints)) if in_legend and len(paints) <= MOST_IN_LEGEND else None,
        "sort": None,
    }


def colour_by_series(picture: Picture, made: list[Mark]) -> dict[str, Any]:
    """The colour channel of marks that are coloured by their series: one colour where there is only one."""
    series = list(dict.fromkeys(mark.series for mark in made))
    if len(series) <= 1 and len(picture.dimensions) < 2:
        return {"value": SERIES_COLOURS[0]}
    for mark in made:
        mark.paint = mark.series
    return colour_channel(series_colours(picture, series))


def legend(names: Sequence[str]) -> dict[str, Any]:
    """As many entries side by side as fit the width."""
    entry = 34 + 6 * min(IN_LEGEND, max(map(len, names), default=0))
    return {
        "title": None,
        "orient": "top",
        "labelLimit": 0,
        "labelExpr": shortened(IN_LEGEND),
        "columns": {"expr": f"max(1, floor(width / {entry}))"},
        "description": f"Colours: {listed(names, most=10)}",
    }
