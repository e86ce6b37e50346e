"""Facts about any colour: its notation, its legibility on a ground, its dark counterpart."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from coloraide import Color

LIGHT_GROUND, DARK_GROUND = "#FFFFFF", "#172327"
"""The sheets on which is drawn."""
DARK_INK, LIGHT_INK = "#16262B", "#FFFFFF"
"""Texts on grounds of any colour."""
READABLE = 4.5
"""The least contrast of a text with its ground, as WCAG 2.2 asks for."""
SEEN, TINTED = 3.0, 0.08
"""The least contrast of a mark with the sheet; what has less chroma than that is a tint to write on."""
TOLERANCE = 1e-4


def write_colour(text: str) -> str:
    """A colour written in any way of CSS (hex, rgb, hsl, a name) as #RRGGBB; "" for what is none."""
    try:
        return Color(text.strip()).convert("srgb").to_string(hex=True, alpha=False, fit=True).upper()
    except ValueError:
        return ""


@cache
def compute_contrast(colour: str, ground: str) -> float:
    """The contrast of two colours, from 1 to 21, as WCAG 2.2 defines it."""
    return Color(colour).contrast(ground, method="wcag21")


@cache
def choose_ink(ground: str) -> str:
    """The text that is read better on a ground, dark or light; its contrast is 4.5 or more on any."""
    dark, light = compute_contrast(DARK_INK, ground), compute_contrast(LIGHT_INK, ground)
    if max(dark, light) < READABLE:
        return "#000000"
    return DARK_INK if dark >= light else LIGHT_INK


@cache
def make_readable(colour: str, ground: str, least: float = READABLE) -> str:
    """The colour, or the nearest one of its hue whose contrast with a ground is large enough."""
    if compute_contrast(colour, ground) >= least:
        return colour
    darker = compute_contrast("#000000", ground) > compute_contrast("#FFFFFF", ground)
    return _find_nearest(colour, lambda tone: compute_contrast(tone, ground) >= least, 0.0 if darker else 1.0)


@cache
def mix_paper(colour: str, ink: str) -> str:
    """The colour, or the nearest one of its hue on which texts of an ink can be read."""
    if compute_contrast(ink, colour) >= READABLE:
        return colour
    brighter = compute_contrast("#FFFFFF", ink) > compute_contrast("#000000", ink)
    return _find_nearest(colour, lambda tone: compute_contrast(ink, tone) >= READABLE, 1.0 if brighter else 0.0)


@cache
def derive_dark_colour(colour: str) -> str:
    """The dark theme's counterpart of a colour, of the same hue and contrast.

    A colour that is pale on the light sheet becomes a deep one on the dark sheet, a strong one a light one; a strong
    colour is visible on either."""
    least = SEEN if Color(colour).convert("oklch")[1] > TINTED else 1.0
    wanted = min(max(compute_contrast(colour, LIGHT_GROUND), least), compute_contrast("#FFFFFF", DARK_GROUND))
    return _find_nearest(colour, lambda tone: compute_contrast(tone, DARK_GROUND) >= wanted, 1.0, DARK_GROUND)


def _find_nearest(colour: str, holds: Callable[[str], bool], end: float, start: str = "") -> str:
    """The nearest tone of a colour's hue that passes a test.

    Lightness moves from the colour's own, or from `start`, towards an end (0 or 1), and stops at the first tone that
    passes."""
    lightness, chroma, hue = (part if part == part else 0.0 for part in Color(colour).convert("oklch").coords())
    near, far = (Color(start).convert("oklch")[0] if start else lightness), end
    while abs(far - near) > TOLERANCE:
        middle = (near + far) / 2
        if holds(_write_tone(middle, chroma, hue)):
            far = middle
        else:
            near = middle
    return _write_tone(far, chroma, hue)


def _write_tone(lightness: float, chroma: float, hue: float) -> str:
    """A colour of OKLCH as #RRGGBB, with less chroma where the screen has none so strong."""
    return Color("oklch", [lightness, chroma, hue]).convert("srgb").fit().to_string(hex=True).upper()
