"""Maps: areas filled by a measure, and points by their size."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, Literal

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.colours import BLACK, GROUND, WHITE, colour_by_series
from veduta.core.chart.drawing.labels import LINE, shorten_middle
from veduta.core.chart.drawing.layer_context import DIMMED, POINTED_AT, SAID
from veduta.core.chart.drawing.marks import Mark, make_marks, to_rows
from veduta.core.chart.drawing.picture import Drawing, Picture, make_base_spec
from veduta.core.chart.drawing.shades import build_shade
from veduta.core.chart.drawing.text_metrics import measure_text
from veduta.core.chart.kinds.base import MANY_MARKS, ChartKind, ChartShape, ShadeSettings, make_setting, register_kind
from veduta.core.chart.palettes import NAMED_COLOURS
from veduta.core.data.fields import Aggregate
from veduta.core.geography.matching import match_names
from veduta.core.geography.projection import choose_projection
from veduta.core.geography.shapes import Box, Shapes
from veduta.core.model.model import Model
from veduta.core.number_format import format_value
from veduta.core.phrases import describe_not_drawn, join_names, lower_first, pluralise
from veduta.core.query.filters import Filter
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query

SIZES = [24, 1200]
"""Areas of the smallest and the largest point, in square pixels."""
LAND, COAST = "#EFF2F1", NAMED_COLOURS["quiet"]
AROUND = 0.12
"""How much wider than its points a map of points alone is, as a share of them."""
LEAST_AROUND = 0.02
FRAME = 0.05
"""Room around all that a map shows, as a share of it."""
AROUND_NAME = 12
"""px between two names that stand side by side."""
MOST_NAMES = 150
MOST_PLACES = 100_000
Spec = dict[str, Any]
GEO = {"shape": {"field": "geo", "type": "geojson"}}


def _land() -> Spec:
    """All areas, pale, behind what is drawn on them."""
    look = {"fill": LAND, "stroke": COAST, "strokeWidth": 0.6, "clip": True, "aria": False}
    return {"data": {"name": "areas"}, "mark": {"type": "geoshape", **look}, "encoding": GEO}


def _make_features(shapes: Shapes) -> list[Spec]:
    return [{"key": area.key, "geo": {"type": "Feature", "geometry": area.geometry}} for area in shapes.areas]


def _compose_map(box: Box, layers: Sequence[Spec], shapes: Shapes | None) -> Spec:
    datasets = {"datasets": {"areas": _make_features(shapes)}} if shapes else {}
    return make_base_spec(projection=choose_projection(box), layer=[_make_frame(box), *layers], **datasets)


def _make_frame(box: Box) -> Spec:
    """The corners of a map with some room around what is drawn, so that no point is cut; they are not seen."""
    west, south, east, north = box
    wide, high = FRAME * (east - west), FRAME * (north - south)
    corners = [[max(-180, west - wide), max(-89, south - high)], [min(180, east + wide), min(89, north + high)]]
    geometry = {"type": "MultiPoint", "coordinates": corners}
    data = {"values": [{"geo": {"type": "Feature", "geometry": geometry}}]}
    return {"data": data, "mark": {"type": "geoshape", "opacity": 0, "aria": False}, "encoding": GEO}


def draw_outlines(shapes: Shapes) -> Spec:
    """All areas with their names, and nothing else."""
    sizes = sorted(shapes.areas, key=lambda area: -area.size)[:MOST_NAMES]
    scales = measure_distances(_centre_names([(area.middle, area.key) for area in sizes]))
    data = [
        {"lon": area.middle[0], "lat": area.middle[1], "name": area.key, "from": scale}
        for area, scale in zip(sizes, scales, strict=True)
    ]
    return _compose_map(shapes.box, [_land(), _draw_texts(data, {"align": "center"})], shapes)


@register_kind
class AreaMap(ChartKind):
    name = "areas"
    title = "map of areas"
    theme = "Places"
    use = "Shows by shade where on a map a measure is high or low."
    glyph = '<path d="M3 6l8-3v15l-8 3z"/><path opacity=".5" d="M12 3l8 3v15l-8-3z"/><path d="M21 6l8-3v15l-8 3z"/>'
    measures = (1, 1)
    dimensions = (1, 1)
    settings = ShadeSettings

    def check_extra_constraints(self, asked: ChartShape) -> str:
        first = asked.first
        known = first and asked.model.schema[first.field].shapes
        return "" if known else "It needs a dimension that is set to be areas of shapes, on its dataset's page."

    def draw(self, picture: Picture) -> Drawing:
        column, measure = picture.dimensions[0], picture.measures[0]
        shapes = picture.atlas.get(column.shapes)
        if shapes is None:
            gone = f"The shapes of {column.name} are gone: choose others on the page of its dataset."
            return Drawing(make_base_spec(mark="geoshape"), notes=[gone])
        there = make_marks(picture)
        by_name = match_names([mark.name for mark in there if mark.along is not None], shapes)
        made: dict[str, Mark] = {}
        for mark in there:
            key = by_name.areas.get(mark.name)
            if key is not None and key not in made:
                mark.more["area"] = key
                made[key] = mark
        drawn = list(made.values())
        layers = [_land(), _draw_filled(build_shade(picture, measure, drawn, steps=int(picture.settings.steps)))]
        if not picture.panel:
            layers += _draw_area_names(shapes, drawn)
        notes = _describe_unmatched(
            by_name.unmatched, len(by_name.areas) - len(made), sum(m.along is None for m in there)
        )
        if named := [mark for mark in drawn if mark.value is None]:
            notes.append(f"{pluralise(len(named), 'area')} without a number {'is' if len(named) == 1 else 'are'} pale.")
        return Drawing(_compose_map(shapes.box, layers, shapes), to_rows(drawn), notes=notes)


def _draw_filled(colour: Spec) -> Spec:
    return {
        "transform": [{"filter": "isValid(datum.value)"}, _draw_outline()],
        "mark": {"type": "geoshape", "stroke": COAST, "strokeWidth": 0.6, "clip": True, **POINTED_AT},
        "encoding": {**GEO, "color": colour, "opacity": DIMMED, "description": SAID},
    }


def _draw_outline() -> Spec:
    return {"lookup": "area", "from": {"data": {"name": "areas"}, "key": "key", "fields": ["geo"]}}


def _describe_unmatched(unmatched: Sequence[str], doubled: int, empty: int) -> list[str]:
    notes = []
    if unmatched:
        number = pluralise(len(unmatched), "value")
        verb = "has" if len(unmatched) == 1 else "have"
        notes.append(f"{number} {verb} no area in these shapes: {join_names(unmatched, most=5)}.")
    if doubled:
        notes.append(f"{pluralise(doubled, 'more value')} {'means' if doubled == 1 else 'mean'} an area drawn already.")
    if empty:
        notes.append(describe_not_drawn(empty, "group", "without a name"))
    return notes


class PointSettings(ShadeSettings):
    names: Literal["fitting", "none"] = make_setting("Names", "fitting", {"fitting": "As many as fit", "none": "None"})
    ground: Literal["shapes", "none"] = make_setting(
        "Behind the points", "shapes", {"shapes": "Shapes", "none": "Nothing"}
    )


@register_kind
class PointMap(ChartKind):
    name = "points"
    title = "map of points"
    theme = "Places"
    use = "Shows places by size, and by the shade of a second measure or the colour of a second dimension."
    glyph = (
        '<path fill="none" stroke="currentColor" stroke-width="1.4" d="M3 5l8-2 10 3 8-2v15l-8 2-10-3-8 2z"/>'
        '<circle cx="10" cy="10" r="3"/><circle cx="21" cy="14" r="2"/>'
    )
    measures = (1, 2)
    dimensions = (1, 2)
    most_groups = MANY_MARKS
    settings = PointSettings

    def check_extra_constraints(self, asked: ChartShape) -> str:
        if asked.first is None or find_position_fields(asked.first.field, asked.model) is None:
            return "It needs a dimension whose places are known: fields set to be its latitude and longitude."
        if len(asked.groups) > 1 and len(asked.measures) > 1:
            return "Its colour is either a second measure or a second dimension."
        return ""

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        return ["names", "ground", *["steps"] * (len(asked.measures) > 1)]

    def build_secondary_query(
        self, definition: ChartDefinition, model: Model, extra: tuple[Filter, ...] = ()
    ) -> Query | None:
        """Where each value of the first dimension is: the mean latitude and longitude of its rows."""
        first = definition.drawn[0]
        position = find_position_fields(first.field, model) or ()
        measures = tuple(Measure(field=field, aggregate=Aggregate.MEAN) for field in position)
        return Query(groups=(first,), measures=measures, limit=MOST_PLACES)

    def draw(self, picture: Picture) -> Drawing:
        made, notes = _place_points(picture)
        size = picture.measures[0]
        box = _find_box(made)
        shapes = _find_background(picture, box) if picture.settings.ground == "shapes" else None
        if len(picture.measures) > 1:
            shaded = picture.measures[1]
            colour = build_shade(picture, shaded, made, "shade", int(picture.settings.steps))
            notes.append(f"The shade is {lower_first(shaded.name)}.")
        else:
            colour = colour_by_series(picture, made)
        notes.insert(0, f"The area of a point is its {lower_first(size.name)}.")
        layers = [_draw_points(colour, COAST if len(picture.measures) > 1 else GROUND)]
        if picture.settings.names == "fitting" and not picture.panel:
            layers.append(_draw_names(made))
        if shapes:
            layers.insert(0, _land())
        return Drawing(_compose_map(shapes.box if shapes else box, layers, shapes), to_rows(made), notes=notes)


def find_position_fields(field: str, model: Model) -> tuple[str, str] | None:
    """The fields with the latitude and longitude of a dimension's values.

    They are of its own table, or of one whose rows have the dimension too."""
    own = model.schema[field].table
    tables = sorted(model.tables, key=lambda table: table != own)
    for table in tables:
        found = {each.place: each.id for each in model.schema if each.table == table and each.level == "row"}
        if {"latitude", "longitude"} <= found.keys() and model.reaches(table, field):
            return found["latitude"], found["longitude"]
    return None


def _place_points(picture: Picture) -> tuple[list[Mark], list[str]]:
    """The marks that have a place and a size; what is left out is said."""
    assert picture.beside is not None, "places are asked for"
    places = {place: (latitude, longitude) for place, latitude, longitude in picture.beside.frame.iter_rows()}
    carried = {"shade": picture.measures[1].key} if len(picture.measures) > 1 else {}
    there = make_marks(picture, picture.measures[:1], carry=carried, apart=False)
    for mark in there:
        mark.more["lat"], mark.more["lon"] = places.get(mark.along, (None, None))
    made = [mark for mark in there if _is_place(mark.more["lat"], mark.more["lon"])]
    notes = [describe_not_drawn(len(there) - len(made), "group", "without a place")] if len(made) < len(there) else []
    if low := sum(mark.value is not None and mark.value < 0 for mark in made):
        notes.append(describe_not_drawn(low, "point", "below zero"))
    made = [mark for mark in made if mark.value is not None and mark.value >= 0]
    if len(picture.measures) > 1:
        column = picture.measures[1]
        for mark in made:
            text = format_value(mark.more["shade"], column.kind, picture.formats[column.key])
            mark.tip.append([column.name, text])
            mark.said += f", {text} {column.name}"
    return sorted(made, key=lambda mark: -mark.value), notes


def _is_place(latitude: float | None, longitude: float | None) -> bool:
    return latitude is not None and longitude is not None and abs(latitude) <= 90 and abs(longitude) <= 180


def _find_box(made: Sequence[Mark]) -> Box:
    """The box around points, with some room."""
    if not made:
        return -180.0, -60.0, 180.0, 80.0
    east_west = [mark.more["lon"] for mark in made]
    north_south = [mark.more["lat"] for mark in made]
    wide = max(LEAST_AROUND, AROUND * (max(east_west) - min(east_west)))
    high = max(LEAST_AROUND, AROUND * (max(north_south) - min(north_south)))
    return min(east_west) - wide, min(north_south) - high, max(east_west) + wide, max(north_south) + high


def _find_background(picture: Picture, box: Box) -> Shapes | None:
    """The shape set that best holds a map's points.

    Of the sets that hold most of them, the one with the smallest box around their middle."""
    across, down = (box[0] + box[2]) / 2, (box[1] + box[3]) / 2
    holding = [
        shapes
        for shapes in picture.atlas.values()
        if shapes.box[0] <= across <= shapes.box[2] and shapes.box[1] <= down <= shapes.box[3]
    ]
    return min(holding, key=lambda shapes: (_measure_box(shapes.box), -len(shapes.areas)), default=None)


def _measure_box(box: Box) -> float:
    return round((box[2] - box[0]) * (box[3] - box[1]), 3)


def _draw_points(colour: Spec, edge: str) -> Spec:
    scale = {"type": "linear", "zero": True, "range": SIZES}
    return {
        "mark": {"type": "circle", "clip": True, "stroke": edge, "strokeWidth": 0.8, **POINTED_AT},
        "encoding": {
            **_encode_position(),
            "size": {"field": "value", "type": "quantitative", "scale": scale, "legend": None},
            "color": colour,
            "opacity": {**DIMMED, "value": 0.85},
            "description": SAID,
        },
    }


def _encode_position() -> Spec:
    return {
        "longitude": {"field": "lon", "type": "quantitative"},
        "latitude": {"field": "lat", "type": "quantitative"},
    }


def _draw_names(made: Sequence[Mark]) -> Spec:
    """Names beside the largest points, each shown from the scale on at which it touches none of a larger one."""
    seen: dict[str, Mark] = {}
    for mark in made:
        seen.setdefault(mark.name, mark)
    named = list(seen.values())[:MOST_NAMES]
    longitudes = [mark.more["lon"] for mark in made]
    middle = (max(longitudes, default=0) + min(longitudes, default=0)) / 2
    names = [shorten_middle(mark.name) for mark in named]
    # What stands in the east has its name at its left, so that none leaves the map.
    sides = [-1 if mark.more["lon"] > middle else 1 for mark in named]
    places = [
        (mark.more["lon"], mark.more["lat"], *((measure_text(name), 0) if side < 0 else (0, measure_text(name))))
        for mark, name, side in zip(named, names, sides, strict=True)
    ]
    scales = measure_distances(places)
    largest = max((mark.value for mark in named), default=0) or 1
    data = [
        {
            "lon": mark.more["lon"],
            "lat": mark.more["lat"],
            "name": name,
            "from": scale,
            "beside": side * (round(_scale_radius(mark.value / largest)) + 4),
        }
        for mark, name, side, scale in zip(named, names, sides, scales, strict=True)
    ]
    return _draw_texts(data, {"align": {"expr": "datum.beside < 0 ? 'right' : 'left'"}, "dx": {"expr": "datum.beside"}})


def _scale_radius(share: float) -> float:
    """How far a point reaches, in pixels, for its share of the largest."""
    return math.sqrt((SIZES[0] + share * (SIZES[1] - SIZES[0])) / math.pi)


def _draw_texts(data: list[Spec], place: Spec) -> Spec:
    """Names at places, each from a scale of the map on."""
    mark = {"type": "text", "baseline": "middle", "clip": True, "aria": False, "color": NAMED_COLOURS["ink"], **place}
    shown = {"test": "geoScale('projection') >= datum.from", "value": 1}
    text = {"text": {"field": "name"}, "opacity": {"condition": shown, "value": 0}}
    return {"data": {"values": data}, "mark": mark, "encoding": {**_encode_position(), **text}}


def measure_distances(places: Sequence[tuple[float, float, float, float]]) -> list[float]:
    """From which scale of the map, in pixels a radian, each name touches none before it.

    Names stand at longitudes and latitudes and reach so many pixels to the left and right."""
    laid = [(math.radians(lon), _project_latitude(lat), left, right) for lon, lat, left, right in places]
    scales = []
    for number, (x, y, left, right) in enumerate(laid):
        needed = 0.0
        for other_x, other_y, other_left, other_right in laid[:number]:
            room = AROUND_NAME + (other_right + left if other_x <= x else right + other_left)
            across, down = abs(x - other_x), abs(y - other_y)
            needed = max(needed, min(room / across if across else math.inf, LINE / down if down else math.inf))
        scales.append(min(needed, 1e12))
    return scales


def _centre_names(named: Sequence[tuple[tuple[float, float], str]]) -> list[tuple[float, float, float, float]]:
    """Names in the middle of their places, as `measure_distances` takes them."""
    return [(*place, measure_text(name) / 2, measure_text(name) / 2) for place, name in named]


def _project_latitude(latitude: float) -> float:
    bounded = math.radians(min(max(latitude, -85), 85))
    return math.log(math.tan(math.pi / 4 + bounded / 2))


def _draw_area_names(shapes: Shapes, drawn: Sequence[Mark]) -> list[Spec]:
    """The names of areas with numbers, at a point within each, the largest areas first."""
    places = {area.key: area.middle for area in shapes.areas}
    sizes = {area.key: area.size for area in shapes.areas}
    named = sorted(drawn, key=lambda mark: -sizes[mark.more["area"]])[:MOST_NAMES]
    scales = measure_distances(_centre_names([(places[mark.more["area"]], mark.name) for mark in named]))
    if not named:
        return []
    data = [
        {
            "lon": places[mark.more["area"]][0],
            "lat": places[mark.more["area"]][1],
            "name": mark.name,
            "from": max(scale, _measure_within(sizes[mark.more["area"]], measure_text(mark.name))),
            "strong": mark.more["strong"],
        }
        for mark, scale in zip(named, scales, strict=True)
    ]
    texts = _draw_texts(data, {"align": "center"})
    texts["encoding"]["color"] = {"condition": {"test": "datum.strong === 1", "value": WHITE}, "value": BLACK}
    return [texts]


def _measure_within(size: float, width: int) -> float:
    """The scale from which on an area, of square degrees, is about as wide as its name."""
    return width / math.radians(math.sqrt(size)) * 0.75 if size else 1e12
