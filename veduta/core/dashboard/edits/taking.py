"""The edit by which settings are taken from another state of a dashboard."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from veduta.core.dashboard.definition import DashboardDefinition, load_dashboard
from veduta.core.dashboard.edits.registry import edit
from veduta.core.dashboard.merging import MergeConflict, replace_settings
from veduta.core.errors import DefinitionProblem

Text = Annotated[str, Field(max_length=40)]
Setting = tuple[Literal["page", "block", "control", "filter", "dashboard"], Text, Text]
"""The kind and the id of a part, and the name of its setting, "" for the whole part."""


@edit
def take_settings(
    definition: DashboardDefinition,
    other: dict[str, Any],
    settings: Annotated[tuple[Setting, ...], Field(max_length=2_000)],
) -> DashboardDefinition:
    """Have settings, or whole parts, as another state has them.

    Raises DefinitionProblem for a state that is not usable, and for settings that there are not."""
    source = load_dashboard(other)
    try:
        return replace_settings(definition, source, [MergeConflict(*each) for each in settings])
    except (KeyError, IndexError):
        raise DefinitionProblem("That state is not one of this dashboard.", hint="Load the page again.") from None
