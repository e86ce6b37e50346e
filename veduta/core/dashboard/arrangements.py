"""Arrangements to begin a page with: empty places, each of which says what belongs there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from veduta.core.dashboard.block_kinds import BlockKind
from veduta.core.dashboard.definition import DashboardBlock

Place = tuple[int, int, int, int, str]
"""Where a place begins, across and down, its columns and rows, and what belongs there."""


@dataclass(frozen=True)
class Arrangement:
    """An arrangement by its name. `headings` are over the full width, at their rows."""

    id: str
    name: str
    words: str
    places: tuple[Place, ...]
    headings: tuple[tuple[int, str], ...] = ()

    @property
    def blocks(self) -> tuple[DashboardBlock, ...]:
        """Its blocks, with names of their own."""
        headings: list[tuple[Place, BlockKind]] = [((0, y, 12, 1, text), "heading") for y, text in self.headings]
        parts: list[tuple[Place, BlockKind]] = [*headings, *((place, "place") for place in self.places)]
        return tuple(
            DashboardBlock(id=f"b{number}", kind=kind, x=x, y=y, w=w, h=h, text=text)
            for number, ((x, y, w, h, text), kind) in enumerate(parts, 1)
        )


STARTS: tuple[Arrangement, ...] = (
    Arrangement(
        "headline",
        "One headline and its details",
        "A figure that everybody asks for first, how it came about, and where.",
        (
            (0, 0, 12, 2, "The figure that everybody asks for first"),
            (0, 2, 8, 5, "How it went over time"),
            (8, 2, 4, 5, "Where it comes from, the largest first"),
            (0, 7, 12, 5, "All of it, as a table"),
        ),
    ),
    Arrangement(
        "executive",
        "Executive overview",
        "A column for each of three measures: its figure and target, a ranking, this year against last.",
        (
            *((x, 1, 4, 3, f"{which} measure, with its target") for x, which in ((0, "First"), (4, "Second"))),
            (8, 1, 4, 3, "Third measure, with its target"),
            (0, 4, 4, 5, "Ranking by one dimension"),
            (4, 4, 4, 5, "Ranking by another one"),
            (8, 4, 4, 5, "Ranking by a third one"),
            *((x, 9, 4, 5, "This year against last, by month") for x in (0, 4, 8)),
        ),
        headings=((0, "How we stand"),),
    ),
    Arrangement(
        "comparison",
        "Two beside each other",
        "The same three views of two things: regions, vessels, plan and result.",
        (
            *((x, 1, 6, 2, f"The figure of the {which}") for x, which in ((0, "one"), (6, "other"))),
            *((x, 3, 6, 5, f"The course of the {which}") for x, which in ((0, "one"), (6, "other"))),
            *((x, 8, 6, 4, f"What makes up the {which}") for x, which in ((0, "one"), (6, "other"))),
        ),
        headings=((0, "The one and the other"),),
    ),
    Arrangement(
        "years",
        "This year against last",
        "How far ahead or behind, month by month, and what changed most.",
        (
            (0, 0, 4, 2, "This year so far"),
            (4, 0, 4, 2, "Last year at this time"),
            (8, 0, 4, 2, "The change"),
            (0, 2, 12, 5, "Both years by month"),
            (0, 7, 6, 5, "What grew most"),
            (6, 7, 6, 5, "What fell most"),
        ),
    ),
    Arrangement(
        "detail",
        "List and detail",
        "A list at the left; what is chosen in it is told at the right.",
        (
            (0, 0, 4, 12, "The list: a click on a line focuses the others"),
            (4, 0, 8, 2, "Figures of what is chosen"),
            (4, 2, 8, 5, "Its course over time"),
            (4, 7, 8, 5, "Its rows, or what it is made of"),
        ),
    ),
    Arrangement(
        "map",
        "Map and ranking",
        "Where it happens, which places lead, and how that developed.",
        (
            (0, 0, 8, 8, "The map"),
            (8, 0, 4, 8, "The places, highest first"),
            (0, 8, 12, 4, "Their course over time"),
        ),
    ),
    Arrangement(
        "table",
        "A single large table",
        "For those who look numbers up: controls above, all columns below.",
        (
            *((x, 0, 3, 1, "A control to narrow it by") for x in (0, 3, 6, 9)),
            (0, 1, 12, 12, "The table"),
        ),
    ),
    Arrangement(
        "report",
        "Printed report",
        "Read from above: what happened, a picture of it, why, and the numbers.",
        (
            (0, 1, 12, 2, "What happened, in a few sentences"),
            (0, 3, 12, 6, "The picture that shows it"),
            (0, 9, 6, 4, "Why it happened"),
            (6, 9, 6, 4, "What follows from it"),
            (0, 13, 12, 6, "The numbers"),
        ),
        headings=((0, "Report"),),
    ),
    Arrangement(
        "watch",
        "Watch on the wall",
        "Four figures to be read from afar, and what moves right now.",
        (
            *((x, 0, 3, 3, f"The {which} figure") for x, which in ((0, "first"), (3, "second"), (6, "third"))),
            (9, 0, 3, 3, "The fourth figure"),
            (0, 3, 8, 7, "What moves right now"),
            (8, 3, 4, 7, "What needs somebody"),
        ),
    ),
)
BY_ID = {start.id: start for start in STARTS}


def make_placeholders(blocks: Sequence[DashboardBlock], names: Sequence[str]) -> list[DashboardBlock]:
    """The arrangement with an empty, named placeholder for each chart, text and the like.

    Headings, dividers, spacers and groups stay as they are."""
    kept = ("heading", "divider", "gap", "group", "place")
    return [
        block
        if block.kind in kept
        else DashboardBlock(
            id=block.id, kind="place", x=block.x, y=block.y, w=block.w, h=block.h, group=block.group, text=name
        )
        for block, name in zip(blocks, names, strict=True)
    ]
