"""Where blocks stand on a page that flows: a grid of 12 columns, in which each stands as high as it can.

Every function takes blocks and gives all of them back, none overlapping another, in the order in which they came. They
are those of a page that are in no group, or those of one group, whose width is 12 columns of its own.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from itertools import pairwise
from typing import Any, Literal

from veduta.core.dashboard.block_kinds import BLOCK_KINDS
from veduta.core.dashboard.definition import DashboardBlock
from veduta.core.dashboard.grid import COLUMNS

Side = Literal["left", "right", "above", "below", "row_above", "row_below"]
Edge = Literal["right", "below"]
LOWEST = 2_000
"""The last row on which a block may begin."""
TALLEST = 40


def overlaps(one: DashboardBlock, other: DashboardBlock) -> bool:
    """Whether two blocks share a cell of the grid."""
    beside = one.x < other.x + other.w and other.x < one.x + one.w
    return beside and one.y < other.y + other.h and other.y < one.y + one.h


def compact(blocks: Sequence[DashboardBlock], first: Collection[str] = ()) -> tuple[DashboardBlock, ...]:
    """Blocks that stand as high as those before them let them.

    They keep their order from above and from the left; where several want the same row, those that are named `first` go
    before the others."""
    wanted = sorted(blocks, key=lambda block: (block.y, block.id not in first, block.x))
    placed: dict[str, DashboardBlock] = {}
    for block in wanted:
        placed[block.id] = _float_up(block, placed.values())
    return tuple(placed[block.id] for block in blocks)


def _float_up(block: DashboardBlock, others: Iterable[DashboardBlock]) -> DashboardBlock:
    """A block on the highest row on which it meets no other."""
    above = [other for other in others if other.x < block.x + block.w and block.x < other.x + other.w]
    for row in sorted({0, *(other.y + other.h for other in above)}):
        there = replace(block, y=row)
        if not any(overlaps(there, other) for other in above):
            return there
    raise AssertionError("below all others there is room")


def replace(block: DashboardBlock, **changed: Any) -> DashboardBlock:
    """A block with another place, or something else of it changed."""
    return block.model_copy(update=changed)


def move_block(blocks: Sequence[DashboardBlock], block_id: str, x: int, y: int) -> tuple[DashboardBlock, ...]:
    """With a block moved to a place, as far as the grid goes; those that stand there make room below it."""

    def there(block: DashboardBlock) -> DashboardBlock:
        return replace(block, x=min(max(x, 0), COLUMNS - block.w), y=min(max(y, 0), LOWEST))

    return compact(_replace(blocks, block_id, there), [block_id])


def resize_block(blocks: Sequence[DashboardBlock], block_id: str, w: int, h: int) -> tuple[DashboardBlock, ...]:
    """With a block made wider or narrower, higher or lower, as far as the grid goes."""

    def so_large(block: DashboardBlock) -> DashboardBlock:
        return replace(block, w=min(max(w, 1), COLUMNS - block.x), h=min(max(h, 1), TALLEST))

    return compact(_replace(blocks, block_id, so_large), [block_id])


def put(blocks: Sequence[DashboardBlock], block_id: str, target_id: str, side: Side) -> tuple[DashboardBlock, ...]:
    """The layout with a block put at a side of another one.

    Beside it, the other gives half of its place (one of a single column stays as it is, and the block goes below it);
    above or below it, as wide as it; or on a row of its own over the full width. A heading or divider over the full
    width stays so, moved or met."""
    block, target = get_block(blocks, block_id), get_block(blocks, target_id)
    if block_id == target_id:
        return compact(blocks)
    if _is_full(block) or _is_full(target):
        side = "row_above" if side in ("above", "row_above") else "row_below"
    if side in ("left", "right") and target.w > 1:
        return _place_beside(blocks, block, target, side)
    if side in ("row_above", "row_below"):
        top, end = _find_row([each for each in blocks if each.id != block_id], target)
        row = top if side == "row_above" else end
        return _insert(blocks, replace(block, x=0, w=COLUMNS, y=row))
    y = target.y if side == "above" else target.y + target.h
    place = {"x": target.x, "w": target.w, "y": min(y, LOWEST)}
    return compact(_replace(blocks, block_id, lambda each: replace(each, **place)), [block_id])


def _is_full(block: DashboardBlock) -> bool:
    return BLOCK_KINDS[block.kind].stays_full and block.w == COLUMNS


def _place_beside(
    blocks: Sequence[DashboardBlock], block: DashboardBlock, target: DashboardBlock, side: Side
) -> tuple[DashboardBlock, ...]:
    half = target.w // 2
    rest = target.w - half
    own_x, other_x = (target.x, target.x + half) if side == "left" else (target.x + rest, target.x)
    changed = {
        block.id: replace(block, x=own_x, w=half, y=target.y, h=target.h),
        target.id: replace(target, x=other_x, w=rest),
    }
    return compact([changed.get(each.id, each) for each in blocks], changed)


def _find_row(blocks: Sequence[DashboardBlock], target: DashboardBlock) -> tuple[int, int]:
    """From which row to before which all stand that stand beside a block, or beside one of those, and so on."""
    top, bottom = target.y, target.y + target.h
    while True:
        beside = [block for block in blocks if block.y < bottom and top < block.y + block.h]
        reach = min(block.y for block in beside), max(block.y + block.h for block in beside)
        if reach == (top, bottom):
            return reach
        top, bottom = reach


def _insert(blocks: Sequence[DashboardBlock], block: DashboardBlock) -> tuple[DashboardBlock, ...]:
    """With a block in its place, and those from its row on moved down by its height."""
    others = [replace(each, y=min(each.y + block.h, LOWEST)) if each.y >= block.y else each for each in blocks]
    return compact([block if each.id == block.id else each for each in others], [block.id])


def even_widths(blocks: Sequence[DashboardBlock], block_id: str) -> tuple[DashboardBlock, ...]:
    """The layout with the blocks of a block's row made equally wide, and as high as the highest.

    A row with more blocks than columns stays as it is."""
    row = sorted((each for each in blocks if each.y == get_block(blocks, block_id).y), key=lambda each: each.x)
    if len(row) > COLUMNS:
        return compact(blocks)
    ends = [round(COLUMNS * place / len(row)) for place in range(len(row) + 1)]
    height = max(each.h for each in row)
    changed = {
        each.id: replace(each, x=start, w=end - start, h=height)
        for each, (start, end) in zip(row, pairwise(ends), strict=True)
    }
    return compact([changed.get(each.id, each) for each in blocks], changed)


def move_line(blocks: Sequence[DashboardBlock], block_id: str, edge: Edge, by: int) -> tuple[DashboardBlock, ...]:
    """The layout with a block's right or lower edge moved by columns or rows.

    Blocks that end on the line grow, those that begin on it shrink, as far as each keeps a column or a row."""
    block = get_block(blocks, block_id)
    if edge == "below":
        ends = block.y + block.h
        beside = _list_along(blocks, [block], lambda each: each.y + each.h == ends, across=True)
        by = max(by, 1 - min(each.h for each in beside))
        changed = {each.id: replace(each, h=min(each.h + by, TALLEST)) for each in beside}
        return compact([changed.get(each.id, each) for each in blocks], changed)
    line = block.x + block.w
    met = _list_along(blocks, [block], lambda each: line in (each.x, each.x + each.w), across=False)
    left, right = [each for each in met if each.x + each.w == line], [each for each in met if each.x == line]
    by = min(max(by, 1 - min(each.w for each in left)), min((each.w - 1 for each in right), default=COLUMNS - line))
    changed = {each.id: replace(each, w=each.w + by) for each in left}
    changed |= {each.id: replace(each, x=each.x + by, w=each.w - by) for each in right}
    return compact([changed.get(each.id, each) for each in blocks], changed)


def _list_along(
    blocks: Sequence[DashboardBlock],
    found: list[DashboardBlock],
    on_line: Callable[[DashboardBlock], bool],
    across: bool,
) -> list[DashboardBlock]:
    """The blocks on a line that belong together with those `found`.

    They share rows or, on a line `across`, touch one another."""
    on_it = [each for each in blocks if on_line(each)]
    while True:
        if across:
            more = [each for each in on_it if any(each.x <= of.x + of.w and of.x <= each.x + each.w for of in found)]
        else:
            more = [each for each in on_it if any(each.y < of.y + of.h and of.y < each.y + each.h for of in found)]
        if len(more) == len(found):
            return more
        found = more


def scale_width(blocks: Sequence[DashboardBlock], left: bool, w: int) -> tuple[DashboardBlock, ...]:
    """With room for a column of so many columns at the left or right: all stand closer together."""
    rest = COLUMNS - w
    return compact([spread(block, 0, COLUMNS, w if left else 0, rest) for block in blocks])


def spread(block: DashboardBlock, x: int, w: int, to_x: int, to_w: int) -> DashboardBlock:
    """A block that stands somewhere in the `w` columns from `x` on, as far along in other ones."""
    start = round((block.x - x) * to_w / w)
    end = round((block.x + block.w - x) * to_w / w)
    width = max(end - start, 1)
    return replace(block, x=to_x + min(start, max(to_w - width, 0)), w=width)


def turn_blocks(blocks: Sequence[DashboardBlock]) -> tuple[DashboardBlock, ...]:
    """The layout turned: rows become columns.

    What stood below one another then stands side by side, of equal width and height. Blocks over the full width stay
    and divide the rest, unless all are."""
    rest = [block for block in blocks if not _is_full(block)]
    only_rows = all(block.w == COLUMNS for block in rest)
    placed: list[DashboardBlock] = []
    band: list[DashboardBlock] = []
    for block in _read(blocks):
        if _is_full(block) or (block.w == COLUMNS and not only_rows):
            placed += _make_rows(_split_columns(band), find_bottom(placed))
            placed.append(replace(block, y=find_bottom(placed)))
            band = []
        else:
            band.append(block)
    placed += _make_rows(_split_columns(band), find_bottom(placed))
    turned_ = {block.id: block for block in placed}
    return compact([turned_[block.id] for block in blocks])


def _read(blocks: Iterable[DashboardBlock]) -> list[DashboardBlock]:
    return sorted(blocks, key=lambda block: (block.y, block.x))


def _split_columns(blocks: Sequence[DashboardBlock]) -> list[list[DashboardBlock]]:
    """Blocks by where they begin, from the left and from above."""
    starts = sorted({block.x for block in blocks})
    return [[block for block in _read(blocks) if block.x == start] for start in starts]


def _make_rows(rows: Sequence[Sequence[DashboardBlock]], top: int) -> list[DashboardBlock]:
    """Each sequence of blocks as a row over the full width; one of more blocks than columns goes on in the next row."""
    placed: list[DashboardBlock] = []
    for whole in rows:
        for begin in range(0, len(whole), COLUMNS):
            row = whole[begin : begin + COLUMNS]
            ends = [round(COLUMNS * place / len(row)) for place in range(len(row) + 1)]
            height = max(block.h for block in row)
            y = max(top, find_bottom(placed))
            placed += [
                replace(block, x=x, y=y, w=end - x, h=height)
                for block, (x, end) in zip(row, pairwise(ends), strict=True)
            ]
    return placed


def step_block(blocks: Sequence[DashboardBlock], block_id: str, right: int, down: int) -> tuple[DashboardBlock, ...]:
    """With a block a column or a row further; up and down it trades places with one of its width."""
    block = get_block(blocks, block_id)
    other = find_neighbour(blocks, block_id, down > 0) if down else None
    if other:
        return swap_blocks(blocks, block_id, other.id)
    return move_block(blocks, block_id, block.x + right, block.y + down)


def swap_blocks(blocks: Sequence[DashboardBlock], block_id: str, other_id: str) -> tuple[DashboardBlock, ...]:
    """With two blocks of one width that stand right above one another in each other's places; others as they are."""
    one, other = get_block(blocks, block_id), get_block(blocks, other_id)
    upper, lower = (one, other) if one.y < other.y else (other, one)
    changed = {lower.id: replace(lower, y=upper.y), upper.id: replace(upper, y=upper.y + lower.h)}
    return compact([changed.get(each.id, each) for each in blocks])


