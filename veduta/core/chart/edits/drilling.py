"""Edits by which a chart is drilled as it is made, and that say where its readers may drill it."""

from __future__ import annotations

from typing import Any, Literal

from veduta.core.chart.definition import ChartDefinition, Drilling
from veduta.core.chart.drilling import DrillStep, apply_drill_step, replace_group
from veduta.core.chart.edits.clauses import group_of
from veduta.core.chart.edits.registry import Index, change_definition, edit
from veduta.core.chart.value_groups import put_together
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model

GroupClause = Literal["by", "split", "panels"]


@edit
def drill(definition: ChartDefinition, model: Model, step: DrillStep) -> ChartDefinition:
    """Replace a dimension with another, for all of its values or for one of them.

    The sentence then names the new one. Who edits a chart may go anywhere, whatever its readers may."""
    after = apply_drill_step(change_definition(definition, drill=Drilling()), step, model)
    return change_definition(after, drill=definition.drill)


@edit
def group_marks(definition: ChartDefinition, model: Model, points: list[list[Any]], name: str = "") -> ChartDefinition:
    """Put the values of some marks together under a name, or under their own ones."""
    return drill(definition, model, put_together(definition, points, name, model))


@edit
def set_apart(
    definition: ChartDefinition, model: Model, clause: GroupClause, index: Index, name: str
) -> ChartDefinition:
    """Have the values that stand together under a name each by themselves again."""
    group = group_of(definition, clause, index)
    if group is None or name not in {each.name for each in group.together}:
        raise DefinitionProblem("These values do not stand together any more.", hint="Undo, or load the page again.")
    left = tuple(each for each in group.together if each.name != name)
    return replace_group(definition, definition.groups.index(group), group.model_copy(update={"together": left}))


@edit
def set_drill(definition: ChartDefinition, model: Model, drill: Drilling) -> ChartDefinition:
    """Where readers may drill it. Raises DefinitionProblem for a path that the model does not have."""
    if drill.along and drill.along not in {path.name for path in model.definition.paths}:
        raise DefinitionProblem(f"There is no drill path “{drill.along}”.", hint="Choose one from the list.")
    return change_definition(definition, drill=drill)
