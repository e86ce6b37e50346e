"""What layers stand on, what a layer is once it has its marks, and what all of them share."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from veduta.core.chart.definition import Layer
from veduta.core.chart.drawing.labels import Which
from veduta.core.chart.drawing.marks import Mark, list_series
from veduta.core.chart.drawing.picture import Picture
from veduta.core.query.query import Column

Stacking = Literal["stacked", "grouped", "full"]
Encoding = dict[str, Any]
LABELLED = 40  # so many horizontal bars carry their value beside them
LEAST_STEP, LEAST_BAR, AROUND_ROWS = 17, 7, 60
"""The least height of a lying row and of a bar in a group, and what stands above and below all rows, in pixels."""
SAID = {"field": "said", "type": "nominal"}
DIMMED = {"condition": [{"test": "datum.on === 0", "value": 0.25}], "value": 1}
POINTED_AT = {"tooltip": {"content": "data"}, "cursor": "pointer"}
SHADED = ("bar", "dot", "tick", "range")
"""Ways of drawing whose marks can have the shade of a measure."""
BY_THE_FIRST = (0,)
"""The totals that an undivided layer shows, as `Query.totals`."""


@dataclass
class LayerContext:
    """What all layers of a drawing share.

    The channel along the first dimension, the direction, how series share a place, and the colours of the legend's
    entries. `layered` says that rows belong to several layers; `shades` counts those with a shade."""

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
    """A layer with its number, its marks, their measures and what their colour shows.

    The colour shows a `test` that marks pass or not, or the `shade` of a measure."""

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


def has_values_beside(ground: LayerContext, each: PlacedLayer) -> bool:
    """Whether its lying bars carry their values beside them."""
    alone = ground.lying and not ground.layered and each.layer.how == "bar" and ground.labels != "none"
    return alone and len(each.series) <= 1 and len(each.made) <= LABELLED
