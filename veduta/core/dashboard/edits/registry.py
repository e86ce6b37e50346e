"""The registry of the edits of a dashboard, and what several of them need."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Annotated, Any

from pydantic import Field

from veduta.core.dashboard import fixed_layout, groups, layout
from veduta.core.dashboard.controls import IDENTIFIER
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page
from veduta.core.dashboard.layout import replace
from veduta.core.edit_registry import Edits
from veduta.core.errors import DefinitionProblem

edit = Edits(DashboardDefinition, given=1)
"""Registers an edit of a dashboard."""
EDITS = edit.functions
Name = Annotated[str, Field(pattern=IDENTIFIER)]
Names = Annotated[tuple[Name, ...], Field(min_length=1, max_length=200)]


def apply_edit(definition: DashboardDefinition, change: dict[str, Any]) -> DashboardDefinition:
    """The definition after `change`, {"edit": name, …arguments}.

    Raises DefinitionProblem for one that cannot be made."""
    sent = dict(change)
    return edit.apply(str(sent.pop("edit", "")), sent, definition)


def get_block(definition: DashboardDefinition, name: str) -> DashboardBlock:
    """Raises DefinitionProblem for a block that is gone."""
    block = definition.find_block(name)
    if block is None:
        raise DefinitionProblem("That block is not there any more.", hint="Undo, or load the page again.")
    return block


def get_page(definition: DashboardDefinition, name: str) -> Page:
    """Raises DefinitionProblem for a page that is gone."""
    page = definition.find_page(name)
    if page is None:
        raise DefinitionProblem("That page is not there any more.", hint="Undo, or load the page again.")
    return page


def get_page_with(definition: DashboardDefinition, blocks: Sequence[str], moving: bool = False) -> Page:
    """The page on which blocks are.

    Raises DefinitionProblem for blocks that are gone, on several pages, or locked if they are to be moved."""
    for name in blocks:
        if get_block(definition, name).locked and moving:
            raise DefinitionProblem("That block is locked.", hint="Unlock it in its menu to move or change it.")
    page = definition.find_page_of(blocks[0])
    assert page is not None
    if {each.id for each in page.blocks}.issuperset(blocks):
        return page
    raise DefinitionProblem("Those blocks are on several pages.", hint="Take those of one page.")


def replace_blocks(
    definition: DashboardDefinition, page: Page, blocks: Sequence[DashboardBlock]
) -> DashboardDefinition:
    """With blocks in place of those of a page."""
    return definition.replace_page(page.model_copy(update={"blocks": tuple(blocks)}))


def compact_page(page: Page) -> Page:
    """A page that flows with its blocks as high as they can be; a fixed one as it is."""
    return page if page.kind == "fixed" else page.model_copy(update={"blocks": groups.normalise(page.blocks)})


def include_group_members(page: Page, names: Collection[str], **changed: Any) -> Page:
    """A page with something of some of its blocks changed."""
    return page.model_copy(
        update={"blocks": tuple(replace(each, **changed) if each.id in names else each for each in page.blocks)}
    )


def must_be(page: Page, kind: str) -> None:
    if page.kind != kind:
        words = "flows" if kind == "flowing" else "has a fixed size"
        raise DefinitionProblem(f"That is for a page that {words}.", hint="Set the kind of page in its menu.")


def copy_blocks(blocks: Sequence[DashboardBlock], prefix: str) -> list[DashboardBlock]:
    """Copies by new names, which begin alike; one of a group stays in the copy of its group, if that is copied too."""
    names = {block.id: f"{prefix}{number}" for number, block in enumerate(blocks, 1)}
    return [replace(each, id=names[each.id], group=names.get(each.group, ""), locked=False) for each in blocks]


def add_blocks(page: Page, blocks: Sequence[DashboardBlock]) -> Page:
    """A page with more blocks: below all others or, where it is fixed, a step beside where they came from."""
    tops = [each for each in blocks if not each.group]
    if page.kind == "fixed":
        added = page.model_copy(update={"blocks": (*page.blocks, *blocks)})
        return fixed_layout.move_blocks(added, [each.id for each in tops], page.step, page.step) if tops else added
    down = layout.find_bottom(each for each in page.blocks if not each.group) - min(
        (each.y for each in tops), default=0
    )
    placed = [each if each.group else replace(each, y=each.y + down) for each in blocks]
    return page.model_copy(update={"blocks": groups.normalise((*page.blocks, *placed))})


def place_words(definition: DashboardDefinition, name: str) -> str:
    """Where a block stands, in words; none for one that is not there."""
    page, block = definition.find_page_of(name), definition.find_block(name)
    if page is None or block is None:
        return ""
    if page.kind == "fixed":
        return f"{block.x} px from the left, {block.y} px from the top, {block.w} px wide, {block.h} px high"
    held = f" in the group “{group.title}”" if (group := definition.find_block(block.group)) and group.title else ""
    return f"columns {block.x + 1} to {block.x + block.w}, rows {block.y + 1} to {block.y + block.h}{held}"
