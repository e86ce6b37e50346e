"""A crosstab: one dimension across, the others down, with totals of both."""

from __future__ import annotations

from typing import Any

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.cells import (
    MOST_ROWS,
    Cell,
    Key,
    Row,
    TableLayout,
    by_key,
    in_order,
    measure_cell,
    total_cells,
    total_notes,
)
from veduta.core.chart.drawing.in_cells import MeasureCells
from veduta.core.chart.drawing.picture import Drawing, Picture, plain_point
from veduta.core.chart.kinds.base import MOST_SERIES, Asked, Kind, Suits, kind
from veduta.core.formats import EMPTY

MOST_ACROSS = 60


@kind
class Crosstab(Kind):
    name = "crosstab"
    title = "crosstab"
    theme = "To read"
    use = "Sets one dimension against another, with the totals of both."
    glyph = (
        '<path d="M12 3h17v4H12zM3 10h6v11H3z"/>'
        '<path fill="none" stroke="currentColor" stroke-width="1.8" stroke-dasharray="5 1" '
        'd="M12 11.5h17M12 15.8h17M12 20h17"/>'
    )
    dimensions = (2, None)
    numbers = False
    panels = "told"
    in_cells = ("bar", "shade")

    def unfit(self, asked: Asked) -> str:
        few = len(asked.definition.groups) < 2
        return "A crosstab needs two dimensions." if few else super().unfit(asked)

    def suits(self, asked: Asked) -> Suits | None:
        further = [asked.values(group) for group in asked.groups[1:] if not group.grain]
        if len(asked.definition.by) == 2 or any(count > MOST_SERIES for count in further):
            return Suits(0.85, "two dimensions with many values, so a crosstab")
        return None

    def totals(self, definition: ChartDefinition) -> tuple[tuple[int, ...], ...]:
        last = len(definition.groups) - 1
        return (tuple(range(last)), (last,), ())

    def draw(self, picture: Picture) -> Drawing:
        return draw_crosstab(picture)


def draw_crosstab(picture: Picture) -> Drawing:
    """The last dimension across, the others down, every measure under each value; totals at the right and below."""
    result = picture.result
    *down, across = result.dimensions
    measures, frame = result.measures, result.frame
    values = in_order(
        [result.value(row, across.key) for row in frame.iter_rows(named=True)], result.orders.get(across.key, ())
    )
    notes = []
    if len(values) > MOST_ACROSS:
        notes.append(f"Showing {MOST_ACROSS} of {len(values):,} columns.")
        values = values[:MOST_ACROSS]
    down_keys = [column.key for column in down]
    cells_of: dict[Key, dict[Any, Row]] = {}
    for row in frame.iter_rows(named=True):
        key = tuple(result.value(row, each) for each in down_keys)
        cells_of.setdefault(key, {})[result.value(row, across.key)] = row
    if len(cells_of) > MOST_ROWS:
        notes.append(f"The crosstab shows the first {MOST_ROWS:,} of {len(cells_of):,} rows.")
    several, measure_cells = len(measures) > 1, MeasureCells(picture)
    top = [Cell(column.name) for column in down]
    top += [Cell(picture.words(across, value), number=True, span=len(measures)) for value in values]
    headings = [[*top, Cell("Total", number=True, span=len(measures))]]
    if several:
        names = [Cell(column.name, number=True) for column in measures]
        headings.append([Cell("") for _ in down] + names * (len(values) + 1))
    row_totals = by_key(result, result.totals.get(tuple(range(len(down)))), down_keys)
    column_totals = by_key(result, result.totals.get((len(down),)), [across.key])
    rows = []
    for key, by_value in list(cells_of.items())[:MOST_ROWS]:
        cells = [Cell(picture.words(column, value)) for column, value in zip(down, key, strict=True)]
        for value in values:
            there, point = by_value.get(value), plain_point([*key, value])
            if there is None:
                cells += [Cell(EMPTY, number=True) for _ in measures]
            else:
                cells += [measure_cells.of(i, there, point, (*key, value)) for i in range(len(measures))]
        cells += total_cells(picture, row_totals.get(key, {}), plain_point(list(key)))
        rows.append(cells)
    totals: list[Cell] = [Cell("Total", span=len(down))]
    for value in values:
        totals += [measure_cell(picture, column, column_totals.get((value,), {}), None) for column in measures]
    grand = result.totals[()].row(0, named=True) if () in result.totals else {}
    totals += total_cells(picture, grand, [])
    notes += total_notes(measures)
    return Drawing(table=TableLayout(headings, rows, [totals], len(down)), notes=notes)
