"""Shapes of areas, from GeoJSON or TopoJSON: checked, and as simple as drawing them needs."""

from __future__ import annotations

import dataclasses
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely
from shapely.geometry import shape as geometry_of

from veduta.core.errors import FileProblem
from veduta.core.geography.topology import iterate_features
from veduta.core.jsontext import InvalidJson, read_records
from veduta.core.phrases import pluralise

LARGEST = 30 * 1024 * 1024
MOST_AREAS = 5_000
MOST_POINTS = 15_000
"""Points of all outlines together that are drawn; outlines of more are simplified."""
FINENESS = 20_000
"""Steps into which the longer side of all areas is divided at least: what is finer is not drawn."""
POLYGONS = ("Polygon", "MultiPolygon")
Box = tuple[float, float, float, float]
Named = dict[str, Any]


@dataclass(frozen=True)
class ShapeArea:
    """An area by its key, with its outline as a GeoJSON geometry.

    Outer rings are clockwise, as drawing needs them. With a point well within it, and its size in square degrees."""

    key: str
    geometry: dict[str, Any]
    middle: tuple[float, float]
    size: float


@dataclass(frozen=True)
class Shapes:
    """Areas, and the box around them: west, south, east, north, in degrees."""

    name: str
    areas: tuple[ShapeArea, ...]
    box: Box
    aliases: dict[str, str] = dataclasses.field(default_factory=dict, hash=False)

    @property
    def keys(self) -> list[str]:
        return [area.key for area in self.areas]


@dataclass
class ReadShapes:
    """What a file of shapes holds: properties and a geometry for each, and what is to be said of them."""

    properties: list[Named]
    geometries: list[dict[str, Any]]
    notes: list[str]

    @property
    def names(self) -> list[str]:
        """The properties that can tell areas apart, the best first."""
        found = Counter(name for each in self.properties for name, value in each.items() if _is_name(value))
        full = [name for name, count in found.items() if count == len(self.properties)]
        return sorted(full or list(found), key=self._rank)

    def _rank(self, name: str) -> tuple[float, bool, bool]:
        values = [each.get(name) for each in self.properties]
        distinct = len(set(map(str, values))) / max(1, len(values))
        is_text = any(isinstance(value, str) and not value.isdecimal() for value in values)
        return -distinct, not is_text, "name" not in name.casefold()


def _is_name(value: Any) -> bool:
    return isinstance(value, str | int) and not isinstance(value, bool) and str(value).strip() != ""


def read_shapes(data: bytes) -> ReadShapes:
    """The areas in a file of GeoJSON or TopoJSON.

    Raises FileProblem for one that holds none, or that is not in degrees of longitude and latitude."""
    if len(data) > LARGEST:
        raise FileProblem(
            f"The file is larger than {LARGEST // 1024 // 1024} MB.", hint="Simplify the outlines, or split the file."
        )
    try:
        features = _list_features(read_records(data))
    except InvalidJson as problem:
        raise FileProblem(f"This is not JSON: {problem}.", hint="Shapes are GeoJSON or TopoJSON files.") from None
    except (KeyError, IndexError, TypeError, ValueError, AttributeError):
        raise FileProblem(
            "This is JSON, but neither GeoJSON nor TopoJSON.",
            hint="Its “type” should be FeatureCollection or Topology.",
        ) from None
    if len(features) > MOST_AREAS:
        raise FileProblem(f"The file has {len(features):,} shapes, more than {MOST_AREAS:,}.", hint="Split it.")
    return _check_features(features)


def _list_features(data: Any) -> list[Named]:
    """All features. Raises KeyError, TypeError or ValueError for other JSON."""
    kind = data["type"]
    if kind == "Topology":
        return list(iterate_features(data))
    if kind == "FeatureCollection":
        return [
            {"geometry": each["geometry"], "properties": each.get("properties"), "id": each.get("id")}
            for each in data["features"]
        ]
    if kind == "Feature":
        return [data]
    if kind == "GeometryCollection":
        return [{"geometry": geometry} for geometry in data["geometries"]]
    if kind in POLYGONS:
        return [{"geometry": data}]
    raise ValueError(kind)


def _check_features(features: Sequence[Named]) -> ReadShapes:
    """The areas among features, made valid. Raises FileProblem if there are none."""
    properties, outlines, broken, others, mended = [], [], 0, 0, 0
    for number, feature in enumerate(features, 1):
        geometry = feature.get("geometry")
        if not isinstance(geometry, dict) or geometry.get("type") not in POLYGONS:
            others += 1
            continue
        try:
            outline = geometry_of(geometry)
            mended += not outline.is_valid
            outline = _keep_areas(shapely.force_2d(shapely.make_valid(outline)))
        except (ValueError, TypeError, IndexError, KeyError, AttributeError, shapely.errors.ShapelyError):
            broken += 1
            continue
        if outline.is_empty or not np.isfinite(outline.bounds).all():
            broken += 1
            continue
        outlines.append(outline)
        properties.append(_read_properties(feature, number))
    if not outlines:
        raise FileProblem("The file has no areas.", hint="Shapes are polygons; points and lines cannot be filled.")
    _check_degrees(shapely.total_bounds(np.array(outlines)))
    said = (
        (others, "not an area, and left out", "not areas, and left out"),
        (broken, "broken, and left out", "broken, and left out"),
        (mended, "mended: its outline crossed itself", "mended: their outlines crossed themselves"),
    )
    notes = [f"{pluralise(n, 'shape')} {f'was {one}' if n == 1 else f'were {many}'}." for n, one, many in said if n]
    simple = simplify_outlines(outlines)
    before, after = (int(shapely.get_num_coordinates(each).sum()) for each in (np.array(outlines), simple))
    if after < before:
        notes.append(f"Outlines were simplified from {before:,} points to {after:,}.")
    return ReadShapes(properties, [_to_geojson(each) for each in simple], notes)


