"""A table: a row for each group, a column for each dimension and measure."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.cells import (
    MOST_ROWS,
    Cell,
    TableLayout,
    by_key,
    heading,
    is_number,
    measure_cell,
    total_cells,
    total_notes,
)
from veduta.core.chart.drawing.conditions import formats_on_dimension, look_of
from veduta.core.chart.drawing.in_cells import MeasureCells
from veduta.core.chart.drawing.picture import Drawing, Picture, plain_point
from veduta.core.chart.kinds.base import Asked, Kind, Suits, kind
from veduta.core.model.model import Model
from veduta.core.query.filters import Filter
from veduta.core.query.query import Query, Sort

MOST_BARS = 60
MOST_POINTS = 200_000
"""Points of all small lines together."""
MOST_MEASURES = 4


@kind
class Table(Kind):
    name = "table"
    title = "table"
    theme = "To read"
    use = "Gives exact numbers, several of each thing, and dates and texts as well."
    glyph = (
        '<path d="M3 3h26v4H3z"/>'
        '<path fill="none" stroke="currentColor" stroke-width="1.6" d="M3 11.5h26M3 16h26M3 20.5h26"/>'
    )
    dimensions = (0, None)
    numbers = False
    shows_rows = True
    panels = "told"
    has_subtotals = True
    in_cells = ("bar", "shade", "line")

    def suits(self, asked: Asked) -> Suits | None:
        groups, measures = len(asked.groups), len(asked.measures)
        if not asked.numbers:
            return Suits(0.95, "dates or text to read, so a table")
        if groups > 2 or (measures > 1 and groups > 1) or measures > MOST_MEASURES:
            return Suits(0.9, "many fields, so a table")
        first = asked.first
        if first and first.is_plain and asked.values(first) > MOST_BARS:
            return Suits(0.7, f"{asked.model.facts(first.field).distinct:,} values, so a table")
        return None

    def sort(self, definition: ChartDefinition) -> Sort | None:
        """With one dimension the highest first."""
        return Sort(by="measure", descending=True) if len(definition.groups) == 1 else super().sort(definition)

    def totals(self, definition: ChartDefinition) -> tuple[tuple[int, ...], ...]:
        groups = len(definition.groups)
        if definition.totals == "none" or not groups:
            return ()
        depths = range(groups - 1, 0, -1) if definition.totals == "all" else ()
        return (*(tuple(range(depth)) for depth in depths), ())

    def beside(self, definition: ChartDefinition, model: Model, extra: tuple[Filter, ...] = ()) -> Query | None:
        """How the measures went by the date of their small lines, the same for all columns that have some."""
        trend = next((each.trend for each in definition.look.columns if each.trend), None)
        if trend is None:
            return None
        groups, filters = (*definition.groups, trend), (*definition.only, *extra)
        return Query(groups=groups, measures=definition.measures, filters=filters, limit=MOST_POINTS)

    def draw(self, picture: Picture) -> Drawing:
        return draw_table(picture)


def draw_table(picture: Picture) -> Drawing:
    """The result as a table."""
    result = picture.result
    dimensions, measures = result.dimensions, result.measures
    measure_cells, formats = MeasureCells(picture), [formats_on_dimension(picture, column) for column in dimensions]
    headings = [[heading(picture, column) for column in result.columns]]
    rows: list[list[Cell]] = []
    subtotals = _Subtotals(picture)
    for row in result.frame.head(MOST_ROWS).iter_rows(named=True):
        rows += subtotals.before(row)
        values = [result.value(row, column.key) for column in dimensions]
        point = plain_point(values)
        on = picture.chosen(point)
        cells = [
            Cell(
                picture.words(column, value),
                number=is_number(column),
                point=point,
                on=on,
                look=look_of(picture, row, formats[i]),
            )
            for i, (column, value) in enumerate(zip(dimensions, values, strict=True))
        ]
        key = tuple(row[column.key] for column in dimensions)
        rows.append([*cells, *(measure_cells.of(i, row, point, key) for i in range(len(measures)))])
    rows += subtotals.before(None)
    notes = []
    if result.frame.height > MOST_ROWS:
        notes.append(f"The table shows the first {MOST_ROWS:,} of {result.groups:,} rows.")
    totals = []
    has_total = () in result.totals and picture.definition.totals != "none"  # a text may tell one that is not shown
    if has_total and dimensions and result.groups > 1:
        total = result.totals[()].row(0, named=True)
        keep = picture.definition.keep
        name = "Total of those kept" if keep and not keep.rest else "Total"
        start = [Cell(name, span=len(dimensions))]
        totals.append(start + total_cells(picture, total, []))
        notes += total_notes(measures)
    return Drawing(table=TableLayout(headings, rows, totals, len(dimensions)), notes=notes)


class _Subtotals:
    """The rows that close each group of a table, where its totals keep groups apart."""

    def __init__(self, picture: Picture) -> None:
        self.picture = picture
        self.dimensions, self.measures = picture.result.dimensions, picture.measures
        depths = range(len(self.dimensions) - 1, 0, -1)
        self.depths = [depth for depth in depths if tuple(range(depth)) in picture.result.totals]
        self.found = {
            depth: by_key(picture.result, picture.result.totals[tuple(range(depth))], [f"d{i}" for i in range(depth)])
            for depth in self.depths
        }
        self.last: dict[str, Any] | None = None

    def before(self, row: dict[str, Any] | None) -> list[list[Cell]]:
        """The subtotals of the groups that end before a row (None is the end)."""
        closed = []
        for depth in self.depths:
            keys = [column.key for column in self.dimensions[:depth]]
            key = self._values(self.last, keys) if self.last else None
            if key is not None and (row is None or key != self._values(row, keys)):
                column = self.dimensions[depth - 1]
                said = [Cell("") for _ in range(depth - 1)]
                said += [
                    Cell(
                        f"Total {self.picture.words(column, key[-1])}",
                        span=len(self.dimensions) - depth + 1,
                        subtotal=True,
                    )
                ]
                values = self.found[depth].get(key, {})
                cells = [measure_cell(self.picture, measure, values, None) for measure in self.measures]
                behind = plain_point(list(key))
                closed.append(said + [replace(cell, subtotal=True, behind=behind) for cell in cells])
        self.last = row
        return closed

    def _values(self, row: dict[str, Any], keys: list[str]) -> tuple[Any, ...]:
        return tuple(self.picture.result.value(row, key) for key in keys)
