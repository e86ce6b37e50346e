"""The ferry company's waters: invented islands around its ports, and the sea areas of its regions, as GeoJSON."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import shapely

from veduta.demo.generate import PORTS, SEED, SPELT

CORNERS = 48
WIDER = 1.9
"""How much longer a degree of latitude is than one of longitude here."""


def generate_islands() -> dict[str, Any]:
    """An island at every port, called as the harbour office spells it, with its region."""
    random = np.random.default_rng(SEED + 11)
    features = []
    for name, (region, latitude, longitude, _) in PORTS.items():
        size = random.uniform(0.026, 0.05)
        inland = random.uniform(0, 2 * math.pi)
        # The port lies on the shore, so that the island's middle is a little inland.
        middle = longitude + size * 0.6 * WIDER * math.cos(inland), latitude + size * 0.6 * math.sin(inland)
        properties = {"island": SPELT.get(name, name).strip(), "region": region}
        features.append(_feature(_coast(random, middle, size), properties))
    return {"type": "FeatureCollection", "features": features}


def _coast(random: np.random.Generator, middle: tuple[float, float], size: float) -> shapely.Polygon:
    """A coast of a few bays: waves of different length around a middle."""
    angles = np.linspace(0, 2 * math.pi, CORNERS, endpoint=False)
    radius = np.ones(CORNERS)
    for waves in (2, 3, 5, 8):
        radius += random.uniform(0.05, 0.3) / math.sqrt(waves) * np.sin(waves * angles + random.uniform(0, 6.28))
    x = middle[0] + WIDER * size * radius * np.cos(angles)
    y = middle[1] + size * radius * np.sin(angles)
    return shapely.Polygon(np.column_stack([x, y]).round(5))


def generate_sea_areas() -> dict[str, Any]:
    """The sea around each region's ports: what is nearer to them than to those of others, up to some way out."""
    names = list(PORTS)
    points = shapely.points([(PORTS[name][2], PORTS[name][1]) for name in names])
    cells = shapely.get_parts(shapely.voronoi_polygons(shapely.multipoints(points), extend_to=None, ordered=True))
    out = shapely.buffer(shapely.convex_hull(shapely.multipoints(points)), 0.35)
    regions: dict[str, list[Any]] = {}
    for name, cell in zip(names, cells, strict=True):
        regions.setdefault(PORTS[name][0], []).append(cell)
    features = []
    for region, parts in regions.items():
        area = shapely.intersection(shapely.union_all(parts), out)
        features.append(_feature(shapely.set_precision(area, 0.00001), {"region": region}))
    return {"type": "FeatureCollection", "features": features}


def _feature(outline: Any, properties: dict[str, str]) -> dict[str, Any]:
    return {"type": "Feature", "properties": properties, "geometry": shapely.geometry.mapping(outline)}
