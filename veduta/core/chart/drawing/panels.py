"""Panels: a drawing once for each value of a dimension, or of two, on common scales or on each its own."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from graphlib import CycleError, TopologicalSorter
from itertools import pairwise, product
from typing import Any

import polars as pl

from veduta.core.chart.definition import Panels
from veduta.core.chart.drawing.axes import LETTERS_ALONG
from veduta.core.chart.drawing.cells import sort_values
from veduta.core.chart.drawing.colours import MOST_IN_LEGEND, build_legend
from veduta.core.chart.drawing.labels import LETTER
from veduta.core.chart.drawing.layer_context import AROUND_ROWS
from veduta.core.chart.drawing.picture import SCHEMA, Drawing, PanelRoom, Picture, iterate_units, simplify_point
from veduta.core.phrases import join_names, pluralise
from veduta.core.query.query import Column

MOST_PANELS, MOST_IN_GRID = 60, 120
MOST_NOTES = 4
MOST_ACROSS = 12
"""Values of a second dimension that stand beside one another."""
LEAST_WIDTH, LEAST_HEIGHT = 150, 96
APART, BELOW_TITLE, NUMBERS, LABELS = 16, 32, 44, 18
"""Room between panels, for a title, for numbers beside an axis, and for labels below one, in pixels."""
LEAST_STEP = 9
"""The least room of a name below a panel; where there is less, only its mark says it, when it is pointed at."""
SIZES = {"width": "panel_width", "height": "panel_height"}
LEFT = "place_{i} % columns === 0"
RIGHT = "place_{i} % columns === columns - 1 || place_{i} === shown - 1"
TOP = "place_{i} < columns"
BOTTOM = "place_{i} + columns >= shown"
EDGES = {"x": ("bottom", {"bottom": BOTTOM, "top": TOP}), "y": ("left", {"left": LEFT, "right": RIGHT})}
"""Where axes of a channel usually stand, and at which panels those of a common scale are labelled."""

Spec = dict[str, Any]


@dataclass(frozen=True)
class _Panel:
    """One panel: the values of its dimensions, what it is called, and what is drawn in it.

    One of two dimensions is called by the second, and by the first at the `side` of its row."""

    values: tuple[Any, ...]
    name: str
    picture: Picture
    heading: str
    side: str = ""


def draw_panels(picture: Picture, draw: Callable[[Picture], Drawing]) -> Drawing:
    """All panels, each drawn as a picture of its own."""
    panels = picture.definition.panels
    assert panels is not None, "there are panels"
    notes: list[str] = []
    made = _make_panels(picture, panels, notes)
    drawings = [draw(panel.picture) for panel in made]
    notes += _collect_notes(made, drawings)
    if _has_two_axes(drawings) and panels.scales == "common":
        notes.append("With two value axes, each panel has scales of its own.")
    if all(drawing.figures is not None for drawing in drawings):
        return Drawing(figures=_collect_figures(made, drawings), notes=notes)
    rows = [row for i, panel in enumerate(made) for row in _iterate_rows(picture, panel, drawings[i], i)]
    room = _measure_room(panels, made, drawings)
    spec = _compose(panels, made, drawings, room)
    along = drawings[0].along if drawings else ""
    return Drawing(spec, rows, notes=notes, along=along, panels=room)


def _make_panels(picture: Picture, panels: Panels, notes: list[str]) -> list[_Panel]:
    """The panels in their order, with what is left out said in `notes`."""
    columns = picture.dimensions[-len(panels.by) :]
    orders = [_order(picture, column) for column in columns]
    if len(orders) == 2 and len(orders[1]) > MOST_ACROSS:
        notes.append(_note_first_panels(MOST_ACROSS, len(orders[1]), columns[1]))
        orders[1] = orders[1][:MOST_ACROSS]
    most = MOST_IN_GRID // len(orders[1]) if len(orders) == 2 and orders[1] else MOST_PANELS
    if len(orders[0]) > most:
        notes.append(_note_first_panels(most, len(orders[0]), columns[0]))
        orders[0] = orders[0][:most]
    if not picture.value_order and len(picture.dimensions) > len(columns):
        picture = replace(picture, value_order=_order(picture, picture.dimensions[-len(columns) - 1]))
    frames = picture.result.frame.partition_by([column.key for column in columns], as_dict=True)
    made = []
    for values in product(*orders):
        frame = frames.get(values, picture.result.frame.clear())
        words = [picture.label(column, value) for column, value in zip(columns, values, strict=True)]
        inside = _narrow_picture(picture, columns, values, frame)
        made.append(_Panel(values, ", ".join(words), inside, words[-1], words[0] if len(words) > 1 else ""))
    return made


def _note_first_panels(most: int, there: int, column: Column) -> str:
    return f"Panels are drawn of the first {most} of {there:,} values of {column.name}."


def _order(picture: Picture, column: Column) -> list[Any]:
    """The values of a dimension in their order, the empty one last; rows are ordered by it within those before."""
    before = [each.key for each in picture.dimensions[: picture.dimensions.index(column)]]
    frame = picture.result.frame
    frames = frame.partition_by(before) if before else [frame]
    sequences = [each[column.key].drop_nulls().unique(maintain_order=True).to_list() for each in frames]
    usual = sort_values(frame[column.key].to_list())
    places = {value: place for place, value in enumerate(usual)}
    has_own_order = any(places[a] > places[b] for sequence in sequences for a, b in pairwise(sequence))
    return [*merge_sequences(sequences), *usual[-1:][: usual[-1] is None]] if has_own_order else usual


def _narrow_picture(
    picture: Picture, columns: Sequence[Column], values: tuple[Any, ...], frame: pl.DataFrame
) -> Picture:
    """What a panel draws: the cells of its values, without its dimensions."""
    whole, keys = picture.result, [column.key for column in columns]
    inside = [column for column in whole.columns if column.key not in keys]
    places = tuple(i for i, column in enumerate(whole.dimensions) if column.key in keys)
    totals = {
        tuple(i for i in positions if i not in places): _filter_panel(total, keys, values)
        for positions, total in whole.totals.items()
        if set(places) <= set(positions)
    }
    result = replace(whole, columns=inside, frame=frame.drop(keys), totals=totals, groups=frame.height)
    return replace(picture, result=result, panel=tuple(simplify_point(list(values))), whole=picture, cells=[])


def _filter_panel(frame: pl.DataFrame, keys: list[str], values: tuple[Any, ...]) -> pl.DataFrame:
    """The rows of one panel, in their order."""
    same = [pl.col(key).eq_missing(pl.lit(value)) for key, value in zip(keys, values, strict=True)]
    return frame.filter(*same)


def _collect_notes(made: Sequence[_Panel], drawings: Sequence[Drawing]) -> list[str]:
    """What the drawings say, once each, with the panels that it is about if these are not all."""
    about: dict[str, list[str]] = {}
    for panel, drawing in zip(made, drawings, strict=True):
        for note in drawing.notes:
            about.setdefault(note, []).append(panel.name)
    of_all = [note for note, names in about.items() if len(names) == len(made)]
    of_some = [f"{join_names(names, most=3)}: {note}" for note, names in about.items() if len(names) < len(made)]
    if len(of_some) > MOST_NOTES:
        of_some[MOST_NOTES:] = [f"{pluralise(len(of_some) - MOST_NOTES, 'more note')} of single panels."]
    return of_all + of_some


def _collect_figures(made: Sequence[_Panel], drawings: Sequence[Drawing]) -> list[Any]:
    """The figures of all panels, called by theirs."""
    return [
        replace(figure, name=panel.name if len(drawing.figures or ()) == 1 else f"{panel.name}: {figure.name}")
        for panel, drawing in zip(made, drawings, strict=True)
        for figure in drawing.figures or ()
    ]


def _iterate_rows(picture: Picture, panel: _Panel, drawing: Drawing, number: int) -> Iterator[dict[str, Any]]:
    """The rows of a panel's drawing; their points, tips and spoken words have the panel's values too."""
    inside = len(panel.picture.dimensions)
    columns = picture.dimensions[inside:]
    told = [[column.name, picture.label(column, value)] for column, value in zip(columns, panel.values, strict=True)]
    for row in drawing.rows:
        changed = {"panel": number, "said": f"{panel.name}, {row['said']}", "tip": [*told, *row["tip"]]}
        if row["point"] is not None and len(row["point"]) == inside:
            changed["point"] = [*row["point"], *panel.picture.panel]
        yield {**row, **changed}


def _measure_room(panels: Panels, made: Sequence[_Panel], drawings: Sequence[Drawing]) -> PanelRoom:
    """How far apart panels stand: their titles, and the numbers and labels that each has."""
    own = _find_own_data(panels, drawings)
    specs = [drawing.spec or {} for drawing in drawings]
    beside = max((spec.get("padding", {}).get("right", 0) for spec in specs), default=0)
    lies = any(drawing.along == "y" for drawing in drawings)
    longest = max((len(row["name"]) for drawing in drawings for row in drawing.rows), default=0)
    across, down = APART + beside, APART if len(panels.by) > 1 else BELOW_TITLE
    if "y" in own:
        across += LETTER * min(LETTERS_ALONG["y"], longest) if lies else NUMBERS
    if "x" in own or any(_stands_on_top(spec) for spec in specs):
        down += LABELS
    if _has_two_axes(drawings):
        across += NUMBERS
    columns = {"beside": len(made), "below": 1, "wrapped": 0}[panels.arranged]
    if len(panels.by) > 1:
        columns = len({panel.values[1] for panel in made}) or 1
    least = max((drawing.least_height - AROUND_ROWS for drawing in drawings), default=0)
    return PanelRoom(
        count=len(made),
        columns=columns,
        grid=len(panels.by) > 1,
        across=across,
        down=down,
        beside=beside,
        least_width=LEAST_WIDTH,
        least_height=max(LEAST_HEIGHT, least),
    )


def _find_own_data(panels: Panels, drawings: Sequence[Drawing]) -> set[str]:
    """The channels whose scales are each panel's own: where both axes are measures, those of values are both."""
    along = drawings[0].along if drawings else ""
    if panels.scales == "own":
        return {"x", "y"}
    return {"x", "y"} - {along} if panels.scales == "values" or _has_two_axes(drawings) else set()


