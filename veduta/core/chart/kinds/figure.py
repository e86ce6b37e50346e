"""A single figure for each measure."""

from __future__ import annotations

from veduta.core.chart.drawing.cells import Figure
from veduta.core.chart.drawing.picture import Drawing, Picture
from veduta.core.chart.kinds.base import Asked, Kind, Suits, kind
from veduta.core.formats import format_value


@kind
class SingleFigure(Kind):
    name = "figure"
    title = "single figure"
    theme = "To read"
    use = "Says one number large."
    glyph = '<path d="M5 5h3.4v14H5zM12 5h8v3h-5v2.6h5V19h-8v-3h5v-2.6h-5zM23.5 16H27v3h-3.5z"/>'
    dimensions = (0, 0)
    numbers = False

    def unfit(self, asked: Asked) -> str:
        return "A single figure has no dimensions." if asked.groups else super().unfit(asked)

    def suits(self, asked: Asked) -> Suits | None:
        return Suits(1, "no dimension, so a single figure")

    def draw(self, picture: Picture) -> Drawing:
        return draw_figures(picture)


def draw_figures(picture: Picture) -> Drawing:
    formats = picture.formats
    row = picture.result.frame.row(0, named=True) if picture.result.frame.height else {}
    figures = []
    for column in picture.measures:
        value = row.get(column.key)
        exact = format_value(value, column.kind, formats[column.key])
        figures.append(Figure(column.name, exact, exact))
    return Drawing(figures=figures)
