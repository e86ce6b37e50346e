"""Edits of a page as narrow screens have it."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from veduta.core.dashboard import mobile_layout
from veduta.core.dashboard.definition import DashboardDefinition, Page
from veduta.core.dashboard.edits.registry import Name, edit, get_block, get_page, get_page_with
from veduta.core.dashboard.mobile_layout import HIGHEST, LOWEST, MobileBlock, MobileLayout


def _set(definition: DashboardDefinition, page: Page, changed: MobileLayout) -> DashboardDefinition:
    kept = mobile_layout.drop_blocks(changed, [block.id for block in page.blocks])
    return definition.replace_page(page.model_copy(update={"narrow": kept}))


@edit
def move_on_narrow(
    definition: DashboardDefinition, block: Name, to: Annotated[int, Field(ge=0)]
) -> DashboardDefinition:
    """Have a block stand somewhere else among those of its page, or of its group, on narrow screens."""
    page, group = get_page_with(definition, [block]), get_block(definition, block).group
    among = [each.id for each in page.in_reading_order if each.group == group]
    others = [name for name in page.narrow.order if name not in among]
    changed = mobile_layout.move_block(among, page.narrow, block, to)
    return _set(definition, page, changed.model_copy(update={"order": (*others, *changed.order)}))


@edit
def set_on_narrow(
    definition: DashboardDefinition,
    block: Name,
    hidden: bool = False,
    height: Annotated[int, Field(ge=LOWEST, le=HIGHEST)] | None = None,
) -> DashboardDefinition:
    """Whether narrow screens show a block, and how high it is there."""
    page = get_page_with(definition, [block])
    blocks = page.narrow.blocks | {block: MobileBlock(hidden=hidden, height=height)}
    return _set(definition, page, page.narrow.model_copy(update={"blocks": blocks}))


@edit
def reset_narrow(definition: DashboardDefinition, page: Name) -> DashboardDefinition:
    """Have narrow screens show a page as Veduta works it out."""
    return definition.replace_page(get_page(definition, page).model_copy(update={"narrow": MobileLayout()}))
