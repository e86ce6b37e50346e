"""Edits by which a chart is drilled as it is made, and that say where its readers may drill it."""

from __future__ import annotations

from veduta.core.chart.definition import ChartDefinition, Drilling
from veduta.core.chart.drilling import Step, step_taken
from veduta.core.chart.edits.registry import changed_by, edit
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model


@edit
def drill(definition: ChartDefinition, model: Model, step: Step) -> ChartDefinition:
    """Put another dimension in the place of one, which then is said in the sentence, for all of its values or for one
    of them. Whoever makes a chart may go anywhere, whatever its readers may."""
    after = step_taken(changed_by(definition, drill=Drilling()), step, model)
    return changed_by(after, drill=definition.drill)


@edit
def set_drill(definition: ChartDefinition, model: Model, drill: Drilling) -> ChartDefinition:
    """Where readers may drill it. Raises DefinitionProblem for a path that the model does not have."""
    if drill.along and drill.along not in {path.name for path in model.definition.paths}:
        raise DefinitionProblem(f"There is no drill path “{drill.along}”.", hint="Choose one from the list.")
    return changed_by(definition, drill=drill)
