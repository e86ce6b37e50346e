"""Labels of marks: their values, of all or of some, and the names of series where lines end. None is drawn where it
would stand on another, or on its mark's neighbour."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, Literal

from veduta.core.chart.drawing.colours import ON_LIGHT_SERIES, ON_SERIES, needs_white
from veduta.core.chart.drawing.marks import Mark

Which = Literal["usual", "none", "all", "ends", "extremes"]
WHICH = {
    "usual": "As usual",
    "none": "None",
    "all": "All",
    "ends": "First and last",
    "extremes": "Highest and lowest",
}
LETTER, LINE = 6, 13
"""About how wide a letter of a label is, and how high a line, in pixels."""
NOMINAL = 260
"""The height, in pixels, at which it is decided whether names fit where lines end."""
Spec = dict[str, Any]


def _series(made: Iterable[Mark]) -> list[list[Mark]]:
    """The marks that have a value, by their series."""
    found: dict[str, list[Mark]] = {}
    for mark in made:
        if mark.value is not None:
            found.setdefault(mark.series, []).append(mark)
    return list(found.values())


def choose(made: Sequence[Mark], which: Which) -> list[Mark]:
    """The marks that are labelled: all, the first and last of each series, or its highest and lowest."""
    chosen: list[Mark] = []
    for series in _series(made):
        if which == "all":
            chosen += series
        elif which == "ends":
            chosen += {id(mark): mark for mark in (series[0], series[-1])}.values()
        elif which == "extremes":
            high, low = max(series, key=lambda mark: mark.value), min(series, key=lambda mark: mark.value)
            chosen += {id(mark): mark for mark in (high, low)}.values()
    return chosen


def gaps(values: Sequence[float]) -> list[float]:
    """How far each value is from the nearest of those before it, without end for the first."""
    return [min((abs(value - other) for other in values[:i]), default=float("inf")) for i, value in enumerate(values)]


def _is_free(gap: str) -> str:
    """An expression for whether a value and one as far from it as a field of the mark says are a line apart."""
    return f"abs(scale('y', datum.value) - scale('y', datum.value + datum.{gap})) >= {LINE}"


def label_values(made: Sequence[Mark], which: Which) -> None:
    """Notes which marks are labelled, in `more`: 1 in `labelled`, how far it is from others of its place (`apart`), and
    to which side its text goes (`side`)."""
    chosen = {id(mark) for mark in choose(made, which)}
    by_place: dict[Any, list[Mark]] = {}
    for mark in made:
        mark.more["labelled"] = int(id(mark) in chosen)
        if id(mark) in chosen:
            by_place.setdefault(mark.along, []).append(mark)
    places = list(dict.fromkeys(mark.along for mark in made))
    for place, marks in by_place.items():
        for mark, gap in zip(marks, gaps([mark.value for mark in marks]), strict=True):
            mark.more["apart"] = min(gap, 1e300)
            mark.more["side"] = "left" if place == places[0] else "right" if place == places[-1] else "center"


def above(along: Spec, across: Spec, places: int) -> Spec:
    """Values above marks along a line, those that have room."""
    room = f"width / {max(1, places)} > {LETTER} * length(datum.text)" if places else "true"
    return {
        "transform": [{"filter": "datum.labelled === 1"}],
        "mark": {"type": "text", "align": {"expr": "datum.side"}, "baseline": "bottom", "dy": -6, "aria": False},
        "encoding": {
            "x": along,
            "y": across,
            "text": {"field": "text"},
            "opacity": {"condition": {"test": f"({room}) && {_is_free('apart')}", "value": 1}, "value": 0},
        },
    }


def on_bars(along: Spec, across: Spec, series: Sequence[str], all_of_them: bool) -> Spec:
    """Values above upright bars, below those of negative ones; if all are, where a bar is about as wide as its text.
    Bars of several series stand beside one another in their order."""
    fits = f"bandwidth('x') / {max(1, len(series))} > {LETTER} * length(datum.text)" if all_of_them else "true"
    encoding: Spec = {
        "x": along,
        "y": across,
        "text": {"field": "text"},
        "opacity": {"condition": {"test": fits, "value": 1}, "value": 0},
    }
    if series:
        encoding["xOffset"] = {"field": "series", "type": "nominal", "sort": series}
    below = "datum.value < 0"
    return {
        "transform": [{"filter": "datum.labelled === 1"}],
        "mark": {
            "type": "text",
            "baseline": {"expr": f"{below} ? 'top' : 'bottom'"},
            "dy": {"expr": f"{below} ? 4 : -4"},
            **({"dx": {"expr": "bandwidth('xOffset') / 2"}} if series else {}),
            "aria": False,
        },
        "encoding": encoding,
    }


def within_stacks(along: Spec, across: Spec, order: Spec, paints: dict[str, str]) -> Spec:
    """Values within parts of stacked bars that are high and wide enough."""
    fits = f"bandwidth('x') > {LETTER} * length(datum.text) && abs(scale('y', datum.value) - scale('y', 0)) > {LINE}"
    dark = [name for name, colour in paints.items() if needs_white(colour)]
    return {
        "mark": {"type": "text", "baseline": "middle", "aria": False},
        "encoding": {
            "x": along,
            "y": {**across, "bandPosition": 0.5},
            "detail": {"field": "paint", "type": "nominal"},
            "order": order,
            "text": {"field": "text"},
            "color": {
                "condition": {"test": {"field": "paint", "oneOf": dark}, "value": ON_SERIES},
                "value": ON_LIGHT_SERIES,
            },
            "opacity": {"condition": {"test": f"datum.labelled === 1 && {fits}", "value": 1}, "value": 0},
        },
    }


def name_ends(made: Sequence[Mark]) -> bool:
    """Notes the last mark of each series in `more`: 1 in `end`, and how far it is from other ends (`end_apart`).
    Returns whether all names fit at a usual height."""
    ends = [series[-1] for series in _series(made)]
    for mark in made:
        mark.more["end"] = 0
    values = [mark.value for mark in made if mark.value is not None]
    spread = (max([*values, 0]) - min([*values, 0])) if values else 0
    fits = True
    for mark, gap in zip(ends, gaps([mark.value for mark in ends]), strict=True):
        mark.more |= {"end": 1, "end_apart": min(gap, 1e300)}
        fits = fits and (not spread or gap * NOMINAL / spread >= LINE)
    return fits


def names_at_ends(along: Spec, across: Spec, colour: Spec) -> Spec:
    """The names of series where their lines end."""
    return {
        "transform": [{"filter": "datum.end === 1"}],
        "mark": {"type": "text", "align": "left", "baseline": "middle", "dx": 7, "fontWeight": 600, "aria": False},
        "encoding": {
            "x": along,
            "y": across,
            "text": {"field": "series"},
            "color": colour,
            "opacity": {"condition": {"test": _is_free("end_apart"), "value": 1}, "value": 0},
        },
    }
