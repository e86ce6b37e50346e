"""The ways in which a chart's sentence is edited."""

from veduta.core.chart.edits import clauses, colouring, conditional, drilling, layers, looks, order, taking
from veduta.core.chart.edits.clauses import group_of
from veduta.core.chart.edits.registry import EDITS, apply_edit, edit

__all__ = [
    "EDITS",
    "apply_edit",
    "clauses",
    "colouring",
    "conditional",
    "drilling",
    "edit",
    "group_of",
    "layers",
    "looks",
    "order",
    "taking",
]
