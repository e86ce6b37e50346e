"""What comes along where a block of one dashboard leads to another."""

from __future__ import annotations

from veduta.core.dashboard.controls import Choice, Control
from veduta.core.dashboard.definition import DashboardDefinition, ViewState


def controls_carried(
    source: DashboardDefinition, state: ViewState, target: DashboardDefinition
) -> dict[str, Choice | None]:
    """What controls of another dashboard are set to by those of this one that are alike: of the same kind, on the same
    field of the same data. One that the reader has not set says nothing."""
    alike = {_about(each): each.id for each in target.controls if each.kind != "chooser"}
    return {
        alike[_about(control)]: state.controls[control.id]
        for control in source.controls
        if control.id in state.controls and _about(control) in alike
    }


def _about(control: Control) -> tuple[str, str, str]:
    return control.kind, control.dataset, control.field
