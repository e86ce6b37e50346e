"""Figures, tables and crosstabs as layouts of cells, which the web half turns into HTML."""

from __future__ import annotations

from dataclasses import dataclass, replace
from dataclasses import field as attribute
from typing import Any

import polars as pl

from veduta.core.chart.definition import ChartKind, sorted_column
from veduta.core.chart.drawing.base import Drawing, Picture, dimension_words, draws, plain_point
from veduta.core.data.fields import NumberFormat
from veduta.core.formats import EMPTY, REST_POINT, format_value
from veduta.core.query.measures import TOTAL_WORDS
from veduta.core.query.query import Column, Result

MOST_ROWS = 1_000
MOST_ACROSS = 60


Formats = dict[str, NumberFormat]
Key = tuple[Any, ...]
Row = dict[str, Any]


@dataclass
class Cell:
    """`point` names the mark behind the cell; `on` is off where a selection leaves it out. A total's rows are those of
    `behind`, the values of its first dimensions; none is all rows of the chart. A heading that can sort the chart has
    what to sort by next in `sorts`, and how it is `sorted` by it now: "ascending" or "descending"."""

    text: str
    number: bool = False
    point: list[Any] | None = None
    span: int = 1
    on: bool = True
    negative: bool = False
    subtotal: bool = False
    behind: list[Any] | None = None
    sorts: str = ""
    sorted: str = ""


@dataclass
class TableLayout:
    """Heading rows, body rows that start with `row_headings` headings, and total rows, all of cells."""

    headings: list[list[Cell]]
    rows: list[list[Cell]]
    totals: list[list[Cell]] = attribute(default_factory=list)
    row_headings: int = 1


@dataclass
class Figure:
    name: str
    text: str
    exact: str


@draws(ChartKind.FIGURE)
def draw_figures(picture: Picture) -> Drawing:
    formats = picture.formats
    row = picture.result.frame.row(0, named=True) if picture.result.frame.height else {}
    figures = []
    for column in picture.result.measures:
        value = row.get(column.key)
        exact = format_value(value, column.kind, formats[column.key])
        figures.append(Figure(column.name, exact, exact))
    return Drawing(picture.kind, layout=figures)


def _measure_cell(
    picture: Picture, column: Column, row: dict[str, Any], point: list[Any] | None, formats: Formats
) -> Cell:
    value = row.get(column.key)
    text = format_value(value, column.kind, formats[column.key])
    negative = isinstance(value, int | float) and value < 0
    return Cell(text, number=True, point=point, on=point is None or picture.chosen(point), negative=negative)


def _heading(picture: Picture, column: Column) -> Cell:
    sort = picture.definition.sort
    number = column.is_measure or _is_number(column)
    if not column.is_measure and column.key != "d0":
        return Cell(column.name, number=number)
    sort = picture.definition.sort
    order = ""
    if sort and sorted_column(picture.definition, sort) == column.key:
        order = "descending" if sort.descending else "ascending"
    down_next = order == "ascending" or (not order and column.is_measure)
    sorts = f"-{column.key}" if down_next else column.key
    return Cell(column.name, number=number, sorts=sorts, sorted=order)


@draws(ChartKind.TABLE)
def draw_table(picture: Picture) -> Drawing:
    result, formats = picture.result, picture.formats
    dimensions, measures = result.dimensions, result.measures
    headings = [[_heading(picture, column) for column in result.columns]]
    rows: list[list[Cell]] = []
    subtotals = _Subtotals(picture, formats)
    for row in result.frame.head(MOST_ROWS).iter_rows(named=True):
        rows += subtotals.before(row)
        values = [result.value(row, column.key) for column in dimensions]
        point = plain_point(values)
        on = picture.chosen(point)
        cells = [
            Cell(dimension_words(column, value, result), number=_is_number(column), point=point, on=on)
            for column, value in zip(dimensions, values, strict=True)
        ]
        rows.append(cells + [_measure_cell(picture, column, row, point, formats) for column in measures])
    rows += subtotals.before(None)
    notes = []
    if result.frame.height > MOST_ROWS:
        notes.append(f"The table shows the first {MOST_ROWS:,} of {result.groups:,} rows.")
    totals = []
    if () in result.totals and dimensions and result.groups > 1:
        total = result.totals[()].row(0, named=True)
        keep = picture.definition.keep
        name = "Total of those kept" if keep and not keep.rest else "Total"
        start = [Cell(name, span=len(dimensions))]
        totals.append(start + _total_cells(picture, total, formats, []))
        notes += total_notes(measures)
    return Drawing(picture.kind, layout=TableLayout(headings, rows, totals, len(dimensions)), notes=notes)


