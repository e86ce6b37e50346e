"""A table: a row for each group, a column for each dimension and measure."""

from __future__ import annotations

from dataclasses import replace
from itertools import groupby
from operator import itemgetter

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.cells import (
    MOST_ROWS,
    PAGE,
    Cell,
    Key,
    Row,
    TableLayout,
    find_sorted_column,
    index_by_key,
    insert_subtotals,
    list_total_notes,
    make_heading,
    make_subtotal_heading,
    make_value_cell,
    mark_repeats,
)
from veduta.core.chart.drawing.conditions import list_dimension_formats, look_of
from veduta.core.chart.drawing.in_cells import MeasureCells
from veduta.core.chart.drawing.picture import Drawing, Picture, simplify_point
from veduta.core.chart.kinds.base import ChartKind, ChartShape, FitScore, register_kind
from veduta.core.model.model import Model
from veduta.core.query.filters import Filter
from veduta.core.query.query import Query, Sort

MOST_BARS = 60
MOST_POINTS = 200_000
"""Points of all small lines together."""
MOST_MEASURES = 4


@register_kind
class PlainTable(ChartKind):
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
    most_groups = 100_000
    in_cells = ("bar", "shade", "line")
    groups_headings = True

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        groups, measures = len(asked.groups), len(asked.measures)
        if not asked.numbers:
            return FitScore(0.95, "dates or text to read, so a table")
        if groups > 2 or (measures > 1 and groups > 1) or measures > MOST_MEASURES:
            return FitScore(0.9, "many fields, so a table")
        first = asked.first
        if first and first.is_plain and asked.count_values(first) > MOST_BARS:
            return FitScore(0.7, f"{asked.model.get_facts(first.field).distinct:,} values, so a table")
        return None

    def sort(self, definition: ChartDefinition) -> Sort | None:
        """With one dimension the highest first."""
        return Sort(by="measure", descending=True) if len(definition.groups) == 1 else super().sort(definition)

    def list_totals(self, definition: ChartDefinition) -> tuple[tuple[int, ...], ...]:
        groups = len(definition.groups)
        if definition.totals == "none" or not groups:
            return ()
        depths = range(groups - 1, 0, -1) if definition.totals == "all" else ()
        return (*(tuple(range(depth)) for depth in depths), ())

    def build_secondary_query(
        self, definition: ChartDefinition, model: Model, extra: tuple[Filter, ...] = ()
    ) -> Query | None:
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
    result, look = picture.result, picture.definition.look.table
    dimensions, measures = result.dimensions, result.measures
    closed = [depth for depth in range(1, len(dimensions)) if tuple(range(depth)) in result.totals]
    has_subtotals = picture.definition.totals == "all" and bool(closed)
    in_pages = result.frame.height > MOST_ROWS and not has_subtotals
    shown = result.frame.slice(picture.rows_from, PAGE) if in_pages else result.frame.head(MOST_ROWS)
    rows_by = index_by_key(result, shown, [column.key for column in dimensions])
    lines = list(rows_by)
    if has_subtotals:
        lines = insert_subtotals(lines, closed, look.subtotals == "above")
    rows_of = _Rows(picture)
    rows = [
        rows_of.make_row(rows_by[line], line) if len(line) == len(dimensions) else rows_of.make_subtotal(line)
        for line in lines
    ]
    depths = [len(line) if len(line) < len(dimensions) else 0 for line in lines]
    if look.blank:
        rows = mark_repeats(rows, depths, len(dimensions))
    notes = []
    if result.frame.height > MOST_ROWS and not in_pages:
        notes.append(f"The table shows the first {MOST_ROWS:,} of {result.groups:,} rows.")
    totals = []
    has_total = () in result.totals and picture.definition.totals != "none"  # a text may tell one that is not shown
    if has_total and dimensions and result.groups > 1:
        total = result.totals[()].row(0, named=True)
        keep = picture.definition.keep
        name = "Total of those kept" if keep and not keep.rest else "Total"
        totals.append([Cell(name, span=len(dimensions)), *rows_of.measure_cells.make_totals(total, [])])
        notes += list_total_notes(measures)
    layout = TableLayout(
        _make_headings(picture), rows, totals, len(dimensions), depths=depths, sorted_by=find_sorted_column(picture)
    )
    return Drawing(table=replace(layout, rows_there=result.frame.height if in_pages else 0), notes=notes)


def _make_headings(picture: Picture) -> list[list[Cell]]:
    """The headings of all columns; a row above them groups those measures for which something stands there."""
    cells = [make_heading(picture, column) for column in picture.result.columns]
    look, dimensions = picture.definition.look, len(picture.dimensions)
    above = [""] * dimensions + [look.get_column(i).above for i in range(len(picture.measures))]
    if not any(above):
        return [cells]
    first: list[Cell] = []
    for text, columns in groupby(zip(above, cells, strict=True), key=itemgetter(0)):
        group = [cell for _, cell in columns]
        first += [Cell(text, span=len(group))] if text else [replace(cell, rows=2) for cell in group]
    return [first, [cell for text, cell in zip(above, cells, strict=True) if text]]


class _Rows:
    """The rows of a table, and those of the groups that their first values make."""

    def __init__(self, picture: Picture) -> None:
        self.picture, self.dimensions = picture, picture.dimensions
        self.measure_cells = MeasureCells(picture)
        self.formats = [list_dimension_formats(picture, column) for column in self.dimensions]

    def make_row(self, row: Row, key: Key) -> list[Cell]:
        point = simplify_point(list(key))
        on = self.picture.is_chosen(point)
        cells = [
            replace(
                make_value_cell(self.picture, column, value),
                point=point,
                on=on,
                look=look_of(self.picture, row, self.formats[i]),
            )
            for i, (column, value) in enumerate(zip(self.dimensions, key, strict=True))
        ]
        plain = tuple(row[column.key] for column in self.dimensions)
        measures = range(len(self.picture.measures))
        return [*cells, *(self.measure_cells.make_cell(i, row, point, plain) for i in measures)]

    def make_subtotal(self, key: Key) -> list[Cell]:
        depth, result = len(key), self.picture.result
        keys = [column.key for column in self.dimensions[:depth]]
        values = index_by_key(result, result.totals.get(tuple(range(depth))), keys).get(key, {})
        said = f"Total {self.picture.label(self.dimensions[depth - 1], key[-1])}"
        start = [*(Cell("") for _ in keys[1:]), make_subtotal_heading(said, len(self.dimensions) - depth + 1, key)]
        measures, behind = range(len(self.picture.measures)), simplify_point(list(key))
        cells = [self.measure_cells.make_total(i, values, key, behind) for i in measures]
        return [*start, *(replace(cell, subtotal=True) for cell in cells)]
