"""Edits of how the parts of a drawing look."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from veduta.core.calendar import Grain, Grouping, make_grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.edits.registry import Index, change_definition, change_look, edit, get_item
from veduta.core.chart.look import ColumnLook, PartName, SeriesLook
from veduta.core.chart.templates import LikePart, Template, copy_design
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model


@edit
def set_look(definition: ChartDefinition, model: Model, part: PartName, changes: dict[str, Any]) -> ChartDefinition:
    """Set how a part looks; a setting of null, and a part of which all are, goes back to the usual.

    Raises DefinitionProblem for what cannot be set so."""
    if part == "series":
        raise DefinitionProblem("Which series is not said.", hint="Choose some of them.")
    changed = change_look(getattr(definition.look, part), changes, part)
    return change_definition(definition, look=definition.look.model_copy(update={part: changed}))


@edit
def set_column(
    definition: ChartDefinition,
    model: Model,
    index: Index,
    draws: Literal["", "bar", "shade"] | None = None,
    grain: Grain | Literal[""] | None = None,
    changes: dict[str, Any] | None = None,
) -> ChartDefinition:
    """What the cells of a measure draw in a table, and a small line by the main date at a grain; "" is nothing.

    How bars and shades look is among the `changes`. Raises DefinitionProblem for what cannot be set so."""
    get_item(definition.measures, index)
    column = definition.look.get_column(index)
    if draws is not None:
        column = column.model_copy(update={"draws": draws})
    if changes:
        column = change_look(column, changes, f"measure {index + 1}")
    if grain is not None:
        column = column.model_copy(update={"trend": _make_trend(model, grain) if grain else None})
    others = [each for each in definition.look.columns if each.measure != index]
    if grain:  # all small lines of a table are by the same
        others = [each.model_copy(update={"trend": each.trend and column.trend}) for each in others]
    kept = [each for each in (*others, column) if each != ColumnLook(measure=each.measure)]
    return change_definition(definition, look=definition.look.model_copy(update={"columns": tuple(kept)}))


def _make_trend(model: Model, grain: Grain) -> Grouping:
    """The first date of the model at a grain. Raises DefinitionProblem if it has none."""
    dated = next((field for field in model.offered if field.kind.is_date and field.level == "row"), None)
    if dated is None:
        raise DefinitionProblem("There is no date to draw a line by.", hint="Add one to the dataset or its model.")
    return make_grouping(dated, grain)


@edit
def draw_like(
    definition: ChartDefinition, model: Model, template: Template, parts: tuple[LikePart, ...] = ()
) -> ChartDefinition:
    """Draw it with the design of another chart, or of a template, or with parts of that.

    Raises DefinitionProblem if it cannot be."""
    return copy_design(definition, template, model, parts)


@edit
def set_series(
    definition: ChartDefinition,
    model: Model,
    names: Annotated[tuple[str, ...], Field(min_length=1, max_length=200)],
    changes: dict[str, Any],
) -> ChartDefinition:
    """How some series look together, by their entries in the legend; a setting of null is as usual.

    Raises DefinitionProblem for what cannot be set so."""
    there = {each.name: each for each in definition.look.series}
    changed = {name: change_look(there.get(name, SeriesLook(name=name)), changes, name) for name in names}
    kept = [each for each in (there | changed).values() if each != SeriesLook(name=each.name)]
    return change_definition(definition, look=definition.look.model_copy(update={"series": tuple(kept)}))
