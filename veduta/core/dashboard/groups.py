"""Blocks on a page that flows, in groups and out of them.

A group is a block as well. Those in it have 12 columns of their own, whatever its width; it is as high as they need.
Every function takes all blocks of a page and gives them back in their order.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

from veduta.core.dashboard import layout
from veduta.core.dashboard.definition import DashboardBlock
from veduta.core.dashboard.grid import COLUMNS
from veduta.core.dashboard.layout import get_block, replace

Blocks = Sequence[DashboardBlock]
Change = Callable[[Blocks], Blocks]


def count_title_rows(group: DashboardBlock) -> int:
    """How many rows the title of a group takes."""
    return 1 if group.title else 0


def normalise(blocks: Blocks, first: Collection[str] = ()) -> tuple[DashboardBlock, ...]:
    """Packed, groups as high as what they hold; a group that holds nothing any more goes."""
    used = {block.group for block in blocks}
    kept = [block for block in blocks if block.kind != "group" or block.id in used]
    placed = _normalise_group(kept, "", first)
    return tuple(placed[block.id] for block in kept)


def _normalise_group(blocks: Blocks, group: str, first: Collection[str]) -> dict[str, DashboardBlock]:
    beside: list[DashboardBlock] = []
    placed: dict[str, DashboardBlock] = {}
    for block in blocks:
        if block.group != group:
            continue
        if block.kind == "group":
            inside = _normalise_group(blocks, block.id, first)
            placed |= inside
            own = [each for each in inside.values() if each.group == block.id]
            block = replace(block, h=layout.find_bottom(own) + count_title_rows(block))
        beside.append(block)
    return placed | {block.id: block for block in layout.compact(beside, first)}


def change_among(blocks: Blocks, block_id: str, change: Change) -> tuple[DashboardBlock, ...]:
    """With a change made to a block and those it stands among: on the page, or in its group."""
    group = get_block(blocks, block_id).group
    changed = {each.id: each for each in change([each for each in blocks if each.group == group])}
    return normalise([changed.get(each.id, each) for each in blocks], [block_id])


def put(blocks: Blocks, names: Sequence[str], target_id: str, side: layout.Side) -> tuple[DashboardBlock, ...]:
    """Groups after blocks were put at a side of another one.

    They join its group if it is in one; a group comes beside the other's group."""
    groups = {each.id for each in blocks if each.kind == "group"}
    target = get_block(blocks, target_id)
    if target.group in names or target_id in names:
        return normalise(blocks)
    if target.group and groups.intersection(names):
        target = get_block(blocks, target.group)

    def beside(all_: Blocks, one: str) -> Sequence[DashboardBlock]:
        joined = [replace(each, group=target.group) if each.id == one else each for each in all_]
        return change_among(joined, one, lambda near: layout.put(near, one, target.id, side))

    return change_as_one(blocks, names, beside)


def change_as_one(
    blocks: Blocks, names: Sequence[str], change: Callable[[Blocks, str], Blocks]
) -> tuple[DashboardBlock, ...]:
    """With several blocks changed as if they were a single one, whose name `change` is given."""
    if len(names) == 1:
        return normalise(change(blocks, names[0]), names)
    together = "x" * 20  # stands for them while they are changed
    changed = change(group_blocks(blocks, names, together), together)
    return ungroup_blocks(changed, together)


def group_blocks(blocks: Blocks, names: Sequence[str], group_id: str, title: str = "") -> tuple[DashboardBlock, ...]:
    """With blocks in a new group, as they stand to one another; what of them was in other groups leaves those."""
    taken = out(blocks, names)
    members = [each for each in taken if each.id in names]
    x, y = min(each.x for each in members), min(each.y for each in members)
    w = max(each.x + each.w for each in members) - x
    group = DashboardBlock(id=group_id, kind="group", title=title, x=x, y=y, w=w, h=1)

    def inside(block: DashboardBlock) -> DashboardBlock:
        return replace(layout.spread(block, x, w, 0, COLUMNS), y=block.y - y, group=group_id)

    placed = [inside(each) if each.id in names else each for each in taken]
    return normalise([*placed, group], [group_id])


def out(blocks: Blocks, names: Collection[str]) -> list[DashboardBlock]:
    """With blocks out of their groups, where they stand on the page."""
    return [_out_of(blocks, each) if each.id in names else each for each in blocks]


def _out_of(blocks: Blocks, block: DashboardBlock) -> DashboardBlock:
    """A block where it stands on the page, no matter in which group."""
    if not block.group:
        return block
    group = get_block(blocks, block.group)
    across = layout.spread(block, 0, COLUMNS, group.x, group.w)
    return replace(across, y=group.y + count_title_rows(group) + block.y, group=group.group)


def ungroup_blocks(blocks: Blocks, group_id: str) -> tuple[DashboardBlock, ...]:
    """With the blocks of a group on the page where they stand, and without the group."""
    members = {each.id for each in blocks if each.group == group_id}
    return normalise([each for each in out(blocks, members) if each.id != group_id], members)


def turn_blocks(blocks: Blocks) -> tuple[DashboardBlock, ...]:
    """With columns as rows and rows as columns, on the page and in each group."""
    names = ["", *(block.id for block in blocks if block.kind == "group")]
    inside = [layout.turn_blocks([block for block in blocks if block.group == name]) for name in names]
    changed = {block.id: block for part in inside for block in part}
    return normalise([changed[block.id] for block in blocks])


def include_members(blocks: Blocks, names: Collection[str]) -> list[DashboardBlock]:
    """The named blocks and, of groups among them, what they hold."""
    return [each for each in blocks if each.id in names or (each.group and each.group in names)]