def _has_two_axes(drawings: Sequence[Drawing]) -> bool:
    resolved = [(drawing.spec or {}).get("resolve", {}).get("scale", {}) for drawing in drawings]
    return any(channel in scales for scales in resolved for channel in ("x", "y"))


def _stands_on_top(spec: Spec) -> bool:
    """Whether the axis of the columns stands above them."""
    axes = [encoding.get("x", {}).get("axis") for encoding in _iterate_encodings(spec)]
    return any(axis and axis.get("orient") == "top" for axis in axes)


def _compose(panels: Panels, made: Sequence[_Panel], drawings: Sequence[Drawing], room: PanelRoom) -> Spec:
    own = _find_own_data(panels, drawings)
    specs = [
        _place_inside(panel, drawing.spec or {}, i)
        for i, (panel, drawing) in enumerate(zip(made, drawings, strict=True))
    ]
    _share_domains(specs, drawings, own)
    _share_colours(specs)
    for i, spec in enumerate(specs):
        for encoding in _iterate_encodings(spec):
            _label_at_edges(encoding, i, own)
    columns = room.columns or min(3, room.count) or 1
    sizes = {"columns": columns, "shown": room.count, "panel_width": 200, "panel_height": 120, "whole": 700}
    sizes |= {f"place_{i}": i for i in range(room.count)}
    datasets = {name: rows for drawing in drawings for name, rows in (drawing.spec or {}).get("datasets", {}).items()}
    return {
        "$schema": SCHEMA,
        "data": {"name": "rows"},
        **({"datasets": datasets} if datasets else {}),
        "padding": {"left": 0, "top": 0, "bottom": 0, "right": room.beside},
        "params": [{"name": name, "value": value} for name, value in sizes.items()],
        "columns": columns,
        "spacing": {"row": room.down, "column": room.across},
        "bounds": "flush",
        "concat": specs,
        "resolve": {"scale": {channel: "independent" if channel in own else "shared" for channel in ("x", "y")}},
    }


