"""Which values that a colleague's link, view or comment names rules keep from whoever reads it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Protocol

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drilling import Drilled, DrillStep
from veduta.core.dashboard.controls import ListChoice
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Selection, ViewState
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import VedutaError
from veduta.core.model.model import Model
from veduta.core.number_format import REST_POINT
from veduta.core.query.filters import ListFilter, Value, convert_point_value
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.row_access import is_bound

WITHHELD = "a value that you may not see"
"""What stands in the place of a text: no row has it, as no row of the one that it stands for may be seen."""
LEFT_OUT: Any = object()
"""What stands in the place of a number, which no word can stand for, until it is left out."""


class ReaderLookup(Protocol):
    """A dashboard as somebody reads it."""

    definition: DashboardDefinition
    state: ViewState
    reader: User

    @property
    def datasets(self) -> list[str]: ...
    def get_dataset(self, pk: str) -> Dataset: ...
    def get_model(self, dataset: Dataset) -> Model: ...
    def apply_drills(self, block: DashboardBlock) -> Drilled: ...
    def find_selection_source(self, selection: Selection) -> tuple[ChartDefinition, Schema] | None: ...


def filter_definition(reading: ReaderLookup) -> DashboardDefinition:
    """A dashboard whose lists and filters name nothing that its reader may not see."""
    controls, filters = [], []
    for control in reading.definition.controls:
        if control.list:
            seen = _filter_choice(reading, control.dataset, control.field, control.list)
            control = control.model_copy(update={"list": seen})
        controls.append(control)
    for fixed in reading.definition.filters:
        if isinstance(fixed.filter, ListFilter):
            group = Grouping(field=fixed.filter.field, grain=fixed.filter.grain)
            values = _list_left(_filter_values(reading, fixed.dataset, group, fixed.filter.values))
            fixed = fixed.model_copy(update={"filter": fixed.filter.model_copy(update={"values": values})})
        filters.append(fixed)
    return reading.definition.model_copy(update={"controls": tuple(controls), "filters": tuple(filters)})


def filter_state(reading: ReaderLookup) -> ViewState:
    """The state of a reading without what its reader may not see."""
    state = reading.state
    fields = {control.id: (control.dataset, control.field) for control in reading.definition.controls}
    controls = {
        name: _filter_choice(reading, *fields.get(name, ("", "")), choice) if isinstance(choice, ListChoice) else choice
        for name, choice in state.controls.items()
    }
    selections = tuple(filter(None, (filter_selection(reading, each) for each in state.selections)))
    drills = {block: _filter_steps(reading, block, steps) for block, steps in state.drills.items()}
    parts = {"controls": controls, "selections": selections, "drills": drills}
    return state.model_copy(update={name: part for name, part in parts.items() if part != getattr(state, name)})


def filter_selection(reading: ReaderLookup, selection: Selection) -> Selection | None:
    """A selection without what the reader may not see; None where nothing is left of it."""
    source = reading.find_selection_source(selection)
    dataset, groups = ("", selection.by) if source is None else (source[0].dataset, selection.by or source[0].groups)
    columns = [
        _filter_values(reading, dataset, groups[place] if place < len(groups) else None, column)
        for place, column in enumerate(zip(*selection.points, strict=False))
    ]
    points = dict.fromkeys(point for point in zip(*columns, strict=True) if LEFT_OUT not in point)
    return selection.model_copy(update={"points": tuple(points)}) if points else None


def _filter_choice(reading: ReaderLookup, dataset: str, field: str, choice: ListChoice) -> ListChoice:
    seen = _filter_values(reading, dataset, Grouping(field=field) if field else None, choice.values)
    return choice.model_copy(update={"values": _list_left(seen)})


def _list_left(values: Sequence[Value]) -> tuple[Value, ...]:
    return tuple(dict.fromkeys(value for value in values if value is not LEFT_OUT))


def _filter_steps(reading: ReaderLookup, block_id: str, steps: tuple[DrillStep, ...]) -> tuple[DrillStep, ...]:
    """Steps of which those that lead nowhere any more are left out where somebody is bound."""
    block = reading.definition.find_block(block_id)
    if not any(step.into for step in steps):
        return steps
    if block is None or not block.definition:
        return () if has_row_filter(reading) else steps
    try:
        made = reading.apply_drills(block)
    except VedutaError:
        return ()
    if not has_row_filter(reading, made.chart.dataset):
        return steps
    seen: list[DrillStep] = []
    for step, stage in zip(made.steps, made.stages, strict=True):
        into = [_filter_values(reading, stage.dataset, group, [value])[0] for group, value in step.list_filtered(stage)]
        if LEFT_OUT in into:
            break
        seen.append(step.model_copy(update={"into": tuple(into) or None}))
    return tuple(seen)


def _filter_values(reading: ReaderLookup, dataset: str, group: Grouping | None, values: Sequence[Value]) -> list[Value]:
    """Values of a dimension with a word in the place of those that the reader may not see.

    All are replaced where their data is not known. Periods and classes reveal nobody."""
    if not has_row_filter(reading, dataset):
        return list(values)
    if group and (group.grain or group.width):
        return list(values)
    if group is None:
        return [WITHHELD for _ in values]
    try:
        model = reading.get_model(reading.get_dataset(dataset))
        field = model.schema[group.field]
        own = {None, REST_POINT, *(each.name for each in group.together)}
        there = own | model.find_present_values(
            field.id, {convert_point_value(value, field) for value in values if value not in own}
        )
        instead = WITHHELD if field.kind is DataType.TEXT else LEFT_OUT
        return [value if value in own or convert_point_value(value, field) in there else instead for value in values]
    except (VedutaError, KeyError):  # nothing of it is seen
        return [WITHHELD for _ in values]


def has_row_filter(reading: ReaderLookup, dataset: str = "") -> bool:
    """Whether rules keep rows of a dataset from the reader; where it is not known of which, of any."""
    if reading.reader is None or reading.reader.is_steward:
        return False
    names = [dataset] if dataset else reading.datasets
    try:
        return any(is_bound(reading.get_dataset(name), reading.reader) for name in names)
    except VedutaError:
        return True
