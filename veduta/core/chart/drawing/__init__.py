"""How a result is drawn: each kind of chart registers one builder from a `Picture` to a `Drawing`."""

from veduta.core.chart.drawing import bars, layouts, lines  # noqa: F401  (they register their builders)
from veduta.core.chart.drawing.base import BUILDERS, Drawing, Picture

__all__ = ["BUILDERS", "Drawing", "Picture"]