def _read_properties(feature: Named, number: int) -> Named:
    own = feature.get("properties") or {}
    found = {str(name)[:100]: value for name, value in own.items() if _is_name(value)} if isinstance(own, dict) else {}
    if _is_name(feature.get("id")):
        found.setdefault("id", feature["id"])
    return found or {"number": number}


def _keep_areas(geometry: Any) -> Any:
    """A geometry without the points and lines that mending may leave."""
    if geometry.geom_type in POLYGONS:
        return geometry
    parts = [part for part in shapely.get_parts(geometry) if part.geom_type in POLYGONS]
    return shapely.union_all(parts) if parts else shapely.Polygon()


def _check_degrees(bounds: Iterable[float]) -> None:
    west, south, east, north = bounds
    if west < -181 or east > 361 or south < -90.5 or north > 90.5:
        raise FileProblem(
            f"Its numbers are not degrees: they go from {west:,.0f} to {east:,.0f}, and {south:,.0f} to {north:,.0f}.",
            hint="Save the shapes with longitude and latitude (WGS 84) and upload them again.",
        )


def simplify_outlines(outlines: Sequence[Any]) -> Any:
    """Outlines with so few points that they are drawn at once.

    Borders that areas share stay shared where they are the same in both (Visvalingam–Whyatt over the coverage); else
    each is simplified by itself (Douglas–Peucker)."""
    all_of_them = np.array(outlines)
    west, south, east, north = shapely.total_bounds(all_of_them)
    shares_borders = bool(shapely.coverage_is_valid(all_of_them))
    simplify = shapely.coverage_simplify if shares_borders else shapely.simplify
    simple, tolerance = all_of_them, max(east - west, north - south) / FINENESS
    while shapely.get_num_coordinates(simple).sum() > MOST_POINTS:
        made = simplify(all_of_them, tolerance)
        simple = np.where(shapely.is_empty(made), simple, made)
        tolerance *= 2
        if tolerance > 2 * max(east - west, north - south):
            break
    return simple


def _to_geojson(outline: Any) -> dict[str, Any]:
    """An outline as GeoJSON, its outer rings clockwise: on a globe, what lies at the right of a ring is inside."""
    west, south, east, north = outline.bounds
    decimals = 6 if max(east - west, north - south) < 1 else 5
    turned = shapely.orient_polygons(outline, exterior_cw=True)
    made: dict[str, Any] = _round_positions(shapely.geometry.mapping(turned), decimals)
    return made


def _round_positions(part: Any, decimals: int) -> Any:
    if isinstance(part, dict):
        return {name: _round_positions(value, decimals) for name, value in part.items()}
    if isinstance(part, list | tuple):
        return [_round_positions(each, decimals) for each in part]
    return round(part, decimals) if isinstance(part, float) else part


def build_shapes(name: str, properties: Sequence[Named], geometries: Sequence[Named], key: str, **more: Any) -> Shapes:
    """Areas by one of their properties; those with the same value are one area, those without any are none.

    Raises FileProblem if none has a value."""
    parts: dict[str, list[Named]] = {}
    for own, geometry in zip(properties, geometries, strict=True):
        if _is_name(own.get(key)):
            parts.setdefault(str(own[key]).strip(), []).append(geometry)
    if not parts:
        raise FileProblem(f"No shape has a “{key}”.", hint="Name the areas by another property.")
    areas = tuple(_make_area(value, found[0] if len(found) == 1 else _unite(found)) for value, found in parts.items())
    bounds = shapely.total_bounds(np.array([geometry_of(area.geometry) for area in areas]))
    west, south, east, north = (float(each) for each in bounds)
    return Shapes(name, areas, (west, south, east, north), **more)


def _make_area(key: str, geometry: Named) -> ShapeArea:
    outline = geometry_of(geometry)
    largest = max(shapely.get_parts(outline), key=lambda part: part.area)
    middle = shapely.point_on_surface(largest)
    return ShapeArea(key, geometry, (round(middle.x, 5), round(middle.y, 5)), float(outline.area))


def _unite(geometries: Sequence[Named]) -> Named:
    return _to_geojson(_keep_areas(shapely.union_all([geometry_of(each) for each in geometries])))
