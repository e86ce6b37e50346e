"""Edits of the colours that values have in one chart."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field as Attribute

from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.edits.registry import changed_by, edit
from veduta.core.chart.look import Colour
from veduta.core.chart.value_colours import ColourList, ColourOf, key_of, keys_of
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model
from veduta.core.query.filters import Value


@edit
def set_value_colour(
    definition: ChartDefinition,
    model: Model,
    values: Annotated[tuple[Value, ...], Attribute(min_length=1, max_length=3)],
    colour: Colour = "",
) -> ChartDefinition:
    """The colour of a value of the dimension that the chart shows in colours, or of values of several, in this chart
    alone; "" is the one it has elsewhere."""
    fields = tuple(key_of(each) for each in choose_kind(definition, model)[0].coloured(definition))
    if len(fields) != len(values):
        raise DefinitionProblem("The chart does not show such values in colours any more.", hint="Load the page again.")
    there: dict[Any, ColourOf] = {
        keys_of(each.values): each for own in definition.colours if own.fields == fields for each in own.colours
    }
    there[keys_of(values)] = ColourOf(values=values, colour=colour)
    others = tuple(each for each in definition.colours if each.fields != fields)
    kept = tuple(each for each in there.values() if each.colour)
    lists = (*others, ColourList(fields=fields, colours=kept)) if kept else others
    return changed_by(definition, colours=lists)


@edit
def set_own_colours(definition: ChartDefinition, model: Model, own: bool) -> ChartDefinition:
    """Whether the chart takes no colours that values have elsewhere."""
    return changed_by(definition, own_colours=own)
