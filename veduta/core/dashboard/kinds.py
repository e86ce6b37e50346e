"""The kinds of blocks. Their templates are named as they are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal

from veduta.core.dashboard.grid import COLUMNS

BlockKind = Literal["chart", "text", "heading", "image", "divider", "control", "gap", "place", "group"]


@dataclass(frozen=True)
class Kind:
    """What a kind is called, how many columns and rows a new block of it has, and whether one over the full width stays
    so."""

    name: str
    w: int
    h: int
    stays_full: bool = False


KINDS: Final[dict[BlockKind, Kind]] = {
    "chart": Kind("Chart", 6, 5),
    "text": Kind("Text", 6, 3),
    "heading": Kind("Heading", COLUMNS, 1, stays_full=True),
    "image": Kind("Picture", 4, 4),
    "divider": Kind("Divider", COLUMNS, 1, stays_full=True),
    "control": Kind("Control", 3, 1),
    "gap": Kind("Gap", 3, 2),
    "place": Kind("Empty place", 6, 5),
    "group": Kind("Group", 6, 4),
}
