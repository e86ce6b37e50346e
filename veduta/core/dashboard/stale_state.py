"""What of a reader's state is not on a dashboard any more, as when a link is older than what was published."""

from __future__ import annotations

from veduta.core.dashboard.definition import DashboardDefinition, Selection, ViewState


def drop_stale_state(definition: DashboardDefinition, state: ViewState) -> tuple[ViewState, list[str]]:
    """A state without controls and blocks that are gone, and the names of what was dropped.

    Names are as in `list_state_parts`."""
    controls, blocks = {each.id for each in definition.controls}, {each.id for each in definition.blocks}

    def is_there(selection: Selection) -> bool:
        return bool(selection.dashboard) or selection.block in blocks

    kept = state.model_copy(
        update={
            "controls": {name: choice for name, choice in state.controls.items() if name in controls},
            "selections": tuple(each for each in state.selections if is_there(each)),
            "drills": {block: steps for block, steps in state.drills.items() if block in blocks},
            "sorts": {block: sort for block, sort in state.sorts.items() if block in blocks},
        }
    )
    there = set(list_state_parts(kept))
    return kept, [part for part in list_state_parts(state) if part not in there]


def list_state_parts(state: ViewState) -> list[str]:
    """The parts of a state, each by a name of its own."""
    return [
        *(f"control {name}" for name in state.controls),
        *(f"selection {each.block}" for each in state.selections),
        *(f"drill {block}" for block in state.drills),
        *(f"sort {block}" for block in state.sorts),
    ]
