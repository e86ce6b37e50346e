"""Everything that narrows a dashboard as it is read, in words."""

from __future__ import annotations

from dataclasses import dataclass

from veduta.core.dashboard.controls import Control, ParameterChoice
from veduta.core.dashboard.definition import Block, Page
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.dashboard.following import choice_of, parameter_values
from veduta.core.errors import VedutaError
from veduta.web.dashboards.drilled import crumbs
from veduta.web.dashboards.reading import Reading
from veduta.web.modelling.services import with_values


@dataclass
class TrailItem:
    """A control, a selection or the steps by which a block is drilled, in words. `narrows` says whether it leaves
    anything out; what is `carried` was selected on another dashboard."""

    key: str
    words: str
    narrows: bool
    name: str = ""
    mode: str = ""
    carried: bool = False
    followers: int = 0


def trail_of(reading: Reading) -> list[TrailItem]:
    """What is fixed, then controls, selections and drills; worked out once for a page."""
    if "trail" not in reading.kept:
        reading.kept["trail"] = _items(reading)
    return reading.kept["trail"]


def trail_on(reading: Reading, page: Page) -> list[TrailItem]:
    """The same without filters and controls that reach nothing on a page."""
    definition = reading.definition
    scopes = {each.id: each.scope for each in definition.filters}
    scopes |= {each.id: each.scope for each in definition.controls}
    return [
        item
        for item in trail_of(reading)
        if item.mode not in ("fixed", "control")
        or any(scopes[item.key].has(page.id, block.id) for block in page.blocks)
        or not page.blocks
    ]


def _items(reading: Reading) -> list[TrailItem]:
    fixed = [_filter_item(reading, each) for each in reading.definition.filters]
    controls = [_control_item(reading, each) for each in reading.definition.controls]
    selected = [_selection_item(reading, index) for index in range(len(reading.state.selections))]
    drills = [_drill_item(reading, block) for block in reading.definition.charts if block.id in reading.state.drills]
    return [item for item in (*fixed, *controls, *selected, *drills) if item]


def _filter_item(reading: Reading, fixed: DashboardFilter) -> TrailItem | None:
    """None for one that is not said in the trail, that has no limit now, or whose data are gone."""
    if not fixed.in_trail:
        return None
    try:
        model = reading.model(reading.dataset(fixed.dataset))
        values = parameter_values(reading.definition, reading.state, fixed.dataset, "")
        settled = fixed.filter.settled(with_values(model, values).parameters)
    except VedutaError:
        return None
    return TrailItem(fixed.id, settled.words(model.schema), True, mode="fixed") if settled else None


def _control_item(reading: Reading, control: Control) -> TrailItem:
    choice = choice_of(control, reading.state)
    words = choice.words(control) if choice else "as made" if control.kind == "chooser" else "all"
    is_limit = isinstance(choice, ParameterChoice) and choice.set is not None
    narrows = is_limit or bool(choice and choice.filter(control.field))
    return TrailItem(control.id, words, narrows, name=control.name, mode="control")


def _selection_item(reading: Reading, index: int) -> TrailItem | None:
    selection = reading.state.selections[index]
    source = reading.source_of(selection)
    if source is None:
        return None
    others = [each for each in reading.definition.charts if selection.dashboard or each.id != selection.block]
    followers = 0
    for block in others:
        try:
            followers += index in reading.asked(block, reading.chart(block))[1].selected
        except VedutaError:
            continue
    made = selection.filter(source[0])
    words = made.words(source[1]) if made else ""
    carried, narrows = bool(selection.dashboard), selection.mode != "highlight"
    return TrailItem(str(index), words, narrows, mode=selection.mode, carried=carried, followers=followers)


def _drill_item(reading: Reading, block: Block) -> TrailItem | None:
    """None for a block that is not drilled, as none of the steps to it leads anywhere any more."""
    try:
        steps = crumbs(reading, block)
    except VedutaError:
        return None
    if not steps:
        return None
    narrowed = [each.value for each in steps if each.value]
    words = f"{', '.join(narrowed)} by {steps[-1].by}" if narrowed else f"by {steps[-1].by}"
    return TrailItem(block.id, words, bool(narrowed), name=reading.name_of(block), mode="drill")
