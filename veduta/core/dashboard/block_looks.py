"""How a block is shown on its dashboard: its own texts, what of it is seen, its ground and border."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal

from pydantic import Field

from veduta.core.chart.contrast import DARK_INK, choose_ink, derive_dark_colour, mix_paper
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.look import Colour
from veduta.core.chart.palettes import Paints
from veduta.core.data.fields import Frozen

LIGHT_MUTED, DARK_MUTED = "#5A6B6F", "#9AABAD"
"""The palest texts of the two themes: what they are read on, every text is."""
Part = Literal["title", "dates", "total", "chart", "menu"]
PARTS: Final[dict[Part, str]] = {
    "title": "Its title",
    "dates": "The dates it covers",
    "total": "The total of its first measure",
    "chart": "The chart itself",
    "menu": "Its menu",
}
USUAL_PARTS: tuple[Part, ...] = ("title", "chart", "menu")


class BlockLook(Frozen):
    """The `subtitle` and `note` of a chart may have values in them, as its title may.

    A `ground` is a colour, "none" or "" for the usual sheet; a `border` a line around the block, or none."""

    subtitle: str = Field("", max_length=300)
    note: str = Field("", max_length=2_000)
    parts: tuple[Part, ...] = USUAL_PARTS
    ground: Colour | Literal["none"] = ""
    border: Literal["", "line", "none"] = ""


def apply_block_look(chart: ChartDefinition, title: str, look: BlockLook) -> ChartDefinition:
    """A chart with the texts that its block gives it."""
    dates, total = ("{dates}" if "dates" in look.parts else ""), ("{total}" if "total" in look.parts else "")
    below = "\n".join(filter(None, [look.subtitle or chart.note, total, dates]))
    return chart.model_copy(
        update={"title": title or chart.title, "note": below, "foot": look.note or chart.foot},
    )


@dataclass(frozen=True)
class GroundLook:
    """A ground in the light and in the dark theme. A `strong` one is written on as in the dark theme in both."""

    light: str
    dark: str
    strong: bool


def make_ground_look(colour: str, paints: Paints) -> GroundLook:
    """A colour as a ground on which every text is read: paler or deeper where it has to be."""
    chosen = paints.get_colour(colour)
    if choose_ink(chosen) != DARK_INK:
        deep = mix_paper(chosen, DARK_MUTED)
        return GroundLook(deep, deep, strong=True)
    return GroundLook(mix_paper(chosen, LIGHT_MUTED), mix_paper(derive_dark_colour(chosen), DARK_MUTED), strong=False)
