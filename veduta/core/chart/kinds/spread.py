"""Boxes: the quartiles of the rows of each group."""

from __future__ import annotations

from veduta.core.chart.definition import ChartDefinition, Layer
from veduta.core.chart.drawing.layers import draw_layers
from veduta.core.chart.drawing.marks import Mark, make_marks
from veduta.core.chart.drawing.picture import Drawing, Picture
from veduta.core.chart.kinds.base import ChartKind, ChartShape, register_kind
from veduta.core.chart.kinds.dots import Direction
from veduta.core.number_format import format_value
from veduta.core.query.measures import Measure

PARTS = (
    ("Lowest", "min({x})"),
    ("First quartile", "percentile({x}, 25)"),
    ("Median", "median({x})"),
    ("Third quartile", "percentile({x}, 75)"),
    ("Highest", "max({x})"),
)


@register_kind
class Boxes(ChartKind):
    name = "box"
    title = "boxes"
    article = ""
    theme = "Distributions"
    use = "Shows how the rows of each group spread: half of them in the box, the median in it, all on the line."
    glyph = (
        '<path fill="none" stroke="currentColor" stroke-width="1.4" d="M9 2v20M23 5v16"/>'
        '<path d="M5 8h8v8H5zM19 10h8v7h-8z"/><path stroke="#fff" stroke-width="1.6" d="M5 12.500h8M19 13h8"/>'
    )
    measures = (1, 1)
    dimensions = (1, 1)
    settings = Direction

    def check_extra_constraints(self, asked: ChartShape) -> str:
        measure = asked.measures[0]
        field = asked.model.schema.get(measure.field)
        is_row = field is not None and field.level == "row" and field.kind.is_number
        return "" if is_row else "Boxes show the rows of a field that is a number."

    def list_unseen_measures(self, definition: ChartDefinition) -> tuple[Measure, ...]:
        x = f'"#{definition.measures[0].field}"'
        return tuple(Measure(formula=formula.format(x=x), name=name) for name, formula in PARTS)

    def draw(self, picture: Picture) -> Drawing:
        low, first, middle, third, high = (part.key for part in picture.result.unseen)
        said = _write_tips(picture)
        spans = ((low, high), (first, third), (middle, middle))
        given = [_make_spans(picture, ends, layer, said) for layer, ends in enumerate(spans)]
        layers = [
            Layer(measures=(0,), how="link", colour="quiet"),
            Layer(measures=(0,), how="range", colour="1"),
            Layer(measures=(0,), how="tick", colour="2", width=2.5),
        ]
        lying = picture.settings.direction == "lying"
        return draw_layers(picture, layers, lying=lying, given=given, unnamed=(1, 2))


def _write_tips(picture: Picture) -> list[list[list[str]]]:
    """The parts of each group, named and formatted."""
    column, parts = picture.measures[0], picture.result.unseen
    number_format = picture.formats[column.key]
    return [
        [[part.name, format_value(row[part.key], column.kind, number_format)] for part in parts]
        for row in picture.result.frame.iter_rows(named=True)
    ]


def _make_spans(picture: Picture, ends: tuple[str, str], layer: int, said: list[list[list[str]]]) -> list[Mark]:
    """A mark of each group from one of its parts to another, which says all of them."""
    made = make_marks(picture, picture.measures, layer, {"start": ends[0], "to": ends[1]})
    for mark, parts in zip(made, said, strict=True):
        mark.value, mark.series = mark.more.pop("start"), ""
        mark.tip = [mark.tip[0], *parts]
        mark.text = parts[2][1]
        mark.said = f"{mark.name}: " + ", ".join(f"{name.lower()} {text}" for name, text in parts)
    return made