def find_neighbour(blocks: Sequence[DashboardBlock], block_id: str, down: bool) -> DashboardBlock | None:
    """The block of the same width that stands right below another one, or right above it."""
    block = get_block(blocks, block_id)
    touching = [each for each in blocks if (each.x, each.w) == (block.x, block.w) and each.id != block_id]
    if down:
        return next((each for each in touching if each.y == block.y + block.h), None)
    return next((each for each in touching if each.y + each.h == block.y), None)


def find_bottom(blocks: Iterable[DashboardBlock]) -> int:
    """The row below all blocks."""
    return max((block.y + block.h for block in blocks), default=0)


def find_next_position(blocks: Sequence[DashboardBlock], block: DashboardBlock) -> DashboardBlock:
    """A new block where reading would go on: beside the last block where there is room for it, else below all."""
    last = max(blocks, key=lambda each: (each.y, each.x), default=None)
    if last is not None and last.x + last.w + block.w <= COLUMNS:
        beside = replace(block, x=last.x + last.w, y=last.y)
        if not any(overlaps(beside, other) for other in blocks):
            return beside
    return replace(block, y=find_bottom(blocks))


def stack_blocks(blocks: Sequence[DashboardBlock]) -> tuple[DashboardBlock, ...]:
    """The blocks below one another over the full width, in reading order, as a narrow screen has them."""
    row, placed = 0, {}
    for block in sorted(blocks, key=lambda each: (each.y, each.x)):
        placed[block.id] = replace(block, x=0, w=COLUMNS, y=row)
        row += block.h
    return tuple(placed[block.id] for block in blocks)


def _replace(
    blocks: Sequence[DashboardBlock], block_id: str, change: Callable[[DashboardBlock], DashboardBlock]
) -> list[DashboardBlock]:
    get_block(blocks, block_id)
    return [change(each) if each.id == block_id else each for each in blocks]


def get_block(blocks: Sequence[DashboardBlock], block_id: str) -> DashboardBlock:
    """Raises KeyError for a block that is not there."""
    found = next((block for block in blocks if block.id == block_id), None)
    if found is None:
        raise KeyError(block_id)
    return found
