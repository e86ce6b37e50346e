"""Labels of marks: their values, of all or of some, and the names of series where lines end.

A label is drawn whole or not at all, never truncated, and none collides with another. Where values have no room they
are shortened, all of them; where these have none either, only the highest keeps its label."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import Any, Literal

from veduta.core.chart.drawing.colours import ON_LIGHT_SERIES, ON_SERIES, needs_white
from veduta.core.chart.drawing.marks import Mark
from veduta.core.chart.drawing.picture import Picture

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
APART = 4
"""px between two labels that stand side by side."""
BAR_SHARE = 0.72
"""How much of its place an upright bar takes."""
ROOM_ABOVE = 18
"""px above the highest mark, or below the deepest, for its label."""
MOST_NAMED_ENDS = 12
"""So many lines are named where they end; of more, the legend has the names."""
MOST_NAME_LETTERS = 26
SMALLEST = (200, 50)
"""The width and the height of the smallest drawing, in pixels: what may touch there is looked at when drawing."""
MOST_NEAR = 12
"""So many labels that go before it may be near one; of more, it is in a crowd and left out."""
MOST_PLACED = 200
"""Of more labels than these, only the highest and the lowest of all are drawn."""
Spec = dict[str, Any]


def _split_series(made: Iterable[Mark]) -> list[list[Mark]]:
    """The marks that have a value, by their series."""
    found: dict[str, list[Mark]] = {}
    for mark in made:
        if mark.value is not None:
            found.setdefault(mark.series, []).append(mark)
    return list(found.values())


def choose(made: Sequence[Mark], which: Which) -> list[Mark]:
    """The marks that are labelled: all, the first and last of each series, or its highest and lowest."""
    chosen: list[Mark] = []
    for series in _split_series(made):
        if which == "all":
            chosen += series
        elif which == "ends":
            chosen += {id(mark): mark for mark in (series[0], series[-1])}.values()
        elif which == "extremes":
            high, low = max(series, key=lambda mark: mark.value), min(series, key=lambda mark: mark.value)
            chosen += {id(mark): mark for mark in (high, low)}.values()
    return chosen


def note_labels(picture: Picture, made: Sequence[Mark], chosen: Sequence[Mark]) -> None:
    """Notes in the marks' `more` which have a label, and what it says.

    `labelled` is 1, `words` the label, `short` what it says where there is little room, `wide` its width; `widest` and
    `widest_short` are the greatest of all. `top` is 1 for the highest mark above zero, or the deepest below."""
    ids = {id(mark) for mark in chosen}
    for mark in made:
        mark.more["labelled"] = int(id(mark) in ids)
    if not chosen:
        return
    for mark in chosen:
        words, short = _write_label(picture, mark, mark.text), _write_label(picture, mark, picture.shorten_text(mark))
        mark.more |= {"words": words, "short": short, "wide": picture.measure_text(words), "top": 0}
    common = {
        "widest": max(mark.more["wide"] for mark in chosen),
        "widest_short": max(picture.measure_text(mark.more["short"]) for mark in chosen),
    }
    highest, deepest = (best(chosen, key=lambda mark: mark.value) for best in (max, min))
    highest.more["top"] = 1
    deepest.more["top"] = max(deepest.more["top"], int(deepest.value < 0))
    for mark in chosen:
        mark.more |= common


def _write_label(picture: Picture, mark: Mark, value: str) -> str:
    """What a label says: the mark's value, its name, or both."""
    name, says = mark.series or mark.name, picture.definition.look.labels.says
    return name if says == "name" else f"{name} {value}" if says else value


def fit_labels(room: str, keeps_top: bool = True) -> Spec:
    """The text channel that is whole where the widest label has room, else short.

    An expression says how much room there is; the label of the highest mark may be whole in either case."""
    is_short = f"datum.widest > {room}" + " && datum.top !== 1" * keeps_top
    return {"field": "words", "condition": {"test": is_short, "value": {"expr": "datum.short"}}}


def show_if(test: str) -> Spec:
    return {"condition": {"test": test, "value": 1}, "value": 0}


def _clamp_centre(centre: str) -> str:
    """An expression for where the middle of a text stands that does not leave the drawing."""
    return f"clamp({centre}, datum.wide / 2, width - datum.wide / 2)"


