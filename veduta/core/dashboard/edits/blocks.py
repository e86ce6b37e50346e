"""Edits of blocks: where they stand, and what they say."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from veduta.core.dashboard import fixed_layout, groups, layout
from veduta.core.dashboard.block_kinds import BLOCK_KINDS, BlockKind
from veduta.core.dashboard.block_looks import BlockLook
from veduta.core.dashboard.clicks import Click
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page
from veduta.core.dashboard.edits.pages import move_to_page
from veduta.core.dashboard.edits.registry import (
    Name,
    Names,
    compact_page,
    edit,
    get_block,
    get_page,
    get_page_with,
    include_group_members,
    must_be,
    replace_blocks,
)
from veduta.core.dashboard.grid import COLUMNS, ROW
from veduta.core.dashboard.layout import Edge, Side, replace
from veduta.core.dashboard.numbers import TextNumber, list_used
from veduta.core.errors import DefinitionProblem

Step = Literal[-1, 0, 1]
Text = Annotated[str, Field(max_length=20_000)]
Numbers = Annotated[tuple[TextNumber, ...], Field(max_length=50)]


def _make_content(chart: str, text: str, picture: str, control: str, numbers: Numbers) -> dict[str, Any]:
    """What stands in a block, by the names of its parts."""
    parts = {"chart": chart, "text": text, "picture": picture, "control": control}
    return parts | {"numbers": list_used(text, numbers)}


@edit
def add_block(
    definition: DashboardDefinition,
    id: Name,
    kind: BlockKind,
    page: Name = "",
    chart: str = "",
    text: str = "",
    picture: str = "",
    control: str = "",
    numbers: Numbers = (),
    target: str = "",
    side: Side = "below",
) -> DashboardDefinition:
    """Add a block at the end of a page (the first, unless one is named), or at a side of another one."""
    on = get_page_with(definition, [target]) if target else get_page(definition, page or definition.pages[0].id)
    w, h = BLOCK_KINDS[kind].w, BLOCK_KINDS[kind].h
    if on.kind == "fixed":
        w, h = w * on.width // COLUMNS, h * ROW
    block = DashboardBlock(id=id, kind=kind, w=w, h=h, **_make_content(chart, text, picture, control, numbers))
    if on.kind == "fixed":
        added = on.model_copy(update={"blocks": (*on.blocks, block)})
        return definition.replace_page(fixed_layout.move_blocks(added, [id], on.step, on.step))
    blocks = (*on.blocks, layout.find_next_position([each for each in on.blocks if not each.group], block))
    return replace_blocks(
        definition, on, groups.put(blocks, [id], target, side) if target else groups.normalise(blocks)
    )


@edit
def add_column(
    definition: DashboardDefinition, id: Name, page: Name, side: Literal["left", "right"]
) -> DashboardDefinition:
    """An empty place at a side of a page that flows, as high as all that stands beside it."""
    on = get_page(definition, page)
    must_be(on, "flowing")
    w = 3
    tops = [each for each in on.blocks if not each.group]
    narrowed = {each.id: each for each in layout.scale_width(tops, side == "left", w)}
    h = min(max(layout.find_bottom(narrowed.values()), 4), layout.TALLEST)
    place = DashboardBlock(id=id, kind="place", x=0 if side == "left" else COLUMNS - w, y=0, w=w, h=h)
    blocks = [narrowed.get(each.id, each) for each in on.blocks]
    return replace_blocks(definition, on, groups.normalise([*blocks, place], [id]))


@edit
def move_blocks(definition: DashboardDefinition, blocks: Names, x: int, y: int) -> DashboardDefinition:
    """Move the first of some blocks to a place, and the others with it.

    Where a page flows, they leave their groups, and what stands there makes room below."""
    page = get_page_with(definition, blocks, moving=True)
    if page.kind == "fixed":
        first = get_block(definition, blocks[0])
        return definition.replace_page(fixed_layout.move_blocks(page, blocks, x - first.x, y - first.y))

    def there(all_: groups.Blocks, one: str) -> groups.Blocks:
        return groups.change_among(groups.out(all_, [one]), one, lambda near: layout.move_block(near, one, x, y))

    return replace_blocks(definition, page, groups.change_as_one(page.blocks, blocks, there))


@edit
def step_blocks(definition: DashboardDefinition, blocks: Names, right: Step = 0, down: Step = 0) -> DashboardDefinition:
    """Move blocks a column or a row further, as a key does; up and down one trades places with one of its width.

    On a fixed page a step is one of its grid."""
    page = get_page_with(definition, blocks, moving=True)
    if page.kind == "fixed":
        step = page.step if page.snap else 1
        return definition.replace_page(fixed_layout.move_blocks(page, blocks, right * step, down * step))

    def step_of(all_: groups.Blocks, one: str) -> groups.Blocks:
        return groups.change_among(all_, one, lambda near: layout.step_block(near, one, right, down))

    return replace_blocks(definition, page, groups.change_as_one(page.blocks, blocks, step_of))


@edit
def size_block(definition: DashboardDefinition, block: Name, w: int, h: int) -> DashboardDefinition:
    """Make a block so many columns wide and rows high, or px on a fixed page."""
    page = get_page_with(definition, [block], moving=True)
    if page.kind == "fixed":
        return definition.replace_page(fixed_layout.resize_block(page, block, w, h))
    sized = groups.change_among(page.blocks, block, lambda near: layout.resize_block(near, block, w, h))
    return replace_blocks(definition, page, sized)


@edit
def grow_block(definition: DashboardDefinition, block: Name, right: Step = 0, down: Step = 0) -> DashboardDefinition:
    """Make a block a column wider or narrower, or a row higher or lower, as a key does."""
    page, now = get_page_with(definition, [block]), get_block(definition, block)
    step = (page.step if page.snap else 1) if page.kind == "fixed" else 1
    return size_block(definition, block, now.w + right * step, now.h + down * step)


@edit
def put_blocks(definition: DashboardDefinition, blocks: Names, target: Name, side: Side) -> DashboardDefinition:
    """Put blocks beside another one, above or below it, or on a row of their own.

    Beside it they take half of its place. They move to the other one's page if it is on another."""
    page, onto = get_page_with(definition, blocks, moving=True), get_page_with(definition, [target])
    must_be(onto, "flowing")
    if page.id != onto.id:
        definition = move_to_page(definition, blocks, onto.id)
        onto = get_page(definition, onto.id)
    return replace_blocks(definition, onto, groups.put(onto.blocks, blocks, target, side))