def _place_inside(panel: _Panel, spec: Spec, number: int) -> Spec:
    """A drawing's specification as one of a panel, with its title; two sizes are given by the page."""
    inside = {name: part for name, part in spec.items() if name not in ("$schema", "data", "datasets", "padding")}
    inside = _size_part(inside)
    transform = [{"filter": f"datum.panel === {number}"}, *inside.get("transform", [])]
    heading: Any = panel.heading
    if panel.side:
        heading = {"expr": f"{TOP.format(i=number)} ? {json.dumps(panel.heading)} : ''"}
    title = {"text": heading, "limit": {"expr": "panel_width"}, "frame": "group"}
    layers = inside.pop("layer", None)
    if layers is None:
        layers = [{name: inside.pop(name) for name in ("mark", "encoding") if name in inside}]
    if panel.side:
        layers = [*layers, _make_side_title(panel.side, number)]
    return {**inside, "width": 200, "height": 120, "title": title, "transform": transform, "layer": layers}


def _make_side_title(text: str, number: int) -> Spec:
    """What a row of panels is called, at the right of its last one."""
    mark = {"type": "text", "text": text, "angle": 90, "baseline": "bottom", "fontWeight": 600, "aria": False}
    place = {"x": {"expr": "panel_width + 6"}, "y": {"expr": "panel_height / 2"}, "limit": {"expr": "panel_height"}}
    shown = {"opacity": {"expr": f"{RIGHT.format(i=number)} ? 1 : 0"}}
    return {"data": {"values": [{}]}, "mark": {**mark, **place, **shown}}


