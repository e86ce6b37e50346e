"""Which filters a block follows: the controls and the marks selected in other blocks, as far as it has their fields."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from dataclasses import field as attribute
from typing import Any

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.points import points_filters
from veduta.core.dashboard.controls import Control, DatesChoice, ListChoice, ParameterChoice
from veduta.core.dashboard.definition import DashboardDefinition, Selection, ViewState
from veduta.core.data.fields import Kind, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.query.filters import Filter

Choice = DatesChoice | ListChoice | ParameterChoice | None
KINDS = {"dates": DatesChoice, "list": ListChoice, "parameter": ParameterChoice}


@dataclass
class Following:
    """The filters of one block, and in words what it does not follow because it lacks the field."""

    filters: list[Filter] = attribute(default_factory=list)
    not_followed: list[str] = attribute(default_factory=list)


def choice_of(control: Control, state: ViewState) -> Choice:
    """What a control is set to: by the reader, else by whoever made the dashboard.

    Raises DefinitionProblem for a choice of the wrong kind.
    """
    if control.id not in state.controls:
        first: Choice = getattr(control, control.kind)
        return first
    choice = state.controls[control.id]
    if control.kind == "parameter" and choice is None:
        return ParameterChoice(set=None)
    if choice is not None and not isinstance(choice, KINDS[control.kind]):
        raise DefinitionProblem(f"“{control.name}” cannot be set to that.", hint="Start again from the plain address.")
    return choice


def parameter_values(dashboard: DashboardDefinition, state: ViewState, dataset: str) -> dict[str, Any]:
    """What the parameters of a dataset's model are set to by the dashboard's controls."""
    values = {}
    for control in dashboard.controls:
        choice = choice_of(control, state) if control.dataset == dataset else None
        if isinstance(choice, ParameterChoice):
            values[control.field] = list(choice.set) if choice.set is not None else None
    return values


def matching_field(field: str, name: str, kind: Kind, dataset: str, own_dataset: str, schema: Schema) -> str | None:
    """The same field in the same dataset, or one of the same name and kind of value in another."""
    if dataset == own_dataset:
        return field if field in schema else None
    alike = schema.named(name, kind)
    return alike.id if alike else None


def filters_for_block(
    block_id: str,
    chart: ChartDefinition,
    schema: Schema,
    dashboard: DashboardDefinition,
    state: ViewState,
    source_of: Callable[[Selection], tuple[ChartDefinition, Schema] | None],
) -> Following:
    """What narrows a block besides its own filters. `source_of` gives the chart and schema of a selection's block,
    if it has one.

    A block never follows its own selection, so that its other marks stay there to be clicked.
    """
    following = Following()
    for control in dashboard.controls:
        if control.kind == "parameter":
            continue
        choice = choice_of(control, state)
        field = matching_field(control.field, control.name, control.field_kind, control.dataset, chart.dataset, schema)
        if field is None:
            if choice and choice.filter(control.field):
                following.not_followed.append(control.name)
        elif choice and (made := choice.filter(field)):
            following.filters.append(made)
    for selection in state.selections:
        is_own = selection.block == block_id and not selection.dashboard
        source = None if is_own else source_of(selection)
        if source is None or not source[0].groups:
            continue
        _follow_selection(following, selection, source, chart, schema)
    return following


def _follow_selection(
    following: Following,
    selection: Selection,
    source: tuple[ChartDefinition, Schema],
    chart: ChartDefinition,
    schema: Schema,
) -> None:
    definition, source_schema = source
    groups = []
    made = next(iter(points_filters(definition, selection.points, selection.mode == "leave_out")), None)
    if made is None:
        return
    if made.rest and definition.dataset != chart.dataset:
        # Which values were gathered is known only in the selection's own dataset.
        following.not_followed.append(source_schema[made.rest.field].name)
        return
    for group in made.groups:
        field = source_schema[group.field]
        own = matching_field(field.id, field.name, field.kind, definition.dataset, chart.dataset, schema)
        if own is None:
            following.not_followed.append(field.name)
            return
        groups.append(group.model_copy(update={"field": own}))
    following.filters.append(made.model_copy(update={"groups": tuple(groups)}))
