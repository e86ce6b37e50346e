"""Which filters a block follows.

The dashboard's own, its controls, and the marks selected in other blocks, as far as each reaches the block and the
block has their fields."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from veduta.core.chart.definition import ChartDefinition
from veduta.core.dashboard.controls import CHOICES, Choice, ChooserChoice, Control, ParameterChoice
from veduta.core.dashboard.definition import DashboardDefinition, Selection, ViewState
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.dashboard.scope import EVERYWHERE, BlockScope
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.query.filters import Filter, MembershipFilter
from veduta.core.query.filters.base import FieldCondition

SourceOf = Callable[[Selection], tuple[ChartDefinition, Schema] | None]
SchemaOf = Callable[[str], Schema]
MembersOf = Callable[[DashboardFilter], FieldCondition | None]
NOT_REACHED = "it is set not to"
NOT_FILTERS = ("parameter", "chooser")
"""Kinds of control that set something else."""


@dataclass(frozen=True)
class AppliedFilter:
    """A filter of the dashboard, as seen from a block.

    Its name, its setting in words, and why the block does not follow it, "" if it does. The block may `lack` the field.
    """

    name: str
    words: str
    why_not: str = ""
    lacks: bool = False


@dataclass
class BlockFilters:
    """What filters one block.

    Its filters, those that only highlight its marks, all that filters the dashboard, and the origins of the selections
    it follows, be it only by highlighting."""

    filters: list[Filter] = dataclasses.field(default_factory=list)
    highlights: list[Filter] = dataclasses.field(default_factory=list)
    narrowings: list[AppliedFilter] = dataclasses.field(default_factory=list)
    selected: set[int] = dataclasses.field(default_factory=set)

    @property
    def not_followed(self) -> list[str]:
        """What it does not follow because it lacks the field."""
        return [each.name for each in self.narrowings if each.lacks]

    def follow(self, name: str, words: str, filter_: Filter) -> None:
        self.filters.append(filter_)
        self.narrowings.append(AppliedFilter(name, words))

    def leave(self, name: str, words: str, why_not: str, lacks: bool = False) -> None:
        self.narrowings.append(AppliedFilter(name, words, why_not, lacks))


@dataclass(frozen=True)
class _BlockContext:
    """A block, with what it shows and of which data."""

    page: str
    block: str
    chart: ChartDefinition
    schema: Schema

    def is_in(self, scope: BlockScope) -> bool:
        return scope.has(self.page, self.block)


def get_choice(control: Control, state: ViewState) -> Choice | None:
    """What a control is set to: by the reader, else by whoever made the dashboard.

    One that is required cannot be set to nothing.

    Raises DefinitionProblem for a choice of the wrong kind.
    """
    if control.id not in state.controls:
        return get_default(control)
    choice = state.controls[control.id]
    if control.required and (choice is None or is_none(choice, control)):
        return get_default(control)
    if control.kind == "parameter" and choice is None:
        return ParameterChoice(set=None)
    if choice is not None and not isinstance(choice, CHOICES[control.kind]):
        raise DefinitionProblem(f"“{control.name}” cannot be set to that.", hint="Start again from the plain address.")
    return choice


def list_choosers(dashboard: DashboardDefinition, state: ViewState, block: str) -> list[tuple[Control, ChooserChoice]]:
    """What the choosers that reach a block are set to."""
    page = _find_page(dashboard, block)
    reaching = [each for each in dashboard.controls if each.kind == "chooser" and each.scope.has(page, block)]
    set_to = [(control, get_choice(control, state)) for control in reaching]
    return [(control, choice) for control, choice in set_to if isinstance(choice, ChooserChoice)]


def get_default(control: Control) -> Choice | None:
    """What whoever made the dashboard has set a control to."""
    first: Choice | None = getattr(control, control.kind)
    return first


def is_none(choice: Choice, control: Control) -> bool:
    """Whether a choice narrows nothing, or is no limit."""
    if isinstance(choice, ChooserChoice):
        return False
    return choice.set is None if isinstance(choice, ParameterChoice) else choice.filter(control.field) is None


def collect_parameter_values(
    dashboard: DashboardDefinition, state: ViewState, dataset: str, block: str
) -> dict[str, Any]:
    """What the parameters of a dataset's model are set to for a block by the dashboard's controls."""
    page = _find_page(dashboard, block)
    values = {}
    for control in dashboard.controls:
        choice = get_choice(control, state) if control.dataset == dataset else None
        if isinstance(choice, ParameterChoice) and control.scope.has(page, block):
            values[control.field] = list(choice.set) if choice.set is not None else None
    return values


def find_matching_field(
    field: str, name: str, kind: DataType, dataset: str, own_dataset: str, schema: Schema, fields: Mapping[str, str]
) -> str | None:
    """The field's counterpart in a dataset.

    In the same dataset the field itself, in another the one that is set for it, else one of the same name and kind."""
    if dataset == own_dataset:
        return field if field in schema else None
    if own_dataset in fields:
        return fields[own_dataset] if fields[own_dataset] in schema else None
    alike = schema.find_named(name, kind)
    return alike.id if alike else None


def collect_block_filters(  # noqa: PLR0913 - options, each given by name
    block_id: str,
    chart: ChartDefinition,
    schema: Schema,
    dashboard: DashboardDefinition,
    state: ViewState,
    source_of: SourceOf,
    schema_of: SchemaOf,
    members_of: MembersOf = lambda fixed: None,
) -> BlockFilters:
    """What narrows a block besides its own filters.

    `source_of` gives the chart and schema of a selection's block, if it has one, `schema_of` that of a dataset,
    `members_of` the values that a filter by a question names in its own data, None if it has no limit now.

    A block never follows its own selection, so that its other marks stay there to be clicked; one made of dimensions
    that it has no more, because it was drilled since, sets its marks off.
    """
    following = BlockFilters()
    place = _BlockContext(_find_page(dashboard, block_id), block_id, chart, schema)
    for fixed in dashboard.filters:
        _follow_filter(following, fixed, place, schema_of, members_of)
    for control in dashboard.controls:
        if control.kind not in NOT_FILTERS:
            _follow_control(following, control, get_choice(control, state), place)
    for number, selection in enumerate(state.selections):
        is_own = selection.block == block_id and not selection.dashboard
        if is_own:
            if not selection.list_own_points(chart):
                _set_off_own(following, selection, source_of(selection))
            continue
        source = source_of(selection)
        if source is None or not (selection.by or source[0].groups):
            continue
        if _follow_selection(following, selection, source, place, dashboard):
            following.selected.add(number)
    _reach_into_questions(following, dashboard)
    return following


def _reach_into_questions(following: BlockFilters, dashboard: DashboardDefinition) -> None:
    """Let the dashboard's filters reach into the questions of filters that follow it.

    A chart's own filters do not: the top five are the same five in every block."""
    questions = [each.filter for each in dashboard.filters if isinstance(each.filter, MembershipFilter)]
    following_it = [each for each in questions if each.follows]
    others = tuple(each for each in following.filters if each not in following_it)
    for place, made in enumerate(following.filters):
        if isinstance(made, MembershipFilter) and made in following_it:
            own = (*made.filters, *others)
            following.filters[place] = made.model_copy(update={"filters": own, "follows": False})


