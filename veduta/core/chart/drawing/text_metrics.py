"""How wide texts of drawings are, in Veduta's letters: it must be known before they are drawn, where no page is."""

from __future__ import annotations

import math

SIZES = {"": 11, "small": 9, "large": 14}
"""Letters of labels and texts, in pixels: as usual, small and large."""
_WIDTHS = (
    (0.20, "`"),
    (0.22, " '"),
    (0.24, "ijl"),
    (0.26, "|"),
    (0.28, "!,.I"),
    (0.30, "/:;[\\]ft"),
    (0.34, "-r·"),
    (0.36, "(){}"),
    (0.38, '"'),
    (0.40, "°"),
    (0.42, "*"),
    (0.50, "_z–"),
    (0.52, "$cksvxy"),
    (0.54, "1L"),
    (0.56, "47Jaeg"),
    (0.58, "0235689?bdhnopqu£"),
    (0.60, "#€"),
    (0.62, "FT"),
    (0.64, "+<=>Z^~×−"),
    (0.66, "VY"),
    (0.68, "EKPSX"),
    (0.70, "&AB"),
    (0.74, "CDHNRUw"),
    (0.80, "GOQ"),
    (0.86, "Mm…"),
    (0.94, "W"),
    (0.96, "%"),
    (1.00, "—"),
    (1.02, "@"),
)
"""The advance of letters of Archivo as shares of their size, rounded up. A letter that stands in none is taken for one
of the widest."""
_WIDTH_OF = {letter: width for width, letters in _WIDTHS for letter in letters}
WIDEST = 1.0


STRONGER = 1.06
"""How much wider strong letters are, at most."""


def measure_text(text: str, size: int = SIZES[""], strong: bool = False) -> int:
    """How many pixels a text takes at most.

    >>> measure_text("2,656,141"), measure_text("2.66M"), measure_text("Wednesday")
    (50, 32, 60)
    """
    width = size * sum(_WIDTH_OF.get(letter, WIDEST) for letter in text)
    return math.ceil(width * STRONGER if strong else width)
