"""What comes along where a block of one dashboard leads to another."""

from __future__ import annotations

from veduta.core.dashboard.controls import Choice, Control
from veduta.core.dashboard.definition import DashboardDefinition, ViewState


def carry_controls(
    source: DashboardDefinition, state: ViewState, target: DashboardDefinition
) -> dict[str, Choice | None]:
    """What the controls of another dashboard are set to by those of this one.

    Alike are those of the same kind on the same field of the same data. A control that the reader has not set carries
    nothing."""
    alike = {_identify_subject(each): each.id for each in target.controls if each.kind != "chooser"}
    return {
        alike[_identify_subject(control)]: state.controls[control.id]
        for control in source.controls
        if control.id in state.controls and _identify_subject(control) in alike
    }


def _identify_subject(control: Control) -> tuple[str, str, str]:
    return control.kind, control.dataset, control.field
