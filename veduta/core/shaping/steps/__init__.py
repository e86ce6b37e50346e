"""Every kind of step by its `do`."""

from veduta.core.shaping.steps import columns, form, rows, tables, values
from veduta.core.shaping.steps.base import THEMES, ShapingStep, kinds

__all__ = ["THEMES", "ShapingStep", "columns", "form", "kinds", "rows", "tables", "values"]