@edit
def move_line(definition: DashboardDefinition, block: Name, edge: Edge, by: int) -> DashboardDefinition:
    """Move the line at the right or lower edge of a block, for all blocks that end or begin there."""
    page = get_page_with(definition, [block])
    must_be(page, "flowing")
    return replace_blocks(
        definition, page, groups.change_among(page.blocks, block, lambda near: layout.move_line(near, block, edge, by))
    )


@edit
def even_row(definition: DashboardDefinition, block: Name) -> DashboardDefinition:
    """Make all blocks of a row as wide and as high as one another."""
    page = get_page_with(definition, [block])
    must_be(page, "flowing")
    return replace_blocks(
        definition, page, groups.change_among(page.blocks, block, lambda near: layout.even_widths(near, block))
    )


@edit
def same_size(definition: DashboardDefinition, blocks: Names) -> DashboardDefinition:
    """Make blocks as wide and as high as the first of them."""
    first = get_block(definition, blocks[0])
    for block in blocks[1:]:
        definition = size_block(definition, block, first.w, first.h)
    return definition


@edit
def align_blocks(
    definition: DashboardDefinition, blocks: Names, edge: Literal["left", "right", "top", "bottom"]
) -> DashboardDefinition:
    """Have blocks begin, or end, where the first of them does."""
    first = get_block(definition, blocks[0])
    for name in blocks[1:]:
        block = get_block(definition, name)
        x, y = {
            "left": (first.x, block.y),
            "right": (max(first.x + first.w - block.w, 0), block.y),
            "top": (block.x, first.y),
            "bottom": (block.x, max(first.y + first.h - block.h, 0)),
        }[edge]
        definition = move_blocks(definition, (name,), x, y)
    return definition


