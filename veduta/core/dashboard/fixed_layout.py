"""Blocks on a page of a fixed size: they stand where they are put, on its grid if it snaps, the later over the earlier.

Every function takes a page and gives it with its blocks in new places.
"""

from __future__ import annotations

from collections.abc import Collection
from typing import Literal

from veduta.core.dashboard.definition import FARTHEST, DashboardBlock, Page
from veduta.core.dashboard.grid import COLUMNS, ROW
from veduta.core.dashboard.groups import count_title_rows, normalise
from veduta.core.dashboard.layout import get_block, replace

Order = Literal["front", "forward", "backward", "back"]
SMALLEST = 20
"""px of a block, across and down."""


def _snap(page: Page, px: int) -> int:
    return round(px / page.step) * page.step if page.snap else px


def _keep_within(page: Page, block: DashboardBlock) -> DashboardBlock:
    """A block as far on its page, or in its group, as it goes."""
    held = get_block(page.blocks, block.group) if block.group else None
    width, height = (held.w, held.h) if held else (page.width, page.height)
    w, h = min(max(block.w, SMALLEST), width), min(max(block.h, SMALLEST), height)
    return replace(block, w=w, h=h, x=min(max(block.x, 0), width - w), y=min(max(block.y, 0), height - h))


def _replace_blocks(page: Page, changed: dict[str, DashboardBlock]) -> Page:
    blocks = tuple(_keep_within(page, changed[each.id]) if each.id in changed else each for each in page.blocks)
    return page.model_copy(update={"blocks": blocks})


def fit_page(page: Page) -> Page:
    """With all blocks within the page, as when it has become smaller; first those in no group."""
    outer = _replace_blocks(page, {each.id: each for each in page.blocks if not each.group})
    return _replace_blocks(outer, {each.id: each for each in outer.blocks if each.group})


def move_blocks(page: Page, names: Collection[str], right: int, down: int) -> Page:
    """With blocks so many px further, the first of them on the grid and the others as they stand to it."""
    members = [each for each in page.blocks if each.id in names]
    first = members[0]
    right, down = _snap(page, first.x + right) - first.x, _snap(page, first.y + down) - first.y
    return _replace_blocks(page, {each.id: replace(each, x=each.x + right, y=each.y + down) for each in members})


def resize_block(page: Page, block_id: str, w: int, h: int) -> Page:
    """With a block so many px wide and high, as far as the page goes; what a group holds stays in it."""
    block = get_block(page.blocks, block_id)
    w = min(max(_snap(page, w), SMALLEST), page.width - block.x)
    h = min(max(_snap(page, h), SMALLEST), page.height - block.y)
    resized = _replace_blocks(page, {block_id: replace(block, w=w, h=h)})
    return _replace_blocks(resized, {each.id: each for each in resized.blocks if each.group == block_id})


def reorder_blocks(page: Page, names: Collection[str], to: Order) -> Page:
    """With blocks before or behind the others: all of them, or the next one."""
    blocks = list(page.blocks)
    rest, taken = [each for each in blocks if each.id not in names], [each for each in blocks if each.id in names]
    places = [blocks.index(each) for each in taken]
    before = {
        "front": len(rest),
        "back": 0,
        "forward": min(max(places) - len(taken) + 2, len(rest)),
        "backward": max(min(places) - 1, 0),
    }[to]
    return page.model_copy(update={"blocks": (*rest[:before], *taken, *rest[before:])})


def group_blocks(page: Page, names: Collection[str], group_id: str, title: str) -> Page:
    """With blocks in a new group, which lies where the first of them lay."""
    members = [_out_of(page, each) for each in page.blocks if each.id in names]
    x, y = min(each.x for each in members), min(each.y for each in members)
    w, h = max(each.x + each.w for each in members) - x, max(each.y + each.h for each in members) - y
    group = DashboardBlock(id=group_id, kind="group", title=title, x=x, y=y, w=w, h=h)
    held = {each.id: replace(each, x=each.x - x, y=each.y - y, group=group_id) for each in members}
    first = next(place for place, each in enumerate(page.blocks) if each.id in names)
    blocks = [held.get(each.id, each) for each in page.blocks]
    return page.model_copy(update={"blocks": (*blocks[:first], group, *blocks[first:])})


def _out_of(page: Page, block: DashboardBlock) -> DashboardBlock:
    if not block.group:
        return block
    group = get_block(page.blocks, block.group)
    return replace(block, x=group.x + block.x, y=group.y + block.y, group="")


def ungroup_blocks(page: Page, group_id: str) -> Page:
    """With the blocks of a group on the page where they lie, and without the group."""
    blocks = [_out_of(page, each) if each.group == group_id else each for each in page.blocks if each.id != group_id]
    return page.model_copy(update={"blocks": tuple(blocks)})


def convert_to_fixed(page: Page) -> Page:
    """A page that flows as one of a fixed size, with its blocks where they stood."""
    groups = [each for each in page.blocks if each.kind == "group"]
    widths = {each.id: each.w * page.width / COLUMNS for each in groups}
    titles = {each.id: count_title_rows(each) for each in groups}

    def in_px(block: DashboardBlock) -> DashboardBlock:
        width = widths.get(block.group, page.width)
        start, end = round(block.x * width / COLUMNS), round((block.x + block.w) * width / COLUMNS)
        y = (block.y + titles.get(block.group, 0)) * ROW
        return replace(block, x=start, w=max(end - start, SMALLEST), y=y, h=block.h * ROW)

    blocks = tuple(in_px(each) for each in page.blocks)
    height = max([page.height, *(each.y + each.h for each in blocks if not each.group)])
    return page.model_copy(update={"kind": "fixed", "height": min(height, FARTHEST), "blocks": blocks})


def convert_to_flowing(page: Page) -> Page:
    """A page of a fixed size as one that flows, with its blocks about where they lay."""
    widths = {each.id: each.w for each in page.blocks if each.kind == "group"}

    def in_columns(block: DashboardBlock) -> DashboardBlock:
        width = widths.get(block.group, page.width)
        w = min(max(round(block.w * COLUMNS / width), 1), COLUMNS)
        x = min(round(block.x * COLUMNS / width), COLUMNS - w)
        return replace(block, x=x, w=w, y=round(block.y / ROW), h=min(max(round(block.h / ROW), 1), 40))

    blocks = normalise([in_columns(each) for each in page.blocks])
    return page.model_copy(update={"kind": "flowing", "blocks": blocks})