def _set_off_own(following: BlockFilters, selection: Selection, source: tuple[ChartDefinition, Schema] | None) -> None:
    made = selection.filter(source[0]) if source else None
    if made is not None:
        following.highlights.append(made)


def _find_page(dashboard: DashboardDefinition, block: str) -> str:
    page = dashboard.find_page_of(block)
    return page.id if page else ""


def _follow_filter(
    following: BlockFilters, fixed: DashboardFilter, place: _BlockContext, schema_of: SchemaOf, members_of: MembersOf
) -> None:
    try:
        own = schema_of(fixed.dataset)
        name = words = fixed.describe(own)
    except VedutaError:
        return  # it narrows nothing: its dataset or field is gone, which the editor says
    if not place.is_in(fixed.scope):
        following.leave(name, words, NOT_REACHED)
    elif fixed.dataset == place.chart.dataset:
        following.follow(name, words, fixed.filter)
    elif not isinstance(fixed.filter, FieldCondition):
        following.leave(name, words, "it is about measures of other data")
    else:
        field = own[fixed.filter.field]
        there = find_matching_field(
            field.id, field.name, field.kind, fixed.dataset, place.chart.dataset, place.schema, fixed.fields
        )
        if there is None:
            following.leave(name, words, _explain_missing_field(field.name, fixed.fields, place), lacks=True)
        else:
            is_question = isinstance(fixed.filter, MembershipFilter)
            grain = getattr(fixed.filter, "grain", None)
            if grain and grain.needs_time and place.schema[there].kind is DataType.DATE:
                following.leave(name, words, "its data know no time of day", lacks=True)
                return
            made = members_of(fixed) if is_question else fixed.filter
            if made is not None:
                made = made.with_field(there)
                following.follow(name, words if is_question else made.describe(place.schema), made)