@edit
def order_blocks(definition: DashboardDefinition, blocks: Names, to: fixed_layout.Order) -> DashboardDefinition:
    """Have blocks of a fixed page lie over the others, or under them."""
    page = get_page_with(definition, blocks)
    must_be(page, "fixed")
    return definition.replace_page(fixed_layout.reorder_blocks(page, blocks, to))


@edit
def set_block(
    definition: DashboardDefinition,
    block: Name,
    text: Text | None = None,
    title: Annotated[str, Field(max_length=300)] | None = None,
    picture: str | None = None,
    control: str | None = None,
    numbers: Numbers | None = None,
) -> DashboardDefinition:
    """What a block says or shows; None stays as it is. Numbers that do not stand in the text go."""
    page = get_page_with(definition, [block], moving=True)
    said: dict[str, Any] = {"text": text, "title": title, "picture": picture, "control": control, "numbers": numbers}
    said = {name: value for name, value in said.items() if value is not None}
    changed = replace(get_block(definition, block), **said)
    said["numbers"] = list_used(changed.text, changed.numbers)
    return definition.replace_page(compact_page(include_group_members(page, [block], **said)))


@edit
def set_look(
    definition: DashboardDefinition,
    block: Name,
    look: BlockLook,
    title: Annotated[str, Field(max_length=300)] = "",
    click: Click = Click(),
) -> DashboardDefinition:
    """How a block is shown, what it is called here, and what a click on its marks does."""
    page = get_page_with(definition, [block], moving=True)
    return definition.replace_page(
        compact_page(include_group_members(page, [block], look=look, title=title, click=click))
    )


@edit
def fill_place(
    definition: DashboardDefinition,
    block: Name,
    kind: BlockKind,
    chart: str = "",
    text: str = "",
    picture: str = "",
    control: str = "",
    numbers: Numbers = (),
) -> DashboardDefinition:
    """Have something stand in an empty place, as large as that is."""
    if get_block(definition, block).kind != "place":
        raise DefinitionProblem("That place is filled already.", hint="Load the page again to see what is there.")
    page = get_page_with(definition, [block], moving=True)
    said = _make_content(chart, text, picture, control, numbers)
    return definition.replace_page(include_group_members(page, [block], kind=kind, **said))


@edit
def lock_blocks(definition: DashboardDefinition, blocks: Names, locked: bool = True) -> DashboardDefinition:
    """Lock blocks, so that nobody moves, sizes, changes or removes them by mistake, or unlock them."""
    return definition.replace_page(include_group_members(get_page_with(definition, blocks), blocks, locked=locked))


@edit
def group_blocks(
    definition: DashboardDefinition, id: Name, blocks: Names, title: Annotated[str, Field(max_length=300)] = ""
) -> DashboardDefinition:
    """Put blocks into a new group, which moves and has a ground as one; those of groups among them move to it."""
    page = get_page_with(definition, blocks, moving=True)
    for group in [each for each in blocks if get_block(definition, each).kind == "group"]:
        blocks = tuple(dict.fromkeys([*blocks, *(each.id for each in page.blocks if each.group == group)]))
        blocks = tuple(each for each in blocks if each != group)
        page = _drop_group(page, group)
    if page.kind == "fixed":
        return definition.replace_page(fixed_layout.group_blocks(page, blocks, id, title))
    return replace_blocks(definition, page, groups.group_blocks(page.blocks, blocks, id, title))


@edit
def ungroup(definition: DashboardDefinition, group: Name) -> DashboardDefinition:
    """Take a group away and leave its blocks where they are."""
    page = get_page_with(definition, [group], moving=True)
    return definition.replace_page(_drop_group(page, group))


def _drop_group(page: Page, group: str) -> Page:
    if page.kind == "fixed":
        return fixed_layout.ungroup_blocks(page, group)
    return page.model_copy(update={"blocks": groups.ungroup_blocks(page.blocks, group)})


@edit
def remove_blocks(definition: DashboardDefinition, blocks: Names) -> DashboardDefinition:
    """Take blocks away, groups with what they hold; those below them close up."""
    page = get_page_with(definition, blocks, moving=True)
    gone = {each.id for each in groups.include_members(page.blocks, blocks)}
    kept = tuple(each for each in page.blocks if each.id not in gone)
    return definition.replace_page(compact_page(page.model_copy(update={"blocks": kept})))
