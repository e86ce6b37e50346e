"""A waterfall: from one total to another by the parts that make the difference."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from veduta.core.chart.definition import ChartDefinition, Layer
from veduta.core.chart.drawing.layers import draw_layers
from veduta.core.chart.drawing.marks import Mark, make_marks
from veduta.core.chart.drawing.picture import Drawing, Picture
from veduta.core.chart.kinds.base import ChartKind, ChartShape, register_kind
from veduta.core.number_format import format_value
from veduta.core.query.query import Sort

RISES, FALLS, TOTAL = "▲ rises", "▼ falls", "total"
COLOURS = {RISES: "1", FALLS: "3", TOTAL: "quiet"}
LAYERS = (
    Layer(measures=(0,), how="range"),
    Layer(measures=(0,), how="text", colour="ink"),
)


@dataclass(frozen=True)
class WaterfallStep:
    """A part's way from `start` to `end`; none is a total, from zero."""

    start: float
    end: float
    is_total: bool = False


def make_steps(changes: list[float | None], begin: float | None = None) -> list[WaterfallStep]:
    """The parts one after another, each from where the one before ended, then the total.

    A total to `begin` with comes first. An empty part changes nothing."""
    at = begin or 0.0
    found = [] if begin is None else [WaterfallStep(0, at, True)]
    for change in changes:
        found.append(WaterfallStep(at, at + (change or 0)))
        at += change or 0
    return [*found, WaterfallStep(0, at, True)]


@register_kind
class Waterfall(ChartKind):
    name = "waterfall"
    title = "waterfall"
    theme = "To compare"
    use = "Goes from nothing to a total, or from one measure's total to another's, by the parts between."
    glyph = '<path d="M3 8h5v13H3zM10 4h5v6h-5zM17 9h5v7h-5zM24 12h5v9h-5z"/>'
    measures = (1, 2)
    dimensions = (1, 1)

    def check_extra_constraints(self, asked: ChartShape) -> str:
        return next(filter(None, (asked.explain_no_whole((i,)) for i in range(len(asked.measures)))), "")

    def sort(self, definition: ChartDefinition) -> Sort | None:
        """The largest first."""
        return Sort(by="measure", descending=True) if len(definition.measures) == 1 else super().sort(definition)

    def draw(self, picture: Picture) -> Drawing:
        changes, begin = _list_changes(picture)
        found = make_steps(changes, begin)
        made = make_marks(picture, picture.measures[:1])
        bars = [_make_total(picture, picture.measures[0].name, found[0])] if begin is not None else []
        for mark, step in zip(made, found[len(bars) :], strict=False):
            bars.append(_make_part(picture, mark, step))
        bars.append(_make_total(picture, picture.measures[-1].name if begin is not None else "Total", found[-1]))
        texts = [_make_text(bar) for bar in bars]
        drawing = draw_layers(picture, LAYERS, given=[bars, texts], unnamed=(1,), colours=COLOURS)
        if len(picture.measures) > 1:
            before, after = (measure.name for measure in picture.measures)
            drawing.notes.append(f"Each part is the difference from {before} to {after}.")
        return drawing


def _list_changes(picture: Picture) -> tuple[list[float | None], float | None]:
    """What each part changes, and the total that they begin from, if it is not nothing."""
    values = [picture.result.frame[measure.key].to_list() for measure in picture.measures]
    if len(values) == 1:
        return values[0], None
    before, after = ([value or 0 for value in each] for each in values)
    return [b - a for a, b in zip(before, after, strict=True)], float(sum(before))


def _format_change(picture: Picture, value: float, signed: bool) -> str:
    measure = picture.measures[0]
    text = format_value(value, measure.kind, picture.formats[measure.key])
    return f"+{text}" if signed and value > 0 else text


def _make_part(picture: Picture, mark: Mark, step: WaterfallStep) -> Mark:
    change = step.end - step.start
    paint = RISES if change >= 0 else FALLS
    mark.text = _format_change(picture, change, signed=True)
    mark.value, mark.more, mark.series = step.start, {"to": step.end}, paint
    mark.tip = [mark.tip[0], ["Change", mark.text], ["From", _format_change(picture, step.start, False)]]
    mark.tip.append(["To", _format_change(picture, step.end, False)])
    mark.said = f"{mark.name}: {mark.text}"
    return mark


def _make_total(picture: Picture, name: str, step: WaterfallStep) -> Mark:
    text = _format_change(picture, step.end, signed=False)
    more: dict[str, Any] = {"to": step.end}
    return Mark(name, name, TOTAL, 0, text, [[name, text]], f"{name}: {text}", None, more=more)


def _make_text(bar: Mark) -> Mark:
    top = max(bar.value, bar.more["to"])
    return Mark(bar.along, bar.name, "", top, bar.text, bar.tip, bar.said, bar.point, bar.on, layer=1)
