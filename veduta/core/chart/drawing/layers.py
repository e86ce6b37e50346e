"""Layers over one another along the first dimension: bars, lines, areas, dots, ticks, texts, bands and links."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType
from typing import Any, Literal

from veduta.core.chart.definition import Layer
from veduta.core.chart.drawing import axes
from veduta.core.chart.drawing.colours import (
    build_colour_channel,
    build_legend,
    choose_series_colours,
    count_legend_lines,
    get_colour,
)
from veduta.core.chart.drawing.labels import (
    LINE,
    Which,
    choose,
    note_ends,
    note_labels,
    reserve_room_above,
    set_apart,
)
from veduta.core.chart.drawing.layer_context import (
    AROUND_ROWS,
    BY_THE_FIRST,
    LEAST_BAR,
    LEAST_STEP,
    Encoding,
    LayerContext,
    PlacedLayer,
    Stacking,
    has_values_beside,
)
from veduta.core.chart.drawing.layer_marks import BUILDERS
from veduta.core.chart.drawing.marks import Mark, fill_gaps, list_series, make_marks, to_rows
from veduta.core.chart.drawing.picture import Drawing, Picture, make_base_spec
from veduta.core.chart.drawing.references import draw_references
from veduta.core.phrases import join_names
from veduta.core.query.query import Column

STEP = 24
AROUND_NAMES = 12
"""px beside the names of series where their lines end."""
NARROW, LEAST_PLOT = 300, 80
"""The width of a drawing in a third of a page, and the least height of what is drawn, in pixels."""
MANY_LINES, LEGEND_LINE = 3, 16
"""From so many lines on, a legend asks for a height; how high a line of it is, in pixels."""
LONGEST_NAME = 90
"""px that slanted names take below a drawing."""
MOST_STANDING = 12
"""So many lying bars share the height there is; more have a height of their own."""
BANDED = {"bar", "dot", "tick", "text", "range", "link"}
BETWEEN = ("range", "band", "link")
LABELLED_WAYS = ("bar", "line", "step", "area", "dot", "tick")
"""Ways of drawing whose marks can have their values as labels."""
STACKED = ("bar", "area")
ONLY_UPRIGHT = {"line", "step", "area", "band"}


def draw_layers(  # noqa: PLR0913 - options, each given by name
    picture: Picture,
    layers: Sequence[Layer],
    *,
    lying: bool = False,
    stacking: Stacking = "stacked",
    logarithmic: bool = False,
    given: Sequence[list[Mark]] | None = None,
    shares_on: Literal["", "first", "second"] = "",
    unnamed: Collection[int] = (),
    colours: Mapping[str, str] = MappingProxyType({}),
    coloured_by: Mapping[int, Column] = MappingProxyType({}),
    labels: Which = "usual",
    ends_named: bool = False,
) -> Drawing:
    """The layers in order, the first behind the others.

    Those on the second axis have a scale of their own. Marks that a kind of drawing has made itself are `given`, those
    of each layer; an axis may hold shares of them. Layers that are `unnamed`, by their numbers, have their colour
    without an entry in the legend; `colours` are those of series that have one of their own. By its number, a layer may
    be `coloured_by` a column: the one that says of which marks its test holds, or that of its shade. `labels` are those
    of marks, and series may be named where their lines end."""
    notes: list[str] = []
    if given is None:
        placed = [_place_layer(picture, layer, number, coloured_by.get(number)) for number, layer in enumerate(layers)]
    else:
        placed = [
            PlacedLayer(layer, i, given[i], _list_shown_columns(picture, layer)) for i, layer in enumerate(layers)
        ]
    made = [mark for each in placed for mark in each.made]
    lying = lying and not any(layer.how in ONLY_UPRIGHT for layer in layers)
    made, along = _build_name_channel(picture, made, layers, lying, notes)
    for each in placed:
        each.made = [mark for mark in made if mark.layer == each.number]
    ground = LayerContext(
        picture,
        along,
        lying,
        stacking,
        _build_colour(picture, placed, unnamed, colours),
        len(layers) > 1,
        logarithmic and _is_positive(made, notes),
        shares_on,
        len({layer.axis for layer in layers}) > 1,
        labels,
        ends_named and len(list_series(made)) > 1 and not picture.whole,
        sum(each.shade is not None for each in placed),
    )
    if ground.ends_named:
        ground.ends_named = note_ends(made)
    if ground.ends_named and "legend" in ground.colour:
        ground.colour = {**ground.colour, "legend": None}
    _note_labels(ground, placed)
    drawn = [
        _draw_on_axis(ground, [each for each in placed if each.layer.axis == axis]) for axis in ("first", "second")
    ]
    spec = _compose(ground, drawn)
    least = _give_room(ground, spec, placed)
    return Drawing(spec, to_rows(made), notes=notes, along=ground.along_channel, least_height=least)


def _note_labels(ground: LayerContext, placed: Sequence[PlacedLayer]) -> None:
    """Notes what labels need to know, where there are any.

    Labels of values are asked for, or stand beside lying bars; layers of texts have their texts."""
    picture = ground.picture
    for each in placed:
        if each.layer.how == "text" or has_values_beside(ground, each):
            there = [mark for mark in each.made if mark.value is not None]
            note_labels(picture, each.made, there)
            if each.layer.how == "text" and not ground.lying:
                set_apart(each.made, there, "name", ground.logarithmic)
    if ground.labels in ("usual", "none"):
        return
    made = [mark for each in placed if each.layer.how in LABELLED_WAYS for mark in each.made]
    chosen = choose(made, ground.labels)
    note_labels(picture, made, chosen)
    if not ground.lying:
        set_apart(made, chosen, ground.along["field"], ground.logarithmic)


def _list_shown_columns(picture: Picture, layer: Layer) -> list[Column]:
    return [picture.measures[i] for i in layer.measures if i < len(picture.measures)]


def _drop_split(picture: Picture) -> Picture:
    """The totals of the first dimension's values as a picture of its own, in the order of these."""
    result, key = picture.result, picture.dimensions[0].key
    order = result.frame.select(key).unique(maintain_order=True)
    frame = order.join(result.totals[BY_THE_FIRST], on=key, how="left", nulls_equal=True, maintain_order="left")
    columns = [picture.dimensions[0], *picture.measures]
    return replace(picture, result=replace(result, columns=columns, frame=frame), cells=[])


