"""Values of a chart's marks that are put together under a name: the step that does it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import polars as pl

from veduta.core.calendar import ValueGroup
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drilling import DrillStep
from veduta.core.data.fields import DataField, DataType
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model
from veduta.core.number_format import REST_POINT
from veduta.core.phrases import join_names


def put_together(chart: ChartDefinition, points: Sequence[Sequence[Any]], name: str, model: Model) -> DrillStep:
    """The step that groups the values of some marks under one name.

    The values are those of the only dimension in which the marks differ, or else of the first. Raises DefinitionProblem
    for marks that cannot be grouped."""
    position = _find_differing_position(points)
    if not points or position >= min(len(chart.groups), *map(len, points)):
        raise DefinitionProblem("These marks have no values of their own.", hint="Choose marks of a dimension.")
    group = chart.groups[position]
    field = model.schema[group.field]
    if field.kind is not DataType.TEXT:
        raise DefinitionProblem(
            f"“{field.name}” is not a text, so its values cannot be put together.",
            hint="Numbers can be put in classes, and dates in longer periods.",
        )
    chosen = list(dict.fromkeys(point[position] for point in points))
    if REST_POINT in chosen:
        raise DefinitionProblem("What was gathered cannot be put together with others.", hint="Leave it out first.")
    inside = {each.name: each.values for each in group.together}
    values = tuple(dict.fromkeys(value for each in chosen for value in inside.get(each, (each,))))
    others = tuple(each for each in group.together if each.name not in chosen)
    made = ValueGroup(name=_name(name, values), values=values)
    _refuse_taken(made, others, field, model)
    return DrillStep(position=position, to=group.model_copy(update={"together": (*others, made)}))


def _refuse_taken(made: ValueGroup, others: Sequence[ValueGroup], field: DataField, model: Model) -> None:
    """Refuse a name that another value has: rows of both would be one, and nobody would know.

    Raises DefinitionProblem."""
    taken = any(made.name == each.name for each in others)
    if not taken and made.name not in made.values:
        rows = model.scan([field.id], model.find_home({field.id}))
        grouped = [value for each in others for value in each.values]
        has_name = (pl.col(field.id) == made.name) & ~pl.col(field.id).is_in(grouped)
        taken = bool(rows.filter(has_name).head(1).collect().height)
    if taken:
        raise DefinitionProblem(
            f"“{field.name}” has another value called “{made.name}”.", where="name", hint="Choose another name."
        )


def _find_differing_position(points: Sequence[Sequence[Any]]) -> int:
    """The only position at which points differ; 0 if there is none, or several."""
    depth = min(map(len, points), default=0)
    differing = [i for i in range(depth) if len({point[i] for point in points}) > 1]
    return differing[0] if len(differing) == 1 else 0


def _name(name: str, values: Sequence[str | None]) -> str:
    """What values that stand together are called: as they are told, or by their own names."""
    return name.strip()[:200] or join_names([value or "empty" for value in values], most=3)[:200]