def _total_cells(picture: Picture, row: dict[str, Any], formats: Formats, behind: list[Any]) -> list[Cell]:
    """A total's cells, with the rows behind them unless some of those were not kept."""
    keep = picture.definition.keep
    cells = [_measure_cell(picture, column, row, None, formats) for column in picture.result.measures]
    return cells if keep and not keep.rest else [replace(cell, behind=behind) for cell in cells]


def _is_number(column: Column) -> bool:
    return column.kind.is_number and not column.is_measure and not column.dimension.grain


def total_notes(measures: list[Column]) -> list[str]:
    """How totals that are not worked out from the rows were made."""
    return [
        f"The total of {column.name} is {TOTAL_WORDS[column.total]}." for column in measures if column.total != "again"
    ]


class _Subtotals:
    """The rows that close each group of a table, where its totals keep groups apart."""

    def __init__(self, picture: Picture, formats: dict[str, Any]) -> None:
        self.picture, self.formats = picture, formats
        self.dimensions, self.measures = picture.result.dimensions, picture.result.measures
        depths = range(len(self.dimensions) - 1, 0, -1)
        self.depths = [depth for depth in depths if tuple(range(depth)) in picture.result.totals]
        self.found = {
            depth: _by_key(picture.result, picture.result.totals[tuple(range(depth))], [f"d{i}" for i in range(depth)])
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
                        f"Total {dimension_words(column, key[-1], self.picture.result)}",
                        span=len(self.dimensions) - depth + 1,
                        subtotal=True,
                    )
                ]
                values = self.found[depth].get(key, {})
                cells = [_measure_cell(self.picture, measure, values, None, self.formats) for measure in self.measures]
                behind = plain_point(list(key))
                closed.append(said + [replace(cell, subtotal=True, behind=behind) for cell in cells])
        self.last = row
        return closed

    def _values(self, row: dict[str, Any], keys: list[str]) -> tuple[Any, ...]:
        return tuple(self.picture.result.value(row, key) for key in keys)


@draws(ChartKind.CROSSTAB)
def draw_crosstab(picture: Picture) -> Drawing:
    """The last dimension across, the others down, every measure under each value; totals at the right and below."""
    result, formats = picture.result, picture.formats
    *down, across = result.dimensions
    measures, frame = result.measures, result.frame
    values = _in_order([result.value(row, across.key) for row in frame.iter_rows(named=True)])
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
    several = len(measures) > 1
    top = [Cell(column.name) for column in down]
    top += [Cell(dimension_words(across, value, result), number=True, span=len(measures)) for value in values]
    headings = [[*top, Cell("Total", number=True, span=len(measures))]]
    if several:
        names = [Cell(column.name, number=True) for column in measures]
        headings.append([Cell("") for _ in down] + names * (len(values) + 1))
    row_totals = _by_key(result, result.totals.get(tuple(range(len(down)))), down_keys)
    column_totals = _by_key(result, result.totals.get((len(down),)), [across.key])
    rows = []
    for key, by_value in list(cells_of.items())[:MOST_ROWS]:
        cells = [Cell(dimension_words(column, value, result)) for column, value in zip(down, key, strict=True)]
        for value in values:
            there, point = by_value.get(value), plain_point([*key, value])
            if there is None:
                cells += [Cell(EMPTY, number=True) for _ in measures]
            else:
                cells += [_measure_cell(picture, column, there, point, formats) for column in measures]
        cells += _total_cells(picture, row_totals.get(key, {}), formats, plain_point(list(key)))
        rows.append(cells)
    totals: list[Cell] = [Cell("Total", span=len(down))]
    for value in values:
        totals += [
            _measure_cell(picture, column, column_totals.get((value,), {}), None, formats) for column in measures
        ]
    grand = result.totals[()].row(0, named=True) if () in result.totals else {}
    totals += _total_cells(picture, grand, formats, [])
    notes += total_notes(measures)
    return Drawing(picture.kind, layout=TableLayout(headings, rows, [totals], len(down)), notes=notes)


def _in_order(values: list[Any]) -> list[Any]:
    """The values across in their order, the empty one and what was gathered last."""
    there = list(dict.fromkeys(values))
    last = [value for value in (None, REST_POINT) if value in there]
    return sorted(value for value in there if value not in last) + last


def _by_key(result: Result, frame: pl.DataFrame | None, keys: list[str]) -> dict[Key, Row]:
    if frame is None:
        return {}
    return {tuple(result.value(row, key) for key in keys): row for row in frame.iter_rows(named=True)}
