"""Layers over one another along the first dimension: bars, lines, areas, dots, ticks, texts, bands and links."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
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
    clamp_to_width,
    fit_labels,
    label_above,
    label_bars,
    label_line_ends,
    label_stacks,
    note_ends,
    note_labels,
    reserve_room_above,
    set_apart,
    touches_none,
)
from veduta.core.chart.drawing.marks import Mark, fill_gaps, list_series, make_marks, to_rows
from veduta.core.chart.drawing.picture import Drawing, Picture, make_base_spec
from veduta.core.chart.drawing.references import DASHES, draw_references
from veduta.core.chart.drawing.shades import build_shade
from veduta.core.number_format import format_value, settle
from veduta.core.phrases import join_names
from veduta.core.query.query import Column

Stacking = Literal["stacked", "grouped", "full"]
Encoding = dict[str, Any]
LABELLED = 40  # so many horizontal bars carry their value beside them
STEP = 24
BESIDE_BANDS = 1.35
"""How far a text may reach beyond its band."""
LEAST_STEP, LEAST_BAR, AROUND_ROWS = 17, 7, 60
"""The least height of a lying row and of a bar in a group, and what stands above and below all rows, in pixels."""
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
SAID = {"field": "said", "type": "nominal"}
DIMMED = {"condition": [{"test": "datum.on === 0", "value": 0.25}], "value": 1}
POINTED_AT = {"tooltip": {"content": "data"}, "cursor": "pointer"}
BANDED = {"bar", "dot", "tick", "text", "range", "link"}
BETWEEN = ("range", "band", "link")
LABELLED_WAYS = ("bar", "line", "step", "area", "dot", "tick")
"""Ways of drawing whose marks can have their values as labels."""
SHADED = ("bar", "dot", "tick", "range")
"""Ways of drawing whose marks can have the shade of a measure."""
STACKED = ("bar", "area")
BY_THE_FIRST = (0,)
"""The totals that an undivided layer shows, as `Query.totals`."""
ONLY_UPRIGHT = {"line", "step", "area", "band"}


@dataclass
class LayerContext:
    """What layers stand on: the channel along the first dimension, which way the drawing lies, how series share a
    place, and the colours of the legend's entries. `layered` says that the rows are those of several layers; so many of
    them have `shades`."""

    picture: Picture
    along: Encoding
    lying: bool
    stacking: Stacking
    colour: Encoding
    layered: bool
    logarithmic: bool
    shares_on: str
    has_two_axes: bool
    labels: Which = "usual"
    ends_named: bool = False
    shades: int = 0

    @property
    def shades_apart(self) -> dict[str, str]:
        """What keeps the shades of several layers apart."""
        return {"fill": "independent"} if self.shades > 1 else {}

    @property
    def stacked_in_order(self) -> Encoding:
        """The channel by which series are stacked: the first of the legend on top, or at the left."""
        return {"field": "rank", "type": "quantitative", "sort": "ascending" if self.lying else "descending"}

    @property
    def along_channel(self) -> Literal["x", "y"]:
        return "y" if self.lying else "x"

    @property
    def across_channel(self) -> Literal["x", "y"]:
        return "x" if self.lying else "y"


@dataclass
class PlacedLayer:
    """A layer with its number, its marks, the measures they show, and what their colour goes by: a `test` that they
    pass or not, or the `shade` of a measure."""

    layer: Layer
    number: int
    made: list[Mark]
    measures: list[Column]
    test: Column | None = None
    shade: Column | None = None

    @property
    def series(self) -> list[str]:
        return list_series(self.made)

    @property
    def series_in_order(self) -> list[str]:
        """The series as the legend has them."""
        ranks = {mark.series: mark.more["rank"] for mark in self.made}
        return sorted(ranks, key=ranks.__getitem__)

    @property
    def has_colour(self) -> bool:
        """Whether all its series have a colour of the layer's own."""
        return bool(self.layer.colour) or self.test is not None


def draw_layers(
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
    """The layers in order, the first behind the others. Those on the second axis have a scale of their own. Marks that
    a kind of drawing has made itself are `given`, those of each layer; an axis may hold shares of them. Layers that are
    `unnamed`, by their numbers, have their colour without an entry in the legend; `colours` are those of series that
    have one of their own. By its number, a layer may be `coloured_by` a column: the one that says of which marks its
    test holds, or that of its shade. `labels` are those of marks, and series may be named where their lines end."""
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
    """Notes what labels need to know: those of values, which are asked for or stand beside lying bars, and the texts of
    layers of texts."""
    picture = ground.picture
    for each in placed:
        if each.layer.how == "text" or _carries_values(ground, each):
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
    """Room for names of series where their lines end, and for many lying bars below one another. Returns the least
    height at which these can be read, in pixels."""
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


def _carries_values(ground: LayerContext, each: PlacedLayer) -> bool:
    alone = ground.lying and not ground.layered and each.layer.how == "bar" and ground.labels != "none"
    return alone and len(each.series) <= 1 and len(each.made) <= LABELLED


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
    if _carries_values(ground, each):
        across = across | {"scale": {**across.get("scale", {}), "range": _reserve_beside(each.made)}}
    encoding = _build_shared_encoding(ground, each, across | {"stack": stack})
    encoding |= {"opacity": _dim_unfinished(each.layer, unfinished=0.55), "description": SAID}
    if several and ground.stacking == "grouped":
        encoding[f"{ground.along_channel}Offset"] = {"field": "series", "type": "nominal", "sort": each.series_in_order}
    elif several:
        encoding["order"] = ground.stacked_in_order
    bars = {"mark": {"type": "bar", **POINTED_AT}, "encoding": encoding}
    if _carries_values(ground, each):
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
    """Mark points with no neighbour to draw a line to, the last two points where the last is unfinished, and those that
    are selected or that a conditional format colours."""
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
