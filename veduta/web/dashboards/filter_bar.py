"""Everything that narrows a dashboard as it is read, in words."""

from __future__ import annotations

from dataclasses import dataclass

from veduta.core.dashboard.block_filters import collect_parameter_values, get_choice
from veduta.core.dashboard.controls import Control, ParameterChoice
from veduta.core.dashboard.definition import DashboardBlock, Page
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.errors import VedutaError
from veduta.web.dashboards.drill_crumbs import list_crumbs
from veduta.web.dashboards.session import DashboardSession
from veduta.web.modelling.services import apply_values


@dataclass
class FilterBarItem:
    """A control, a selection or the steps by which a block is drilled, in words.

    `narrows` says whether it leaves anything out; what is `carried` was selected on another dashboard."""

    key: str
    words: str
    narrows: bool
    name: str = ""
    mode: str = ""
    carried: bool = False
    followers: int = 0


def list_filter_bar(reading: DashboardSession) -> list[FilterBarItem]:
    """What is fixed, then controls, selections and drills; worked out once for a page."""
    if "trail" not in reading.kept:
        reading.kept["trail"] = _list_items(reading)
    return reading.kept["trail"]


def list_filter_bar_on(reading: DashboardSession, page: Page) -> list[FilterBarItem]:
    """The same without filters and controls that reach nothing on a page."""
    definition = reading.definition
    scopes = {each.id: each.scope for each in definition.filters}
    scopes |= {each.id: each.scope for each in definition.controls}
    return [
        item
        for item in list_filter_bar(reading)
        if item.mode not in ("fixed", "control")
        or any(scopes[item.key].has(page.id, block.id) for block in page.blocks)
        or not page.blocks
    ]


def _list_items(reading: DashboardSession) -> list[FilterBarItem]:
    fixed = [_filter_item(reading, each) for each in reading.definition.filters]
    controls = [_make_control_item(reading, each) for each in reading.definition.controls]
    selected = [_make_selection_item(reading, index) for index in range(len(reading.state.selections))]
    drills = [
        _make_drill_item(reading, block) for block in reading.definition.charts if block.id in reading.state.drills
    ]
    return [item for item in (*fixed, *controls, *selected, *drills) if item]


def _filter_item(reading: DashboardSession, fixed: DashboardFilter) -> FilterBarItem | None:
    """None for one that is not said in the trail, that has no limit now, or whose data are gone."""
    if not fixed.in_trail:
        return None
    try:
        model = reading.get_model(reading.get_dataset(fixed.dataset))
        values = collect_parameter_values(reading.definition, reading.state, fixed.dataset, "")
        settled = fixed.filter.resolve_parameters(apply_values(model, values).parameters)
    except VedutaError:
        return None
    return FilterBarItem(fixed.id, settled.describe(model.schema), True, mode="fixed") if settled else None


def _make_control_item(reading: DashboardSession, control: Control) -> FilterBarItem:
    choice = get_choice(control, reading.state)
    words = choice.describe(control) if choice else "as made" if control.kind == "chooser" else "all"
    is_limit = isinstance(choice, ParameterChoice) and choice.set is not None
    narrows = is_limit or bool(choice and choice.filter(control.field))
    return FilterBarItem(control.id, words, narrows, name=control.name, mode="control")


def _make_selection_item(reading: DashboardSession, index: int) -> FilterBarItem | None:
    selection = reading.state.selections[index]
    source = reading.find_selection_source(selection)
    if source is None:
        return None
    others = [each for each in reading.definition.charts if selection.dashboard or each.id != selection.block]
    followers = 0
    for block in others:
        try:
            followers += index in reading.prepare(block, reading.get_chart(block))[1].selected
        except VedutaError:
            continue
    made = selection.filter(source[0])
    words = made.describe(source[1]) if made else ""
    carried, narrows = bool(selection.dashboard), selection.mode != "highlight"
    return FilterBarItem(str(index), words, narrows, mode=selection.mode, carried=carried, followers=followers)


def _make_drill_item(reading: DashboardSession, block: DashboardBlock) -> FilterBarItem | None:
    """None for a block that is not drilled, as none of the steps to it leads anywhere any more."""
    try:
        steps = list_crumbs(reading, block)
    except VedutaError:
        return None
    if not steps:
        return None
    narrowed = [each.value for each in steps if each.value]
    words = f"{', '.join(narrowed)} by {steps[-1].by}" if narrowed else f"by {steps[-1].by}"
    return FilterBarItem(block.id, words, bool(narrowed), name=reading.name_of(block), mode="drill")