def clamp_to_width(centre: str) -> str:
    """An expression for by how many pixels a text in the middle of a place moves so as not to leave the drawing."""
    return f"{_clamp_centre(centre)} - ({centre})"


def reserve_room_above(channel: Spec, made: Sequence[Mark]) -> Spec:
    """The channel of values that leaves room for labels above the highest mark, and below the deepest."""
    deep = any(mark.value is not None and mark.value < 0 for mark in made)
    bottom = {"expr": f"height - {ROOM_ABOVE}"} if deep else {"expr": "height"}
    return {**channel, "scale": {**channel.get("scale", {}), "range": [bottom, ROOM_ABOVE]}}


def label_bars(along: Spec, across: Spec, series: Sequence[str]) -> Spec:
    """Values above upright bars, below those of negative ones.

    Bars of several series stand beside one another in their order."""
    room = f"bandwidth('x') / {len(series)}" if series else "1.25 * bandwidth('x')"
    encoding: Spec = {
        "x": along,
        "y": across,
        "text": fit_labels(room),
        "opacity": show_if(f"datum.top === 1 || datum.widest_short <= {room}"),
    }
    middle = "bandwidth('x') / 2"
    if series:
        encoding["xOffset"] = {"field": "series", "type": "nominal", "sort": series}
        middle = "scale('xOffset', datum.series) + bandwidth('xOffset') / 2"
    below = "datum.value < 0"
    moved = clamp_to_width(f"scale('x', datum.name) + {middle}")
    return {
        "transform": [{"filter": "datum.labelled === 1"}],
        "mark": {
            "type": "text",
            "baseline": {"expr": f"{below} ? 'top' : 'bottom'"},
            "dy": {"expr": f"{below} ? 4 : -4"},
            "dx": {"expr": moved + (" + bandwidth('xOffset') / 2" if series else "")},
            "aria": False,
        },
        "encoding": encoding,
    }


def label_stacks(along: Spec, across: Spec, order: Spec, paints: dict[str, str]) -> Spec:
    """Values within parts of stacked bars that are high enough, where the widest has room."""
    room = f"{BAR_SHARE} * bandwidth('x')"
    is_high = f"abs(scale('y', datum.value) - scale('y', 0)) > {LINE}"
    dark = [name for name, colour in paints.items() if needs_white(colour)]
    return {
        "mark": {"type": "text", "baseline": "middle", "aria": False},
        "encoding": {
            "x": along,
            "y": {**across, "bandPosition": 0.5},
            "detail": {"field": "paint", "type": "nominal"},
            "order": order,
            "text": fit_labels(room, keeps_top=False),
            "color": {
                "condition": {"test": {"field": "paint", "oneOf": dark}, "value": ON_SERIES},
                "value": ON_LIGHT_SERIES,
            },
            "opacity": show_if(f"datum.labelled === 1 && datum.widest_short <= {room} && {is_high}"),
        },
    }


def set_apart(made: Sequence[Mark], chosen: Sequence[Mark], field: str, logarithmic: bool = False) -> None:
    """Notes for each label the more important ones that it may touch in a small drawing.

    `near0_x` (in the `field` of positions) and `near0_y` say where such a one stands, `near0_wide` how many pixels both
    must be apart. A label in a crowd is not `labelled`."""
    ranked = sorted(chosen, key=lambda mark: -mark.value)
    if len(ranked) > MOST_PLACED:
        for mark in ranked[1:-1]:
            mark.more["labelled"] = 0
        ranked = [ranked[0], ranked[-1]]
    spots = _list_spots(made, ranked, logarithmic)
    for i, mark in enumerate(ranked):
        near = [j for j in range(i) if _may_touch(spots[i], spots[j], _measure_room(mark, ranked[j]))]
        if len(near) > MOST_NEAR:
            mark.more["labelled"] = 0
            continue
        for number, j in enumerate(near):
            place, wide = ranked[j].to_row()[field], _measure_room(mark, ranked[j])
            mark.more |= {f"near{number}_x": place, f"near{number}_y": ranked[j].value, f"near{number}_wide": wide}