def _place_layer(picture: Picture, layer: Layer, number: int, by: Column | None) -> PlacedLayer:
    if layer.undivided and BY_THE_FIRST in picture.result.totals:
        picture, layer = _drop_split(picture), layer.model_copy(update={"colour": layer.colour or "ink"})
    measures = _list_shown_columns(picture, layer)
    test, shaded_by = (by, None) if layer.test else (None, by)
    carry = {name: column.key for name, column in (("holds", test), ("shade", shaded_by)) if column}
    if layer.how in BETWEEN:
        made = _make_range_marks(picture, measures, number, carry)
        made = fill_gaps(picture, made) if layer.how == "band" else made
        return PlacedLayer(layer, number, made, measures, test, shaded_by)
    made = make_marks(picture, measures, number, carry)
    if layer.how in ("bar", "line", "step", "area") and not picture.thinned:
        made = fill_gaps(picture, made, zero=layer.how == "area")
    return PlacedLayer(layer, number, made, measures, test, shaded_by)


def _make_range_marks(picture: Picture, measures: list[Column], number: int, carry: Mapping[str, str]) -> list[Mark]:
    """Marks from the first of two measures to the second; those of one begin at zero."""
    start, end = measures[0], measures[-1]
    if start is end:
        made = make_marks(picture, [start], number, carry)
        for mark in made:
            mark.more["to"] = 0
        return made
    made = make_marks(picture, [start], number, carry, apart=False)
    for mark, other in zip(made, make_marks(picture, [end], number), strict=True):
        mark.more["to"] = other.value
        mark.tip.insert(len(picture.dimensions) + 1, [end.name, other.text])
        mark.text = f"{mark.text} to {other.text}"
        mark.said = f"{mark.said}, {other.text} {end.name}"
    return made


