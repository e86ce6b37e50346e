"""How wide texts of drawings are, in Veduta's letters: it must be known before they are drawn, where no page is."""

from __future__ import annotations

import math

SIZE = 11
"""The usual size of letters in drawings, in pixels."""
_WIDTHS = (
    (0.24, " '`ijl|"),
    (0.31, "!I,./\\:;[]ft·-‑"),
    (0.41, 'r"(){}*°'),
    (0.53, "$ckstvxyz–_"),
    (0.58, "0123456789abdeghnopquJL#?€£"),
    (0.64, "FTZV+<=>^~−×"),
    (0.74, "KPSYEXABCDHNRU&w"),
    (0.81, "OQG"),
    (0.95, "MWm%…—‰@"),
)
"""The advance of letters of Archivo, at its weights from 400 to 600, as shares of their size: the widest of each group.
A letter that stands in none is taken for one of the widest."""
_WIDTH_OF = {letter: width for width, letters in _WIDTHS for letter in letters}
WIDEST = 1.0


def width_of(text: str, size: int = SIZE) -> int:
    """How many pixels a text takes at most.

    >>> width_of("2,656,141"), width_of("2.66M")
    (52, 33)
    """
    return math.ceil(size * sum(_WIDTH_OF.get(letter, WIDEST) for letter in text))