def _size_part(part: Any) -> Any:
    """Expressions that read the drawing's width and height read the panel's."""
    if isinstance(part, list):
        return [_size_part(each) for each in part]
    if not isinstance(part, dict):
        return part
    sized = {}
    for name, value in part.items():
        if name == "expr" and isinstance(value, str):
            sized[name] = re.sub(r"\b(width|height)\b", lambda found: SIZES[found[1]], value)
        else:
            sized[name] = _size_part(value)
    return sized


def _iterate_encodings(spec: Spec) -> Iterator[Spec]:
    return (unit["encoding"] for unit in iterate_units(spec) if "encoding" in unit)


def _share_domains(specs: Sequence[Spec], drawings: Sequence[Drawing], own: set[str]) -> None:
    """Names along common axes, and series beside one another, are those of all panels in their order."""
    for which in {"x", "y", "xOffset", "yOffset"} - own:
        channels = [
            encoding[which]
            for spec in specs
            for encoding in _iterate_encodings(spec)
            if encoding.get(which, {}).get("type") in ("nominal", "ordinal")
        ]
        given = [order for channel in channels if (order := _get_order(channel))]
        fields = {channel["field"] for channel in channels}
        there = [
            list(dict.fromkeys(row[field] for row in drawing.rows if field in row))
            for field in fields
            for drawing in drawings
        ]
        domain = merge_sequences(given or there)
        for channel in channels:
            channel["scale"] = {**channel.get("scale", {}), "domain": domain}
            channel["sort"] = None


def _get_order(channel: Spec) -> list[Any]:
    """The order of its values that a channel gives itself."""
    sort = channel.get("sort")
    return channel.get("scale", {}).get("domain") or (sort if isinstance(sort, list) else [])


def merge_sequences(sequences: Iterable[Sequence[Any]]) -> list[Any]:
    """The values of all sequences in an order in which each of them agrees, if there is one; else as they come."""
    sequences = list(sequences)
    sorter: TopologicalSorter[Any] = TopologicalSorter()
    for sequence in sequences:
        for value in sequence[:1]:
            sorter.add(value)
        for before, after in pairwise(sequence):
            sorter.add(after, before)
    try:
        return list(sorter.static_order())
    except CycleError:
        return list(dict.fromkeys(value for sequence in sequences for value in sequence))


def _share_colours(specs: Sequence[Spec]) -> None:
    """One legend for all panels: each entry with its colour."""
    channels = [
        encoding["color"]
        for spec in specs
        for encoding in _iterate_encodings(spec)
        if encoding.get("color", {}).get("field") == "paint"
    ]
    paints: dict[str, str] = {}
    for channel in channels:
        for name, colour in zip(channel["scale"]["domain"], channel["scale"]["range"], strict=True):
            paints.setdefault(name, colour)
    legends = [channel["legend"] for channel in channels if channel["legend"]]
    whole = build_legend(list(paints), "whole") if legends and len(paints) <= MOST_IN_LEGEND else None
    if whole and any("values" in each for each in legends):
        whole["values"] = merge_sequences(each.get("values", list(paints)) for each in legends)
    for channel in channels:
        channel["scale"] = {"domain": list(paints), "range": list(paints.values())}
        channel["legend"] = whole


def _label_at_edges(encoding: Spec, number: int, own: set[str]) -> None:
    """Axes of common scales say their numbers once, at the edge where they stand; their titles stand at one end."""
    for which in {"x", "y"} - own:
        channel = encoding.get(which, {})
        if isinstance(channel.get("axis"), dict):
            usual, edges = EDGES[which]
            at_edge = edges[channel["axis"].get("orient", usual)].format(i=number)
            names = len(channel.get("scale", {}).get("domain", ())) if which == "x" else 0
            at_end = (LEFT if which == "x" else TOP).format(i=number)
            label = channel["axis"].get("labelExpr", "datum.label")
            channel["axis"] = {
                **channel["axis"],
                "labelExpr": f"({at_edge}) && panel_width > {LEAST_STEP * names} ? ({label}) : ''",
                "titleOpacity": {"expr": f"({at_edge}) && ({at_end}) ? 1 : 0"},
            }
