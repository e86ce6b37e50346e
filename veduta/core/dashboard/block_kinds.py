"""The kinds of blocks. Their templates are named as they are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal

from veduta.core.dashboard.grid import COLUMNS

BlockKind = Literal["chart", "text", "heading", "image", "divider", "control", "gap", "place", "group"]


@dataclass(frozen=True)
class BlockKindSpec:
    """A kind of block: its name, the columns and rows of a new one, and whether one over the full width stays so."""

    name: str
    w: int
    h: int
    stays_full: bool = False


BLOCK_KINDS: Final[dict[BlockKind, BlockKindSpec]] = {
    "chart": BlockKindSpec("Chart", 6, 5),
    "text": BlockKindSpec("Text", 6, 3),
    "heading": BlockKindSpec("Heading", COLUMNS, 1, stays_full=True),
    "image": BlockKindSpec("Picture", 4, 4),
    "divider": BlockKindSpec("Divider", COLUMNS, 1, stays_full=True),
    "control": BlockKindSpec("Control", 3, 1),
    "gap": BlockKindSpec("Gap", 3, 2),
    "place": BlockKindSpec("Empty place", 6, 5),
    "group": BlockKindSpec("Group", 6, 4),
}
