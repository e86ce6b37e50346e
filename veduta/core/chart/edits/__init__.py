"""The ways in which a chart's sentence is edited."""

from veduta.core.chart.edits import clauses, colouring, conditional, layers, looks, order
from veduta.core.chart.edits.clauses import group_of
from veduta.core.chart.edits.registry import EDITS, apply_edit, edit

__all__ = ["EDITS", "apply_edit", "clauses", "colouring", "conditional", "edit", "group_of", "layers", "looks", "order"]
