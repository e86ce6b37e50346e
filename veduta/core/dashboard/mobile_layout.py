"""A page on a narrow screen: its blocks below one another, in reading order unless they were put into another one."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Annotated

from pydantic import Field

from veduta.core.dashboard.backgrounds import PageGround
from veduta.core.data.fields import Frozen

LOWEST, HIGHEST = 60, 2_000
"""px of a block on a narrow screen."""


class MobileBlock(Frozen):
    """What was set of a block for narrow screens. `height` None is as high as suits what is in it."""

    hidden: bool = False
    height: Annotated[int, Field(ge=LOWEST, le=HIGHEST)] | None = None


class MobileLayout(Frozen):
    """A page's layout for narrow screens.

    The order of blocks that were moved, settings of some, and a background of its own."""

    order: tuple[str, ...] = Field((), max_length=200)
    blocks: dict[str, MobileBlock] = Field({}, max_length=200)
    ground: PageGround | None = None


@dataclass(frozen=True)
class MobilePlacement:
    """A block on a narrow screen, by its id."""

    id: str
    hidden: bool
    height: int | None


def arrange_blocks(reading_order: Sequence[str], narrow: MobileLayout) -> list[MobilePlacement]:
    """All blocks of a page in the order of a narrow screen.

    Those that were moved have their order; each of the others stands behind the one that it stands behind on the page.
    """
    placed = [name for name in narrow.order if name in reading_order]
    before = ""
    for name in reading_order:
        if name not in placed:
            placed.insert(placed.index(before) + 1 if before else 0, name)
        before = name
    none = MobileBlock()
    settings = [(name, narrow.blocks.get(name, none)) for name in placed]
    return [MobilePlacement(name, set_.hidden, set_.height) for name, set_ in settings]


def move_block(reading_order: Sequence[str], narrow: MobileLayout, name: str, to: int) -> MobileLayout:
    """With a block at another place of the order (0 is the first).

    From then on the order of all blocks that are there is kept; what comes later goes where it stands on the page."""
    order = [each.id for each in arrange_blocks(reading_order, narrow) if each.id != name]
    order.insert(min(max(to, 0), len(order)), name)
    return narrow.model_copy(update={"order": tuple(order)})


def drop_blocks(narrow: MobileLayout, names: Iterable[str]) -> MobileLayout:
    """Without what was set of blocks that are not there any more."""
    there = set(names)
    kept = {name: each for name, each in narrow.blocks.items() if name in there and each != MobileBlock()}
    order = tuple(name for name in narrow.order if name in there)
    return narrow.model_copy(update={"order": order, "blocks": kept})
