"""A page on paper: where its sheets end, and which blocks an end would cut."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Final, Literal

from pydantic import Field

from veduta.core.dashboard.grid import ROW
from veduta.core.data.fields import Frozen

if TYPE_CHECKING:
    from veduta.core.dashboard.definition import DashboardBlock

Size = Literal["A3", "A4", "A5", "Letter"]
SIZES: Final[dict[Size, tuple[int, int]]] = {"A3": (297, 420), "A4": (210, 297), "A5": (148, 210), "Letter": (216, 279)}
"""mm across and down of a sheet that stands upright."""
PX_OF_MM = 96 / 25.4
HEAD, TRAIL_LINE = 80, 37
"""px that the name of the dashboard takes on the first sheet, and each line of what narrows it."""
LETTER, AROUND_WORDS, SHOWING = 6.2, 38, 52
"""px of a letter there, around the words of each part, and before the first."""


class PrintLayout(Frozen):
    """The sheets on which a dashboard is printed, with margins in mm.

    `header` and `footer` are words for every sheet, in which {page} and {date} stand for the name of the page and the
    latest date of the data; the number of the sheet is beside the footer."""

    size: Size = "A4"
    direction: Literal["upright", "lying"] = "upright"
    margin: Annotated[int, Field(ge=5, le=40)] = 14
    header: str = Field("", max_length=200)
    footer: str = Field("", max_length=200)

    @property
    def mm(self) -> tuple[int, int]:
        """Across and down."""
        short, long = SIZES[self.size]
        return (long, short) if self.direction == "lying" else (short, long)

    @property
    def width(self) -> int:
        """px across, between the margins."""
        return int((self.mm[0] - 2 * self.margin) * PX_OF_MM)

    @property
    def rows(self) -> int:
        """How many rows of blocks a sheet takes, one at least."""
        return max(int((self.mm[1] - 2 * self.margin) * PX_OF_MM // ROW), 1)


@dataclass(frozen=True)
class Sheets:
    """At which rows new sheets begin, and which blocks would be cut.

    Each cut block has its id and the rows that are left of its sheet where it begins."""

    begins: tuple[int, ...]
    cut: dict[str, int]


def count_head_rows(trail: Sequence[str], paper: PrintLayout) -> int:
    """How many rows the name of the dashboard and its trail, by the words of its parts, take on the first sheet."""
    lines, at = 1, float(SHOWING)
    for words in trail:
        width = len(words) * LETTER + AROUND_WORDS
        if at + width > paper.width:
            lines, at = lines + 1, 0.0
        lines, at = lines + int((at + width) // paper.width), (at + width) % paper.width
    return math.ceil((HEAD + lines * TRAIL_LINE) / ROW)


def split_into_sheets(
    blocks: Sequence[DashboardBlock], paper: PrintLayout, breaks: Collection[str], goes_on: Collection[str], head: int
) -> Sheets:
    """How the blocks of a flowing page, outside groups, fall onto sheets.

    The first sheet has `head` rows of a head. Blocks of `breaks` begin a new sheet. Those that go on may be cut, as
    long tables are, and so is whatever is higher than a sheet."""
    begins: list[int] = []
    cut: dict[str, int] = {}
    start, room = 0, max(paper.rows - head, 1)
    for block in sorted(blocks, key=lambda each: (each.y, each.x)):
        while block.y >= start + room:
            start, room = start + room, paper.rows
            begins.append(start)
        if block.id in breaks and block.y > start:
            start, room = block.y, paper.rows
            begins.append(start)
        left = start + room - block.y
        if block.h > left and block.id not in goes_on and block.h <= paper.rows:
            cut[block.id] = left
    end = max((block.y + block.h for block in blocks), default=0)
    while end > start + room:
        start, room = start + room, paper.rows
        begins.append(start)
    return Sheets(tuple(dict.fromkeys(begins)), cut)
