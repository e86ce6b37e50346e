"""Edits of what of a chart is other in one block only."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from veduta.core.chart.merging import PARTS
from veduta.core.dashboard.definition import DashboardDefinition
from veduta.core.dashboard.edits.registry import Name, edit, get_block, get_page_with, include_group_members
from veduta.core.errors import DefinitionProblem


@edit
def set_own(
    definition: DashboardDefinition,
    block: Name,
    own: dict[str, Any],
    title: Annotated[str, Field(max_length=300)] = "",
    subtitle: Annotated[str, Field(max_length=300)] = "",
    note: Annotated[str, Field(max_length=2_000)] = "",
) -> DashboardDefinition:
    """What of a block's chart is other here, by the names of its parts, and its texts here ("" as in the chart)."""
    _must_hold_a_chart(definition, block)
    if unknown := sorted(own.keys() - PARTS.keys()):
        raise DefinitionProblem(f"A chart has no part “{unknown[0]}”.", hint="Load the page again.")
    page = get_page_with(definition, [block])
    look = get_block(definition, block).look.model_copy(update={"subtitle": subtitle, "note": note})
    return definition.replace_page(include_group_members(page, [block], own=own, title=title, look=look))


@edit
def drop_own(definition: DashboardDefinition, block: Name, part: str = "") -> DashboardDefinition:
    """Have a part of a block's chart be as it is in the chart; all parts if none is named."""
    _must_hold_a_chart(definition, block)
    kept = {name: value for name, value in get_block(definition, block).own.items() if part and name != part}
    return definition.replace_page(include_group_members(get_page_with(definition, [block]), [block], own=kept))


def _must_hold_a_chart(definition: DashboardDefinition, block: str) -> None:
    if get_block(definition, block).kind != "chart":
        raise DefinitionProblem("There is no chart in that block.", hint="Load the page again.")