def _list_spots(made: Sequence[Mark], ranked: Sequence[Mark], logarithmic: bool) -> list[tuple[float, float]]:
    """Where marks stand in the smallest drawing, in pixels."""
    places = {place: i for i, place in enumerate(dict.fromkeys(mark.along for mark in made))}
    heights = [math.log(mark.value) if logarithmic else mark.value for mark in ranked]
    spread = max(heights, default=0) - min([*heights, *([] if logarithmic else [0])], default=0)
    width, height = SMALLEST
    return [
        (width * places[mark.along] / len(places), height * (level / spread if spread else 0))
        for mark, level in zip(ranked, heights, strict=True)
    ]


def _measure_room(mark: Mark, other: Mark) -> float:
    """How far the middles of two labels on one level are apart at least, in pixels."""
    both: int = mark.more["wide"] + other.more["wide"]
    return both / 2 + APART


def _may_touch(one: tuple[float, float], other: tuple[float, float], room: float) -> bool:
    return abs(one[0] - other[0]) < room and abs(one[1] - other[1]) < LINE


def label_above(along: Spec, across: Spec) -> Spec:
    """Values above marks along a line; of two that would touch, the higher."""
    field = along["field"]
    return {
        "transform": [{"filter": "datum.labelled === 1"}],
        "mark": {
            "type": "text",
            "align": "center",
            "baseline": "bottom",
            "dy": -6,
            "dx": {"expr": clamp_to_width(f"scale('x', datum.{field})")},
            "aria": False,
        },
        "encoding": {"x": along, "y": across, "text": {"field": "words"}, "opacity": show_if(touches_none(field))},
    }


def touches_none(field: str) -> str:
    """An expression for whether a label touches none of those that go before it (see `set_apart`)."""
    return " && ".join(_is_free(number, field) for number in range(MOST_NEAR))


def _is_free(number: int, field: str) -> str:
    """An expression for whether a label does not touch one of those that go before it.

    At the sides both may have been moved by half their width."""
    near = f"datum.near{number}"
    own, other = (f"scale('x', {at}) + bandwidth('x') / 2" for at in (f"datum.{field}", f"{near}_x"))
    across = f"abs({_clamp_centre(own)} - {_clamp_centre(other)}) >= {near}_wide"
    down = f"abs(scale('y', datum.value) - scale('y', {near}_y)) >= {LINE}"
    return f"(!isValid({near}_wide) || {across} || {down})"


def note_ends(made: Sequence[Mark]) -> bool:
    """Notes the last mark of each series in `more`, and returns whether all can be named.

    `end` is 1, `end_name` the label, `end_rank` its place among the ends from the top, and `end0` and so on the values
    of the ends above it."""
    ends = sorted((series[-1] for series in _split_series(made)), key=lambda mark: -mark.value)
    for mark in made:
        mark.more["end"] = 0
    if len(ends) > MOST_NAMED_ENDS:
        return False
    for rank, mark in enumerate(ends):
        below = len(ends) - 1 - rank
        mark.more |= {"end": 1, "end_rank": rank, "end_below": below, "end_name": shorten_middle(mark.series)}
        mark.more |= {f"end{i}": ends[i].value for i in range(rank + 1)}
    return True


def shorten_middle(name: str) -> str:
    """A long name without its middle, as names often differ at their ends.

    >>> shorten_middle("Aldgrave and Tern Point by Saltness")
    'Aldgrave and…by Saltness'
    """
    if len(name) <= MOST_NAME_LETTERS:
        return name
    end = MOST_NAME_LETTERS // 2 - 2
    return f"{name[: end + 1]}…{name[-end:]}"


def label_line_ends(along: Spec, across: Spec, colour: Spec) -> Spec:
    """The names at the ends of lines, moved apart so that none touch.

    Each stands a line below the one above it, and leaves room for those below."""
    own = "scale('y', datum.value)"
    pushed = [
        f"(isValid(datum.end{i}) ? scale('y', datum.end{i}) : -1e6) + {LINE} * (datum.end_rank - {i})"
        for i in range(MOST_NAMED_ENDS)
    ]
    place = f"min(height - {LINE} * datum.end_below, max({', '.join(pushed)}))"
    return {
        "transform": [{"filter": "datum.end === 1"}],
        "mark": {
            "type": "text",
            "align": "left",
            "baseline": "middle",
            "dx": 7,
            "dy": {"expr": f"{place} - {own}"},
            "fontWeight": 600,
            "aria": False,
        },
        "encoding": {"x": along, "y": across, "text": {"field": "end_name"}, "color": colour},
    }
