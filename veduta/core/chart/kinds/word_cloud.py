"""Words, the larger the higher their measure."""

from __future__ import annotations

import math
from typing import Literal

from veduta.core.chart.drawing.cells import Word
from veduta.core.chart.drawing.marks import make_marks
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings
from veduta.core.chart.kinds.base import ChartKind, make_setting, register_kind
from veduta.core.phrases import pluralise

MOST_WORDS = 80
STEPS = 9


class WordSettings(Settings):
    order: Literal["size", "name"] = make_setting("Order", "size", {"size": "Largest first", "name": "By name"})


@register_kind
class WordCloud(ChartKind):
    name = "words"
    title = "words by size"
    article = ""
    theme = "Shares"
    highest_first = True
    use = "Shows which names are common at a glance; a table beside it gives the numbers."
    glyph = '<path d="M3 4h17v6H3zM22 6h7v4h-7zM3 13h9v3H3zM14 12h12v5H14zM7 19h7v2H7zM16 19.500h9V21h-9z"/>'
    measures = (1, 1)
    dimensions = (1, 1)
    settings = WordSettings
    panels = "none"

    def draw(self, picture: Picture) -> Drawing:
        made = [mark for mark in make_marks(picture) if mark.value is not None and mark.value > 0]
        notes = []
        if len(made) > MOST_WORDS:
            notes.append(f"The {MOST_WORDS} largest of {pluralise(len(made), 'word')} are shown.")
        shown = sorted(made, key=lambda mark: -mark.value)[:MOST_WORDS]
        most = shown[0].value if shown else 1
        if picture.settings.order == "name":
            shown.sort(key=lambda mark: mark.name.casefold())
        words = [Word(m.name, scale_size(m.value / most), m.said, m.point, m.on) for m in shown]
        return Drawing(words=words, notes=notes)


def scale_size(share: float) -> int:
    """The step of size for a share of the largest: areas of letters go by it, so that sizes go by its root."""
    return max(1, round(math.sqrt(share) * STEPS))