def _build_name_channel(
    picture: Picture, made: list[Mark], layers: Sequence[Layer], lying: bool, notes: list[str]
) -> tuple[list[Mark], Encoding]:
    if lying or any(layer.how in BANDED for layer in layers):
        return made, axes.build_band_axis(picture, made, lying)
    if picture.dimensions[0].dimension.is_time_axis:
        return axes.place_in_time(picture, made, notes)
    return made, axes.build_point_axis(picture, made)


def _is_positive(made: Sequence[Mark], notes: list[str]) -> bool:
    """Whether a logarithmic axis can show all values; if not, it is said."""
    low = sum(mark.value is not None and mark.value <= 0 for mark in made)
    if low:
        notes.append(axes.NO_LOGARITHM)
    return not low


def _build_colour(
    picture: Picture, placed: Sequence[PlacedLayer], unnamed: Collection[int], colours: Mapping[str, str]
) -> Encoding:
    """Gives each mark its entry in the legend. Returns the colour channel."""
    usual = [each for each in placed if not each.has_colour and each.layer.how != "link"]
    own = choose_series_colours(picture, list(dict.fromkeys(name for each in usual for name in each.series)))
    paints = own | {name: get_colour(colours[name]) for name in own if name in colours}
    for each in placed:
        layer = each.layer
        if layer.how == "link" or each.shade:
            continue
        for mark in each.made:
            mark.paint = _name_entry(picture, each, mark) + f" ({each.number})" * (each.number in unnamed)
            if each.has_colour:
                holds = each.test is None or mark.more.get("holds")
                paints[mark.paint] = get_colour((layer.colour or "better") if holds else (layer.other or "worse"))
    _rank(placed, list(paints))
    if len(paints) <= 1 and (len(picture.dimensions) < 2 or not own):
        return {"value": next(iter(paints.values()), picture.paints.series[0])}
    channel = build_colour_channel(paints)
    named = {mark.paint for each in placed if each.number not in unnamed for mark in each.made if not each.shade}
    if channel["legend"] and len(named) < len(paints):
        shown = [paint for paint in paints if paint in named]
        channel["legend"] = {**build_legend(shown), "values": shown} if shown else None
    return channel


def _rank(placed: Sequence[PlacedLayer], paints: list[str]) -> None:
    """Notes the places in the legend of marks that may be stacked or stand side by side."""
    ranks = {paint: rank for rank, paint in enumerate(paints)}
    for each in placed:
        if each.layer.how in STACKED and len(each.series) > 1:
            for mark in each.made:
                mark.more["rank"] = ranks.get(mark.paint, ranks.get(mark.series, 0))


def _name_entry(picture: Picture, placed: PlacedLayer, mark: Mark) -> str:
    """What a mark is called in the legend; one colour for all series is called by what they show."""
    if not placed.has_colour:
        return mark.series
    several = len(picture.dimensions) > 1
    if placed.layer.undivided and several:
        return f"{join_names([measure.name for measure in placed.measures])}, all together"
    name = " to ".join(measure.name for measure in placed.measures) if several or not mark.series else mark.series
    if placed.test is None:
        return name
    if mark.more.get("holds"):
        return placed.layer.said or f"{name}, {placed.test.name}"
    return placed.layer.other_said or f"{name}, otherwise"