def _follow_control(following: BlockFilters, control: Control, choice: Choice | None, place: _BlockContext) -> None:
    if choice is None or not choice.filter(control.field):
        return  # it narrows nothing
    words = choice.describe(control)
    if not place.is_in(control.scope):
        following.leave(control.name, words, NOT_REACHED)
        return
    field = find_matching_field(
        control.field,
        control.name,
        control.field_kind,
        control.dataset,
        place.chart.dataset,
        place.schema,
        control.fields,
    )
    made = choice.filter(field) if field else None
    if made is None:
        following.leave(control.name, words, _explain_missing_field(control.name, control.fields, place), lacks=True)
    else:
        following.follow(control.name, words, made)


def _explain_missing_field(name: str, fields: Mapping[str, str], place: _BlockContext) -> str:
    if place.chart.dataset in fields:
        return "its data is set not to"
    return f"its data has no field like “{name}”"


def _follow_selection(
    following: BlockFilters,
    selection: Selection,
    source: tuple[ChartDefinition, Schema],
    place: _BlockContext,
    dashboard: DashboardDefinition,
) -> bool:
    """Whether the block follows it."""
    definition, source_schema = source
    made = selection.filter(definition)
    if made is None:
        return False
    words = made.describe(source_schema)
    clicked = None if selection.dashboard else dashboard.find_block(selection.block)
    if not place.is_in(clicked.reaches if clicked else EVERYWHERE):
        following.leave(words, words, "a click there is set not to reach it")
        return False
    dataset = place.chart.dataset
    if made.rest and definition.dataset != dataset:
        # Which values were gathered is known only in the selection's own dataset.
        name = source_schema[made.rest.field].name
        following.leave(name, words, "which values were gathered is known in its own data only", lacks=True)
        return False
    groups = []
    for group in made.groups:
        field = source_schema[group.field]
        own = find_matching_field(field.id, field.name, field.kind, definition.dataset, dataset, place.schema, {})
        if own is None:
            following.leave(field.name, words, _explain_missing_field(field.name, {}, place), lacks=True)
            return False
        if group.grain and group.grain.needs_time and place.schema[own].kind is DataType.DATE:
            following.leave(field.name, words, "its data know no time of day", lacks=True)
            return False
        groups.append(group.model_copy(update={"field": own}))
    filter_ = made.model_copy(update={"groups": tuple(groups)})
    if selection.mode == "highlight" or (clicked and place.block in clicked.highlights):
        following.highlights.append(filter_)
        following.narrowings.append(AppliedFilter(words, words, "it only sets its marks off"))
    else:
        following.follow(words, words, filter_)
    return True
