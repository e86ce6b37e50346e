"""How a part of the globe is laid flat: so that areas, which are filled, keep their sizes to each other."""

from __future__ import annotations

from typing import Any

from veduta.core.geography.shapes import Box

SMALL = 8
"""Degrees of latitude up to which the shape of coasts is kept rather: sizes then differ little."""
WIDE = 140
POLAR = 68


def choose_projection(box: Box) -> dict[str, Any]:
    """The chart grammar's projection for what lies in a box of degrees.

    Source: Snyder, Map projections: a working manual, 1987."""
    west, south, east, north = box
    middle, height = (south + north) / 2, north - south
    turned = -(west + east) / 2
    if east - west > WIDE:
        return {"type": "equalEarth", "rotate": [turned, 0, 0]}
    if abs(middle) > POLAR:
        return {"type": "azimuthalEqualArea", "rotate": [turned, -middle, 0]}
    if height <= SMALL:
        return {"type": "mercator"}
    if south < 0 < north:
        return {"type": "equalEarth", "rotate": [turned, 0, 0]}
    parallels = [south + height / 6, north - height / 6]
    return {"type": "conicEqualArea", "rotate": [turned, 0, 0], "parallels": [round(each, 3) for each in parallels]}
