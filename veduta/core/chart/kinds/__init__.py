"""Every kind of drawing, one module each; a module that stands here is offered."""

from __future__ import annotations

import pkgutil
from importlib import import_module

from veduta.core.chart.kinds.base import CHART_KINDS, THEMES, ChartKind, ChartShape, FitScore, get_kind

for module in pkgutil.iter_modules(__path__):
    import_module(f"{__name__}.{module.name}")

__all__ = ["CHART_KINDS", "THEMES", "ChartKind", "ChartShape", "FitScore", "get_kind"]
