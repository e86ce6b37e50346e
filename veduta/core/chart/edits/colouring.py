"""Edits of the colours and names that values have in one chart."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.edits.clauses import group_of
from veduta.core.chart.edits.registry import Index, change_definition, change_look, edit
from veduta.core.chart.look import Colour, DateLook, ValueLook, ValueName
from veduta.core.chart.value_colours import ColourAssignment, ColourList, make_field_key, make_value_keys
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model
from veduta.core.query.filters import Value


@edit
def set_value_colour(
    definition: ChartDefinition,
    model: Model,
    values: Annotated[tuple[Value, ...], Field(min_length=1, max_length=3)],
    colour: Colour = "",
) -> ChartDefinition:
    """The colour of a value in this chart alone; "" is the one it has elsewhere.

    The value is one of the dimension shown in colours, or values of several."""
    fields = tuple(make_field_key(each) for each in choose_kind(definition, model)[0].list_coloured_groups(definition))
    if len(fields) != len(values):
        raise DefinitionProblem("The chart does not show such values in colours any more.", hint="Load the page again.")
    there: dict[Any, ColourAssignment] = {
        make_value_keys(each.values): each for own in definition.colours if own.fields == fields for each in own.colours
    }
    there[make_value_keys(values)] = ColourAssignment(values=values, colour=colour)
    others = tuple(each for each in definition.colours if each.fields != fields)
    kept = tuple(each for each in there.values() if each.colour)
    lists = (*others, ColourList(fields=fields, colours=kept)) if kept else others
    return change_definition(definition, colours=lists)


@edit
def set_own_colours(definition: ChartDefinition, model: Model, own: bool) -> ChartDefinition:
    """Whether the chart takes no colours that values have elsewhere."""
    return change_definition(definition, own_colours=own)


@edit
def write_dates(
    definition: ChartDefinition,
    model: Model,
    clause: Literal["by", "split", "panels"],
    pattern: Annotated[str, Field(max_length=60)] = "",
    language: Annotated[str, Field(max_length=2)] = "en",
    index: Index = 0,
) -> ChartDefinition:
    """How the periods of a dimension are written in this chart; a pattern of "" is as usual.

    Raises DefinitionProblem for what is no pattern."""
    group = group_of(definition, clause, index)
    if group is None or not group.is_time_axis:
        raise DefinitionProblem("The chart has no such dates any more.", hint="Load the page again.")
    others = tuple(each for each in definition.look.dates if each.field != make_field_key(group))
    own = DateLook(field=make_field_key(group), pattern=pattern.strip(), language=language) if pattern.strip() else None
    dates = (*others, own) if own else others
    return change_definition(definition, look=definition.look.model_copy(update={"dates": dates}))


@edit
def set_values(
    definition: ChartDefinition,
    model: Model,
    clause: Literal["by", "split", "panels"],
    changes: dict[str, Any],
    index: Index = 0,
) -> ChartDefinition:
    """What the values of a dimension are in a table besides their words; a setting of null is as usual.

    Raises DefinitionProblem for what cannot be so."""
    group = group_of(definition, clause, index)
    if group is None:
        raise DefinitionProblem("The chart has no such dimension any more.", hint="Load the page again.")
    usual = ValueLook(field=make_field_key(group))
    now = next((each for each in definition.look.values if each.field == usual.field), usual)
    own = change_look(now, changes, group.field)
    others = tuple(each for each in definition.look.values if each.field != usual.field)
    values = others if own == usual else (*others, own)
    return change_definition(definition, look=definition.look.model_copy(update={"values": values}))


@edit
def name_value(
    definition: ChartDefinition,
    model: Model,
    clause: Literal["by", "split", "panels"],
    value: Annotated[str, Field(max_length=1_000)] | None,
    name: Annotated[str, Field(max_length=200)] = "",
    index: Index = 0,
) -> ChartDefinition:
    """What a value of a dimension is called in this chart; "" is itself."""
    group = group_of(definition, clause, index)
    if group is None:
        raise DefinitionProblem("The chart has no such dimension any more.", hint="Load the page again.")
    field, look = make_field_key(group), definition.look
    others = tuple(each for each in look.names if (each.field, each.value) != (field, value))
    if any((each.field, each.name) == (field, name.strip()) for each in others):
        raise DefinitionProblem(f"Another value is called {name.strip()} here.", hint="Make a group of them instead.")
    named = (*others, ValueName(field=field, value=value, name=name.strip())) if name.strip() else others
    return change_definition(definition, look=look.model_copy(update={"names": named}))