def _draw_on_axis(ground: LayerContext, placed: list[PlacedLayer]) -> list[dict[str, Any]]:
    """The layers that share a value axis, as parts of a specification."""
    if not placed:
        return []
    measures = list({measure.key: measure for each in placed for measure in each.measures}.values())
    full = ground.stacking == "full" and any(each.layer.how in ("bar", "area") for each in placed)
    full = full and any(len(each.series) > 1 for each in placed)
    across = axes.build_value_channel(measures, full=full or placed[0].layer.axis == ground.shares_on)
    if ground.logarithmic and (values := [mark.value for each in placed for mark in each.made if mark.value]):
        axes.use_logarithmic_scale(across, min(values), max(values))
    has_labels = ground.labels not in ("usual", "none")
    if not ground.lying and (has_labels or any(each.layer.how == "text" for each in placed)):
        across = reserve_room_above(across, [mark for each in placed for mark in each.made])
    if placed[0].layer.axis == "second":
        across["axis"] |= {"orient": "top" if ground.lying else "right", "grid": False}
    if ground.has_two_axes:
        series = dict.fromkeys(mark.series for each in placed for mark in each.made)
        names = [measure.name for measure in measures] if len(measures) > 1 or not all(series) else list(series)
        across["axis"] |= {"title": join_names(names, "/", 3)}
    drawn = []
    for each in placed:
        parts = BUILDERS[each.layer.how](ground, each, across)
        if ground.layered:
            for part in parts:
                part["transform"] = [{"filter": f"datum.layer === {each.number}"}, *part.get("transform", [])]
        drawn += parts
    return drawn


def _compose(ground: LayerContext, drawn: list[list[dict[str, Any]]]) -> dict[str, Any]:
    first, second = drawn
    behind, over = draw_references(ground.picture, ground.across_channel, ground.along)
    if second and first:
        resolve = {ground.across_channel: "independent", **ground.shades_apart}
        inner = {"resolve": {"scale": ground.shades_apart}} if ground.shades_apart else {}
        both = [{"layer": [*behind, *first, *over], **inner}, {"layer": second, **inner}]
        return make_base_spec(layer=both, resolve={"scale": resolve})
    parts = [*behind, *(first or second), *over]
    if len(parts) == 1:
        return make_base_spec(**parts[0])
    return make_base_spec(layer=parts, **({"resolve": {"scale": ground.shades_apart}} if ground.shades_apart else {}))


def _give_room(ground: LayerContext, spec: dict[str, Any], placed: Sequence[PlacedLayer]) -> int:
    """Room for names of series where their lines end, and for many lying bars below one another.

    Returns the least height at which these can be read, in pixels."""
    if ground.ends_named:
        names = [mark.more["end_name"] for each in placed for mark in each.made if mark.more.get("end")]
        room = AROUND_NAMES + max((ground.picture.measure_text(name, strong=True) for name in names), default=0)
        spec["padding"] = {"left": 0, "top": 0, "bottom": 0, "right": room}
        return AROUND_ROWS + LINE * len(names)
    if not ground.lying:
        return _measure_below_legend(ground)
    made = [mark for each in placed for mark in each.made]
    rows = len({mark.name for mark in made})
    grouped = ground.stacking == "grouped"
    per_name = max([len(each.series) for each in placed if each.layer.how == "bar" and grouped], default=1) or 1
    if rows * per_name > MOST_STANDING:
        spec["height"] = {"step": STEP if per_name == 1 else STEP // 2}
    # A bar of a group needs less room than a name, but not nothing: three of them need 21 pixels, two the 17 of a name.
    return AROUND_ROWS + max(LEAST_STEP, LEAST_BAR * per_name) * rows if rows else 0


def _measure_below_legend(ground: LayerContext) -> int:
    """The least height of a drawing under a legend of several lines, in pixels."""
    named = count_legend_lines(ground.colour, NARROW)
    if named < MANY_LINES:
        return 0
    slanted = LONGEST_NAME if ground.along.get("axis", {}).get("labelAngle") else 0
    return AROUND_ROWS + LEGEND_LINE * named + slanted + LEAST_PLOT
