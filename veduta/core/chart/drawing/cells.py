"""Cells of tables, figures and words, which the web half turns into HTML."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from dataclasses import field as attribute
from typing import Any

import polars as pl

from veduta.core.chart.definition import sorted_column
from veduta.core.chart.drawing.conditions import CellLook, formats_on, look_of
from veduta.core.chart.drawing.picture import Picture
from veduta.core.formats import REST_POINT, format_value
from veduta.core.query.measures import TOTAL_WORDS
from veduta.core.query.query import Column, Result

MOST_ROWS = 1_000
Key = tuple[Any, ...]
Row = dict[str, Any]


@dataclass
class Cell:
    """`point` names the mark behind the cell; `on` is off where a selection leaves it out. A total's rows are those of
    `behind`, the values of its first dimensions; none is all rows of the chart. A heading that can sort the chart has
    what to sort by next in `sorts`, and how it is `sorted` by it now: "ascending" or "descending". Beside its number
    may stand a `bar` (where it begins, how long it is, whether it is negative; at which side, in which colour), a step
    of `shade`, and a small `line` with what it says. Conditional formats may say how it looks (`look`)."""

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
    bar: tuple[float, float, bool] | None = None
    bar_side: str = ""
    bar_colour: str = ""
    shade: str = ""
    line: str = ""
    line_said: str = ""
    letters: int = 0
    look: CellLook | None = None

    @property
    def is_plain(self) -> bool:
        """Whether nothing stands in it but its text."""
        return not (self.bar or self.line or self.letters or self.look)


@dataclass
class TableLayout:
    """Heading rows, body rows that start with `row_headings` headings, and total rows, all of cells; `classes` say how
    they look."""

    headings: list[list[Cell]]
    rows: list[list[Cell]]
    totals: list[list[Cell]] = attribute(default_factory=list)
    row_headings: int = 1
    classes: str = ""


@dataclass
class Change:
    """How a figure differs from what it is compared with, in words; `tone` is "better", "worse" or neither."""

    text: str
    tone: str = ""


@dataclass
class Figure:
    """A number said large. `of` says what it is of, such as a period; conditional formats may say how it
    looks (`look`); `changes` compare it; `trend` is a line of an SVG of 100 by 30 with a point for each period. `share`
    of a target is drawn as a bar, a ring or on a scale (`share_as`), of which `filled` of 100 are reached, the target
    stands at `aim` and what is `due` by now at `expected`."""

    name: str
    text: str
    exact: str
    of: str = ""
    look: CellLook | None = None
    changes: list[Change] = attribute(default_factory=list)
    trend: str = ""
    share: float = 0
    share_as: str = ""
    due: float = 0

    @property
    def expected(self) -> float:
        return round(100 * self.due / max(1, self.share), 1)

    @property
    def filled(self) -> float:
        return round(100 * max(0, self.share) / max(1, self.share), 1)

    @property
    def aim(self) -> float:
        return round(100 / max(1, self.share), 1)


@dataclass
class Word:
    """A word with its size, from 1 to 9, and what its mark says."""

    text: str
    size: int
    said: str
    point: list[Any] | None
    on: bool


def measure_cell(picture: Picture, column: Column, row: dict[str, Any], point: list[Any] | None) -> Cell:
    value = row.get(column.key)
    text = format_value(value, column.kind, picture.formats[column.key])
    negative = isinstance(value, int | float) and value < 0
    return Cell(text, number=True, point=point, on=point is None or picture.chosen(point), negative=negative)


def figure_of(picture: Picture, column: Column, row: dict[str, Any]) -> Figure:
    """A measure's figure, which looks as conditional formats say of its row."""
    text = format_value(row.get(column.key), column.kind, picture.formats[column.key])
    formats = formats_on(picture, picture.measures.index(column), is_mark=True)
    return Figure(column.name, text, text, look=look_of(picture, row, formats))


def heading(picture: Picture, column: Column) -> Cell:
    """A column's heading in a table, which sorts by it."""
    number = column.is_measure or is_number(column)
    if not column.is_measure and column.key != "d0":
        return Cell(column.name, number=number)
    sort = picture.definition.sort
    order = ""
    if sort and sorted_column(picture.definition, sort) == column.key:
        order = "descending" if sort.descending else "ascending"
    down_next = order == "ascending" or (not order and column.is_measure)
    sorts = f"-{column.key}" if down_next else column.key
    return Cell(column.name, number=number, sorts=sorts, sorted=order)


def total_cells(picture: Picture, row: dict[str, Any], behind: list[Any]) -> list[Cell]:
    """A total's cells, with the rows behind them unless some of those were not kept."""
    keep = picture.definition.keep
    cells = [measure_cell(picture, column, row, None) for column in picture.measures]
    return cells if keep and not keep.rest else [replace(cell, behind=behind) for cell in cells]


def is_number(column: Column) -> bool:
    return column.kind.is_number and not column.is_measure and column.dimension.is_plain


def total_notes(measures: list[Column]) -> list[str]:
    """How totals that are not worked out from the rows were made."""
    return [
        f"The total of {column.name} is {TOTAL_WORDS[column.total]}." for column in measures if column.total != "again"
    ]


def in_order(values: list[Any], own: Sequence[Any] = ()) -> list[Any]:
    """The values across in their order: first those that have one of their own, the empty one and what was gathered
    last."""
    there = dict.fromkeys(values)
    first = [value for value in own if value in there]
    last = [value for value in (None, REST_POINT) if value in there and value not in first]
    return first + sorted(value for value in there if value not in (*first, *last)) + last


def by_key(result: Result, frame: pl.DataFrame | None, keys: list[str]) -> dict[Key, Row]:
    if frame is None:
        return {}
    return {tuple(result.value(row, key) for key in keys): row for row in frame.iter_rows(named=True)}
