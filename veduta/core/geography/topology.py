"""TopoJSON, which keeps the borders that areas share once, as GeoJSON."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

Position = list[float]


def iterate_features(topology: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """The features of all its objects. Raises KeyError, IndexError, TypeError or ValueError for what is none."""
    arcs = [_place_arc(arc, topology.get("transform")) for arc in topology["arcs"]]
    for thing in topology["objects"].values():
        yield from _iterate_parts(thing, arcs)


def _iterate_parts(thing: dict[str, Any], arcs: list[list[Position]]) -> Iterator[dict[str, Any]]:
    if thing["type"] == "GeometryCollection":
        for inside in thing["geometries"]:
            yield from _iterate_parts(inside, arcs)
        return
    geometry: dict[str, Any] = {"type": thing["type"], "coordinates": []}
    if thing["type"] == "Polygon":
        geometry["coordinates"] = [_ring(ring, arcs) for ring in thing["arcs"]]
    elif thing["type"] == "MultiPolygon":
        geometry["coordinates"] = [[_ring(ring, arcs) for ring in polygon] for polygon in thing["arcs"]]
    properties = dict(thing.get("properties") or {})
    yield {"type": "Feature", "id": thing.get("id"), "properties": properties, "geometry": geometry}


def _place_arc(arc: list[Position], transform: dict[str, Any] | None) -> list[Position]:
    """An arc's positions; with a transform each is written as whole steps from the one before."""
    if transform is None:
        return [list(position[:2]) for position in arc]
    (wide, high), (left, low) = transform["scale"], transform["translate"]
    placed, x, y = [], 0.0, 0.0
    for position in arc:
        x, y = x + position[0], y + position[1]
        placed.append([x * wide + left, y * high + low])
    return placed


def _ring(numbers: list[int], arcs: list[list[Position]]) -> list[Position]:
    """Arcs one after another, each beginning where the one before ended; ~n is arc n backwards."""
    ring: list[Position] = []
    for number in numbers:
        arc = arcs[number] if number >= 0 else arcs[~number][::-1]
        ring += arc[1:] if ring else arc
    return ring
