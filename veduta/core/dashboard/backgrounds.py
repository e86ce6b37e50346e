"""What lies behind the blocks of a page: a colour, or a picture that is faded so that texts on it can be read."""

from __future__ import annotations

from functools import cache
from typing import Final, Literal

from coloraide import Color
from pydantic import Field

from veduta.core.chart.contrast import DARK_INK, READABLE, compute_contrast, derive_dark_colour, mix_paper
from veduta.core.chart.look import Colour
from veduta.core.chart.palettes import Paints
from veduta.core.dashboard.block_looks import DARK_MUTED, LIGHT_MUTED
from veduta.core.data.fields import Frozen

LIGHT_PAGE, DARK_PAGE = "#EFF2F1", "#10191C"
"""What lies behind blocks if nothing is set, in the two themes."""
DARK_TEXT = "#E4EBE9"
"""What texts are written in in the dark theme."""
Lies = Literal["cover", "once", "repeat"]
LIES: Final[dict[Lies, str]] = {"cover": "over the whole page", "once": "once, all of it", "repeat": "again and again"}
Position = Literal["center", "top", "bottom", "left", "right"]
POSITIONS: Final[dict[Position, str]] = {
    "center": "its middle",
    "top": "its top",
    "bottom": "its bottom",
    "left": "its left",
    "right": "its right",
}


class PageGround(Frozen):
    """A background: a `colour` ("" is the default), and perhaps a `picture` over it, by its name.

    `picture_kept` says which content the picture had once published. `fade` percent of the colour is laid over the
    picture; `position` says which part of a cropped picture is seen."""

    colour: Colour = ""
    picture: str = Field("", max_length=200)
    picture_kept: str = Field("", max_length=64)
    lies: Lies = "cover"
    position: Position = "center"
    fade: int = Field(70, ge=0, le=100)

    @property
    def is_usual(self) -> bool:
        return not self.colour and not self.picture


def choose_page_tones(ground: PageGround, paints: Paints) -> tuple[str, str]:
    """The colour of a background in both themes.

    It is paler or deeper than asked for where texts could not be read on it."""
    if not ground.colour:
        return LIGHT_PAGE, DARK_PAGE
    chosen = paints.get_colour(ground.colour)
    return mix_paper(chosen, LIGHT_MUTED), mix_paper(derive_dark_colour(chosen), DARK_MUTED)


def find_least_fade(ground: PageGround, paints: Paints) -> int:
    """How far a picture is faded at least, in percent, so that texts on it stay legible."""
    light, dark = choose_page_tones(ground, paints)
    return max(_find_least(light, DARK_INK, "#000000"), _find_least(dark, DARK_TEXT, "#FFFFFF"))


@cache
def _find_least(tone: str, ink: str, worst: str) -> int:
    """The least percent of a tone over the worst that a picture may have for an ink."""
    return next(
        percent for percent in range(101) if compute_contrast(ink, fade_colour(worst, tone, percent)) >= READABLE
    )


def fade_colour(colour: str, tone: str, percent: int) -> str:
    """A colour under so many percent of a tone, as screens mix them, as #RRGGBB."""
    return Color(colour).mix(tone, percent / 100, space="srgb").convert("srgb").to_string(hex=True).upper()
