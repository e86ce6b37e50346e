"""Bars from the longest, with the share of the whole that they make up so far."""

from __future__ import annotations

from itertools import accumulate

from veduta.core.chart.definition import Layer
from veduta.core.chart.drawing.layers import draw_layers
from veduta.core.chart.drawing.marks import Mark, is_rest, make_marks
from veduta.core.chart.drawing.picture import Drawing, Picture
from veduta.core.chart.kinds.base import ChartKind, ChartShape, register_kind

MOST_DRAWN = 60


@register_kind
class Cumulative(ChartKind):
    name = "cumulative"
    title = "bars with their share so far"
    article = ""
    theme = "Shares"
    highest_first = True
    use = "Shows how many of the largest make up most of the whole."
    glyph = (
        '<path d="M3 8h5v13H3zM10 13h5v8h-5zM17 16h5v5h-5zM24 18h5v3h-5z"/>'
        '<path fill="none" stroke="currentColor" stroke-width="1.8" d="M5 7l8-2.500 7-1.500 8-.7"/>'
    )
    measures = (1, 1)
    dimensions = (1, 1)

    def check_extra_constraints(self, asked: ChartShape) -> str:
        return asked.explain_no_whole()

    def draw(self, picture: Picture) -> Drawing:
        bars = sorted(make_marks(picture), key=lambda mark: (is_rest(mark), -(mark.value or 0)))
        notes = []
        if any((mark.value or 0) < 0 for mark in bars):
            notes.append("Shares do not make sense with negative values.")
        reached = compute_running_total([mark.value for mark in bars])
        shares = [_share(picture, mark, share) for mark, share in zip(bars, reached, strict=True)]
        if len(bars) > MOST_DRAWN:
            notes.append(f"The first {MOST_DRAWN} of {len(bars):,} are drawn.")
        layers = [
            Layer(measures=(0,), how="bar", colour="1"),
            Layer(measures=(0,), how="line", axis="second", colour="2"),
        ]
        drawing = draw_layers(picture, layers, given=[bars[:MOST_DRAWN], shares[:MOST_DRAWN]], shares_on="second")
        drawing.notes += notes
        return drawing


def compute_running_total(values: list[float | None]) -> list[float | None]:
    """The share of the total that the values up to each make up; none where the total is nothing."""
    sums = list(accumulate(value or 0 for value in values))
    return [total / sums[-1] if sums[-1] else None for total in sums]


def _share(picture: Picture, mark: Mark, share: float | None) -> Mark:
    text = "–" if share is None else picture.format_percent(share)
    tip = [*mark.tip[:1], ["Share so far", text]]
    said = f"{mark.name}: {text} so far"
    return Mark(mark.along, mark.name, "Share so far", share, text, tip, said, mark.point, mark.on, layer=1)
